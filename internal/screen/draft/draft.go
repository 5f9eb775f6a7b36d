// Package draft is the view of a runbook that is being written: its text with what is
// wrong under the lines, checked anew whenever its file changes, by whatever editor; and
// beside it what it would send to a device.
package draft

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/core/problem"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/screen/page"
)

// Source is where the view has what it shows.
type Source struct {
	File string
	// Read reads and checks the file.
	Read func() *acts.Draft
	// Watch calls changed whenever the file changes, until ctx ends. The error says why it
	// cannot be watched.
	Watch func(ctx context.Context, changed func()) error
	// Edit opens the person's editor on the file at a line.
	Edit func(line int) *Editor
	// Plan opens the night.
	Plan func(h *screen.Host)
	// Put writes a step behind a line of the file, and returns the line at which it stands.
	Put func(after int, step string) (int, error)
}

// View is a runbook.
type View struct {
	src    Source
	host   *screen.Host
	draft  *acts.Draft
	rows   []row
	list   list.List
	device int // of the draft, beside the text
}

// row is a line of the file, or a mistake in it.
type row struct {
	line    int // from 1
	text    string
	mistake *problem.Problem
}

// New is the view of a runbook.
func New(src Source) *View {
	v := &View{src: src, draft: &acts.Draft{File: src.File}}
	v.list = list.List{Len: func() int { return len(v.rows) }, Text: func(i int) string { return v.rows[i].text }, Draw: v.draw}
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "Runbook" }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) {
	v.host = h
	v.read()
	h.Go(func(ctx context.Context) {
		err := v.src.Watch(ctx, v.read)
		if err != nil && ctx.Err() == nil {
			h.Then(func() { h.Say("changes are not seen by themselves: " + err.Error()) })
		}
	})
}

// Returned implements [screen.Returner].
func (v *View) Returned() { v.read() }

// read reads the file behind what is shown.
func (v *View) read() {
	v.host.Go(func(context.Context) {
		d := v.src.Read()
		v.host.Then(func() { v.take(d) })
	})
}

// take shows what was read. The cursor stays on its line.
func (v *View) take(d *acts.Draft) {
	line := 1
	if i := v.list.Cursor; i < len(v.rows) {
		line = v.rows[i].line
	}
	name := v.name()
	v.draft, v.rows = d, nil
	under := map[int][]problem.Problem{}
	for _, p := range d.Problems {
		n := p.Line
		if p.File != d.File || n > len(d.Lines) {
			n = 0 // it stands in another file, or nowhere
		}
		under[n] = append(under[n], p)
	}
	add := func(n int) {
		for _, p := range under[n] {
			text := p.Msg
			if n == 0 {
				text = strings.ReplaceAll(p.Error(), "\n", " ")
			} else if p.Hint != "" {
				text += "; write: " + p.Hint
			}
			v.rows = append(v.rows, row{line: max(n, 1), text: text, mistake: &p})
		}
	}
	add(0)
	for i, l := range d.Lines {
		v.rows = append(v.rows, row{line: i + 1, text: l})
		add(i + 1)
	}
	for i, r := range v.rows {
		if r.line == line && r.mistake == nil {
			v.list.To(i)
		}
	}
	v.device = 0
	for i, other := range d.Devices {
		if other == name {
			v.device = i
		}
	}
}

// name is the device beside the text.
func (v *View) name() string {
	if v.device < len(v.draft.Devices) {
		return v.draft.Devices[v.device]
	}
	return ""
}

// Keys implements [screen.View].
func (v *View) Keys() []screen.Key {
	out := []screen.Key{screen.On(keys.Edit, "edit", v.edit), screen.On(keys.Insert, "insert a step", v.insert)}
	if len(v.draft.Problems) > 0 {
		out = append(out, screen.On(keys.Need, "next mistake", v.next))
	} else if v.draft.Err == nil && len(v.rows) > 0 {
		out = append(out, screen.On(keys.Open, "plan the night", func() { v.src.Plan(v.host) }))
	}
	if len(v.draft.Devices) > 0 {
		out = append(out, screen.On(keys.Left, "", func() { v.other(-1) }), screen.On(keys.Right, "device", func() { v.other(1) }),
			screen.On(keys.Pane, "its lines", func() {
				name := v.name()
				v.host.Open(page.Of("What would be sent to "+name, func(screen.Frame) []ink.Row { return textRows(v.draft.Sends(name)) }))
			}))
	}
	return append(out, v.list.Keys(v.host, "line")...)
}

func (v *View) other(by int) {
	n := len(v.draft.Devices)
	v.device = (v.device + by + n) % n
}

