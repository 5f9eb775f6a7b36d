package roster

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/reach"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
)

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	v.now = f.Now
	rows := []ink.Row{v.title(f.Cells), v.progress(f.Cells), v.attention(), {}}
	v.top = len(rows)
	f.Height -= len(rows)
	return append(rows, v.body(f)...)
}

func (v *View) title(cells int) ink.Row {
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, "Fleet").Add(ink.Dim, "  "+v.src.Title)
	var right ink.Row
	if n := len(v.marked); n > 0 {
		right = right.Strong(ink.Lamp, fmt.Sprintf("◉ %d marked  ", n))
	}
	right = right.Add(ink.Dim, "by "+v.group.String()+"  ").Strong(ink.Foam, v.now.Format("15:04:05")).Add(ink.Foam, " ")
	return ink.Cut(r, max(cells-right.Width()-1, 0)).Add(ink.Foam, " ").Then(right)
}

// progress is a bar over all devices: failed, to be accepted, ready, under way,
// waiting. One in a thousand is seen, too.
func (v *View) progress(cells int) ink.Row {
	c, fresh := v.board.Count(), len(v.fresh())
	parts := []struct {
		n     int
		shape string
		in    ink.Ink
	}{{c[reach.Failed] - fresh, "▲", ink.Port}, {fresh, "◆", ink.Lamp}, {c[reach.Ready], "━", ink.Buoy},
		{c[reach.Reaching], "╍", ink.Tide}, {c[reach.Waiting], "┄", ink.Faint}}
	var counts []int
	for _, p := range parts {
		counts = append(counts, p.n)
	}
	r := ink.T(ink.Foam, " ")
	for i, n := range apportion(counts, cells-2) {
		r = r.Add(parts[i].in, strings.Repeat(parts[i].shape, n))
	}
	return r
}

// apportion shares cells out among counts: all of them, in proportion, and at
// least one to each that is not zero while there are enough.
func apportion(counts []int, cells int) []int {
	total, later := 0, 0
	for _, n := range counts {
		total += n
		later += min(n, 1)
	}
	out := make([]int, len(counts))
	sum, used := 0, 0
	for i, n := range counts {
		if n == 0 {
			continue
		}
		sum += n
		later--
		upto := min(max(sum*cells/total, used+1), max(cells-later, used))
		out[i] = upto - used
		used = upto
	}
	return out
}

// attention answers: how does it go, and what needs me?
func (v *View) attention() ink.Row {
	c := v.board.Count()
	total := len(v.board.Entries)
	done := c[reach.Ready] + c[reach.Failed]
	r := ink.T(ink.Foam, " ")
	fresh := len(v.fresh())
	switch {
	case done+c[reach.Reaching] == 0:
		r = r.Strong(ink.Foam, "This view has connected to nothing yet. ").Add(ink.Dim, report.Count(total, "device")+" in scope"+v.leftOut()+".")
	case v.busy:
		r = r.Strong(ink.Tide, fmt.Sprintf("Reaching: %d of %d done. ", done, total)).Add(ink.Buoy, fmt.Sprintf("● %d ready  ", c[reach.Ready]))
		if fresh > 0 {
			r = r.Add(ink.Lamp, fmt.Sprintf("◆ %s  ", report.Count(v.countKeys(), "new host key")))
		}
		if n := c[reach.Failed] - fresh; n > 0 {
			r = r.Strong(ink.Port, fmt.Sprintf("▲ %d not reached", n))
		}
		return r
	case fresh > 0:
		r = r.Strong(ink.Lamp, fmt.Sprintf("◆ %s shown for the first time: K shows and accepts them. ", report.Count(v.countKeys(), "host key")))
		if n := c[reach.Failed] - fresh; n > 0 {
			r = r.Strong(ink.Port, fmt.Sprintf("▲ %d not reached.", n))
		}
		r.Marked = true
	case v.others() > 0:
		r = r.Strong(ink.Port, fmt.Sprintf("▲ %s as another one than is meant. ", answers(v.others())))
		if n := c[reach.Failed] - v.others(); n > 0 {
			r = r.Strong(ink.Port, fmt.Sprintf("▲ %d not reached.", n))
		} else {
			r = r.Add(ink.Dim, fmt.Sprintf("%d of %d ready.", c[reach.Ready], total))
		}
		r.Marked = true
	case c[reach.Failed] > 0:
		r = r.Strong(ink.Port, fmt.Sprintf("▲ %d of %s not reached. ", c[reach.Failed], report.Count(done, "device"))).
			Add(ink.Foam, v.firstCause())
		r.Marked = true
	case c[reach.Ready] == total:
		r = r.Strong(ink.Buoy, fmt.Sprintf("● All %s ready.", report.Count(total, "device")))
	default:
		r = r.Strong(ink.Buoy, fmt.Sprintf("● %d ready, ", c[reach.Ready])).Add(ink.Dim, fmt.Sprintf("%d not tried.", c[reach.Waiting]))
	}
	return r
}

