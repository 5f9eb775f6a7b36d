// Package strip draws the window across the top of every view: the time that
// is gone, the batches planned, the turn-back time, the likely finish and the
// reserve.
package strip

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/screen/ink"
)

// Height is the number of rows of the strip.
const Height = 3

// Still draws the strip of a night whose journal ends before it does, as it was then.
func Still(n *night.Night, cells int) []ink.Row {
	rows := Rows(n, n.Last, cells)
	if n.Outline != nil {
		rows[0] = beside(n, ink.Row{}.Add(ink.Dim, "stands still at ").Strong(ink.Foam, stamp(n.Last)), cells)
	}
	return rows
}

// Rows draws the strip at a moment.
func Rows(n *night.Night, now time.Time, cells int) []ink.Row {
	if n.Outline == nil {
		return make([]ink.Row, Height)
	}
	if !n.Ended.IsZero() {
		now = n.Ended
	}
	bar, labels := ruler(n, now, cells-2)
	return []ink.Row{heading(n, now, cells), bar, labels}
}

func heading(n *night.Night, now time.Time, cells int) ink.Row {
	right := status(n, now, true)
	if cells-right.Width() < title(n).Width()+3 {
		right = status(n, now, false)
	}
	return beside(n, right, cells)
}

func title(n *night.Night) ink.Row {
	left := ink.Row{}.Add(ink.Foam, " ").Strong(ink.Foam, n.Outline.Title)
	if n.Outline.Change != "" {
		left = left.Add(ink.Dim, " · "+n.Outline.Change)
	}
	return left
}

// beside puts the title before what must be seen.
func beside(n *night.Night, right ink.Row, cells int) ink.Row {
	left := title(n)
	if room := cells - right.Width() - 2; left.Width() > room {
		left = ink.Cut(left, max(room, 0))
	}
	return left.Right(right.Add(ink.Foam, " "), cells)
}

// status says, in full or in short, how much window is left, in the order a tired person needs it.
func status(n *night.Night, now time.Time, full bool) ink.Row {
	w := n.Outline.Window
	r := ink.Row{}.Strong(ink.Foam, now.Format("15:04:05"))
	if !n.Ended.IsZero() {
		r := ink.Row{}.Add(ink.Dim, "over since ").Strong(ink.Foam, stamp(n.Ended))
		if w.None {
			return r
		}
		if past := n.Ended.Sub(w.Close); past > 0 {
			return r.Strong(ink.Port, ", "+ink.Long(past)+" after the window closed")
		}
		return r.Add(ink.Dim, ", "+ink.Long(w.Close.Sub(n.Ended))+" before the window's end")
	}
	if until := w.Open.Sub(now); until > 0 && (!w.Now || !n.Began.IsZero()) {
		r = r.Add(ink.Dim, "   ").Strong(ink.Lamp, "opens in "+ink.Long(until))
	}
	if w.Now && n.Began.IsZero() && n.Ended.IsZero() {
		if !full {
			return r.Add(ink.Dim, "   opens when the run begins")
		}
		return r.Add(ink.Dim, "   the window opens when the run begins, for "+ink.Long(w.Close.Sub(w.Open)))
	}
	if turn, ok := nextTurnBack(n); ok && !w.None && !now.Before(w.Open) {
		left, must := turn.Sub(now), "   next batch must start within "
		if !full {
			must = "   start next within "
		}
		switch {
		case left < 0:
			r = r.Add(ink.Dim, "   ").Strong(ink.Port, "turn-back time has passed")
		case left < 5*time.Minute:
			r = r.Add(ink.Dim, must).Strong(ink.Lamp, ink.Long(left))
		default:
			r = r.Add(ink.Dim, must).Strong(ink.Foam, ink.Long(left))
		}
	}
	if left := w.Close.Sub(now); w.None {
		r = r.Add(ink.Dim, "   no window")
	} else if left > 0 && now.Before(w.Open) {
		// how long it will be open stands below, on the scale
	} else if left > 0 {
		r = r.Add(ink.Dim, "   window ").Strong(ink.Foam, ink.Long(left))
	} else {
		r = r.Add(ink.Dim, "   ").Strong(ink.Port, "the window is closed")
	}
	if _, likely, late := n.Schedule(now); !likely.IsZero() {
		if n.WaitsForPerson() { // it does not come nearer meanwhile
			return r.Add(ink.Dim, "   finish ").Strong(finishInk(n, late), ink.Long(max(likely.Sub(now), 0))+" after you decide")
		}
		r = r.Add(ink.Dim, "   finish ").Strong(finishInk(n, late), likely.Format("15:04:05"))
		if full {
			r = r.Add(ink.Dim, ", 90 % by "+late.Format("15:04:05"))
		}
	}
	return r
}

// stamp is a time of day, with its day where that is not today's.
func stamp(t time.Time) string {
	if t.YearDay() != time.Now().YearDay() || t.Year() != time.Now().Year() {
		return t.Format("Mon 2 Jan 15:04:05")
	}
	return t.Format("15:04:05")
}

func finishInk(n *night.Night, late time.Time) ink.Ink {
	if late.After(n.Outline.Window.Ends()) {
		return ink.Lamp
	}
	return ink.Foam
}