// next goes to the next mistake behind the cursor, and from the last to the first.
func (v *View) next() {
	for k := range v.rows {
		if i := (v.list.Cursor + 1 + k) % len(v.rows); v.rows[i].mistake != nil {
			v.list.To(i)
			return
		}
	}
}

// line is the line under the cursor, from 1.
func (v *View) line() int {
	if i := v.list.Cursor; i < len(v.rows) {
		return v.rows[i].line
	}
	return 1
}

// edit opens the person's own editor in the place of the screen.
func (v *View) edit() {
	e := v.src.Edit(v.line())
	v.host.Exec(e, func(err error) {
		if err != nil {
			v.host.Say(fmt.Sprintf("%s: %v; VISUAL or EDITOR names another", e.Name, err))
		}
		v.read()
	})
}

// insert puts a pattern of a step behind the one under the cursor.
func (v *View) insert() {
	v.host.Ask(Form(), func(answers []string) {
		for _, p := range Patterns {
			if p.Name != answers[0] {
				continue
			}
			line, err := v.src.Put(v.line(), p.Text)
			if err != nil {
				v.host.Say(err.Error())
				return
			}
			v.host.Say(fmt.Sprintf("it stands at line %d; an editor that has the file open must read it anew", line))
			v.read()
		}
	})
}

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	head := ink.T(ink.Foam, " ").Strong(ink.Foam, filepath.Base(v.src.File)).Add(ink.Dim, "   ")
	switch {
	case v.draft.Err != nil:
		head = head.Strong(ink.Port, v.draft.Err.Error())
	case len(v.rows) == 0:
		head = head.Add(ink.Dim, "reading")
	case len(v.draft.Problems) > 0:
		head = head.Strong(ink.Lamp, "▲ "+report.Count(len(v.draft.Problems), "mistake"))
	case v.draft.Open != "":
		head = head.Add(ink.Buoy, "● no mistake").Add(ink.Dim, "; its scope depends on "+v.draft.Open+", so it is not held against the fleet")
	default:
		head = head.Add(ink.Buoy, "● no mistake").Add(ink.Dim, "; for "+report.Count(len(v.draft.Devices), "device"))
	}
	rows := []ink.Row{head, {}}
	if f.Cells < besides || len(v.draft.Devices) == 0 {
		return append(rows, v.list.Rows(f.Cells, f.Height-2)...)
	}
	side := f.Cells * 40 / 100
	return append(rows, ink.Beside(v.list.Rows(f.Cells-side, f.Height-2), f.Cells-side, v.side(side-2, f.Height-2))...)
}

// besides is from how many cells on there is room for a device beside the text.
const besides = 120

// side is what would be sent to the device.
func (v *View) side(cells, height int) []ink.Row {
	rows := []ink.Row{
		ink.Row{}.Strong(ink.Foam, v.name()).Add(ink.Dim, fmt.Sprintf("   %d of %d, ← → another", v.device+1, len(v.draft.Devices))),
	}
	if v.draft.Guessed {
		rows = append(rows, ink.T(ink.Dim, "Values that nobody has given yet are made up here."))
	}
	rows = append(rows, textRows(v.draft.Sends(v.name()))...)
	for i := range rows {
		rows[i] = ink.T(ink.Foam, " ").Then(rows[i])
	}
	return rows[:min(len(rows), height)]
}

func textRows(lines []string) (out []ink.Row) {
	for _, l := range lines {
		in := ink.Dim
		if strings.HasPrefix(l, "Step ") || strings.HasPrefix(strings.TrimSpace(l), "|") {
			in = ink.Foam
		}
		out = append(out, ink.T(in, l))
	}
	return out
}

func (v *View) draw(i int, here bool, cells int) ink.Row {
	r := v.rows[i]
	mark := ink.T(ink.Foam, " ") // of the cursor: its ground alone is colour
	if here {
		mark = ink.T(ink.Lamp, "▌")
	}
	if r.mistake != nil {
		col := 0
		if r.mistake.Col > 0 && r.mistake.File == v.draft.File {
			col = min(r.mistake.Col-1, max(cells/2, 1))
		}
		return mark.Add(ink.Lamp, ink.Fit(strings.Repeat(" ", 5+col)+"▲ "+r.text, cells-1))
	}
	in := ink.Foam
	switch t := strings.TrimSpace(r.text); {
	case strings.HasPrefix(t, "#"):
		in = ink.Dim
	case strings.HasPrefix(t, "|"):
		in = ink.Tide
	}
	return mark.Add(ink.Dim, fmt.Sprintf("%4d ", r.line)).Add(in, ink.Fit(r.text, cells-6))
}

// inEditor names the person's editor.
func inEditor(env func(string) string) string {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if e := strings.TrimSpace(env(name)); e != "" {
			return e
		}
	}
	return "vi"
}
