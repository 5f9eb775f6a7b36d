package netconf

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/plan"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/tree"
)

// ask calls an operation and makes of what goes wrong what the run knows. What is the
// operation in words, with secrets in it.
func (s *Session) ask(ctx context.Context, what, operation string) error {
	_, err := s.fetch(ctx, what, operation)
	return err
}

func (s *Session) fetch(ctx context.Context, what, operation string) (*tree.Node, error) {
	what = s.Mask(what)
	if s.c.broken == nil {
		s.log.Sent("netconf> ", what)
	}
	root, err := s.c.call(ctx, operation)
	var no *Error
	var odd *unclear
	switch {
	case err == nil && root == nil:
		s.log.Got([]string{"ok"})
		return nil, nil
	case err == nil:
		return root, nil
	case errors.As(err, &no):
		text := s.Mask(no.Error())
		s.log.Got([]string{"error: " + text})
		return nil, &driver.Refused{Line: what, Said: text, Err: no}
	case errors.As(err, &odd):
		s.log.Got([]string{odd.why})
		return nil, &driver.Unclear{Asked: what, Got: s.Mask(odd.why)}
	}
	s.log.Note(s.Mask(err.Error()))
	return nil, err
}

// get reads what stands at a path, configuration and state (RFC 6241, section 7.7), by a
// subtree filter (section 6).
func (s *Session) get(ctx context.Context, at tree.Path) (*tree.Node, error) {
	filter := &tree.Node{}
	under := filter
	for _, step := range at { // a list without keys selects all its entries
		n := &tree.Node{Module: step.Module, Name: step.Name}
		if n.Module == "" {
			n.Module = under.Module
		}
		for _, k := range step.Keys {
			n.Children = append(n.Children, &tree.Node{Module: n.Module, Name: k.Name, Value: k.Value})
		}
		under.Children = append(under.Children, n)
		under = n
	}
	root, err := s.fetch(ctx, "get "+at.String(), `<get><filter type="subtree">`+filter.XML(s.schema, nil, "")+`</filter></get>`)
	if err != nil {
		return nil, err
	}
	if root == nil {
		return nil, &driver.Unclear{Asked: "get " + at.String(), Got: "a reply without data"}
	}
	return root, nil
}

