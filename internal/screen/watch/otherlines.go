package watch

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/screen"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
)

// editor is the view in which the lines of a step are edited for a device that is held. It sends
// nothing: what they would do is computed and shown first.
type editor struct {
	q     decide.Question
	was   []string
	lines []string
	out   []bool // left out
	host  *screen.Host
	list  list.List
	open  func() bool // whether the hold is still decided on
	take  func(lines []string)
	head  int // rows above the lines
}

func otherLines(q decide.Question, lines []string, open func() bool, take func([]string)) *editor {
	e := &editor{q: q, was: lines, lines: slices.Clone(lines), out: make([]bool, len(lines)), open: open, take: take}
	e.list = list.List{Len: func() int { return len(e.lines) }, Draw: e.draw, Text: func(i int) string { return e.lines[i] }}
	return e
}

// Name implements [screen.View].
func (e *editor) Name() string { return "Other lines" }

// Opened implements [screen.Opener].
func (e *editor) Opened(h *screen.Host) { e.host = h }

// Click implements [screen.Pointed].
func (e *editor) Click(_, y int) { e.list.Click(y - e.head) }

// Wheel implements [screen.Pointed].
func (e *editor) Wheel(rows int) { e.list.Wheel(rows) }

// Rows implements [screen.View].
func (e *editor) Rows(f screen.Frame) []ink.Row {
	on := e.q.Device
	if k := len(e.q.Alike); k > 0 {
		on = fmt.Sprintf("%s and %d more", on, k)
	}
	rows := []ink.Row{
		ink.T(ink.Foam, " ").Strong(ink.Lamp, "◆ Other lines for "+on),
		ink.T(ink.Foam, " "+ink.Fit(e.q.Title, max(f.Cells-2, 8))),
	}
	if !e.open() {
		rows = append(rows, ink.T(ink.Foam, " ").Strong(ink.Port, "That hold is over: these lines go nowhere any more."))
	}
	for _, l := range ink.Wrap("Nothing is sent yet: they are checked, and what they do is computed and shown first. A secret stands as ▒▒▒▒: leave its line as it is.", f.Cells-2, 3) {
		rows = append(rows, ink.T(ink.Dim, " "+l))
	}
	rows = append(rows, ink.Row{})
	e.head = len(rows)
	return append(rows, e.list.Rows(f.Cells, f.Height-len(rows))...)
}

func (e *editor) draw(i int, here bool, cells int) ink.Row {
	begin := " "
	if here {
		begin = "▌"
	}
	r := ink.T(ink.Lamp, begin).Add(ink.Dim, fmt.Sprintf(" %3d  ", i+1))
	switch {
	case e.out[i]:
		return ink.Cut(r.Add(ink.Heather, "◇ left out  ").Add(ink.Dim, e.lines[i]), cells)
	case i < len(e.was) && e.lines[i] == e.was[i]:
		return ink.Cut(r.Add(ink.Foam, "  "+e.lines[i]), cells)
	}
	return ink.Cut(r.Strong(ink.Lamp, "◧ ").Strong(ink.Foam, e.lines[i]), cells)
}

// Keys implements [screen.View].
func (e *editor) Keys() []screen.Key {
	var out []screen.Key
	if len(e.lines) > 0 {
		out = append(out, screen.On(keys.Open, "edit", e.edit), screen.On(keys.LeaveOut, "leave out", e.leaveOut))
	}
	out = append(out, screen.On(keys.Insert, "insert", e.insert), screen.On(keys.Save, "take them", e.done))
	return append(out, e.list.Moves("line")...)
}

func (e *editor) edit() {
	i := e.list.Cursor
	e.host.Type(screen.Line{Label: fmt.Sprintf("line %d:", i+1), Text: e.lines[i], Done: func(text string) error {
		e.lines[i], e.out[i] = text, strings.TrimSpace(text) == ""
		return nil
	}})
}

func (e *editor) leaveOut() { e.out[e.list.Cursor] = !e.out[e.list.Cursor] }

func (e *editor) insert() {
	e.host.Type(screen.Line{Label: "new line:", Done: func(text string) error {
		if strings.TrimSpace(text) == "" {
			return nil
		}
		at := min(e.list.Cursor+1, len(e.lines))
		e.lines, e.out = slices.Insert(e.lines, at, text), slices.Insert(e.out, at, false)
		e.was = slices.Insert(slices.Clone(e.was), min(at, len(e.was)), "")
		e.list.To(at)
		return nil
	}})
}

// done takes the lines, where they are others.
func (e *editor) done() {
	var lines []string
	for i, l := range e.lines {
		if !e.out[i] {
			lines = append(lines, l)
		}
	}
	if slices.Equal(lines, e.q.LinesOf()) {
		e.host.Say("these are the lines of the runbook: change one, leave one out, or go back")
		return
	}
	e.host.Back()
	e.take(lines)
}
