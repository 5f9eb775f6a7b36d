package decide

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/screen/ink"
)

// Devices that went dark together are drawn on the ways to them: what they have in common upstream is
// seen at once, and which of what lies on the way answers.

// darkRows draws the devices of a question without contact: the ways to them, and when each should be
// back.
func darkRows(q Question, now time.Time, cells int) (rows []ink.Row) {
	for _, r := range tree(q.night, q.dark).draw(q.night, cells-2) {
		rows = append(rows, ink.T(ink.Foam, "  ").Then(r))
	}
	rows = append(rows, ink.Row{})
	for i, d := range q.dark {
		if i == mostDark && len(q.dark) > mostDark+1 {
			return append(rows, ink.T(ink.Dim, fmt.Sprintf("  and %d more", len(q.dark)-i)))
		}
		rows = append(rows, darkRow(d, now, cells)...)
	}
	return rows
}

// mostDark is how many devices are told one by one.
const mostDark = 12

// darkRow says of one device since when it is dark, and when it should be back: in one row, or where
// there is little room in several.
func darkRow(d *night.Device, now time.Time, cells int) (rows []ink.Row) {
	head := ink.T(ink.Foam, "  ").Col(ink.Foam, d.Name, 16).Add(ink.Dim, "dark "+ink.Short(now.Sub(d.Since))+"  ")
	if d.TimerDue.IsZero() {
		return beside(head, ink.Lamp, "no timer takes the change back", cells)
	}
	text := "its way back was due at " + d.TimerDue.Local().Format("15:04:05")
	if left := d.TimerDue.Sub(now); left > 0 {
		text = d.Way.Does(d.TimerDue.Local().Format("15:04:05")) + ", in " + ink.Short(left)
	}
	return beside(head, ink.Foam, text+"; back by "+d.TimerDue.Add(d.Boot).Local().Format("15:04:05"), cells)
}

// beside puts a text behind a row, or below it where there is no room.
func beside(head ink.Row, in ink.Ink, text string, cells int) (rows []ink.Row) {
	if head.Width()+len(text) <= cells {
		return []ink.Row{head.Add(in, text)}
	}
	rows = append(rows, ink.Cut(head, cells))
	for _, l := range ink.Wrap(text, max(cells-4, 8), 3) {
		rows = append(rows, ink.T(in, "    "+l))
	}
	return rows
}

// way is a device on the ways from here, with what is reached through it.
type way struct {
	name  string // "" is here
	dark  bool
	below []*way
}

// tree is the ways to some devices.
func tree(n *night.Night, dark []*night.Device) *way {
	here := &way{}
	for _, d := range dark {
		at := here
		for _, name := range slices.Backward(d.Above) { // the farthest is the first on the way
			at = at.to(name)
		}
		at.to(d.Name).dark = true
	}
	return here
}

// to is the next on the way.
func (w *way) to(name string) *way {
	for _, b := range w.below {
		if b.name == name {
			return b
		}
	}
	b := &way{name: name}
	w.below = append(w.below, b)
	return b
}

// draw draws the ways, at most so wide.
func (w *way) draw(n *night.Night, cells int) []ink.Row {
	label := w.label(n)
	if len(w.below) == 0 {
		return []ink.Row{label}
	}
	rows := []ink.Row{}
	below, more := w.below, 0
	if len(below) > mostDark && !slices.ContainsFunc(below, func(b *way) bool { return len(b.below) > 0 }) {
		more = len(below) - mostDark
		below = below[:mostDark]
	}
	indent := strings.Repeat(" ", label.Width())
	for i, b := range below {
		last := i == len(below)-1 && more == 0
		first, rest := " ├─ ", " │  "
		switch {
		case len(w.below) == 1:
			first, rest = " ── ", "    "
		case i == 0:
			first = " ┬─ "
		case last:
			first, rest = " └─ ", "    "
		}
		for j, r := range b.draw(n, cells-label.Width()-4) {
			lead := ink.T(ink.Dim, indent+rest)
			if j == 0 {
				lead = ink.T(ink.Dim, indent+first)
				if i == 0 {
					lead = label.Add(ink.Dim, first)
				}
			}
			rows = append(rows, ink.Cut(lead.Then(r), cells))
		}
	}
	if more > 0 {
		rows = append(rows, ink.T(ink.Dim, indent+" └─ ").Add(ink.Port, fmt.Sprintf("▽ and %d more", more)))
	}
	return rows
}

// label names a device on the way, with how it stands.
func (w *way) label(n *night.Night) ink.Row {
	switch d := n.Get(w.name); {
	case w.name == "":
		return ink.T(ink.Dim, "here")
	case w.dark:
		return ink.T(ink.Port, "▽ ").Strong(ink.Port, w.name)
	case d != nil:
		s := ink.SignOf(d.State)
		return ink.T(s.Ink, s.Shape+" ").Add(ink.Foam, w.name)
	}
	return ink.T(ink.Foam, w.name)
}

// besides is what else is known of devices without contact: what they have in common.
func besides(h night.Hold) (out []string) {
	for _, e := range h.Evidence {
		if !strings.Contains(e, ": dark since ") {
			out = append(out, e)
		}
	}
	return out
}
