package netconf

import (
	"bufio"
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/device/tree"
)

// The namespace of NETCONF's own words (RFC 6241, section 3.1), and what both sides say
// that they can do (section 8).
const (
	baseSpace       = "urn:ietf:params:xml:ns:netconf:base:1.0"
	base10          = "urn:ietf:params:netconf:base:1.0"
	base11          = "urn:ietf:params:netconf:base:1.1"
	canCandidate    = "urn:ietf:params:netconf:capability:candidate:1.0"
	canConfirm      = "urn:ietf:params:netconf:capability:confirmed-commit:1.1"
	canValidate     = "urn:ietf:params:netconf:capability:validate:1."
	canStartup      = "urn:ietf:params:netconf:capability:startup:1.0"
	canWriteRunning = "urn:ietf:params:netconf:capability:writable-running:1.0"
	canRollBack     = "urn:ietf:params:netconf:capability:rollback-on-error:1.0"
)

// client speaks NETCONF over a stream, one request at a time. Nothing runs in between.
type client struct {
	f       framer
	rw      io.ReadWriteCloser
	within  time.Duration // the longest an answer may take
	schema  tree.Schema
	n       int
	can     map[string]bool
	session string // the number that the device calls this session by
	broken  error  // why it is of no more use
	seen    []seen // replies that were read lately
}

// seen is a reply that was read: a configuration comes again and again as it was, and need
// not be taken apart each time.
type seen struct {
	msg  []byte // without its number
	data *tree.Node
}

const (
	mostSeen = 4
	longSeen = 2 << 10 // what is shorter is read as quickly
)

// Error is a device that says no (RFC 6241, section 4.3).
type Error struct{ Tag, AppTag, Path, Message, Session string }

func (e *Error) Error() string {
	text := e.Tag
	if e.Message != "" {
		text = e.Message + " (" + e.Tag + ")"
	}
	if e.Path != "" {
		text += " at " + e.Path
	}
	if e.Session != "" && e.Session != "0" {
		text += ", by session " + e.Session
	}
	return text
}

