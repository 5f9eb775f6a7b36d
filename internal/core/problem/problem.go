// Package problem describes what is wrong with a file a person wrote.
//
// Readers of fleets, runbooks and profiles collect every [Problem] they find
// and return them together as a [List], so that a person mends a file once
// and not error by error. A problem says where it is, what is wrong, and what
// to write instead:
//
//	night.runbook:14:3: unknown precheck "reachabel"
//	    reachabel
//	    ^
//	  write: reachable
package problem

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
	"github.com/goccy/go-yaml"
)

// Problem is one thing that is wrong at one place of one file.
type Problem struct {
	File string // as the person named it
	Line int    // from 1; 0 when the file as a whole is meant
	Col  int    // in runes, from 1; 0 when the line as a whole is meant
	Text string // the line itself, without its end
	Msg  string // what is wrong, in lower case and without a full stop
	Hint string // what to write instead; may be empty
}

// Error gives the problem on one line.
func (p Problem) Error() string {
	var b strings.Builder
	b.WriteString(p.where())
	b.WriteString(p.Msg)
	if p.Hint != "" {
		b.WriteString("; write: ")
		b.WriteString(p.Hint)
	}
	return Printable(b.String())
}

// Printable takes out of a text from a file what could act on a terminal or
// mislead the eye: control characters, and those that change the direction of
// text. Each becomes one sign, so that columns stay where they are.
func Printable(s string) string {
	if plain(s) { // as nearly all are
		return s
	}
	return strings.Map(func(r rune) rune {
		if r == '\n' || r == '\t' || !unicode.In(r, unicode.Cc, unicode.Cf) {
			return r
		}
		return '�'
	}, s)
}

// plain tells a text of nothing but the printable signs of ASCII.
func plain(s string) bool {
	for i := range len(s) {
		if s[i] < ' ' || s[i] > '~' {
			return false
		}
	}
	return true
}

func (p Problem) where() string {
	switch {
	case p.Line == 0:
		return p.File + ": "
	case p.Col == 0:
		return fmt.Sprintf("%s:%d: ", p.File, p.Line)
	}
	return fmt.Sprintf("%s:%d:%d: ", p.File, p.Line, p.Col)
}

// String gives the problem in full: place, line, marker and suggestion.
func (p Problem) String() string {
	var b strings.Builder
	b.WriteString(Printable(p.where()+p.Msg) + "\n")
	if p.Line > 0 && strings.TrimSpace(p.Text) != "" {
		// Tabs keep their width of one so that the marker stays under its word.
		b.WriteString("    " + Printable(strings.NewReplacer("\t", " ", "\n", " ").Replace(p.Text)) + "\n")
		if p.Col > 0 && p.Col <= utf8.RuneCountInString(p.Text)+1 {
			b.WriteString("    " + strings.Repeat(" ", p.Col-1) + "^\n")
		}
	}
	if p.Hint != "" {
		b.WriteString("  write: " + Printable(p.Hint) + "\n")
	}
	return b.String()
}

// List is every problem of one or more files. As an error it is never empty.
type List []Problem

// Error gives one line a problem.
func (l List) Error() string {
	lines := make([]string, len(l))
	for i, p := range l {
		lines[i] = p.Error()
	}
	return strings.Join(lines, "\n")
}

// String gives every problem in full.
func (l List) String() string {
	var b strings.Builder
	for i, p := range l {
		if i == shown {
			fmt.Fprintf(&b, "and %d more\n", len(l)-shown)
			break
		}
		b.WriteString(p.String())
	}
	return b.String()
}

// shown is how many problems are told in full: who has more begins with these.
const shown = 50

// Err returns the list as an error, sorted by place, each problem once, or nil when it is
// empty.
func (l List) Err() error {
	if len(l) == 0 {
		return nil
	}
	slices.SortStableFunc(l, func(a, b Problem) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line), cmp.Compare(a.Col, b.Col))
	})
	said := make(map[Problem]bool, len(l)) // what is wrong for each of many devices is wrong once
	return slices.DeleteFunc(l, func(p Problem) bool {
		again := said[p]
		said[p] = true
		return again
	})
}

// Nearest returns the candidate that a person most likely meant by word, or
// "" when none is near: at most a third of its letters may differ.
func Nearest(word string, candidates []string) string {
	word = strings.ToLower(word)
	best, at := "", 2*(len(word)/3+2)
	for _, c := range slices.Sorted(slices.Values(candidates)) {
		d := 2 * levenshtein.ComputeDistance(word, strings.ToLower(c))
		if word != "" && strings.HasPrefix(strings.ToLower(c), word[:1]) {
			d-- // of two that are equally near, people get the first letter right
		}
		if d < at {
			best, at = c, d
		}
	}
	return best
}

// OneOf makes the hint for a word that must be one of a few: the nearest one,
// or all of them.
func OneOf(word string, candidates []string) string {
	if len(candidates) == 0 {
		return ""
	}
	if n := Nearest(word, candidates); n != "" {
		return n
	}
	if len(candidates) == 1 {
		return candidates[0]
	}
	return "one of " + strings.Join(candidates, ", ")
}

// Write is what to write instead, to be put behind an error; "" where there is nothing
// that could be written.
func Write(word string, candidates []string) string {
	if one := OneOf(word, candidates); one != "" {
		return "; write: " + one
	}
	return ""
}

// FromYAML makes a problem of what the YAML parser says, at its place in data.
func FromYAML(file string, data []byte, err error) Problem {
	p := Problem{File: file, Msg: err.Error()}
	var at yaml.Error
	if errors.As(err, &at) {
		p.Msg = at.GetMessage()
		if tk := at.GetToken(); tk != nil && tk.Position != nil {
			p.Line, p.Col = tk.Position.Line, tk.Position.Column
			if lines := strings.Split(string(data), "\n"); p.Line >= 1 && p.Line <= len(lines) {
				p.Text = strings.TrimRight(lines[p.Line-1], "\r")
			}
		}
	}
	return p
}
