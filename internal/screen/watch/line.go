package watch

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// perRow is how many cells of devices fit in a row.
func perRow(cells int) int { return max((cells-3)/2, 1) }

// cellRow draws a cell a device; the cursor is set in brackets, so that it
// shows without colour.
func cellRow(devices []*night.Device, cursor int) ink.Row {
	r := ink.T(ink.Foam, "  ")
	for i, d := range devices {
		s := ink.SignOf(d.State)
		switch {
		case i == cursor:
			r.Spans[len(r.Spans)-1].Text = strings.TrimSuffix(r.Spans[len(r.Spans)-1].Text, " ") + "▐"
			r = r.Strong(s.Ink, s.Shape).Add(ink.Lamp, "▌")
		default:
			r = r.Add(s.Ink, s.Shape).Add(ink.Foam, " ")
		}
	}
	return r
}

// head is the line over a batch.
func head(n *night.Night, number int, members []*night.Device, now time.Time) ink.Row {
	count, clear := map[night.State]int{}, 0
	for _, d := range members {
		count[d.State]++
		if d.ClearText {
			clear++
		}
	}
	r := ink.Row{}.Add(ink.Foam, " ").Strong(ink.Foam, fmt.Sprintf("Batch %d of %d", number, len(n.Outline.Batches))).
		Add(ink.Dim, "   "+report.Count(len(members), "device"))
	if clear > 0 { // folded to cells, the devices cannot say so themselves
		r = r.Strong(ink.Lamp, fmt.Sprintf("   %d in clear text", clear))
	}
	if count[night.Waiting] == len(members) {
		return r.Then(plannedFor(n, number, now))
	}
	for _, part := range []struct {
		word   string
		ink    ink.Ink
		states []night.State
	}{
		{"kept", ink.Buoy, []night.State{night.Kept}},
		{"already", ink.Buoy, []night.State{night.Already}},
		{"in change", ink.Tide, []night.State{night.Checking, night.Recording, night.Armed, night.Changing, night.Verifying, night.Soaking}},
		{"absent", ink.Tide, []night.State{night.Absent}},
		{"held", ink.Lamp, []night.State{night.Held}},
		{"dark", ink.Port, []night.State{night.Dark}},
		{"reverting", ink.Heather, []night.State{night.Reverting}},
		{"reverted", ink.Heather, []night.State{night.Reverted}},
		{"stranded", ink.Port, []night.State{night.Stranded}},
		{"blocked", ink.Lamp, []night.State{night.Blocked}},
		{"skipped", ink.Dim, []night.State{night.Skipped}},
		{"waiting", ink.Dim, []night.State{night.Waiting}},
	} {
		k := 0
		for _, s := range part.states {
			k += count[s]
		}
		if k > 0 {
			r = r.Add(ink.Foam, "   ").Add(part.ink, fmt.Sprintf("%d %s", k, part.word))
		}
	}
	return r
}

// plannedFor says when a batch that has not begun is to run.
func plannedFor(n *night.Night, number int, now time.Time) ink.Row {
	i := number - (len(n.Outline.Batches) - len(n.Slots) + 1)
	if now.IsZero() {
		return ink.Row{} // it will not
	}
	if n.Began.IsZero() { // as it was planned, however long somebody reads
		now = n.Outline.Window.Open
	}
	slots, _, _ := n.Schedule(now)
	if i < 0 || i >= len(slots) || !n.Ended.IsZero() {
		return ink.Row{}
	}
	s := slots[i]
	at := func(t time.Time) string { return t.Format("15:04:05") }
	if w := n.Outline.Window; (w.Now || w.None) && n.Began.IsZero() { // no clock time of it is known yet
		at = func(t time.Time) string { return "+ " + ink.Long(t.Sub(w.Open)) }
	}
	when := fmt.Sprintf("   planned %s to %s", at(s.Start), at(s.End))
	if !n.Began.IsZero() && n.WaitsForPerson() { // no time of it is planned any more
		when = fmt.Sprintf("   takes about %s", ink.Long(s.End.Sub(s.Start)))
	}
	if !s.TurnBack.IsZero() {
		when += ", must start by " + at(s.TurnBack)
	}
	return ink.T(ink.Dim, when)
}

// Widths of the columns of a device's line.
const (
	nameCells  = 13
	stateCells = 12
	wayCells   = 9  // what the device does by itself
	leftCells  = 6  // and when
	barCells   = 3  // where there is room
	roomy      = 96 // cells of a line from which on there is
	sinceCells = 6
)

