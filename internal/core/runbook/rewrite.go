package runbook

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"metabasis/internal/core/config"
)

// A step that sends lines which only put something into the configuration can say instead
// what shall be there. Its undo and already are computed then, and fall away.

// AsWant rewrites the steps of a runbook that can be so. Languages gives those of the
// platforms named, or of all that matter where none is named. It returns why steps were
// left as they are; the error is a problem.List.
func AsWant(file string, src []byte, languages func(platforms []string) []*config.Language) (out []byte, left []string, err error) {
	rb, err := Parse(file, src)
	if err != nil {
		return nil, nil, err
	}
	root := scan(file, src, &problems{})
	r := rewriter{lines: strings.Split(string(src), "\n"), languages: languages}
	steps := slices.DeleteFunc(slices.Clone(root.children), func(n *node) bool { return !strings.HasPrefix(n.text, "step ") })
	for i, n := range steps {
		if err := r.step(n, rb.Steps[i]); err != nil {
			left = append(left, fmt.Sprintf("%s:%d: step %q: %v", file, n.n, rb.Steps[i].Title, err))
		}
	}
	var kept []string
	for _, l := range r.lines {
		if l != dropped {
			kept = append(kept, l)
		}
	}
	out, err = Format(file, []byte(strings.Join(kept, "\n")))
	return out, left, err
}

// dropped marks a line that falls away. No line can be it.
const dropped = "\x00"

type rewriter struct {
	lines     []string
	languages func(platforms []string) []*config.Language
}

// step rewrites a step, as a whole or not at all.
func (r *rewriter) step(n *node, s Step) error {
	if !slices.ContainsFunc(s.On, func(on On) bool { return len(on.Send) > 0 }) {
		return nil // it sends nothing
	}
	blocks := []*node{n}
	if n.find("on") != nil {
		blocks = slices.DeleteFunc(slices.Clone(n.children), func(c *node) bool { return !strings.HasPrefix(c.text, "on ") })
	}
	if err := onlyOfConfig(s.Already); err != nil {
		return err
	}
	texts := map[*node][]string{}
	for i, b := range blocks {
		on := s.On[i]
		if len(on.Send) == 0 {
			continue
		}
		if err := onlyOfConfig(on.Already); err != nil {
			return err
		}
		lines, err := r.convert(on)
		if err != nil {
			return err
		}
		texts[b.find("send")] = lines
	}
	for send, lines := range texts {
		r.lines[send.n-1] = strings.Repeat(" ", send.indent) + "want"
		for i, c := range send.children {
			r.lines[c.n-1] = dropped
			if lines[i] != "" {
				r.lines[c.n-1] = strings.Repeat(" ", c.indent) + "| " + lines[i]
			}
		}
	}
	for _, b := range append(blocks, n) {
		for _, c := range b.children {
			if first, _, _ := strings.Cut(c.text, " "); first == "undo" || first == "already" {
				r.drop(c)
			}
		}
	}
	return nil
}

func (r *rewriter) drop(n *node) {
	r.lines[n.n-1] = dropped
	for _, c := range n.children {
		r.drop(c)
	}
}

var joints = regexp.MustCompile(`\b(and|or|not)\b|&&|\|\||[!()\s]`)

// onlyOfConfig refuses an already that looks at more than the configuration.
func onlyOfConfig(c *Cond) error {
	if c != nil && joints.ReplaceAllString(hasForm.ReplaceAllString(c.Source, ""), "") != "" {
		return errors.New("its already looks at more than the configuration")
	}
	return nil
}

// convert makes of lines that are sent those that shall be there, one for each, "" for one
// that falls away. All languages must say the same.
func (r *rewriter) convert(on On) (lines []string, err error) {
	languages := r.languages(on.Platforms)
	if len(languages) == 0 {
		return nil, errors.New("no platform that it is for has a language")
	}
	for i, l := range languages {
		if l == nil {
			return nil, errors.New("a platform that it is for has no language")
		}
		one, err := wantedOf(l, on.Send)
		if err != nil {
			return nil, err
		}
		if i > 0 && !slices.Equal(one, lines) {
			return nil, errors.New("its lines mean different things on the platforms that it is for")
		}
		lines = one
	}
	return lines, nil
}

// wantedOf converts lines by one language.
func wantedOf(l *config.Language, texts []*Text) (out []string, err error) {
	at := []string{""}
	for _, t := range texts {
		if t.file != "" {
			return nil, fmt.Errorf("its lines stand in the file %s", t.file)
		}
		typed := strings.TrimSpace(t.Source)
		if typed == l.Leave && l.Leave != "" {
			if len(at) > 1 {
				at = at[:len(at)-1]
			}
			out = append(out, "")
			continue
		}
		line, section := "", ""
		var depth int
		for depth = len(at) - 1; depth >= 0; depth-- {
			if line, section = printedOf(l, at[depth], typed); line != "" {
				break
			}
			if l.Leave != "" {
				depth = -1
				break
			}
		}
		if depth < 0 {
			return nil, fmt.Errorf("%q puts nothing there that the language knows", typed)
		}
		at = at[:depth+1]
		if section != "" {
			at = append(at, section)
		}
		out = append(out, strings.Repeat("  ", depth)+line)
	}
	return out, nil
}

// samples stand for values that are not known while a runbook is rewritten.
var samples = []string{"7", "310", "192.0.2.1", "x1", "192.0.2.0/24", "2001:db8::1"}

var angled = regexp.MustCompile(`<<[^>]*>>`)

// printedOf finds the line that a typed one puts into a section, values left open, and the
// section that it opens, if any.
func printedOf(l *config.Language, section, typed string) (line, opens string) {
	first := angled.FindStringIndex(typed)
	for _, sample := range samples {
		tried := angled.ReplaceAllLiteralString(typed, sample)
		printed, isSection, ok := l.Typed(section, tried)
		if !ok {
			continue
		}
		from := strings.Index(tried, printed)
		if from < 0 || first != nil && first[0] < from {
			return "", ""
		}
		behind := len(tried) - from - len(printed)
		if isSection {
			opens = printed
		}
		return typed[from : len(typed)-behind], opens
	}
	return "", ""
}