// nextTurnBack is the turn-back time of the first batch that has not begun.
func nextTurnBack(n *night.Night) (time.Time, bool) {
	i := n.Batch + 1 - firstSlot(n)
	if n.Began.IsZero() || n.Batch == 0 {
		i = 0
	}
	if i < 0 || i >= len(n.Slots) {
		return time.Time{}, false
	}
	return n.Slots[i].TurnBack, true
}

// firstSlot is the number, from 1, of the batch that the first slot is for.
func firstSlot(n *night.Night) int { return len(n.Outline.Batches) - len(n.Slots) + 1 }

// drawn is the window as it is drawn: where there is none, the time that the night takes.
func drawn(n *night.Night, now time.Time) plan.Window {
	w := n.Outline.Window
	if w.None {
		end := latest(latest(n.Late, now), n.Ended)
		w.Close = end.Add(end.Sub(w.Open) / 10).Add(time.Second)
	}
	return w
}

// ruler draws the window to scale and what stands under it.
func ruler(n *night.Night, now time.Time, cells int) (bar, labels ink.Row) {
	cells = max(cells, 0)
	w := drawn(n, now)
	open, end := w.Open.Format("Mon 2 Jan 15:04 MST"), w.Close.Format("15:04")
	if w.Now && n.Began.IsZero() { // no clock time of it is known yet
		now, open, end = w.Open, "begins with the run", "+ "+ink.Long(w.Close.Sub(w.Open))
	}
	s := scale{w.Open, w.Close, cells}
	glyph := make([]rune, cells)
	inks := make([]ink.Ink, cells)
	for i := range glyph {
		glyph[i], inks[i] = '░', ink.Faint
	}
	fill := func(from, to time.Time, g rune, i ink.Ink) {
		for x := s.at(from); x < s.at(to) && x < cells; x++ {
			glyph[x], inks[x] = g, i
		}
	}
	marks := []mark{{0, open, ink.Dim}}
	if w.Reserve > 0 {
		fill(w.Close.Add(-w.Reserve), w.Close, '▞', ink.Lamp)
		marks = append(marks, mark{s.at(w.Close.Add(-w.Reserve)), "reserve", ink.Dim})
	}
	slots, _, _ := n.Schedule(now)
	for i, slot := range slots {
		g := '▒'
		if i%2 == 1 {
			g = '▓'
		}
		fill(latest(slot.Start, now), slot.End, g, ink.Tide)
		if number := firstSlot(n) + i; slot.End.After(now) {
			marks = append(marks, mark{s.at(latest(slot.Start, now)), fmt.Sprint(number), ink.Tide})
		}
	}
	fill(w.Open, now, '█', ink.Faint)
	put := func(t time.Time, g rune, i ink.Ink) {
		if x := s.at(t); x >= 0 && x < cells && !t.IsZero() {
			glyph[x], inks[x] = g, i
		}
	}
	if w.None {
		end = ""
	}
	if turn, ok := nextTurnBack(n); ok && n.Ended.IsZero() && !w.None {
		put(turn, '┃', ink.Lamp)
		when := turn.Format("15:04")
		if w.Now && n.Began.IsZero() {
			when = "+ " + ink.Long(turn.Sub(w.Open))
		}
		marks = append(marks, mark{s.at(turn), "turn back " + when, ink.Lamp})
	}
	put(now, '┃', ink.Foam)
	marks = append(marks, mark{cells - len(end), end, ink.Dim})
	bar, labels = ink.T(ink.Foam, " "), ink.T(ink.Foam, " ")
	for x := 0; x < cells; {
		y := x
		for y < cells && inks[y] == inks[x] {
			y++
		}
		bar = bar.Add(inks[x], string(glyph[x:y]))
		x = y
	}
	return bar, labels.Then(place(marks, cells))
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// scale maps times to cells.
type scale struct {
	from, to time.Time
	cells    int
}

func (s scale) at(t time.Time) int {
	total := s.to.Sub(s.from)
	if total <= 0 {
		return 0
	}
	x := int(float64(t.Sub(s.from)) / float64(total) * float64(s.cells))
	return min(max(x, 0), s.cells)
}

// mark is a label under the bar.
type mark struct {
	x    int
	text string
	ink  ink.Ink
}

// place writes labels where they fit; of two that collide, the later in the
// list wins, since it matters more, except that the window's ends always stand.
func place(marks []mark, cells int) ink.Row {
	text := []rune(strings.Repeat(" ", cells))
	inks := make([]ink.Ink, cells)
	order := append([]mark{marks[0], marks[len(marks)-1]}, reversed(marks[1:len(marks)-1])...)
	for _, m := range order {
		r := []rune(m.text)
		x := min(m.x, cells-len(r))
		if x < 0 || !free(text, x-1, x+len(r)+1) {
			continue
		}
		for i, c := range r {
			text[x+i], inks[x+i] = c, m.ink
		}
	}
	var out ink.Row
	for x := 0; x < cells; {
		y := x
		for y < cells && inks[y] == inks[x] {
			y++
		}
		out = out.Add(inks[x], string(text[x:y]))
		x = y
	}
	return out
}

func reversed(m []mark) []mark {
	out := make([]mark, 0, len(m))
	for i := len(m) - 1; i >= 0; i-- {
		out = append(out, m[i])
	}
	return out
}

func free(text []rune, from, to int) bool {
	for x := max(from, 0); x < min(to, len(text)); x++ {
		if text[x] != ' ' {
			return false
		}
	}
	return true
}
