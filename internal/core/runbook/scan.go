package runbook

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"

	"metabasis/internal/core/problem"
)

// Bounds on what is read: a runbook is written by a person.
const (
	maxLines = 20_000
	maxLine  = 4_000 // bytes
)

// node is a line with the lines that belong to it.
type node struct {
	n        int    // line number, from 1
	indent   int    // spaces before the text
	raw      string // the whole line
	text     string // the line without indent and comment
	comment  string // "# …" at the end of the line, or ""
	device   bool   // the line is device text behind a bar
	children []*node
	before   []string // comment lines and blank lines above it ("" is a blank line)
}

// col is the column, in runes from 1, of byte offset i of n.text.
func (n *node) col(i int) int {
	if i > len(n.text) {
		i = len(n.text)
	}
	return n.indent + utf8.RuneCountInString(n.text[:i]) + 1
}

// find is the first line under n that begins with a word; nil when there is none.
func (n *node) find(word string) *node {
	for _, c := range n.children {
		if first, _, _ := strings.Cut(c.text, " "); first == word && !c.device {
			return c
		}
		if f := c.find(word); f != nil {
			return f
		}
	}
	return nil
}

// problems gathers what is wrong with a file.
type problems struct {
	file string
	list problem.List
}

func (p *problems) at(n *node, col int, hint, format string, args ...any) {
	p.list = append(p.list, problem.Problem{
		File: p.file, Line: n.n, Col: col, Text: n.raw, Hint: hint, Msg: fmt.Sprintf(format, args...),
	})
}

// scan builds the tree of lines. The root node stands for the file; its before
// field holds what follows the last line.
func scan(file string, src []byte, p *problems) *node {
	root := &node{indent: -1}
	if !utf8.Valid(src) {
		p.at(&node{}, 0, "UTF-8", "the file %s is not UTF-8 text", file)
		return root
	}
	lines := strings.Split(strings.TrimPrefix(string(src), "\ufeff"), "\n")
	if len(lines) > maxLines {
		p.at(&node{n: maxLines}, 0, "", "more than %d lines; this is not a runbook", maxLines)
		return root
	}
	stack := []*node{root}
	var before []string
	for i, raw := range lines {
		raw = strings.TrimRightFunc(raw, unicode.IsSpace)
		n := &node{n: i + 1, raw: raw}
		body := strings.TrimLeft(raw, " ")
		n.indent = len(raw) - len(body)
		switch {
		case len(raw) > maxLine:
			n.raw = raw[:60] + "…"
			p.at(n, 0, "", "line of %d bytes; the most is %d", len(raw), maxLine)
			continue
		case body == "":
			before = append(before, "")
			continue
		case body[0] == '#':
			before = append(before, body)
			continue
		case body[0] == '\t':
			p.at(n, n.indent+1, "spaces: two for each level", "a tab in the indentation")
			body = strings.TrimLeft(body, " \t")
		}
		if j := strings.IndexFunc(body, func(r rune) bool { return unicode.IsControl(r) && r != '\t' }); j >= 0 {
			n.text = body
			p.at(n, n.col(j), "", "a control character")
			continue
		}
		n.text, n.comment, n.device = splitComment(body)
		n.before, before = before, nil
		stack = place(stack, n, p)
	}
	root.before = before
	return root
}

// place hangs n under the line above it that it belongs to.
func place(stack []*node, n *node, p *problems) []*node {
	for len(stack) > 1 && stack[len(stack)-1].indent >= n.indent {
		stack = stack[:len(stack)-1]
	}
	parent := stack[len(stack)-1]
	if len(parent.children) > 0 && parent.children[0].indent != n.indent {
		p.at(n, n.indent+1, "", "this line does not line up with line %d above it", parent.children[len(parent.children)-1].n)
	} else if len(stack) == 1 && n.indent > 0 {
		p.at(n, n.indent+1, "a section at the left edge first", "this line is indented but belongs to no section")
	}
	parent.children = append(parent.children, n)
	return append(stack, n)
}

// splitComment takes a comment off the end of a line. A # counts only behind a
// space and outside quotes; device text has no comments.
func splitComment(body string) (text, comment string, device bool) {
	if body[0] == '|' {
		return body, "", true
	}
	quoted := false
	for i := 0; i < len(body); i++ {
		switch c := body[i]; {
		case c == '\\' && quoted:
			i++
		case c == '"':
			quoted = !quoted
		case c == '#' && !quoted && i > 0 && (body[i-1] == ' ' || body[i-1] == '\t'):
			return strings.TrimRightFunc(body[:i], unicode.IsSpace), body[i:], false
		}
	}
	return body, "", false
}

// word is a part of a line: a run without spaces, a comma, or a quoted string.
type word struct {
	text   string
	quoted bool
	col    int // in runes, from 1
	at     int // byte offset in the line's text
	end    int // byte offset behind it
}

// words splits a line. An open quote is a problem.
func (n *node) words(p *problems) []word {
	var out []word
	for i := 0; i < len(n.text); {
		switch c := n.text[i]; {
		case c == ' ' || c == '\t':
			i++
		case c == ',':
			out = append(out, word{text: ",", col: n.col(i), at: i, end: i + 1})
			i++
		case c == '"':
			s, end, ok := unquote(n.text, i)
			if !ok {
				p.at(n, n.col(i), "", `this quote is not closed`)
			}
			out = append(out, word{text: s, quoted: true, col: n.col(i), at: i, end: end})
			i = end
		default:
			j := i
			if c == '=' && i+1 < len(n.text) && n.text[i+1] != '=' { // "=3" is two words
				j = i + 1
			}
			for c != '=' && j < len(n.text) && !strings.ContainsRune(" \t,\"", rune(n.text[j])) {
				j++
			}
			j = max(j, i+1)
			out = append(out, word{text: n.text[i:j], col: n.col(i), at: i, end: j})
			i = j
		}
	}
	return out
}

// unquote reads the string that starts at text[i]. Only \" and \\ are escapes.
func unquote(text string, i int) (s string, end int, ok bool) {
	var b strings.Builder
	for i++; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"':
			return b.String(), i + 1, true
		case c == '\\' && i+1 < len(text) && (text[i+1] == '"' || text[i+1] == '\\'):
			i++
			b.WriteByte(text[i])
		default:
			b.WriteByte(c)
		}
	}
	return b.String(), len(text), false
}

func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}
