// Package decide is the view that opens when something is held: what happened,
// the evidence, and the choices with what each touches, how long it takes and
// whether it fits the window. It also asks before an abort.
package decide

import (
	"fmt"
	"strings"
	"time"
	"unicode"

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
		Title:    "What becomes of those in change?",
		Evidence: []string{"an abort starts no new device", fmt.Sprintf("%d in change, %d kept, timers pending on %d", in, kept, armed)},
		Offers: []run.Offer{
			{Choice: run.BackDevice, Touches: in, Fits: true},
			{Choice: run.Finish, Touches: in, Fits: true},
			{Choice: run.BackAll, Touches: in + kept, Fits: true},
			{Choice: run.Release, Touches: in, Fits: true},
		},
	}
	if n.Aborted != "" { // the second time is about letting go
		q.Title = "The run is aborted already. What becomes of the rest?"
	}
	return q
}

// none is the cursor where nothing is chosen.
const none = -1

// View is a question with its cursor. What is careful must be confirmed, every time,
// and is never chosen before a person has moved to it.
type View struct {
	cursor  int
	confirm bool
	hold    int
	open    bool
	reason  []rune
	typing  bool // a reason is being typed
}

// Open opens the view on a question. Nothing is chosen that would do harm if Enter
// were pressed blindly.
func (v *View) Open(q Question) {
	*v = View{hold: q.Hold, open: true, cursor: none}
	if len(q.Offers) > 0 && !careful(q.Offers[0]) {
		v.cursor = 0
	}
}

// Move moves the cursor.
func (v *View) Move(q Question, by int) {
	if v.cursor == none && by < 0 {
		v.cursor = len(q.Offers)
	}
	v.Choose(q, v.cursor+by)
}

// Choose moves the cursor to an offer, from 0.
func (v *View) Choose(q Question, i int) {
	if len(q.Offers) == 0 {
		return
	}
	v.cursor = min(max(i, 0), len(q.Offers)-1)
	v.confirm, v.typing, v.reason = false, false, nil
}

// Answer is what a person has decided.
type Answer struct {
	Choice run.Choice
	Reason string
}

// Enter chooses what is under the cursor. It is false as long as something is
// wanted before: a choice, a confirmation, a reason.
func (v *View) Enter(q Question) (Answer, bool) {
	if v.cursor < 0 || v.cursor >= len(q.Offers) {
		return Answer{}, false
	}
	o := q.Offers[v.cursor]
	switch {
	case careful(o) && !v.confirm:
		v.confirm = true
		return Answer{}, false
	case o.Reason && !v.typing:
		v.typing = true
		return Answer{}, false
	case o.Reason && len(v.given()) < leastReason:
		return Answer{}, false
	}
	a := Answer{o.Choice, v.given()}
	v.confirm, v.typing, v.reason = false, false, nil
	return a, true
}

// leastReason is the least that a reason can say, in bytes.
const leastReason = 3

func (v *View) given() string { return strings.TrimSpace(string(v.reason)) }

// Typing tells whether keys are part of a reason.
func (v *View) Typing() bool { return v.typing }

// Type takes a key of a reason.
func (v *View) Type(key, text string) {
	switch {
	case key == "backspace":
		v.reason = v.reason[:max(len(v.reason)-1, 0)]
	case key == "ctrl+u":
		v.reason = nil
	case len(v.reason) < 200 && !strings.ContainsFunc(text, unicode.IsControl):
		v.reason = append(v.reason, []rune(text)...)
	}
}

// careful tells a choice that must be confirmed: it touches more than one device,
// gives something up, does not fit the window, or goes against it.
func careful(o run.Offer) bool {
	switch o.Choice {
	case run.BackBatch, run.BackAll, run.Release, run.StartEarly, run.GoOnLate, run.Leave:
		return true
	}
	return o.Touches > 1 || o.Takes > 0 && !o.Fits
}

