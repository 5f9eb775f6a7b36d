package draw

import (
	"fmt"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Sizes of the drawings, in millimetres.
const (
	wide   = 277.0 // A4 across, without its edges
	edge   = 8.0
	text   = 3.2
	small  = 2.6
	labels = 46.0 // what stands before the bars
	times  = 62.0 // and behind them
	row    = 6.4
)

// Window draws the batches of a plan on their window: when each runs, likely and in nine
// cases of ten, until when it may begin, and the reserve.
func Window(p Pen, of *plan.Plan) {
	o := of.Whole()
	n := len(of.Batches)
	height := 52 + float64(n)*row + 26
	p.Page(wide+2*edge, height)
	s := scale{from: of.Window.Open, to: of.Window.Close, left: edge + labels, width: wide - labels - times}
	if of.Window.None {
		s.to = o.Late.Add(o.Late.Sub(o.Slots[0].Start)/8 + time.Minute)
	}
	s.relative = of.Window.Now || of.Window.None
	head(p, of, "Batches on the window: "+inWords(of, o))
	top, bottom := 34.0, 40+float64(n)*row
	s.axis(p, top, bottom)
	if !of.Window.None && of.Window.Reserve > 0 {
		x := s.at(of.Window.Ends())
		p.Rect(x, top, s.at(of.Window.Close)-x, bottom-top, 235, none)
		for y := top; y < bottom; y += 3 {
			p.Line(x, y, s.at(of.Window.Close), y, 0.1, 150, true)
		}
		p.Text(x+1, top+3.4, small, false, 70, "reserve")
	}
	for i, slot := range o.Slots {
		y := 40 + float64(i)*row
		batchRow(p, s, of, i, slot, y)
	}
	for _, end := range []struct {
		at     time.Time
		dashed bool
		word   string
	}{{o.Likely, false, "likely over"}, {o.Late, true, "nine in ten"}} {
		x := s.at(end.at)
		p.Line(x, top, x, bottom+3, 0.3, 0, end.dashed)
	}
	legend(p, bottom+9)
}

// head is the title of a drawing.
func head(p Pen, of *plan.Plan, what string) {
	title := of.Title
	if of.Change != "" {
		title += " · " + of.Change
	}
	p.Text(edge, 12, 5, true, 0, title)
	p.Text(edge, 19, text, false, 60, what)
}

func inWords(of *plan.Plan, o plan.Outlook) string {
	w := of.Window
	switch {
	case w.None:
		return "no window; over after " + long(o.Likely.Sub(w.Open)) + ", likely"
	case w.Now:
		return fmt.Sprintf(
			"it opens when the run begins, for %s; over after %s, likely",
			runbook.FormatDuration(w.Close.Sub(w.Open)),
			long(o.Likely.Sub(w.Open)),
		)
	}
	return fmt.Sprintf(
		"%s to %s; over at %s, likely, and at %s in nine cases of ten",
		w.Open.Format("Mon 2 Jan 2006 15:04"),
		w.Close.Format("15:04 MST"),
		o.Likely.Format("15:04"),
		o.Late.Format("15:04"),
	)
}

func long(d time.Duration) string { return runbook.FormatDuration(d.Round(time.Second)) }

func batchRow(p Pen, s scale, of *plan.Plan, i int, slot plan.Slot, y float64) {
	devices := "devices"
	if len(of.Batches[i]) == 1 {
		devices = "device"
	}
	p.Text(edge, y+4.2, text, true, 0, fmt.Sprintf("Batch %d", i+1))
	p.Text(edge+18, y+4.2, text, false, 60, fmt.Sprintf("%d %s", len(of.Batches[i]), devices))
	from, to, late := s.at(slot.Start), s.at(slot.End), s.at(slot.Late)
	p.Rect(from, y+1, max(to-from, 0.4), row-2, 110, none)
	p.Rect(to, y+1, late-to, row-2, 215, 110)
	said := s.exact(slot.Start) + " to " + s.exact(slot.End)
	if !slot.TurnBack.IsZero() {
		x := s.at(slot.TurnBack)
		p.Line(x, y, x, y+row, 0.7, 0, false)
		said += ", begins by " + s.exact(slot.TurnBack)
	}
	p.Text(s.left+s.width+2, y+4.2, small, false, 0, said)
}

func legend(p Pen, y float64) {
	x := edge
	item := func(draw func(x float64), words string) {
		draw(x)
		p.Text(x+9, y+2.2, small, false, 0, words)
		x += 14 + p.Width(small, false, words)
	}
	item(func(x float64) { p.Rect(x, y, 7, 2.6, 110, none) }, "runs, likely")
	item(func(x float64) { p.Rect(x, y, 7, 2.6, 215, 110) }, "to its end in nine cases of ten")
	item(func(x float64) { p.Line(x+3, y-0.6, x+3, y+3.2, 0.7, 0, false) }, "must begin by then, or it cannot all be taken back")
	item(func(x float64) { p.Line(x+3, y-0.6, x+3, y+3.2, 0.3, 0, false) }, "likely over")
	item(func(x float64) { p.Line(x+3, y-0.6, x+3, y+3.2, 0.3, 0, true) }, "nine cases of ten")
}

// scale places times.
type scale struct {
	from, to    time.Time
	left, width float64
	relative    bool // no clock time is known: it is counted from the beginning
}

func (s scale) at(t time.Time) float64 {
	return s.left + s.width*min(max(float64(t.Sub(s.from))/float64(s.to.Sub(s.from)), 0), 1)
}

func (s scale) word(t time.Time) string {
	if s.relative {
		return "+" + long(t.Sub(s.from))
	}
	return t.Format("15:04")
}

func (s scale) exact(t time.Time) string {
	if s.relative {
		return s.word(t)
	}
	return t.Format("15:04:05")
}

// ticks are how far apart the times on the axis may stand.
var ticks = [...]time.Duration{
	time.Minute,
	2 * time.Minute,
	5 * time.Minute,
	10 * time.Minute,
	15 * time.Minute,
	30 * time.Minute,
	time.Hour,
	2 * time.Hour,
	6 * time.Hour,
	24 * time.Hour,
	7 * 24 * time.Hour,
}

// axis draws the times.
func (s scale) axis(p Pen, top, bottom float64) {
	step := ticks[len(ticks)-1]
	for _, t := range ticks {
		if s.to.Sub(s.from)/t <= 12 {
			step = t
			break
		}
	}
	p.Line(s.left, top, s.left+s.width, top, 0.3, 0, false)
	for t := s.from; !t.After(s.to); t = t.Add(step) {
		x := s.at(t)
		p.Line(x, top, x, bottom, 0.1, 190, false)
		word := s.word(t)
		p.Text(x-p.Width(small, false, word)/2, top-1.6, small, false, 60, word)
	}
}
