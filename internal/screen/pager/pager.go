// Package pager shows a device's full transcript, with scrolling and search.
package pager

import (
	"fmt"
	"strings"

	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/watch"
)

// View is a transcript with a place in it. It follows the end until a person
// scrolls away from it.
type View struct {
	Device string
	title  string
	fixed  bool
	lines  []string
	top    int
	follow bool
	query  string
	typing bool
	at     int // line of the current match, or -1
}

// New opens a transcript at its end.
func New(device string, lines []string) *View {
	return &View{Device: device, title: "Transcript of " + device, lines: lines, follow: true, at: -1}
}

// Of opens a text that does not grow, at its start.
func Of(title, device string, lines []string) *View {
	return &View{Device: device, title: title, lines: lines, fixed: true, at: -1}
}

// Set takes in what was said meanwhile.
func (v *View) Set(lines []string) {
	if !v.fixed {
		v.lines = lines
	}
}

// Typing tells whether keys are part of a search text.
func (v *View) Typing() bool { return v.typing }

// Key takes a key and tells whether the view wants to stay open.
func (v *View) Key(key, text string, height int) (open bool) {
	if v.typing {
		v.typeKey(key, text)
		return true
	}
	switch key {
	case "esc", "q", "enter":
		return false
	case "up", "k":
		v.scroll(-1, height)
	case "down", "j":
		v.scroll(1, height)
	case "pgup":
		v.scroll(-height, height)
	case "pgdown", "space":
		v.scroll(height, height)
	case "home":
		v.scroll(-len(v.lines), height)
	case "end":
		v.scroll(len(v.lines), height)
	case "/":
		v.typing, v.query, v.at = true, "", -1
	case "n":
		v.find(1, height)
	case "N":
		v.find(-1, height)
	}
	return true
}

func (v *View) typeKey(key, text string) {
	switch key {
	case "esc":
		v.typing, v.query = false, ""
	case "enter":
		v.typing = false
		v.find(1, 1)
	case "backspace":
		if r := []rune(v.query); len(r) > 0 {
			v.query = string(r[:len(r)-1])
		}
	default:
		v.query += text
	}
}

func (v *View) scroll(by, height int) {
	if v.follow {
		v.top = max(0, len(v.lines)-height)
	}
	last := max(0, len(v.lines)-height)
	v.top = min(max(v.top+by, 0), last)
	v.follow = v.top == last && !v.fixed
}

// find goes to the next line with the text, round the end if need be.
func (v *View) find(dir, height int) {
	if v.query == "" || len(v.lines) == 0 {
		return
	}
	start := v.at
	if start < 0 {
		start = v.top - dir
	}
	for i := 1; i <= len(v.lines); i++ {
		j := ((start+dir*i)%len(v.lines) + len(v.lines)) % len(v.lines)
		if strings.Contains(strings.ToLower(v.lines[j]), strings.ToLower(v.query)) {
			v.at, v.top, v.follow = j, max(0, j-height/3), false
			return
		}
	}
	v.at = -1
}

func (v *View) matches() int {
	n := 0
	for _, l := range v.lines {
		if v.query != "" && strings.Contains(strings.ToLower(l), strings.ToLower(v.query)) {
			n++
		}
	}
	return n
}

// Rows draws the transcript.
func (v *View) Rows(cells, height int) []ink.Row {
	height--
	if v.follow {
		v.top = max(0, len(v.lines)-height)
	}
	v.top = min(v.top, max(0, len(v.lines)-1))
	head := ink.Row{}.Add(ink.Foam, " ").Strong(ink.Foam, v.title).
		Add(ink.Dim, fmt.Sprintf("   lines %d to %d of %d", min(v.top+1, len(v.lines)), min(v.top+height, len(v.lines)), len(v.lines)))
	switch {
	case v.typing:
		head = head.Add(ink.Foam, "   search: ").Strong(ink.Lamp, v.query+"▏")
	case v.query != "":
		head = head.Add(ink.Dim, fmt.Sprintf("   %d lines with ", v.matches())).Strong(ink.Lamp, v.query)
	}
	rows := []ink.Row{head}
	for i := v.top; i < min(v.top+height, len(v.lines)); i++ {
		r := ink.T(ink.Foam, " ")
		if v.fixed {
			r = r.Add(ink.Foam, v.lines[i])
		} else {
			r = r.Then(watch.TranscriptRow(v.lines[i], cells-1))
		}
		if i == v.at {
			r.Spans[0].Text, r.Spans[0].Ink = "▌", ink.Lamp
			r.Marked = true
		}
		rows = append(rows, r)
	}
	return rows
}
