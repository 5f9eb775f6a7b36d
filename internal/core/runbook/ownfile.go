package runbook

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"github.com/expr-lang/expr/types"
)

// A file may be another one for each device: want file "intent/<<name>>.txt". Which one it is,
// is known once the device is; its lines are read and compiled then, each file once.

// each is what the lines of such a file may speak of.
type each struct{ env types.Map }

// ownFiles are those that were read.
type ownFiles struct {
	mu     sync.Mutex // loops over what was read from devices are settled by many at once
	texts  map[string]ownText
	bodies map[string]string
}

type ownText struct {
	texts []*Text
	err   error
}

// Each tells whether the text names a file that is another one for each device.
func (t *Text) Each() bool { return t.each != nil }

// NoFile says that the file of a device is not there.
type NoFile struct{ File string }

func (e *NoFile) Error() string { return fmt.Sprintf("there is no file %s in the workspace", e.File) }

// Own are the lines of the file that a text names for one device. The error is a [NoFile] where
// it is not there, a problem.List where its lines are not right.
func (rb *Runbook) Own(t *Text, env Env) ([]*Text, error) {
	named := *t
	named.each = nil
	name, err := named.Render(env)
	if err != nil {
		return nil, err
	}
	if name = strings.TrimSpace(name); !filepath.IsLocal(name) || strings.ContainsAny(name, "\\*?") {
		return nil, fmt.Errorf("%s: %q is not a file inside the workspace", t.at, name)
	}
	rb.own.mu.Lock()
	defer rb.own.mu.Unlock()
	key := fmt.Sprint(t.at.line, t.whole, name)
	got, known := rb.own.texts[key]
	if !known {
		got.texts, got.err = rb.ownLines(t, name)
		if rb.own.texts == nil {
			rb.own.texts = map[string]ownText{}
		}
		rb.own.texts[key] = got
	}
	return got.texts, got.err
}

func (rb *Runbook) ownLines(t *Text, name string) ([]*Text, error) {
	if rb.read == nil {
		return nil, fmt.Errorf("the file %s was not read: a file can be named in a runbook of a workspace only", name)
	}
	data, err := rb.read(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return nil, &NoFile{name}
	case err != nil:
		return nil, err
	}
	if rb.own.bodies == nil {
		rb.own.bodies = map[string]string{}
	}
	rb.own.bodies[name] = string(data)
	texts, wrong := linesOf(&parser{problems: problems{file: name}}, &Text{file: name, whole: t.whole}, data)
	if len(texts) > maxLines {
		return nil, fmt.Errorf("the file %s has more than %d lines", name, maxLines)
	}
	if len(texts) == 0 && len(wrong) == 0 {
		return nil, fmt.Errorf("no line stands in the file %s", name)
	}
	c := &compiler{rb: rb}
	for _, l := range texts {
		l.whole, l.pasted = t.whole, t.pasted
		c.text(l, t.each.env)
	}
	if wrong = append(wrong, c.list...); len(wrong) > 0 {
		return nil, wrong.Err()
	}
	return texts, nil
}

// OwnFiles are the files that are another one for each device, as they were read so far, in the
// order of their names: what was sent must be there to be read when a file is long another one.
func (rb *Runbook) OwnFiles() (names, bodies []string) {
	rb.own.mu.Lock()
	defer rb.own.mu.Unlock()
	for _, name := range slices.Sorted(maps.Keys(rb.own.bodies)) {
		names, bodies = append(names, name), append(bodies, rb.own.bodies[name])
	}
	return names, bodies
}