// hello begins the session.
func hello(ctx context.Context, rw io.ReadWriteCloser, schema tree.Schema, within time.Duration) (*client, error) {
	c := &client{f: framer{r: bufio.NewReader(rw), w: rw}, rw: rw, within: within, schema: schema, can: map[string]bool{}}
	ours := `<?xml version="1.0" encoding="UTF-8"?><hello xmlns="` + baseSpace + `"><capabilities><capability>` + base10 + `</capability><capability>` + base11 + `</capability></capabilities></hello>`
	var msg []byte
	err := c.bounded(ctx, func() (err error) {
		if err = c.f.write([]byte(ours)); err == nil {
			msg, err = c.f.read()
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	var h struct {
		XMLName      xml.Name `xml:"hello"`
		Capabilities []string `xml:"capabilities>capability"`
		Session      string   `xml:"session-id"`
	}
	if err := xml.Unmarshal(msg, &h); err != nil || h.XMLName.Space != baseSpace {
		return nil, fmt.Errorf("what it says first is no hello: %q", short(msg))
	}
	for _, is := range h.Capabilities {
		is, _, _ = strings.Cut(strings.TrimSpace(is), "?")
		c.can[is] = true
	}
	c.session = strings.TrimSpace(h.Session)
	if !c.can[base10] && !c.can[base11] {
		return nil, errors.New("its hello offers neither version 1.0 nor 1.1")
	}
	c.f.chunked = c.can[base11]
	return c, nil
}

// short is the start of what came, to be shown.
func short(msg []byte) string {
	return strings.ToValidUTF8(string(msg[:min(len(msg), 120)]), "?")
}

// bounded does what waits for the device; when its time is up the stream is closed, which
// is what ends it.
func (c *client) bounded(ctx context.Context, do func() error) error {
	limit, cancel := context.WithTimeout(ctx, c.within)
	defer cancel()
	release := context.AfterFunc(limit, func() { c.rw.Close() })
	err := do()
	if release() || err == nil && limit.Err() == nil {
		return err
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return fmt.Errorf("no answer in %s", c.within)
}

// call sends an operation and waits for its reply: the data, where there is some. The
// error is an [Error] when the device says no, an *unclear where its reply is none.
func (c *client) call(ctx context.Context, operation string) (*tree.Node, error) {
	if c.broken != nil {
		return nil, c.broken
	}
	c.n++
	id := strconv.Itoa(c.n)
	var data *tree.Node
	var answer error
	err := c.bounded(ctx, func() error {
		msg := `<?xml version="1.0" encoding="UTF-8"?><rpc message-id="` + id + `" xmlns="` + baseSpace + `">` + operation + `</rpc>`
		if err := c.f.write([]byte(msg)); err != nil {
			return err
		}
		for range maxBetween {
			got, err := c.f.read()
			if err != nil {
				return err
			}
			bare := bytes.Replace(got, []byte(`message-id="`+id+`"`), nil, 1)
			if i := slices.IndexFunc(c.seen, func(s seen) bool { return bytes.Equal(s.msg, bare) }); i >= 0 && len(bare) < len(got) {
				data, answer = c.seen[i].data, nil
				return nil
			}
			var ours bool
			if data, ours, answer = c.reply(got, id); ours {
				if answer == nil && data != nil && len(bare) > longSeen && len(bare) < len(got) {
					c.seen = append(c.seen[max(len(c.seen)-mostSeen+1, 0):], seen{bare, data})
				}
				return nil
			}
		}
		return fmt.Errorf("%d messages came in place of an answer", maxBetween)
	})
	if err != nil {
		c.broken = err
		return nil, err
	}
	return data, answer
}

// maxBetween is how many messages may come before the answer: notifications are sent
// whenever something happens.
const maxBetween = 1000

// unclear is a reply that cannot be read.
type unclear struct{ why string }

func (e *unclear) Error() string { return e.why }

// reply reads a message. It is not ours where it is a notification.
func (c *client) reply(msg []byte, id string) (data *tree.Node, ours bool, err error) {
	d := xml.NewDecoder(bytes.NewReader(msg))
	d.Strict = true
	start, err := nextStart(d)
	switch {
	case err != nil:
		return nil, true, &unclear{"its reply is not XML: " + err.Error()}
	case start.Name.Local == "notification":
		return nil, false, nil
	case start.Name.Local != "rpc-reply" || start.Name.Space != baseSpace:
		return nil, true, &unclear{"its reply is a " + start.Name.Local}
	}
	switch got, ok := attribute(start, "message-id"); {
	case ok && got != id:
		return nil, true, &unclear{"its reply is to request " + got + ", not " + id}
	case !ok: // what was asked could not even be read (RFC 6241, section 4.3)
		err = &unclear{"its reply does not say to what"}
	}
	data, err2 := c.content(d)
	if err2 != nil {
		err = err2
	}
	return data, true, err
}

func attribute(e xml.StartElement, name string) (string, bool) {
	for _, a := range e.Attr {
		if a.Name.Local == name && a.Name.Space == "" {
			return a.Value, true
		}
	}
	return "", false
}

// nextStart finds the next element.
func nextStart(d *xml.Decoder) (xml.StartElement, error) {
	for {
		t, err := d.Token()
		if err != nil {
			return xml.StartElement{}, err
		}
		if s, ok := t.(xml.StartElement); ok {
			return s, nil
		}
	}
}

// content reads what stands in a reply.
func (c *client) content(d *xml.Decoder) (data *tree.Node, err error) {
	ok := false
	for {
		t, err2 := d.Token()
		if err2 != nil {
			return nil, &unclear{"its reply ends in its midst: " + err2.Error()}
		}
		switch t := t.(type) {
		case xml.EndElement:
			if err == nil && !ok && data == nil {
				err = &unclear{"its reply says neither ok nor what is wrong"}
			}
			return data, err
		case xml.StartElement:
			if t.Name.Space != baseSpace {
				if err2 := d.Skip(); err2 != nil {
					return nil, &unclear{err2.Error()}
				}
				continue
			}
			switch t.Name.Local {
			case "ok":
				ok = true
				err2 = d.Skip()
			case "data":
				data, err2 = tree.FromXML(d, c.schema)
			case "rpc-error":
				var e *Error
				if e, err2 = readError(d, &t); e != nil && err == nil {
					err = e
				} else if e == nil {
					ok = ok || err2 == nil // a warning
				}
			default:
				err2 = d.Skip()
			}
			if err2 != nil {
				return nil, &unclear{"its reply cannot be read: " + err2.Error()}
			}
		}
	}
}

// readError reads one error; nil where it is only a warning.
func readError(d *xml.Decoder, start *xml.StartElement) (*Error, error) {
	var e struct {
		Tag      string `xml:"error-tag"`
		Severity string `xml:"error-severity"`
		AppTag   string `xml:"error-app-tag"`
		Path     string `xml:"error-path"`
		Message  string `xml:"error-message"`
		Session  string `xml:"error-info>session-id"`
	}
	if err := d.DecodeElement(&e, start); err != nil {
		return nil, err
	}
	if strings.TrimSpace(e.Severity) == "warning" {
		return nil, nil
	}
	return &Error{
		Tag:     tree.Said(e.Tag),
		AppTag:  tree.Said(e.AppTag),
		Path:    tree.Said(e.Path),
		Message: tree.Said(e.Message),
		Session: tree.Said(e.Session),
	}, nil
}
