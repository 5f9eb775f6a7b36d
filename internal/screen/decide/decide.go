// Package decide is the view that opens when something is held: what happened,
// the evidence, and the choices with what each touches, how long it takes and
// whether it fits the window. It also asks before an abort.
package decide

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/watch"
)

// Question is something a person is asked.
type Question struct {
	Hold     int // 0 for an abort
	Device   string
	Title    string
	Evidence []string
	Offers   []run.Offer
	Since    time.Time
	Due      time.Time // when the device's timer fires; zero when none is pending
}

// OfHold makes the question of an open hold.
func OfHold(n *run.Night, h run.Hold) Question {
	q := Question{Hold: h.Number, Device: h.Device, Title: h.Why, Evidence: h.Evidence, Offers: h.Offers, Since: h.Since}
	if d := n.Get(h.Device); d != nil {
		q.Due = d.TimerDue
	}
	return q
}

// OfAbort asks what becomes of the devices in change.
func OfAbort(n *run.Night) Question {
	in, kept, armed := 0, 0, 0
	for _, d := range n.Devices {
		switch {
		case d.State == run.Kept:
			kept++
		case !d.Over && d.State != run.Waiting:
			in++
		}
		if !d.Over && !d.TimerDue.IsZero() {
			armed++
		}
	}
	q := Question{
		Title:    "No new device starts. What becomes of those in change?",
		Evidence: []string{fmt.Sprintf("%d in change, %d kept, %d timers pending", in, kept, armed)},
		Offers: []run.Offer{
			{Choice: run.BackDevice, Touches: in, Fits: true},
			{Choice: run.Finish, Touches: in, Fits: true},
			{Choice: run.BackAll, Touches: in + kept, Fits: true},
			{Choice: run.Release, Touches: in, Fits: true},
		},
	}
	if n.Aborted != "" { // the second time is about letting go
		q.Title = "The run is aborted already. Let go of what is still in change?"
		slices.Reverse(q.Offers)
	}
	return q
}

// View is a question with its cursor. A choice that touches more than one
// device, or lets go, must be confirmed.
type View struct {
	Cursor  int
	confirm bool
	hold    int
}

// Reset starts over when another question stands there.
func (v *View) Reset(q Question) {
	if v.hold != q.Hold {
		*v = View{hold: q.Hold}
	}
}

// Move moves the cursor.
func (v *View) Move(q Question, by int) {
	v.Cursor = min(max(v.Cursor+by, 0), len(q.Offers)-1)
	v.confirm = false
}

// Enter chooses what is under the cursor. It is false as long as a
// confirmation is wanted.
func (v *View) Enter(q Question) (run.Choice, bool) {
	if v.Cursor >= len(q.Offers) {
		return "", false
	}
	o := q.Offers[v.Cursor]
	if wide(o.Choice) && !v.confirm {
		v.confirm = true
		return "", false
	}
	v.confirm = false
	return o.Choice, true
}

func wide(c run.Choice) bool { return c == run.BackBatch || c == run.BackAll || c == run.Release }

// words say what a choice does, in full.
func words(q Question, o run.Offer) (title, does string) {
	n := report.Count(o.Touches, "device")
	switch o.Choice {
	case run.TryAgain:
		return "Try again", "do the same step once more from its first line"
	case run.SkipStep:
		return "Skip the step", "undo it on this device and go on with the next step"
	case run.BackDevice:
		if q.Hold == 0 {
			return "Take back those in change", n + " finish the line in flight, then revert"
		}
		return "Take this device back", "undo, compare with its backup, disarm"
	case run.BackBatch:
		return "Take the batch back", n + ", those kept included; then ask again"
	case run.BackAll:
		return "Take everything back and stop", n + ", all that were kept included"
	case run.Extend:
		return "Extend the timer", "more time to look; then decide"
	case run.LetFire:
		return "Wait for the timer", "the device restarts with its saved configuration"
	case run.GoOn:
		return "Go on", ""
	case run.Stop:
		return "Stop here", "nothing new starts; what is kept stays"
	case run.Finish:
		return "Let those in change finish", n + " go on to their end"
	case run.Release:
		return "Let go of everything", n + " left to their own timers"
	}
	return string(o.Choice), ""
}

// Rows draws the question. Focused says that keys go to it.
func (v *View) Rows(q Question, now time.Time, focused bool, cells int) []ink.Row {
	var rows []ink.Row
	title := "Decide"
	if q.Hold == 0 {
		title = "Abort"
	}
	if q.Device != "" {
		title = "Decide: " + q.Device
	}
	head := ink.Row{}.Strong(ink.Lamp, "◆ "+title)
	if !q.Due.IsZero() {
		if left := q.Due.Sub(now); left > 0 {
			head = head.Right(ink.T(ink.Lamp, "timer fires in "+ink.Short(left)), cells)
		}
	}
	rows = append(rows, head)
	for _, l := range watch.Wrap(q.Title, cells, 4) {
		rows = append(rows, ink.Row{}.Strong(ink.Foam, l))
	}
	for _, e := range q.Evidence {
		for _, l := range watch.Wrap(e, cells-2, 3) {
			rows = append(rows, ink.T(ink.Foam, "  "+l))
		}
	}
	rows = append(rows, ink.Row{})
	for i, o := range q.Offers {
		rows = append(rows, v.offer(q, o, i, now, focused, cells)...)
	}
	if focused && v.Cursor < len(q.Offers) {
		rows = append(rows, ink.Row{}, v.hint(q))
	}
	return rows
}

func (v *View) offer(q Question, o run.Offer, i int, now time.Time, focused bool, cells int) []ink.Row {
	title, does := words(q, o)
	lead, in := "  ", ink.Foam
	if focused && i == v.Cursor {
		lead = "▌ "
	}
	left := ink.T(ink.Lamp, lead).Strong(in, title)
	right := ink.Row{}
	done := now.Add(o.Takes)
	if o.Choice == run.LetFire { // it runs already, whatever is decided
		done = q.Since.Add(o.Takes)
	}
	if o.Takes > 0 {
		right = ink.T(ink.Dim, "about "+ink.Long(done.Sub(now))+", done "+done.Format("15:04:05"))
	}
	if !o.Fits && o.Takes > 0 {
		right = ink.Row{}.Strong(ink.Port, "does not fit the window")
	}
	row := left.Right(right, cells)
	row.Marked = focused && i == v.Cursor
	rows := []ink.Row{row}
	if does != "" {
		rows = append(rows, ink.T(ink.Dim, "  "+does))
	}
	return rows
}

func (v *View) hint(q Question) ink.Row {
	o := q.Offers[v.Cursor]
	if v.confirm {
		return ink.Row{}.Strong(ink.Port, fmt.Sprintf("Enter again: %s. ", report.Count(o.Touches, "device"))).Add(ink.Dim, "Esc leaves it.")
	}
	return ink.T(ink.Dim, "↑↓ choose   Enter does it   Esc leaves it")
}

// Hold is the number of the hold the view stands on.
func (v *View) Hold() int { return v.hold }
