package watch

import (
	"strings"
	"time"

	"metabasis/internal/screen"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
)

// now is the time of the frame that is drawn.
func (v *View) now() time.Time { return v.frame.Now }

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	var rows []ink.Row
	if v.host == nil || v.host.Standing() != screen.Standing(v.n) { // else it is drawn on top already
		rows = append(v.n.Head(f), ink.Row{})
		f.Height -= len(rows)
	}
	return append(rows, v.body(f, len(rows), v.side)...)
}

// body draws the list, and beside or below it what side draws.
func (v *View) body(f screen.Frame, top int, side func(f screen.Frame) []ink.Row) []ink.Row {
	v.frame, v.listTop = f, top
	if f.Cells >= ink.SideBySide {
		pane := f
		pane.Cells = f.Cells*38/100 - 2
		cells := f.Cells - f.Cells*38/100 - 2
		v.lay(cells)
		return ink.Beside(v.list.Rows(cells, f.Height), f.Cells-f.Cells*38/100, side(pane))
	}
	v.lay(f.Cells)
	pane := f
	pane.Cells = f.Cells - 2
	switch {
	case v.n.planned(): // what will be done, over the list it is done to
		pane.Height = f.Height * 3 / 5
		rows := fill(side(pane), pane.Height+1)
		v.listTop += len(rows)
		return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
	case f.Height < 22:
		return v.list.Rows(f.Cells, f.Height)
	}
	pane.Height = 8
	rows := fill(v.list.Rows(f.Cells, f.Height-pane.Height-1), f.Height-pane.Height)
	return append(rows, side(pane)...)
}

// fill adds empty rows up to a number.
func fill(rows []ink.Row, n int) []ink.Row {
	for len(rows) < n {
		rows = append(rows, ink.Row{})
	}
	return rows
}

// side is what stands beside the list: what will be done, what is asked of the device
// under the cursor, and the device.
func (v *View) side(f screen.Frame) []ink.Row {
	var rows []ink.Row
	switch h, held := v.hold(); {
	case v.n.planned():
		rows = v.brief(f.Cells)
	case held && v.n.src.Run != nil && (h.Device == "" || v.under(h.Device)):
		var unasked decide.View
		rows = unasked.Within(decide.OfHold(&v.n.night, h), v.n.clock(f.Now), false, f.Cells, f.Height)
	}
	rows = v.withDevice(rows, f)
	rows, v.paneTop = ink.Scroll(rows, v.paneTop, ink.LastMarked(rows), f.Height)
	return indent(rows)
}

// withDevice puts the device under the cursor below what stands there.
func (v *View) withDevice(rows []ink.Row, f screen.Frame) []ink.Row {
	d := v.Device()
	if d == nil || f.Height-len(rows) < 6 {
		return rows
	}
	if len(rows) > 0 {
		rows = append(rows, ink.Row{}, ink.T(ink.Faint, strings.Repeat("─", f.Cells)))
	}
	return append(
		rows,
		Panel(v.n.told(d), v.n.clock(f.Now), func(n int) []string { return v.tail(d.Name, n) }, f.Cells, f.Height-len(rows))...)
}

func (v *View) under(device string) bool {
	d := v.Device()
	return d != nil && d.Name == device
}

func indent(rows []ink.Row) []ink.Row {
	out := make([]ink.Row, len(rows))
	for i, r := range rows {
		out[i] = ink.T(ink.Foam, " ").Then(r)
		out[i].Marked = r.Marked
	}
	return out
}
