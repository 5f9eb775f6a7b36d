// Package page is a text to be read: a transcript, the lines of a step, a device in
// full. It scrolls and finds as people expect of a pager.
package page

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/viewport"

	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// Page is a view of a text.
type Page struct {
	title string
	// text returns the text, drawn for a width, and the same in plain words for
	// finding. It is called when it may have changed.
	text   func(f screen.Frame) []ink.Row
	grows  bool // more comes at its end: it is followed until the person scrolls away
	more   []screen.Key
	host   *screen.Host
	port   viewport.Model
	rows   []ink.Row
	follow bool
	query  string
	only   string
	at     int // row of the current match, -1 for none
}

// Growing opens a text that grows, at its end.
func Growing(title string, lines func() []string, draw func(line string, cells int) ink.Row, more ...screen.Key) *Page {
	var last []string
	var rows []ink.Row
	cells := 0
	return &Page{title: title, grows: true, follow: true, at: -1, more: more, text: func(f screen.Frame) []ink.Row {
		now := lines()
		if len(now) != len(last) || cells != f.Cells || len(now) > 0 && now[len(now)-1] != last[len(last)-1] {
			last, cells, rows = now, f.Cells, rows[:0]
			for _, l := range now {
				rows = append(rows, draw(l, f.Cells-1))
			}
		}
		return rows
	}}
}

// Of opens a text at its beginning; it is drawn anew for every frame.
func Of(title string, text func(f screen.Frame) []ink.Row, more ...screen.Key) *Page {
	return &Page{title: title, text: text, at: -1, more: more}
}

// Lines opens lines that stay as they are.
func Lines(title string, lines []string) *Page {
	var rows []ink.Row
	for _, l := range lines {
		rows = append(rows, ink.T(ink.Foam, l))
	}
	return Of(title, func(screen.Frame) []ink.Row { return rows })
}

// Opened implements [screen.Opener].
func (p *Page) Opened(h *screen.Host) { p.host, p.port = h, viewport.New() }

// Name implements [screen.View].
func (p *Page) Name() string { return p.title }

// Keys implements [screen.View].
func (p *Page) Keys() []screen.Key {
	move := func(do func()) func() { return func() { do(); p.moved() } }
	down := screen.On(keys.Down, "scroll", move(func() { p.port.ScrollDown(1) }))
	down.Binding.SetHelp("↑↓", keys.Down.Help().Desc)
	out := []screen.Key{
		screen.On(keys.Up, "", move(func() { p.port.ScrollUp(1) })), down,
		screen.On(keys.PageUp, "", move(p.port.PageUp)), screen.On(keys.PageDown, "", move(p.port.PageDown)),
		screen.On(keys.HalfUp, "", move(p.port.HalfPageUp)), screen.On(keys.HalfDown, "", move(p.port.HalfPageDown)),
		screen.On(keys.First, "", move(func() { p.port.GotoTop() })), screen.On(keys.Last, "", move(func() { p.port.GotoBottom() })),
		screen.On(keys.Find, "find", p.find), screen.On(keys.Only, "only", p.filter),
	}
	if p.query != "" {
		out = append(out, screen.On(keys.Next, "next", func() { p.next(1) }), screen.On(keys.Previous, "before", func() { p.next(-1) }))
	}
	return append(out, p.more...)
}

// moved notes whether the end is followed.
func (p *Page) moved() { p.follow = p.grows && p.port.AtBottom() }

// Click implements [screen.Pointed].
func (p *Page) Click(int, int) {}

// Wheel implements [screen.Pointed].
func (p *Page) Wheel(rows int) {
	p.port.SetYOffset(p.port.YOffset() + rows)
	p.moved()
}

func (p *Page) find() {
	p.host.Type(screen.Line{Label: "find", Hint: "Enter finds it   Esc gives up", Text: "",
		Done: func(text string) error {
			p.query, p.at = text, -1
			p.next(1)
			return nil
		},
		Left: func() { p.query, p.at = "", -1 }})
}

func (p *Page) filter() {
	p.host.Type(screen.Line{Label: "only lines with", Text: p.only, Each: func(text string) { p.only = text },
		Done: func(text string) error { p.only = text; return nil }, Left: func() { p.only = "" }})
}

func has(r ink.Row, text string) bool {
	return strings.Contains(strings.ToLower(r.Text()), strings.ToLower(text))
}

// next goes to the next row with the text, round the end if need be.
func (p *Page) next(dir int) {
	n := len(p.rows)
	if p.query == "" || n == 0 {
		return
	}
	start := p.at
	if start < 0 {
		start = p.port.YOffset() - dir
	}
	for i := 1; i <= n; i++ {
		j := ((start+dir*i)%n + n) % n
		if has(p.rows[j], p.query) {
			p.at, p.follow = j, false
			p.port.SetYOffset(max(0, j-p.port.Height()/3))
			return
		}
	}
	p.at = -1
	p.host.Say("nothing here has " + p.query)
}

// Rows implements [screen.View].
func (p *Page) Rows(f screen.Frame) []ink.Row {
	p.rows = p.text(f)
	if p.only != "" {
		var some []ink.Row
		for _, r := range p.rows {
			if has(r, p.only) {
				some = append(some, r)
			}
		}
		p.rows = some
	}
	height := f.Height - 1
	p.port.SetWidth(f.Cells)
	p.port.SetHeight(height)
	if p.port.TotalLineCount() != len(p.rows) {
		p.port.SetContentLines(make([]string, len(p.rows)))
	}
	if p.follow {
		p.port.GotoBottom()
	}
	top := p.port.YOffset()
	end := min(top+height, len(p.rows))
	out := []ink.Row{p.head(top, end)}
	for i := top; i < end; i++ {
		r := ink.T(ink.Foam, " ").Then(p.rows[i])
		r.Marked = p.rows[i].Marked
		if i == p.at {
			r.Spans[0].Text, r.Spans[0].Ink, r.Marked = "▌", ink.Lamp, true
		}
		out = append(out, r)
	}
	return out
}

func (p *Page) head(top, end int) ink.Row {
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, p.title).
		Add(ink.Dim, fmt.Sprintf("   lines %d to %d of %d", min(top+1, end), end, len(p.rows)))
	if p.only != "" {
		r = r.Add(ink.Dim, "   only those with ").Strong(ink.Lamp, p.only)
	}
	if p.query != "" {
		n := 0
		for _, row := range p.rows {
			if has(row, p.query) {
				n++
			}
		}
		r = r.Add(ink.Dim, "   "+report.Count(n, "line")+" with ").Strong(ink.Lamp, p.query)
	}
	return r
}