// Line is a device on one line: name, state, how far it is, what it is doing,
// its timer and how long it has taken.
func Line(d *night.Device, now time.Time, cells int) ink.Row {
	s := ink.SignOf(d.State)
	r := ink.T(ink.Foam, " ").Col(ink.Foam, " "+d.Name, nameCells+1)
	r = r.Add(s.Ink, s.Shape+" ").Col(s.Ink, string(d.State), stateCells-2)
	rail := Rail(d)
	tail := ink.T(ink.Dim, fmt.Sprintf("%*s ", sinceCells, taken(d, now)))
	if way := timer(d, now, cells); way.Width() > 0 {
		tail = way.Then(tail)
	}
	doing := cells - r.Width() - rail.Width() - tail.Width() - 3
	if doing < 12 { // narrow: the rail goes first, the words stay
		doing += rail.Width() + 1
		rail = ink.Row{}
	} else {
		r = r.Then(rail).Add(ink.Foam, " ")
	}
	if d.ClearText && doing > 24 {
		r = r.Strong(ink.Lamp, "clear text ")
		doing -= len("clear text ")
	}
	r = r.Col(noteInk(d), note(d), doing).Add(ink.Foam, "  ")
	return r.Then(tail)
}

func note(d *night.Device) string {
	if !d.QuietSince.IsZero() && !d.Over {
		return "no answer since " + d.QuietSince.Local().Format("15:04:05") + "; " + d.Note
	}
	if d.State == night.Changing && d.Lines > 0 {
		return fmt.Sprintf("%s, line %d of %d", d.Note, d.Line, d.Lines)
	}
	if d.State == night.Absent { // by when it is back stands at the end of the row, and is never cut there
		what, _, _ := strings.Cut(d.Note, ";")
		return what
	}
	return d.Note
}

func noteInk(d *night.Device) ink.Ink {
	switch d.State {
	case night.Held, night.Stranded, night.Dark, night.Blocked:
		return ink.Foam
	}
	if d.SavedUnread || len(d.Unlike) > 0 || d.Over && d.LeftSteps() > 0 || d.State == night.Waiting && (d.Unknown != "" || len(d.Notices) > 0) { // the end is not the whole word
		return ink.Lamp
	}
	return ink.Dim
}

// timer is what the device does by itself, and the time until then burning down.
func timer(d *night.Device, now time.Time, cells int) ink.Row {
	bar := 0
	if cells >= roomy {
		bar = barCells
	}
	switch {
	case d.State == night.Absent:
		return absence(d, now, bar)
	case d.State.Ended() && d.State != night.Stranded: // the note has the room
		return ink.Row{}
	case d.TimerDue.IsZero() && d.Way == plan.NoTimer && d.State != night.Waiting && d.State != night.Checking:
		return ink.Row{}.Col(ink.Lamp, d.Way.Word(), wayCells+bar+leftCells+1)
	case d.TimerDue.IsZero():
		return ink.Row{}
	}
	left := d.TimerDue.Sub(now)
	i := ink.Tide
	if d.State == night.Held || d.State == night.Dark || d.State == night.Reverting {
		i = ink.Lamp
	}
	if left < 15*time.Second {
		i = ink.Port
	}
	r := ink.Row{}.Col(i, d.Way.Word(), wayCells)
	if bar > 0 {
		full, rest := ink.Bar(float64(left)/float64(max(d.TimerFor, 1)), bar)
		r = r.Add(i, full).Add(ink.Faint, rest)
	}
	return r.Add(i, fmt.Sprintf("%*s", leftCells, ink.Short(left))).Add(ink.Foam, " ")
}

// absence is how long a device that restarts still is, usually; then, until when it is expected.
func absence(d *night.Device, now time.Time, bar int) ink.Row {
	word, left, of, i := "away", d.Usual.Sub(now), d.Usual.Sub(d.Since), ink.Tide
	if left < 0 {
		word, left, of, i = "late", d.Most.Sub(now), d.Most.Sub(d.Usual), ink.Lamp
	}
	r := ink.Row{}.Col(i, word, wayCells)
	if bar > 0 {
		full, rest := ink.Bar(float64(max(left, 0))/float64(max(of, 1)), bar)
		r = r.Add(i, full).Add(ink.Faint, rest)
	}
	return r.Add(i, fmt.Sprintf("%*s", leftCells, ink.Short(max(left, 0)))).Add(ink.Foam, " ")
}

func taken(d *night.Device, now time.Time) string {
	if d.Began.IsZero() {
		return ""
	}
	if !d.Ended.IsZero() {
		now = d.Ended
	}
	return ink.Short(now.Sub(d.Began))
}