// others counts the devices that are others than are meant.
func (v *View) others() int {
	n := 0
	for _, e := range v.board.Entries {
		if e.State == reach.Failed && e.Stage == reach.Identity {
			n++
		}
	}
	return n
}

func answers(n int) string {
	if n == 1 {
		return "1 device answers"
	}
	return fmt.Sprintf("%d devices answer", n)
}

func (v *View) firstCause() string {
	causes := v.board.Causes()
	if len(causes) == 0 {
		return ""
	}
	c := causes[0]
	return fmt.Sprintf("%d at the %s: %s", len(c.Devices), c.Stage.Noun(), c.Failure.Cause)
}

func (v *View) leftOut() string {
	if n := len(v.src.LeftOut); n > 0 {
		return fmt.Sprintf(", %d left out", n)
	}
	return ""
}

func (v *View) body(f screen.Frame) []ink.Row {
	v.cells = f.Cells
	if f.Cells >= ink.SideBySide {
		side := f.Cells * 36 / 100
		v.cells = f.Cells - side - 2
		return ink.Beside(v.list.Rows(v.cells, f.Height), f.Cells-side, v.side(side-2, f.Height))
	}
	if f.Height < 20 {
		return v.list.Rows(f.Cells, f.Height)
	}
	panel := 9
	rows := v.list.Rows(f.Cells, f.Height-panel-1)
	for len(rows) < f.Height-panel {
		rows = append(rows, ink.Row{})
	}
	return append(rows, v.side(f.Cells-2, panel)...)
}

// row draws a group's heading or a device.
func (v *View) row(i int, here bool, cells int) ink.Row {
	if r := v.rows[i]; r.device < 0 {
		return v.heading(r, cells)
	}
	return v.line(v.rows[i].device, here, cells)
}

func (v *View) heading(r row, cells int) ink.Row {
	c, fresh := map[reach.State]int{}, 0
	for _, i := range r.members {
		if v.isFresh(v.board.Entries[i]) {
			fresh++
			continue
		}
		c[v.board.Entries[i].State]++
	}
	if v.group == byOutcome {
		shape, in := v.shape(v.board.Entries[r.members[0]])
		out := ink.T(ink.Foam, " ").Strong(in, shape+" ").Strong(ink.Foam, r.heading)
		return ink.Cut(out.Add(ink.Dim, "  "+report.Count(len(r.members), "device")), cells)
	}
	out := ink.T(ink.Foam, " ").Strong(ink.Foam, r.heading).Add(ink.Dim, "  "+report.Count(len(r.members), "device"))
	if n := c[reach.Ready]; n > 0 {
		out = out.Add(ink.Buoy, fmt.Sprintf("  ● %d ready", n))
	}
	if n := c[reach.Failed]; n > 0 {
		out = out.Add(ink.Port, fmt.Sprintf("  ▲ %d not ready", n))
	}
	if fresh > 0 {
		out = out.Add(ink.Lamp, fmt.Sprintf("  ◆ %d to be accepted", fresh))
	}
	return ink.Cut(out, cells)
}