// Read reads a table.
func (s *Session) Read(ctx context.Context, table string) (any, error) {
	if table == profile.Drafts && s.p.Netconf.Edit == profile.Candidate {
		return s.drafts(ctx)
	}
	r, ok := s.p.Readers[table]
	if !ok {
		return nil, &driver.Unclear{Asked: table, Got: "the profile of " + s.p.Platform + " has no such reader"}
	}
	root, err := s.get(ctx, r.From())
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

// drafts tells whether the candidate is other than what runs: then somebody has left
// changes in it.
func (s *Session) drafts(ctx context.Context) (any, error) {
	rows := []map[string]any{}
	if len(s.edits) > 0 {
		return rows, nil
	}
	candidate, err := s.datastore(ctx, profile.Candidate, brief)
	if err != nil {
		return nil, err
	}
	running, err := s.datastore(ctx, profile.RunningDS, brief)
	if err != nil {
		return nil, err
	}
	if style := s.p.Style(); !config.Equal(config.Parse(candidate, style), config.Parse(running, style)) {
		rows = append(rows, map[string]any{"user": "somebody"})
	}
	return rows, nil
}

// Config reads a configuration as lines.
func (s *Session) Config(ctx context.Context, which driver.Which) (string, error) {
	if which == driver.Saved {
		return s.datastore(ctx, s.p.Netconf.Saved, inFull)
	}
	return s.datastore(ctx, profile.RunningDS, inFull)
}

// Whether all that was read of a datastore is kept in the transcript.
const (
	inFull = true
	brief  = false
)

// datastore reads a configuration as lines.
func (s *Session) datastore(ctx context.Context, name string, full bool) (string, error) {
	asked := "get-config " + name
	root, err := s.fetch(ctx, asked, "<get-config><source><"+name+"/></source></get-config>")
	if err != nil {
		return "", err
	}
	if root == nil {
		return "", &driver.Unclear{Asked: asked, Got: "a reply without data"}
	}
	if root == s.lately.root && (s.lately.full || !full) { // as it came before, word for word
		s.log.Got([]string{fmt.Sprintf("the same %d lines as before", strings.Count(s.lately.text, "\n"))})
		return s.lately.text, nil
	}
	text, err := root.Text(s.schema)
	if err != nil {
		return "", &driver.Unclear{Asked: asked, Got: err.Error()}
	}
	if text != "" {
		s.lately.root, s.lately.text, s.lately.full = root, text, full
	}
	if full {
		s.log.Got(s.MaskLines(text))
	} else {
		s.log.Got([]string{fmt.Sprintf("%d lines", strings.Count(text, "\n"))})
	}
	if text == "" {
		return "", &driver.Unclear{Asked: asked, Got: "nothing"}
	}
	return text, nil
}

// Edit gets ready to change the configuration: the candidate is locked, so that nobody
// else's changes are applied with ours, nor ours with theirs.
func (s *Session) Edit(ctx context.Context) error {
	s.fragment = ""
	if s.p.Netconf.Edit != profile.Candidate {
		return nil
	}
	return s.lock(ctx)
}

// lock locks the candidate. Where a session of ours that was lost may hold it still, that is
// said, and nothing is done about it: its number may be somebody else's by now.
func (s *Session) lock(ctx context.Context) error {
	if s.locked {
		return nil
	}
	const operation = "<lock><target><candidate/></target></lock>"
	err := s.ask(ctx, "lock candidate", operation)
	var no *Error
	if errors.As(err, &no) && no.Tag == "lock-denied" && no.Session != "" && no.Session == s.last {
		return fmt.Errorf("%w; that may be one of ours that was lost, and that the device has not noticed the end of", err)
	}
	if s.mem.onTrial() && errors.As(err, &no) && no.Tag == "in-use" {
		s.log.Note("goes on without the lock: it gives none while a commit is to be confirmed")
		return nil
	}
	s.locked = err == nil
	return err
}

// unlock gives the candidate back.
func (s *Session) unlock(ctx context.Context) error {
	if !s.locked {
		return nil
	}
	err := s.ask(ctx, "unlock candidate", "<unlock><target><candidate/></target></unlock>")
	s.locked = err != nil
	return err
}

// Line carries out one line of a change: set PATH = VALUE, delete PATH, or XML word for
// word, which may go on over several lines.
func (s *Session) Line(ctx context.Context, line string) error {
	refuse := func(why string) error {
		return &driver.Refused{Line: s.Mask(line), Said: s.Mask(why) + "; nothing was sent"}
	}
	if s.fragment != "" || strings.HasPrefix(strings.TrimSpace(line), "<") {
		s.fragment += line + "\n"
		whole, err := wellFormed(s.fragment)
		switch {
		case err != nil:
			s.fragment = ""
			return refuse(err.Error())
		case !whole:
			return nil
		}
		body := s.fragment
		s.fragment = ""
		return s.edit(ctx, line, body)
	}
	c, err := tree.ParseChange(line)
	if err != nil {
		return refuse(err.Error())
	}
	root, leaf, err := c.Path.Make(s.schema)
	if err != nil {
		return refuse(err.Error())
	}
	operation := ""
	if c.Delete {
		operation = "delete"
	} else if c.Has {
		leaf.Value = c.Value
	}
	return s.edit(ctx, line, root.XML(s.schema, leaf, operation))
}

// edit sends one edit.
func (s *Session) edit(ctx context.Context, line, body string) error {
	return s.stage(ctx, line, s.editing(body))
}

// stage sends an operation that edits, and keeps it as long as it is not applied.
func (s *Session) stage(ctx context.Context, what, operation string) error {
	staged := s.p.Netconf.Edit == profile.Candidate
	if staged {
		s.mem.edited(true) // it may be, whatever we hear
	}
	err := s.ask(ctx, what, operation)
	if err == nil && staged {
		s.edits = append(s.edits, operation)
	}
	return err
}

func (s *Session) editing(body string) string {
	option := ""
	if s.c.can[canRollBack] {
		option = "<error-option>rollback-on-error</error-option>"
	}
	return "<edit-config><target><" + s.p.Netconf.Edit + "/></target>" + option + "<config>" + body + "</config></edit-config>"
}

// wellFormed tells whether text is XML that is ended. The error says that it never will be.
func wellFormed(text string) (bool, error) {
	d := xml.NewDecoder(strings.NewReader(text))
	depth, seen := 0, false
	for {
		t, err := d.Token()
		switch t := t.(type) {
		case xml.StartElement:
			if depth++; depth > 64 {
				return false, errors.New("it is more than 64 levels deep")
			}
			seen = true
		case xml.EndElement:
			depth--
		case xml.CharData:
			if depth == 0 && strings.TrimSpace(string(t)) != "" {
				return false, fmt.Errorf("%q stands outside of an element", strings.TrimSpace(string(t)))
			}
		case xml.Directive, xml.ProcInst:
			return false, errors.New("only elements can be sent")
		}
		var syntax *xml.SyntaxError
		switch {
		case errors.Is(err, io.EOF):
			return seen && depth == 0, nil
		case errors.As(err, &syntax) && strings.Contains(syntax.Msg, "unexpected EOF"):
			return false, nil
		case err != nil:
			return false, err
		}
	}
}

// Apply lets what stands in the candidate take effect, on trial for a time.
func (s *Session) Apply(ctx context.Context, trial time.Duration) error {
	if s.fragment != "" {
		s.fragment = ""
		return &driver.Refused{Line: "apply", Said: errFragment.Error() + "; nothing was applied"}
	}
	if s.p.Netconf.Edit != profile.Candidate {
		return nil
	}
	if s.p.Validates() && (s.c.can[canValidate+"0"] || s.c.can[canValidate+"1"]) {
		if err := s.ask(ctx, "validate candidate", "<validate><source><candidate/></source></validate>"); err != nil {
			return fmt.Errorf("its own check: %w", err)
		}
	}
	staged, err := s.datastore(ctx, profile.Candidate, brief)
	if err != nil {
		return err
	}
	if err := s.commit(ctx, trial); err != nil {
		return err
	}
	s.edits = nil
	s.mem.edited(false)
	if err := s.runs(ctx, staged); err != nil {
		return err
	}
	if err := s.unlock(ctx); err != nil && s.c.broken != nil {
		return err // it was applied: that the lock stays ours takes nothing from it
	}
	return nil
}

// runs sees that what stood in the candidate runs: that is what a commit is (RFC 6241,
// section 8.3.4.1), and a device that says ok may have done nothing.
func (s *Session) runs(ctx context.Context, staged string) error {
	want := config.Parse(staged, s.p.Style())
	for try := 0; ; try++ {
		now, err := s.datastore(ctx, profile.RunningDS, brief)
		if err != nil {
			return err
		}
		d := config.Compare(want, config.Parse(now, s.p.Style()))
		switch {
		case d.Empty():
			return nil
		case try == looks:
			return &driver.Unclear{Asked: "commit", Got: "it says ok, and what stood in the candidate does not run: " + s.Mask(d.String())}
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// looks is how often it is looked again, a second apart, whether what was committed runs.
const looks = 5

// commit commits the candidate, to be confirmed within a time. Where something of ours is on
// trial already, that goes on, for as long.
func (s *Session) commit(ctx context.Context, trial time.Duration) error {
	seconds := int((trial + time.Second - 1) / time.Second)
	again := ""
	if s.mem.onTrial() {
		_, pending, err := s.Pending(ctx)
		if err != nil {
			return err
		}
		if pending {
			again = "<persist-id>" + s.mem.Name + "</persist-id>"
		}
	}
	s.mem.set(time.Now().Add(time.Duration(seconds) * time.Second)) // it may be, whatever we hear
	return s.ask(ctx, fmt.Sprintf("commit, to be confirmed within %d s", seconds),
		fmt.Sprintf("<commit><confirmed/><confirm-timeout>%d</confirm-timeout><persist>%s</persist>%s</commit>", seconds, s.mem.Name, again))
}

// Arm gives what is on trial that much time from now on. What stands in the candidate and
// was not applied would be committed with it: it is taken out, and put in again.
func (s *Session) Arm(ctx context.Context, d time.Duration) error {
	if s.p.Timer.Kind != plan.TrialTimer {
		return nil
	}
	return s.alone(ctx, func() error { return s.commit(ctx, d) })
}

// alone does something with a candidate in which nothing stands but what runs.
func (s *Session) alone(ctx context.Context, do func() error) error {
	edits, held := s.edits, s.locked
	if len(edits) > 0 {
		if err := s.discard(ctx); err != nil {
			return err
		}
	}
	if err := s.lock(ctx); err != nil {
		return err
	}
	rows, err := s.drafts(ctx)
	if err != nil {
		return err
	}
	if len(rows.([]map[string]any)) > 0 {
		return errors.Join(
			&driver.Refused{Line: "commit", Said: "changes of somebody else stand in its candidate: they would be applied, too; nothing was sent"},
			s.unlock(ctx),
		)
	}
	if err := do(); err != nil {
		return err
	}
	for _, operation := range edits {
		if err := s.stage(ctx, "the same edit again", operation); err != nil {
			return err
		}
	}
	if held {
		return nil
	}
	return s.unlock(ctx)
}

// Pending asks whether something is on trial. Where its models tell how long, that is read.
// Elsewhere it is found out by asking for what must be refused while something is: to cancel
// a commit by a name that none has (RFC 6241, section 8.4.4.1), and then to lock what runs
// (section 7.5). How much is left is then what is left of what we asked for; a negative time
// is one that nobody knows.
func (s *Session) Pending(ctx context.Context) (time.Duration, bool, error) {
	if s.p.Timer.Kind != plan.TrialTimer {
		return 0, false, nil
	}
	if s.p.Netconf.Left != "" {
		return s.left(ctx)
	}
	err := s.ask(
		ctx,
		"cancel-commit of a name that none has, to see whether one is pending",
		"<cancel-commit><persist-id>"+nobodys+"</persist-id></cancel-commit>",
	)
	var no *Error
	switch {
	case err == nil:
		return 0, false, &driver.Unclear{Asked: "cancel-commit", Got: "a commit was cancelled that nobody can have begun"}
	case !errors.As(err, &no):
		return 0, false, err
	case no.Tag == "invalid-value":
		due := s.mem.until()
		if due.IsZero() {
			return -1, true, nil
		}
		return max(time.Until(due), 0), true, nil
	}
	if err := s.ask(ctx, "lock running, which is refused while a commit is pending", "<lock><target><running/></target></lock>"); err != nil {
		if errors.As(err, &no) {
			return 0, false, &driver.Unclear{
				Asked: "whether a commit is pending",
				Got:   "nothing can be cancelled, and what runs cannot be locked: " + s.Mask(no.Error()),
			}
		}
		return 0, false, err
	}
	if err := s.ask(ctx, "unlock running", "<unlock><target><running/></target></unlock>"); err != nil {
		return 0, false, err
	}
	s.mem.set(time.Time{})
	return 0, false, nil
}

// nobodys is the name of a commit that nobody begins.
const nobodys = "metabasis-none"

// left reads what is left of a confirmed commit, where the models tell.
func (s *Session) left(ctx context.Context) (time.Duration, bool, error) {
	at, err := tree.ParsePath(s.p.Netconf.Left)
	if err != nil {
		return 0, false, err
	}
	root, err := s.get(ctx, at)
	if err != nil {
		return 0, false, err
	}
	found := at.Find(root)
	if len(found) == 0 {
		s.log.Got([]string{"nothing is pending"})
		s.mem.set(time.Time{})
		return 0, false, nil
	}
	var n int
	if _, err := fmt.Sscanf(found[0].Value, "%d", &n); err != nil || n < 0 || n > 7*86_400 || len(found) > 1 {
		return 0, false, &driver.Unclear{Asked: at.String(), Got: tree.Said(found[0].Value)}
	}
	s.log.Got([]string{fmt.Sprintf("%s = %d", at, n)})
	return time.Duration(n) * time.Second, true, nil
}

// Disarm confirms what is on trial.
func (s *Session) Disarm(ctx context.Context) error {
	if s.p.Timer.Kind != plan.TrialTimer {
		return nil
	}
	return s.alone(ctx, func() error {
		return s.ask(ctx, "commit, which confirms what is on trial", "<commit><persist-id>"+s.mem.Name+"</persist-id></commit>")
	})
}

// TakeBack has the device take back what is on trial.
func (s *Session) TakeBack(ctx context.Context) error {
	if s.p.Timer.Kind != plan.TrialTimer {
		return nil
	}
	return s.ask(ctx, "cancel-commit", "<cancel-commit><persist-id>"+s.mem.Name+"</persist-id></cancel-commit>")
}

// Drop drops what stands in the candidate.
func (s *Session) Drop(ctx context.Context) error {
	s.fragment = ""
	if s.p.Netconf.Edit != profile.Candidate || !s.mem.hasEdited() {
		return s.unlock(ctx)
	}
	if err := s.lock(ctx); err != nil { // somebody else's are not dropped
		return err
	}
	if err := s.discard(ctx); err != nil {
		return err
	}
	return s.unlock(ctx)
}

func (s *Session) discard(ctx context.Context) error {
	if err := s.ask(ctx, "discard-changes", "<discard-changes/>"); err != nil {
		return err
	}
	s.edits = nil
	s.mem.edited(false)
	return nil
}

// Restore puts a backup in the place of what is edited.
func (s *Session) Restore(ctx context.Context, backup string) error {
	root, err := tree.Parse(config.Alone(backup), s.schema)
	if err != nil {
		return &driver.Refused{Line: "restore", Said: "the backup cannot be read: " + s.Mask(err.Error()) + "; nothing was sent"}
	}
	if err := s.Edit(ctx); err != nil {
		return err
	}
	body := root.XML(s.schema, nil, "")
	lines := strings.Count(backup, "\n")
	err = s.stage(ctx, fmt.Sprintf("copy-config of the backup's %d lines", lines),
		"<copy-config><target><"+s.p.Netconf.Edit+"/></target><source><config>"+body+"</config></source></copy-config>")
	var no *Error
	if errors.As(err, &no) && no.Tag == "operation-not-supported" {
		err = s.stage(
			ctx,
			fmt.Sprintf("edit-config, which puts the backup's %d lines in the place of all", lines),
			"<edit-config><target><"+s.p.Netconf.Edit+"/></target><default-operation>replace</default-operation><config>"+body+"</config></edit-config>",
		)
	}
	return err
}

// Save makes what runs what it starts with.
func (s *Session) Save(ctx context.Context) error {
	if s.p.Netconf.Saved != profile.Startup {
		return nil
	}
	return s.ask(ctx, "copy-config running to startup", "<copy-config><target><startup/></target><source><running/></source></copy-config>")
}

// Look implements [driver.Looker].
func (s *Session) Look(ctx context.Context, _, command string) ([]string, error) {
	return s.Ask(ctx, command, false)
}

// Ask answers what a person wants to know: get PATH.
func (s *Session) Ask(ctx context.Context, command string, _ bool) ([]string, error) {
	rest, ok := strings.CutPrefix(strings.TrimSpace(command), "get ")
	at, err := tree.ParsePath(strings.TrimSpace(rest))
	if !ok || err != nil {
		return nil, &driver.Refused{Line: s.Mask(command), Said: "over NETCONF only get PATH is asked, such as get /ietf-system:system-state"}
	}
	root, err := s.get(ctx, at)
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
