package roster

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/reach"
	"metabasis/internal/screen/ink"
)

func (m *Model) draw() string {
	if m.width == 0 {
		return ""
	}
	if page, small := m.painter.TooSmall(m.width, m.height, m.attention()); small {
		return page
	}
	rows := []ink.Row{m.title(), m.progress(), m.attention(), {}}
	body := m.height - len(rows) - 1
	rows = append(rows, m.body(body)...)
	for len(rows) < m.height-1 {
		rows = append(rows, ink.Row{})
	}
	return m.painter.Page(append(rows[:m.height-1], m.foot()), m.width, m.height)
}

func (m *Model) title() ink.Row {
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, "Fleet").Add(ink.Dim, "  "+m.src.Title)
	var right ink.Row
	if n := len(m.marked); n > 0 {
		right = right.Strong(ink.Lamp, fmt.Sprintf("◉ %d marked  ", n))
	}
	right = right.Add(ink.Dim, "by "+m.group.String()+"  ").Strong(ink.Foam, m.now.Format("15:04:05")).Add(ink.Foam, " ")
	return ink.Cut(r, max(m.width-right.Width()-1, 0)).Add(ink.Foam, " ").Then(right)
}

// progress is a bar over all devices: failed, to be accepted, ready, under way,
// waiting. One in a thousand is seen, too.
func (m *Model) progress() ink.Row {
	c, fresh := m.board.Count(), len(m.fresh())
	parts := []struct {
		n     int
		shape string
		in    ink.Ink
	}{{c[reach.Failed] - fresh, "▲", ink.Port}, {fresh, "◆", ink.Lamp}, {c[reach.Ready], "━", ink.Buoy}, {c[reach.Reaching], "╍", ink.Tide}, {c[reach.Waiting], "┄", ink.Faint}}
	var counts []int
	for _, p := range parts {
		counts = append(counts, p.n)
	}
	r := ink.T(ink.Foam, " ")
	for i, n := range apportion(counts, m.width-2) {
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
func (m *Model) attention() ink.Row {
	c := m.board.Count()
	total := len(m.board.Entries)
	done := c[reach.Ready] + c[reach.Failed]
	r := ink.T(ink.Foam, " ")
	fresh := len(m.fresh())
	switch {
	case done+c[reach.Reaching] == 0:
		r = r.Strong(ink.Foam, "Nothing has been connected to. ").Add(ink.Dim, plural(total, "device")+" in scope"+m.leftOut()+".")
	case m.running():
		r = r.Strong(ink.Tide, fmt.Sprintf("Reaching: %d of %d done. ", done, total)).Add(ink.Buoy, fmt.Sprintf("● %d ready  ", c[reach.Ready]))
		if fresh > 0 {
			r = r.Add(ink.Lamp, fmt.Sprintf("◆ %s  ", plural(m.countKeys(), "new host key")))
		}
		if n := c[reach.Failed] - fresh; n > 0 {
			r = r.Strong(ink.Port, fmt.Sprintf("▲ %d not reached", n))
		}
		return r
	case fresh > 0:
		r = r.Strong(ink.Lamp, fmt.Sprintf("◆ %s shown for the first time: K shows and accepts them. ", plural(m.countKeys(), "host key")))
		if n := c[reach.Failed] - fresh; n > 0 {
			r = r.Strong(ink.Port, fmt.Sprintf("▲ %d not reached.", n))
		}
		r.Marked = true
	case c[reach.Failed] > 0:
		r = r.Strong(ink.Port, fmt.Sprintf("▲ %d of %s not reached. ", c[reach.Failed], plural(done, "device"))).Add(ink.Foam, m.firstCause())
		r.Marked = true
	case m.others() > 0:
		r = r.Strong(ink.Lamp, fmt.Sprintf("◆ %s under another name. ", answers(m.others()))).Add(ink.Dim, fmt.Sprintf("%d of %d ready.", c[reach.Ready], total))
		r.Marked = true
	case c[reach.Ready] == total:
		r = r.Strong(ink.Buoy, fmt.Sprintf("● All %s ready.", plural(total, "device")))
	default:
		r = r.Strong(ink.Buoy, fmt.Sprintf("● %d ready, ", c[reach.Ready])).Add(ink.Dim, fmt.Sprintf("%d not tried.", c[reach.Waiting]))
	}
	return r
}

// others counts the devices that call themselves otherwise than we do.
func (m *Model) others() int {
	n := 0
	for _, e := range m.board.Entries {
		if e.Result != nil && e.Result.OtherName() != "" {
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

func (m *Model) firstCause() string {
	causes := m.board.Causes()
	if len(causes) == 0 {
		return ""
	}
	c := causes[0]
	return fmt.Sprintf("%d at the %s: %s", len(c.Devices), c.Stage.Noun(), c.Failure.Cause)
}

func (m *Model) leftOut() string {
	if n := len(m.src.LeftOut); n > 0 {
		return fmt.Sprintf(", %d left out", n)
	}
	return ""
}

func (m *Model) body(height int) []ink.Row {
	if m.pager != nil {
		if lines, err := m.src.Transcript(m.pager.Device); err == nil {
			m.pager.Set(lines)
		}
		return m.pager.Rows(m.width, height)
	}
	if m.keys {
		return m.newKeys(m.width, height)
	}
	if m.width >= ink.SideBySide {
		side := m.width * 36 / 100
		return ink.Beside(m.list(m.width-side-2, height), m.width-side, m.side(side-2, height))
	}
	if height < 20 {
		return m.list(m.width, height)
	}
	panel := 9
	rows := m.list(m.width, height-panel-1)
	for len(rows) < height-panel {
		rows = append(rows, ink.Row{})
	}
	return append(rows, m.side(m.width-2, panel)...)
}

// list draws the groups and their devices.
func (m *Model) list(cells, height int) []ink.Row {
	if m.cursor < m.top+1 {
		m.top = max(m.cursor-1, 0) // with a heading over it
	}
	m.top = max(m.top, m.cursor-height+1)
	m.top = min(m.top, max(len(m.rows)-height, 0))
	name := 6
	for _, d := range m.src.Devices {
		name = max(name, len(d.Name))
	}
	var out []ink.Row
	for i := m.top; i < min(m.top+height, len(m.rows)); i++ {
		r := m.rows[i]
		if r.device < 0 {
			out = append(out, m.heading(r, cells))
			continue
		}
		out = append(out, m.line(r.device, i == m.cursor, min(name, 24), cells))
	}
	return out
}

func (m *Model) heading(r row, cells int) ink.Row {
	c, fresh := map[reach.State]int{}, 0
	for _, i := range r.members {
		if m.isFresh(m.board.Entries[i]) {
			fresh++
			continue
		}
		c[m.board.Entries[i].State]++
	}
	if m.group == byOutcome {
		shape, in := m.shape(m.board.Entries[r.members[0]])
		out := ink.T(ink.Foam, " ").Strong(in, shape+" ").Strong(ink.Foam, r.heading)
		return ink.Cut(out.Add(ink.Dim, "  "+plural(len(r.members), "device")), cells)
	}
	out := ink.T(ink.Foam, " ").Strong(ink.Foam, r.heading).Add(ink.Dim, "  "+plural(len(r.members), "device"))
	if n := c[reach.Ready]; n > 0 {
		out = out.Add(ink.Buoy, fmt.Sprintf("  ● %d ready", n))
	}
	if n := c[reach.Failed]; n > 0 {
		out = out.Add(ink.Port, fmt.Sprintf("  ▲ %d not reached", n))
	}
	if fresh > 0 {
		out = out.Add(ink.Lamp, fmt.Sprintf("  ◆ %d to be accepted", fresh))
	}
	return ink.Cut(out, cells)
}

// shape is the shape and the ink of where a device stands.
func (m *Model) shape(e reach.Entry) (string, ink.Ink) {
	switch {
	case m.isFresh(e):
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

func (m *Model) line(i int, here bool, name, cells int) ink.Row {
	d, e := m.src.Devices[i], m.board.Entries[i]
	var r ink.Row
	if here {
		r = r.Add(ink.Lamp, "▌")
	} else {
		r = r.Add(ink.Foam, " ")
	}
	if m.marked[d.Name] {
		r = r.Strong(ink.Lamp, "◉ ")
	} else {
		r = r.Add(ink.Faint, "  ")
	}
	r = r.Col(ink.Foam, d.Name, name).Add(ink.Foam, " ")
	if m.group != bySite {
		r = r.Col(ink.Dim, d.Site, 4)
	}
	if m.group != byPlatform {
		r = r.Col(ink.Dim, d.Platform, 7)
	}
	if d.ClearText {
		r = r.Strong(ink.Lamp, "clear text ")
	} else if m.clear {
		r = r.Add(ink.Foam, "           ")
	}
	r = r.Then(rail(e, m.isFresh(e))).Add(ink.Foam, "  ")
	shape, in := m.shape(e)
	switch {
	case m.isFresh(e):
		r = r.Strong(in, shape+" new host key").Add(ink.Dim, "  to be accepted")
	case e.State == reach.Failed:
		r = r.Strong(in, fmt.Sprintf("%s %s ", shape, e.Stage)).Add(ink.Foam, " "+m.cause(e.Result.Failure))
	case e.State == reach.Ready:
		r = r.Add(in, shape+" ready  ").Add(ink.Dim, fmt.Sprintf("%.1f s", e.Result.Took.Seconds()))
		if other := e.Result.OtherName(); other != "" {
			r = r.Strong(ink.Lamp, "  ◆ calls itself "+other)
		}
		if n := len(e.Result.Warnings); n > 0 && !(d.ClearText && n == 1) {
			r = r.Add(ink.Lamp, "  ! "+e.Result.Warnings[0])
		}
	case e.State == reach.Reaching:
		r = r.Add(in, shape+" "+e.Stage.String()).Add(ink.Dim, fmt.Sprintf("  %d s", int(m.now.Sub(e.Since).Round(time.Second).Seconds())))
	default:
		r = r.Add(in, shape+" waiting")
	}
	r = ink.Cut(r, cells)
	r.Marked = here
	return r
}

// cause is what stands in a failed device's line: under a heading that says why,
// only what is the device's own.
func (m *Model) cause(f *reach.Failure) string {
	switch {
	case m.group != byOutcome, f.Cause != f.Common():
		return f.Cause
	case f.Last != "":
		return fmt.Sprintf("last: %q", f.Last)
	}
	return ""
}

// foot is the last line: a line that is typed, a message, or the keys.
func (m *Model) foot() ink.Row {
	r := ink.T(ink.Foam, " ")
	switch m.typing {
	case typingCondition:
		return r.Strong(ink.Lamp, "mark where ").Add(ink.Foam, m.typed+"▏").Add(ink.Dim, `   such as site == "ALD"`)
	case typingName:
		return r.Strong(ink.Lamp, fmt.Sprintf("save %d marked as @", len(m.marked))).Add(ink.Foam, m.typed+"▏")
	case typingTable:
		return r.Strong(ink.Lamp, "read table ").Add(ink.Foam, m.typed+"▏").Add(ink.Dim, "   "+strings.Join(m.src.Tables, ", "))
	}
	if m.message != "" {
		return r.Strong(ink.Lamp, m.message)
	}
	var ks []ink.Key
	switch {
	case m.pager != nil && m.pager.Typing():
		ks = []ink.Key{ink.K("Enter", "finds it"), ink.K("Esc", "gives up")}
	case m.pager != nil:
		ks = []ink.Key{ink.K("↑↓ PgUp PgDn", "scroll"), ink.K("/", "search"), ink.K("n N", "next, previous"), ink.K("Esc", "back")}
	case m.keys:
		ks = []ink.Key{ink.K("↑↓", "scroll"), ink.K("m", "remember"), ink.K("1", "once"), ink.K("Esc", "refuse")}
	default:
		what := "reach all"
		if n := len(m.marked); n > 0 {
			what = fmt.Sprintf("reach %d marked", n)
		}
		failed := len(m.failed())
		if !m.running() {
			ks = append(ks, ink.K("g", what))
			if failed > 0 {
				ks = append(ks, ink.K("G", "failed again"))
			}
		}
		if len(m.fresh()) > 0 && m.src.Accept != nil {
			ks = append(ks, ink.K("K", "keys"))
		}
		ks = append(ks, ink.K("Space v /", "mark"))
		if failed > 0 {
			ks = append(ks, ink.K("n", "failed"))
		}
		ks = append(ks, ink.K("o", "group"), ink.K("r", "read"), ink.K("t", "transcript"), ink.K("c", "console"))
		if len(m.marked) > 0 {
			ks = append(ks, ink.K("s", "save"))
		}
		ks = append(ks, ink.K("q", "leave"))
	}
	return ink.Keys(ks, m.width)
}