// shape is the shape and the ink of where a device stands.
func (v *View) shape(e reach.Entry) (string, ink.Ink) {
	switch {
	case v.isFresh(e):
		return "◆", ink.Lamp
	case e.State == reach.Failed:
		return "▲", ink.Port
	case e.State == reach.Ready:
		return "●", ink.Buoy
	case e.State == reach.Reaching:
		return "◔", ink.Tide
	}
	return "◦", ink.Dim
}

// rail draws the stages: passed, where it stands or failed, and to come.
func rail(e reach.Entry, fresh bool) ink.Row {
	var r ink.Row
	passed := map[reach.Stage]bool{}
	if e.Result != nil {
		for _, p := range e.Result.Passed {
			passed[p.Stage] = true
		}
	}
	for _, s := range reach.Stages() {
		switch {
		case fresh && s == e.Stage:
			r = r.Add(ink.Lamp, "◆")
		case e.State == reach.Failed && s == e.Stage:
			r = r.Add(ink.Port, "▲")
		case e.State == reach.Ready, passed[s], e.State != reach.Waiting && s < e.Stage:
			in := ink.Tide
			if e.State == reach.Ready {
				in = ink.Buoy
			}
			r = r.Add(in, "■")
		case e.State == reach.Reaching && s == e.Stage:
			r = r.Add(ink.Tide, "▣")
		default:
			r = r.Add(ink.Faint, "□")
		}
	}
	return r
}

func (v *View) line(i int, here bool, cells int) ink.Row {
	d, e := v.src.Devices[i], v.board.Entries[i]
	var r ink.Row
	if here {
		r = r.Add(ink.Lamp, "▌")
	} else {
		r = r.Add(ink.Foam, " ")
	}
	if v.marked[d.Name] {
		r = r.Strong(ink.Lamp, "◉ ")
	} else {
		r = r.Add(ink.Faint, "  ")
	}
	r = r.Col(ink.Foam, d.Name, v.nameCells).Add(ink.Foam, " ")
	if v.group != bySite {
		r = r.Col(ink.Dim, d.Site, 4)
	}
	if v.group != byPlatform {
		r = r.Col(ink.Dim, d.Platform, 7)
	}
	if d.ClearText {
		r = r.Strong(ink.Lamp, "clear text ")
	} else if v.clear {
		r = r.Add(ink.Foam, "           ")
	}
	r = r.Then(rail(e, v.isFresh(e))).Add(ink.Foam, "  ")
	shape, in := v.shape(e)
	switch {
	case v.isFresh(e):
		r = r.Strong(in, shape+" new host key").Add(ink.Dim, "  to be accepted")
	case e.State == reach.Failed:
		r = r.Strong(in, fmt.Sprintf("%s %s ", shape, e.Stage)).Add(ink.Foam, " "+v.cause(e.Result.Failure))
	case e.State == reach.Ready:
		r = r.Add(in, shape+" ready  ").Add(ink.Dim, fmt.Sprintf("%.1f s", e.Result.Took.Seconds()))
		if other := e.Result.OtherName(); other != "" { // as the fleet says
			r = r.Add(ink.Dim, "  calls itself "+other)
		}
		if n := len(e.Result.Warnings); n > 0 && !(d.ClearText && n == 1) {
			r = r.Add(ink.Lamp, "  ! "+e.Result.Warnings[0])
		}
	case e.State == reach.Reaching:
		r = r.Add(in, shape+" "+e.Stage.String()).Add(ink.Dim, fmt.Sprintf("  %d s", int(v.now.Sub(e.Since).Round(time.Second).Seconds())))
	case v.busy && v.asked[e.Device]:
		r = r.Add(in, shape+" waiting")
	default:
		r = r.Add(in, shape+" not tried")
	}
	r = ink.Cut(r, cells)
	r.Marked = here
	return r
}

// cause is what stands in a failed device's line: under a heading that says why,
// only what is the device's own.
func (v *View) cause(f *reach.Failure) string {
	switch {
	case v.group != byOutcome, f.Cause != f.Common():
		return f.Cause
	case f.Last != "":
		return fmt.Sprintf("last: %q", f.Last)
	}
	return ""
}
