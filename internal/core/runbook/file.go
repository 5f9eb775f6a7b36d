package runbook

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"
	"unicode"

	"metabasis/internal/core/problem"
)

// Larger texts stand in files of the workspace, beside the runbook: send file
// "gates.txt". What stands there is the lines that would stand behind the bars.

// fileText reads the name of a file whose lines are meant.
func (p *parser) fileText(n *node, c *cursor) []*Text {
	const hint = `send file "gates.txt"`
	w := c.peek()
	name := c.str("the name of a file of the workspace in quotes", hint)
	c.end()
	p.leaf(n)
	switch {
	case c.bad:
	case !filepath.IsLocal(name) || strings.ContainsAny(name, "\\*?"):
		p.at(n, w.col, hint, "%q is not a file inside the workspace", name)
	}
	if strings.Contains(name, "<<") {
		t := p.text(n, w.at+1, name)
		t.each = &each{}
		return []*Text{t}
	}
	t := &Text{Source: name, at: span{line: n.n, col: w.col}, file: name}
	p.rb.files = append(p.rb.files, t)
	return []*Text{t}
}

// Files names the files whose lines the runbook means, each once.
func (rb *Runbook) Files() (out []string) {
	seen := map[string]bool{}
	for _, t := range rb.files {
		if !seen[t.file] {
			seen[t.file] = true
			out = append(out, t.file)
		}
	}
	return out
}

// Fill puts the lines of files in the places where the runbook names them. Read reads
// one by its name, in the workspace. It comes before Compile; a runbook that names none
// needs it not. The error is a problem.List.
func (rb *Runbook) Fill(read func(name string) ([]byte, error)) error {
	f := filler{rb: rb, read: read, texts: map[string][]*Text{}}
	rb.read = read
	for i := range rb.Steps {
		for j := range rb.Steps[i].On {
			on := &rb.Steps[i].On[j]
			for _, texts := range []*[]*Text{&on.Want, &on.Gone, &on.Put, &on.Send, &on.Undo} {
				*texts = f.fill(*texts)
			}
			for _, t := range slices.Concat(on.Want, on.Gone) {
				t.pasted = t.File() != "" || t.each != nil
			}
		}
	}
	rb.files = nil
	return f.list.Err()
}

type filler struct {
	rb    *Runbook
	read  func(name string) ([]byte, error)
	texts map[string][]*Text // by file, and by how it is meant
	list  problem.List
}

func (f *filler) fill(texts []*Text) (out []*Text) {
	for _, t := range texts {
		if t.file == "" {
			out = append(out, t)
			continue
		}
		key := fmt.Sprint(t.whole, t.file)
		lines, known := f.texts[key]
		if !known {
			lines = f.lines(t)
			f.texts[key] = lines
		}
		for _, l := range lines { // each place compiles its own
			again := *l
			again.whole = t.whole
			out = append(out, &again)
		}
	}
	return out
}

// lines reads the lines of a file. Empty ones set parts of it apart and are not sent, which the
// plan sees to: whether one stands in a text of several lines is known with the device.
func (f *filler) lines(t *Text) (out []*Text) {
	here := problem.Problem{File: f.rb.File, Line: t.at.line, Col: t.at.col, Text: f.rb.lines[t.at.line]}
	data, err := f.read(t.file)
	var wrong problem.List
	switch {
	case errors.As(err, &wrong):
		f.list = append(f.list, wrong...)
		return nil
	case errors.Is(err, fs.ErrNotExist):
		here.Msg = fmt.Sprintf("there is no file %s in the workspace", t.file)
	case err != nil:
		here.Msg = fmt.Sprintf("the file %s cannot be read: %v", t.file, err)
	}
	if here.Msg != "" {
		f.list = append(f.list, here)
		return nil
	}
	p := &parser{problems: problems{file: t.file}}
	out, wrong = linesOf(p, t, data)
	if len(out) > maxLines {
		out, here.Msg = nil, fmt.Sprintf("the file %s has more than %d lines", t.file, maxLines)
	} else if len(out) == 0 && len(wrong) == 0 {
		here.Msg = fmt.Sprintf("no line stands in the file %s", t.file)
	}
	f.list = append(f.list, wrong...)
	if here.Msg != "" {
		f.list = append(f.list, here)
	}
	return out
}

// linesOf makes device text of the lines of a file.
func linesOf(p *parser, t *Text, data []byte) (out []*Text, wrong problem.List) {
	for i, raw := range strings.Split(string(data), "\n") {
		raw = strings.TrimRightFunc(raw, unicode.IsSpace)
		n := &node{n: i + 1, raw: raw, text: raw, device: true}
		switch at := strings.IndexFunc(raw, func(r rune) bool { return isControl(r) && r != '\t' }); {
		case len(raw) > maxLine:
			n.raw = raw[:60] + "…"
			p.at(n, 0, "", "line of %d bytes; the most is %d", len(raw), maxLine)
			continue
		case at >= 0:
			p.at(n, n.col(at), "", "a control character")
			continue
		case strings.HasPrefix(strings.TrimSpace(raw), "|"):
			p.at(n, n.col(0), "the line alone, without the bar", "a bar stands before a line in a runbook only: this file would have it sent")
		}
		l := p.text(n, 0, raw)
		l.at.file, l.at.raw = t.file, raw
		for j := range l.pieces {
			l.pieces[j].at.file, l.pieces[j].at.raw = t.file, raw
		}
		out = append(out, l)
	}
	for len(out) > 0 && out[len(out)-1].Source == "" {
		out = out[:len(out)-1]
	}
	return out, p.list
}

// Choose puts what selections mean in the place of their names in the scope. Means gives the
// condition of one, by its name. It comes before Compile. The error is a problem.List.
func (rb *Runbook) Choose(means func(name string) (string, error)) error {
	var list problem.List
	for _, c := range rb.Scope {
		name := c.Selection()
		if name == "" {
			continue
		}
		source, err := means(name)
		if err != nil {
			list = append(list, problem.Problem{File: rb.File, Line: c.at.line, Col: c.at.col, Text: rb.lines[c.at.line], Msg: err.Error()})
			continue
		}
		c.means = source
	}
	return list.Err()
}

// Selections are the names of the selections in the scope, with what they mean.
func (rb *Runbook) Selections() (names, means []string) {
	for _, c := range rb.Scope {
		if name := c.Selection(); name != "" {
			names, means = append(names, name), append(means, c.means)
		}
	}
	return names, means
}
