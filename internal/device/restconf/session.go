package restconf

import (
	"context"
	"errors"
	"net/http"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

// Session works one device by RESTCONF. It implements [driver.Session] and is used by one
// goroutine at a time.
type Session struct {
	profile.Confided
	p      *profile.Profile
	schema tree.Schema
	c      *client
	log    profile.Transcript
	kinds  tree.Kinds // how its leaves are written, as was seen
	host   string
	key    func() string // the fingerprint of the key of its certificate
}

var (
	_ driver.Session  = (*Session)(nil)
	_ driver.Restorer = (*Session)(nil)
)

// ask asks for a resource and makes of what goes wrong what the run knows. What is what is
// asked, in words.
func (s *Session) ask(ctx context.Context, what, method, path, match string, body []byte) ([]byte, string, error) {
	what = s.Mask(what)
	if s.c.broken == nil {
		s.log.Sent("restconf> ", what)
	}
	data, etag, err := s.c.request(ctx, method, path, match, body)
	var no *Error
	var odd *unclear
	switch {
	case err == nil:
		return data, etag, nil
	case errors.As(err, &no) && no.Status == http.StatusPreconditionFailed:
		s.log.Got([]string{"error: the datastore is another than we have read"})
		return nil, "", &driver.Refused{Line: what, Said: "somebody has changed it since it was read; nothing was written over"}
	case errors.As(err, &no):
		text := s.Mask(no.Error())
		s.log.Got([]string{"error: " + text})
		return nil, "", &driver.Refused{Line: what, Said: text, Err: no}
	case errors.As(err, &odd):
		s.log.Got([]string{odd.why})
		return nil, "", &driver.Unclear{Asked: what, Got: odd.why}
	}
	s.log.Note(s.Mask(err.Error()))
	return nil, "", err
}

// get reads what stands at a path: all of it, or its configuration (RFC 8040, section 4.8.1).
// A list without keys is read with what it stands in: not every server knows it alone.
func (s *Session) get(ctx context.Context, at tree.Path, content string) (*tree.Node, error) {
	from := at
	for len(from) > 0 {
		if keys, listed := s.schema.Lists[from.Schema()]; !listed || len(from[len(from)-1].Keys) == len(keys) {
			break
		}
		from = from.Above()
	}
	what := "get " + at.String()
	data, _, err := s.ask(ctx, what, http.MethodGet, s.c.root+"/data"+resource(from)+"?content="+content, "", nil)
	var no *Error
	if errors.As(err, &no) && no.Status == http.StatusNotFound && (no.Tag == "invalid-value" || no.Tag == "data-missing") && len(from) > 0 {
		s.log.Note("it is not there")
		return &tree.Node{}, nil // as RESTCONF says it; a page that is not found says nothing
	}
	if err != nil {
		return nil, err
	}
	got, err := tree.FromJSON(data)
	if err != nil {
		return nil, &driver.Unclear{Asked: what, Got: "a body that cannot be read: " + err.Error()}
	}
	root := s.below(got, from)
	s.kinds.Learn(root)
	return root, nil
}

// below puts what was read of a resource in its place in the tree: the body names the node
// itself, and not what it stands in.
func (s *Session) below(got *tree.Node, at tree.Path) *tree.Node {
	if len(at) == 0 { // of the datastore, the body names the datastore
		for _, c := range got.Children {
			if c.Module == "ietf-restconf" && c.Name == "data" {
				return &tree.Node{Children: c.Children}
			}
		}
		return got
	}
	if len(at) == 1 {
		return got
	}
	root, parent, err := at.Above().Make(s.schema)
	if err != nil {
		return got
	}
	parent.Children = append(parent.Children, got.Children...)
	return root
}

// Read reads a table.
func (s *Session) Read(ctx context.Context, table string) (any, error) {
	r, ok := s.p.Readers[table]
	if !ok {
		return nil, &driver.Unclear{Asked: table, Got: "the profile of " + s.p.Platform + " has no such reader"}
	}
	root, err := s.get(ctx, r.From(), "all")
	if err != nil {
		return nil, err
	}
	if text, err := root.Text(s.schema); err == nil {
		s.log.Got(s.MaskLines(text))
	}
	v, err := r.Rows(root)
	if err != nil {
		return nil, &driver.Unclear{Asked: table, Got: s.Mask(err.Error())}
	}
	return v, nil
}

// Config reads the configuration as lines, and takes down which state of the datastore that
// is. A server stores what it is sent (RFC 8040, section 1.4): what is saved is what runs.
func (s *Session) Config(ctx context.Context, _ driver.Which) (string, error) {
	const what = "get the configuration"
	data, etag, err := s.ask(ctx, what, http.MethodGet, s.c.root+"/data?content=config", "", nil)
	if err != nil {
		return "", err
	}
	got, err := tree.FromJSON(data)
	if err != nil {
		return "", &driver.Unclear{Asked: what, Got: "a body that cannot be read: " + err.Error()}
	}
	root := s.below(got, nil)
	s.kinds.Learn(root)
	text, err := root.Text(s.schema)
	if err != nil {
		return "", &driver.Unclear{Asked: what, Got: err.Error()}
	}
	if s.c.etag = etag; etag == "" {
		s.log.Note("it does not tell which state that is: what others change meanwhile goes unnoticed")
	}
	s.log.Got(s.MaskLines(text))
	if text == "" {
		return "", &driver.Unclear{Asked: what, Got: "nothing"}
	}
	return text, nil
}

// Edit begins a change: of the state that was last read.
func (s *Session) Edit(ctx context.Context) error {
	if s.c.etag != "" || s.c.broken != nil {
		return s.c.broken
	}
	_, err := s.Config(ctx, driver.Running)
	return err
}

// Line carries out one line of a change: set PATH = VALUE, or delete PATH.
func (s *Session) Line(ctx context.Context, line string) error {
	refuse := func(err error) error {
		return &driver.Refused{Line: s.Mask(line), Said: s.Mask(err.Error()) + "; nothing was sent"}
	}
	c, err := tree.ParseChange(line)
	if err != nil {
		return refuse(err)
	}
	root, leaf, err := c.Path.Make(s.schema)
	if err != nil {
		return refuse(err)
	}
	if c.Delete {
		return s.remove(ctx, line, c.Path)
	}
	if c.Has {
		leaf.Value = c.Value
	}
	return s.write(ctx, line, http.MethodPatch, root)
}

// write sends a tree: it is merged into the datastore by PATCH (RFC 8040, section 4.6.1), or
// takes its place by PUT (section 4.5).
func (s *Session) write(ctx context.Context, what, method string, root *tree.Node) error {
	body := append(append([]byte(`{"ietf-restconf:data":`), root.JSON(s.schema, s.kinds)...), '}')
	_, etag, err := s.ask(ctx, what, method, s.c.root+"/data", s.c.etag, body)
	if err != nil {
		return err
	}
	s.log.Got([]string{"ok"})
	return s.nextState(ctx, etag)
}

// remove deletes a resource, in the state that it is in now, where the datastore is in the
// one that we know.
func (s *Session) remove(ctx context.Context, line string, at tree.Path) error {
	path := s.c.root + "/data" + resource(at)
	_, etag, err := s.ask(ctx, "look at "+at.String(), http.MethodHead, path, "", nil)
	if err != nil {
		return err
	}
	_, whole, err := s.ask(ctx, "look whether somebody has changed it", http.MethodHead, s.c.root+"/data", "", nil)
	if err != nil {
		return err
	}
	if s.c.etag != "" && whole != s.c.etag {
		return &driver.Refused{Line: s.Mask(line), Said: "somebody has changed it since it was read; nothing was written over"}
	}
	if _, _, err = s.ask(ctx, line, http.MethodDelete, path, etag, nil); err != nil {
		return err
	}
	s.log.Got([]string{"ok"})
	return s.nextState(ctx, "")
}

// nextState takes down the state of the datastore after a change of ours, and asks for it
// where that was not said.
func (s *Session) nextState(ctx context.Context, etag string) error {
	if etag == "" && s.c.etag != "" {
		var err error
		if _, etag, err = s.ask(ctx, "look at the state after it", http.MethodHead, s.c.root+"/data", "", nil); err != nil {
			return err
		}
	}
	s.c.etag = etag
	return nil
}

// Apply does nothing: what was sent runs.
func (s *Session) Apply(context.Context, time.Duration) error { return s.c.broken }

// Drop does nothing.
func (s *Session) Drop(context.Context) error { return s.c.broken }

// Restore puts a backup in the place of all.
func (s *Session) Restore(ctx context.Context, backup string) error {
	root, err := tree.Parse(config.Alone(backup), s.schema)
	if err != nil {
		return &driver.Refused{Line: "restore", Said: "the backup cannot be read: " + s.Mask(err.Error()) + "; nothing was sent"}
	}
	if _, err := s.Config(ctx, driver.Running); err != nil { // its state, and how its leaves are written
		return err
	}
	return s.write(ctx, "put the backup in the place of all", http.MethodPut, root)
}

// RESTCONF saves by itself, and has no timer, no trial and no whole files.

// Look implements [driver.Looker].
func (s *Session) Look(ctx context.Context, _, command string) ([]string, error) {
	return s.Ask(ctx, command, false)
}

// Ask answers what a person wants to know: get PATH.
func (s *Session) Ask(ctx context.Context, command string, _ bool) ([]string, error) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(command), "get ")
	at, err := tree.ParsePath(strings.TrimSpace(rest))
	if !ok || err != nil {
		return nil, &driver.Refused{Line: s.Mask(command), Said: "over RESTCONF only get PATH is asked, such as get /ietf-system:system-state"}
	}
	root, err := s.get(ctx, at, "all")
	if err != nil {
		return nil, err
	}
	text, err := root.Text(s.schema)
	if err != nil {
		return nil, &driver.Unclear{Asked: command, Got: s.Mask(err.Error())}
	}
	lines := s.MaskLines(text)
	s.log.Got(lines)
	return lines, nil
}

// Host is the device's own name; "" when its profile does not say where it stands.
func (s *Session) Host() string { return s.host }

// Who says who the device says it is.
func (s *Session) Who(ctx context.Context) (identity.Seen, error) {
	return s.p.Who(ctx, s.host, s.key, s.Read)
}

// Close ends the session.
func (s *Session) Close() error {
	s.c.http.CloseIdleConnections()
	return nil
}