// words say what a choice does, in full.
func words(q Question, o run.Offer) (title, does string) {
	n := report.Count(o.Touches, "device")
	switch o.Choice {
	case run.TryAgain:
		if o.Looks {
			return "Try again", "look once more; nothing is sent"
		}
		return "Try again", "send the same step once more from its first line"
	case run.SkipStep:
		return "Skip the step", "undo it here, prove that, go on with the next step"
	case run.BackDevice:
		if q.Hold == 0 {
			return "Take back those in change", n + ", each after the line in flight"
		}
		return "Take this device back", "undo, compare with its backup, disarm"
	case run.BackBatch:
		return "Take the batch back", n + ", those kept included; then ask again"
	case run.BackAll:
		return "Take everything back and stop", n + ", all that were kept included"
	case run.Extend:
		return "Extend the timer", "more time to look; then decide"
	case run.LetFire:
		if o.PutsBack {
			return "Wait for the timer", "the device puts its saved configuration back"
		}
		return "Wait for the timer", "the device restarts with its saved configuration"
	case run.Leave:
		return "Leave it as it is", "it is not looked at again tonight; the others go on"
	case run.GoOn:
		return "Go on", n + " to come"
	case run.GoOnLate:
		return "Go on all the same", n + " to come; there is no time to take them back; needs a reason"
	case run.StartEarly:
		return "Start before the window", n + " to come; needs a reason"
	case run.Stop:
		return "Stop here", "nothing new starts; what is kept stays"
	case run.Finish:
		return "Let those in change finish", n + ", each to its end"
	case run.Release:
		return "Let go of everything", n + ", each left to its own timer"
	}
	return string(o.Choice), ""
}

// Rows draws the question. Focused says that keys go to it. The row under the
// cursor is marked, so that whoever has little room can keep it in sight.
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
	if focused {
		rows = append(rows, ink.Row{})
		rows = append(rows, v.hint(q, cells)...)
	}
	return rows
}

func (v *View) offer(q Question, o run.Offer, i int, now time.Time, focused bool, cells int) []ink.Row {
	title, does := words(q, o)
	lead := "  "
	if focused && i == v.cursor {
		lead = "▌ "
	}
	left := ink.T(ink.Lamp, lead)
	if focused {
		left = left.Add(ink.Dim, fmt.Sprintf("%d ", i+1))
	}
	left = left.Strong(ink.Foam, title)
	right := ink.Row{}
	done := now.Add(o.Takes)
	if o.Choice == run.LetFire { // it runs already, whatever is decided
		done = q.Since.Add(o.Takes)
	}
	if o.Takes > 0 {
		right = ink.T(ink.Dim, "about "+ink.Long(done.Sub(now))+", done "+done.Format("15:04:05"))
		if left.Width()+right.Width() >= cells {
			right = ink.T(ink.Dim, ink.Long(done.Sub(now))+", done "+done.Format("15:04:05"))
		}
	}
	if !o.Fits && o.Takes > 0 {
		right = ink.Row{}.Strong(ink.Port, "does not fit the window")
	}
	row := left.Right(right, cells)
	row.Marked = focused && i == v.cursor
	rows := []ink.Row{row}
	if does != "" {
		rows = append(rows, ink.T(ink.Dim, "    "+does))
	}
	return rows
}

// hint says what the next key does. When something is to be confirmed or typed, it
// is marked in place of the choice: it must be seen.
func (v *View) hint(q Question, cells int) []ink.Row {
	if v.cursor < 0 || v.cursor >= len(q.Offers) {
		return []ink.Row{ink.T(ink.Dim, "Nothing is chosen: ↑↓ or a number chooses.   Esc leaves it")}
	}
	o := q.Offers[v.cursor]
	switch {
	case v.typing:
		r := ink.Row{}.Strong(ink.Port, "Reason: ").Add(ink.Foam, tail(string(v.reason), max(cells-20, 10))).Strong(ink.Lamp, "▏")
		if len(v.given()) < leastReason {
			r = r.Add(ink.Dim, "  for the journal")
		} else {
			r = r.Add(ink.Dim, "  Enter does it")
		}
		r = r.Right(ink.Row{}, cells)
		r.Marked = true
		return []ink.Row{r}
	case v.confirm:
		r := ink.Row{}.Strong(ink.Port, "Enter again: "+again(o)+". ").Add(ink.Dim, "Esc leaves it.").Right(ink.Row{}, cells)
		r.Marked = true
		return []ink.Row{r}
	}
	return []ink.Row{ink.T(ink.Dim, "↑↓ choose   Enter does it   Esc leaves it")}
}

// again says why a choice is to be confirmed.
func again(o run.Offer) string {
	switch {
	case o.Choice == run.StartEarly:
		return "before the window, " + report.Count(o.Touches, "device")
	case o.Choice == run.GoOnLate:
		return "after the turn-back time, " + report.Count(o.Touches, "device")
	case o.Takes > 0 && !o.Fits:
		return report.Count(o.Touches, "device") + ", and it does not fit the window"
	}
	return report.Count(o.Touches, "device")
}

func tail(s string, n int) string {
	r := []rune(s)
	return string(r[max(0, len(r)-n):])
}

// Hold is the number of the hold the view is open on; 0 for an abort.
func (v *View) Hold() int { return v.hold }