// mostSteps is how many steps a rail shows one by one.
const mostSteps = 6

// Rail is how far a device has come: a node each for checks, backup, timer,
// every step, soak and keeping.
func Rail(d *night.Device) ink.Row {
	done, total, current := progress(d)
	if d.State == night.Waiting || d.State == night.Skipped {
		return ink.T(ink.Foam, strings.Repeat(" ", 2*total-1))
	}
	s := ink.SignOf(d.State)
	var r ink.Row
	for i := range total {
		if i > 0 {
			link, li := "─", ink.Faint
			if i <= done-1 || i == done && current {
				link, li = "━", ink.Dim
			}
			r = r.Add(li, link)
		}
		switch {
		case i < done:
			r = r.Add(nodeInk(d, i), nodeShape(d, i))
		case i == done && current:
			r = r.Add(s.Ink, s.Shape)
		default:
			r = r.Add(ink.Faint, aheadShape(d, i))
		}
	}
	return r
}

// aheadShape is how a node is drawn that is not reached yet.
func aheadShape(d *night.Device, i int) string {
	k := i - 3
	if k < 0 || k >= len(d.Marks) || len(d.Marks) > mostSteps {
		return "◦"
	}
	_, ahead := KindShapes(d.Kind(k))
	return ahead
}

func nodeShape(d *night.Device, i int) string {
	if hollow(d, i) {
		return "○"
	}
	if k := i - 3; k >= 0 && k < len(d.Marks) && len(d.Marks) <= mostSteps {
		switch d.Marks[k] {
		case night.StepLeft, night.StepUndone:
			return "◇"
		case night.StepAlready, night.StepNot:
			return "◎"
		}
	}
	if k := i - 3; k >= 0 && k < len(d.Marks) && len(d.Marks) <= mostSteps {
		done, _ := KindShapes(d.Kind(k))
		return done
	}
	return "●"
}

// KindShapes are how a step is drawn once it is done, and ahead of it: one that cannot be
// undone is seen from afar.
func KindShapes(k plan.StepKind) (done, ahead string) {
	//exhaustive:enforce
	switch k {
	case plan.LookStep:
		return "▪", "▫"
	case plan.DoStep, plan.RestartStep, plan.SoftwareStep:
		return "▲", "△"
	case plan.WaitStep:
		return "◉", "◌"
	case plan.HandStep, plan.ConsoleStep:
		return "▼", "▽"
	case plan.SaveStep:
	case plan.ChangeStep:
	}
	return "●", "◦"
}

// hollow tells whether a node was passed without what it stands for: a timer that
// there is none of, or keeping that it could not be read whether it lasts.
func hollow(d *night.Device, i int) bool {
	_, total, _ := progress(d)
	return i == timerNode && !d.Timed || i == total-1 && d.SavedUnread
}

// timerNode is the place of the timer on a rail.
const timerNode = 2

func nodeInk(d *night.Device, i int) ink.Ink {
	if hollow(d, i) {
		return ink.Lamp
	}
	if nodeShape(d, i) == "◇" {
		return ink.Heather
	}
	switch d.State {
	case night.Kept, night.Already:
		return ink.Buoy
	}
	return ink.Dim
}

// progress counts the nodes that are done, and tells whether the next one is
// being worked on.
func progress(d *night.Device) (done, total int, current bool) {
	steps := min(len(d.Marks), mostSteps)
	if len(d.Marks) > mostSteps {
		steps = 1
	}
	total = 3 + steps + 2
	state := d.State
	if state == night.Held || state == night.Reverting || state == night.Dark {
		state = d.Before
	}
	step := 0
	if d.Step > 0 {
		step = d.Step - 1
		if slices.Contains([]string{night.StepDone, night.StepAlready, night.StepNot}, d.Marks[step]) {
			step++
		}
	}
	if len(d.Marks) > mostSteps {
		step = 0
	}
	//exhaustive:enforce
	switch state {
	case night.Waiting, night.Skipped, night.Already:
		return 0, total, state == night.Already
	case night.Checking:
		return 0, total, true
	case night.Blocked:
		return 0, total, true
	case night.Recording:
		return 1, total, true
	case night.Armed:
		return 2, total, true
	case night.Changing, night.Verifying, night.Absent:
		return 3 + min(step, steps), total, true
	case night.Soaking:
		return 3 + steps, total, true
	case night.Kept:
		return total, total, false
	case night.Reverted, night.Stranded:
		return min(3+step, total-1), total, true
	case night.Held, night.Reverting, night.Dark: // where it was before is told
	}
	return 0, total, true
}
