// Package compare shows what is different: over many devices as differences with the
// devices that have them, outliers first; of two configurations as a tree, side by side or
// as lines.
package compare

import (
	"fmt"
	"slices"

	"metabasis/internal/core/record"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/screen/page"
)

// Source is a comparison of many devices.
type Source struct {
	A, B, Note string
	Devices    []record.Differing
	// Open opens the configurations of a device, one against the other; nil where there are
	// none.
	Open func(h *screen.Host, device string)
}

// Groups is the view of a comparison of many devices.
type Groups struct {
	src  Source
	host *screen.Host
	rows []row
	list list.List
	top  int
}

// row is a heading, a difference, or the devices that have it.
type row struct {
	heading string
	group   *record.Group
	first   bool // of those that the same devices have
	devices []string
}

// NewGroups makes the view.
func NewGroups(src Source) *Groups {
	v := &Groups{src: src}
	for _, part := range report.Grouped(src.Devices) {
		v.rows = append(v.rows, row{}, row{heading: part.Title})
		for i := range part.Groups {
			g := &part.Groups[i]
			first := i == 0 || !slices.Equal(g.Devices, part.Groups[i-1].Devices)
			v.rows = append(v.rows, row{group: g, first: first, devices: g.Devices})
		}
	}
	v.list = list.List{Len: func() int { return len(v.rows) }, Pick: func(i int) bool { return v.rows[i].group != nil },
		Text: func(i int) string {
			g := v.rows[i].group
			if g == nil {
				return ""
			}
			return g.Text + " " + report.Some(g.Devices, 10_000)
		}, Draw: v.draw}
	return v
}

// Name implements [screen.View].
func (v *Groups) Name() string { return "Compared" }

// Opened implements [screen.Opener].
func (v *Groups) Opened(h *screen.Host) { v.host = h }

// Rows implements [screen.View].
func (v *Groups) Rows(f screen.Frame) []ink.Row {
	said := report.Compared(v.src.Devices)
	in, shape := ink.Buoy, "● "
	switch t := record.Tallied(v.src.Devices); {
	case t.Odd+t.Untold > 0:
		in, shape = ink.Lamp, "▪ "
	case t.Differ == 0:
		in = ink.Dim
	}
	rows := []ink.Row{
		ink.T(ink.Dim, " from  ").Add(ink.Foam, v.src.A),
		ink.T(ink.Dim, " to    ").Add(ink.Foam, v.src.B),
		{},
		ink.T(ink.Foam, " ").Strong(in, shape+said),
	}
	if v.src.Note != "" {
		rows = append(rows, ink.T(ink.Lamp, " ▪ "+v.src.Note))
	}
	v.top = len(rows)
	return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
}

// whoCells is the width of the column of who has a difference.
const whoCells = 20

func (v *Groups) draw(i int, here bool, cells int) ink.Row {
	r := v.rows[i]
	switch {
	case r.group == nil && r.heading == "":
		return ink.Row{}
	case r.group == nil:
		return ink.T(ink.Foam, " ").Strong(ink.Foam, r.heading)
	}
	who := r.devices[0]
	if n := len(r.devices); n > 1 {
		who = fmt.Sprintf("%d devices", n)
	}
	if !r.first {
		who = ""
	}
	mark, in, text := "  ", ink.Foam, r.group.Text
	switch {
	case r.group.Unknown:
		mark, in = "◌ ", ink.Lamp
	case len(text) > 1 && text[0] == '+':
		in = ink.Buoy
	case len(text) > 1 && text[0] == '-':
		in = ink.Heather
	case !r.group.Predicted && !r.group.Expected:
		mark = "▪ "
	}
	begin := "  "
	if here {
		begin = "▌ "
	}
	out := ink.T(ink.Lamp, begin).Col(ink.Foam, who, whoCells).Add(in, mark+text)
	return ink.Cut(out, cells)
}

// Keys implements [screen.View].
func (v *Groups) Keys() []screen.Key {
	out := []screen.Key{screen.On(keys.Open, "its devices", v.open)}
	return append(out, v.list.Keys(v.host, "difference")...)
}

// Click implements [screen.Pointed].
func (v *Groups) Click(_, y int) { v.list.Click(y - v.top) }

// Wheel implements [screen.Pointed].
func (v *Groups) Wheel(rows int) { v.list.Wheel(rows) }

// open opens the devices that have a difference; of one alone, what is different on it.
func (v *Groups) open() {
	if v.list.Cursor >= len(v.rows) || v.rows[v.list.Cursor].group == nil {
		return
	}
	g := v.rows[v.list.Cursor].group
	if len(g.Devices) == 1 {
		v.device(v.host, g.Devices[0])
		return
	}
	v.host.Open(newMembers(v, g))
}

// device opens what is different on a device, above a view.
func (v *Groups) device(h *screen.Host, name string) {
	i := slices.IndexFunc(v.src.Devices, func(d record.Differing) bool { return d.Device == name })
	if i < 0 {
		return
	}
	d := v.src.Devices[i]
	if len(d.Config) > 0 && v.src.Open != nil {
		v.src.Open(h, name)
		return
	}
	var lines []ink.Row
	for _, c := range d.Changes {
		lines = append(lines, ink.T(ink.Foam, c.String()))
	}
	for _, l := range slices.Concat(d.Config, d.Missed) {
		lines = append(lines, ink.T(ink.Foam, l))
	}
	h.Open(page.Of("What is different on "+name, func(screen.Frame) []ink.Row { return lines }))
}

// members is the view of the devices that have one difference.
type members struct {
	of   *Groups
	g    *record.Group
	host *screen.Host
	list list.List
}

func newMembers(of *Groups, g *record.Group) *members {
	m := &members{of: of, g: g}
	m.list = list.List{Len: func() int { return len(g.Devices) }, Text: func(i int) string { return g.Devices[i] },
		Draw: func(i int, here bool, cells int) ink.Row {
			begin := "  "
			if here {
				begin = "▌ "
			}
			return ink.T(ink.Lamp, begin).Add(ink.Foam, g.Devices[i])
		}}
	return m
}

func (m *members) Name() string          { return "Devices" }
func (m *members) Opened(h *screen.Host) { m.host = h }
func (m *members) Click(_, y int)        { m.list.Click(y - 2) }
func (m *members) Wheel(rows int)        { m.list.Wheel(rows) }
func (m *members) Keys() []screen.Key {
	open := func() { m.of.device(m.host, m.g.Devices[m.list.Cursor]) }
	return append([]screen.Key{screen.On(keys.Open, "what is different", open)}, m.list.Keys(m.host, "device")...)
}

func (m *members) Rows(f screen.Frame) []ink.Row {
	rows := []ink.Row{ink.T(ink.Foam, " ").Strong(ink.Foam, report.Count(len(m.g.Devices), "device")).Add(ink.Dim, "  "+m.g.Text), {}}
	return append(rows, m.list.Rows(f.Cells, f.Height-len(rows))...)
}
