// Package decide is the view that opens when something is held: what happened,
// the evidence, and the choices with what each touches, how long it takes and
// whether it fits the window. It also asks before an abort.
package decide

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// Question is something a person is asked.
type Question struct {
	Hold     int // 0 for an abort
	Device   string
	Title    string
	Evidence []string
	Offers   []night.Offer
	Since    time.Time
	Due      time.Time      // when the device's timer fires; zero when none is pending
	Way      plan.TimerKind // what it does then
	// Alike are other devices that are held for the same, and Also their holds: one decision is
	// taken of all of them.
	Alike []string
	Also  []int

	about *night.Night    // that is aborted; nil for a hold
	night *night.Night    // in which devices have no contact
	dark  []*night.Device // those that it is asked of
}

// OfHold makes the question of an open hold.
func OfHold(n *night.Night, h night.Hold) Question {
	q := Question{Hold: h.Number, Device: h.Device, Title: h.Why, Evidence: h.Evidence, Offers: h.Offers, Since: h.Since}
	if d := n.Get(h.Device); d != nil {
		q.Due, q.Way = d.TimerDue, d.Way
	}
	if len(h.Devices) > 0 {
		q.night, q.Evidence = n, besides(h)
		for _, name := range h.Devices {
			if d := n.Get(name); d != nil {
				q.dark = append(q.dark, d)
			}
		}
	}
	return q
}

// OfAbort asks what becomes of the devices in change.
func OfAbort(n *night.Night, now time.Time) Question {
	in, kept := 0, 0
	ways := map[plan.TimerKind]int{}
	for _, d := range n.Devices {
		switch {
		case d.State == night.Kept:
			kept++
		case !d.Over && d.State != night.Waiting:
			in++
		}
		switch {
		case d.Over || d.State == night.Waiting:
		case !d.TimerDue.IsZero():
			ways[cmp.Or(d.Way, plan.RestartTimer)]++
		case d.Touched:
			ways[plan.NoTimer]++
		}
	}
	q := Question{
		Title:    "What becomes of those in change?",
		Evidence: []string{"an abort starts no new device", fmt.Sprintf("%d in change, %d kept; left to themselves: %s", in, kept, leftTo(ways))},
		about:    n,
	}
	for _, c := range []night.Choice{night.BackDevice, night.Finish, night.BackAll, night.Release} {
		o := night.Offer{Choice: c, Touches: in, Fits: true}
		if c == night.BackAll {
			o.Touches += kept
		}
		if c == night.BackDevice || c == night.BackAll {
			o.Takes, o.Open = most(fates(n, c, now), now)
			o.Fits = n.Outline == nil || n.Outline.Window.None || now.Add(o.Takes).Before(n.Outline.Window.Close)
		}
		q.Offers = append(q.Offers, o)
	}
	if n.Aborted != "" { // the second time is about letting go
		q.Title = "The run is aborted already. What becomes of the rest?"
	}
	return q
}

// leftTo says what devices do by themselves, when they are let go of.
func leftTo(ways map[plan.TimerKind]int) string {
	var out []string
	for _, w := range []struct {
		way  plan.TimerKind
		does string
	}{{plan.RestartTimer, "restart"}, {plan.PutBackTimer, "put back what is saved"},
		{plan.TrialTimer, "end their trial"}, {plan.NoTimer, "stay as they are"}} {
		if n := ways[w.way]; n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, w.does))
		}
	}
	if len(out) == 0 {
		return "none has anything pending"
	}
	return strings.Join(out, ", ")
}

// none is the cursor where nothing is chosen.
const none = -1

// View is a question with its cursor. What is careful must be confirmed, every time,
// and is never chosen before a person has moved to it.
type View struct {
	cursor  int
	confirm bool
	of      []int // the other holds that were to be confirmed, too
	hold    int
	open    bool
	at      []int // rows at which the offers were drawn
	tight   bool  // only the choice under the cursor is told in full, below all of them: nothing jumps
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
	v.confirm = false
}

// Enter chooses what is under the cursor. It is false as long as something is wanted
// before: a choice, or a confirmation.
func (v *View) Enter(q Question) (night.Offer, bool) {
	if v.cursor < 0 || v.cursor >= len(q.Offers) {
		return night.Offer{}, false
	}
	o := q.Offers[v.cursor]
	if careful(o) && (!v.confirm || !slices.Equal(v.of, q.Also)) { // of other devices than these nobody has confirmed it
		v.confirm, v.of = true, slices.Clone(q.Also)
		return night.Offer{}, false
	}
	v.confirm = false
	return o, true
}

// Forget takes back a confirmation.
func (v *View) Forget() { v.confirm = false }

// OfferAt is the offer whose row was drawn at that place; -1 for none.
func (v *View) OfferAt(row int) int {
	for i, at := range v.at {
		if next := append(v.at[i+1:len(v.at):len(v.at)], at+4)[0]; row >= at && row < next {
			return i
		}
	}
	return -1
}

// careful tells a choice that must be confirmed: it touches more than one device,
// gives something up, does not fit the window, or goes against it.
func careful(o night.Offer) bool {
	switch o.Choice {
	case night.BackBatch, night.BackSite, night.BackAll, night.Release, night.StartEarly, night.GoOnLate, night.Leave,
		night.ItIsDone, night.DoAgain: // nobody should have confirmed what they did not read
		return true
	}
	return o.Against || o.Touches > 1 || o.Takes > 0 && !o.Fits
}

// words say what a choice does, in full.
func words(q Question, o night.Offer) (title, does string) {
	if title, does = word(q, o); len(q.Alike) > 0 && !o.Choice.Wide() && does != "" {
		does = "on each: " + does
	}
	return title, does
}

func word(q Question, o night.Offer) (title, does string) {
	n := report.Count(o.Touches, "device")
	//exhaustive:enforce
	switch o.Choice {
	case night.TryAgain:
		return "Try again", cmp.Or(o.Does, "send the same step once more from its first line") // as it was said in older nights
	case night.ItIsDone:
		return "It is done", o.Does
	case night.DoAgain:
		return "Do it again", o.Does
	case night.OtherLines:
		return "Send other lines", o.Does
	case night.AtConsole:
		return "Work it by hand", o.Does
	case night.ConsoleOver:
		return "That is all", o.Does
	case night.Adopt:
		return "Adopt what was done by hand", o.Does + "; needs a reason"
	case night.SkipStep:
		return "Skip the step", cmp.Or(o.Does, "undo it here, prove that, go on with the next step")
	case night.BackDevice:
		if q.Hold == 0 {
			return "Take back those in change", n + ", each after the line in flight"
		}
		if o.Does != "" {
			return these(q, "Take this device back"), o.Does
		}
		switch q.Way {
		case plan.TrialTimer:
			return "Take this device back", "end its trial, compare with its backup"
		case plan.NoTimer:
			return "Take this device back", "undo, compare with its backup"
		}
		return "Take this device back", "undo, compare with its backup, disarm"
	case night.BackBatch:
		return "Take the batch back", n + ", those kept included; then ask again"
	case night.BackSite:
		return "Take the site back", n + " of " + o.Does + ", those kept included; no further one of it begins"
	case night.BackAll:
		return "Take everything back and stop", n + ", all that were kept included"
	case night.Extend:
		if q.Way == plan.TrialTimer {
			return "Give the trial more time", "more time to look; then decide"
		}
		return "Extend the timer", "more time to look; then decide"
	case night.LetFire:
		switch o.Way {
		case plan.PutBackTimer:
			return "Wait for the timer", "the device puts its saved configuration back"
		case plan.TrialTimer:
			return "Wait for the trial to end", "the device takes back what is on trial"
		}
		return "Wait for the timer", "the device restarts with its saved configuration"
	case night.Accept:
		return "Keep what runs", cmp.Or(o.Does, "go on from it as it is") + "; needs a reason"
	case night.Leave:
		if o.Touches > 1 {
			return "Leave them as they are", n + ", each left to its own way back, and not looked at again tonight"
		}
		return "Leave it as it is", "it is left to its own way back, and not looked at again tonight; the others go on"
	case night.GoOnBeside:
		return "Go on meanwhile", n + " to come; nothing waits for what has no contact, and that is looked for all the same"
	case night.GoOn:
		return "Go on", n + " to come"
	case night.GoOnLate:
		if q.Device != "" {
			return "Go on all the same", cmp.Or(o.Does, "go on") + "; there is no time to take it back; needs a reason"
		}
		return "Go on all the same", n + " to come; there is no time to take them back; needs a reason"
	case night.StartEarly:
		return "Start before the window", n + " to come; needs a reason"
	case night.Stop:
		return "Stop here", "nothing new starts; what is kept stays"
	case night.Finish:
		return "Let those in change finish", n + ", each to its end"
	case night.Release:
		return "Let go of everything", n + ", each left to what it does by itself"
	case night.Remark, night.Stand, night.StandLine, night.StandStep, night.Nobody, night.Somebody, night.LeaveOut, night.AtOnce: // are never offered
	}
	return string(o.Choice), ""
}

// Within draws the question as [View.Rows] does, and where that takes more than so many rows, tells
// only the choice under the cursor in full.
func (v *View) Within(q Question, now time.Time, focused bool, cells, height int) []ink.Row {
	rows := v.Rows(q, now, focused, cells)
	here, most := 0, 0 // whichever is chosen: what fits does not change with the cursor
	for i, o := range q.Offers {
		k := len(consequences(o, cells))
		if most = max(most, k); i == v.cursor && focused {
			here = k
		}
	}
	if len(rows)-here+most <= height {
		return rows
	}
	v.tight = true
	defer func() { v.tight = false }()
	return v.Rows(q, now, focused, cells)
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
	if k := len(q.Alike); k > 0 {
		title = fmt.Sprintf("Decide: %d devices, held for the same", k+1)
	}
	if len(q.dark) > 0 {
		title = "Dark: they are waited for; is that to go on?"
	}
	head := ink.Row{}.Strong(ink.Lamp, "◆ "+title)
	if !q.Due.IsZero() {
		if left := q.Due.Sub(now); left > 0 {
			first := ""
			if len(q.Alike) > 0 {
				first = "the first "
			}
			due := first + q.Way.Does(q.Due.Format("15:04:05")) + ", in " + ink.Short(left)
			if head.Width()+len(due) >= cells {
				due = q.Way.Word() + " in " + ink.Short(left)
			}
			head = head.Right(ink.T(ink.Lamp, due), cells)
		}
	}
	rows = append(rows, head)
	for _, l := range ink.Wrap(q.Title, cells, 4) {
		rows = append(rows, ink.Row{}.Strong(ink.Foam, l))
	}
	rows = append(rows, alikeRows(q, cells)...)
	if len(q.dark) > 0 {
		rows = append(rows, darkRows(q, now, cells)...)
	}
	for _, e := range q.Evidence {
		for _, l := range ink.Wrap(e, cells-2, 3) {
			rows = append(rows, ink.T(ink.Foam, "  "+l))
		}
	}
	rows = append(rows, ink.Row{})
	v.at = v.at[:0]
	for i, o := range q.Offers {
		v.at = append(v.at, len(rows))
		rows = append(rows, v.offer(q, o, i, now, focused, cells)...)
	}
	if focused {
		if !v.tight {
			rows = append(rows, ink.Row{})
		}
		rows = append(rows, v.hint(q, cells)...)
		if i := v.cursor; v.tight && i >= 0 && i < len(q.Offers) {
			_, does := words(q, q.Offers[i])
			rows = append(rows, v.told(q.Offers[i], i, does, focused, cells)...)
		}
		if q.about != nil && v.cursor >= 0 && v.cursor < len(q.Offers) {
			rows = append(rows, fatesRows(fates(q.about, q.Offers[v.cursor].Choice, now), cells)...)
		}
	}
	return rows
}

func (v *View) offer(q Question, o night.Offer, i int, now time.Time, focused bool, cells int) []ink.Row {
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
	if o.Choice == night.LetFire { // it runs already, whatever is decided
		done = q.Since.Add(o.Takes)
	}
	if o.Takes > 0 {
		about, by := "about "+ink.Long(done.Sub(now)), ", done "+done.Format("15:04:05")
		if done.Sub(now) < time.Second {
			about, by = "at once", ""
		}
		if late := now.Add(o.Most); o.Most > o.Takes*5/4 && o.Choice != night.LetFire {
			about, by = ink.Long(o.Takes)+" to "+ink.Long(o.Most), ", done by "+late.Format("15:04:05")
		}
		if right = ink.T(ink.Dim, about+by); left.Width()+right.Width() >= cells {
			right = ink.T(ink.Dim, about+strings.Replace(by, ", done ", ", ", 1))
		}
		if left.Width()+right.Width() >= cells {
			right = ink.T(ink.Dim, about)
		}
	}
	if o.Open {
		right = ink.T(ink.Lamp, "nobody knows: a device has no contact and no timer")
		if left.Width()+right.Width() >= cells {
			right = ink.T(ink.Lamp, "nobody knows how long")
		}
	}
	if !o.Fits && o.Takes > 0 {
		right = ink.Row{}.Strong(ink.Port, "does not fit the window")
	}
	row := left.Right(right, cells)
	row.Marked = focused && i == v.cursor
	if v.tight {
		return []ink.Row{row}
	}
	return append([]ink.Row{row}, v.told(o, i, does, focused, cells)...)
}

// told says what a choice does, and what comes of it where it is the one under the cursor.
func (v *View) told(o night.Offer, i int, does string, focused bool, cells int) (rows []ink.Row) {
	for _, l := range ink.Wrap(does, cells-4, 3) {
		rows = append(rows, ink.T(ink.Dim, "    "+l))
	}
	if focused && i == v.cursor {
		rows = append(rows, consequences(o, cells)...)
	}
	return rows
}

// consequences are the lines that a choice begins with, and who may lose contact by it.
func consequences(o night.Offer, cells int) (rows []ink.Row) {
	if o.Choice != night.OtherLines { // those are what is edited
		for i, l := range o.Sends {
			lead := "           "
			if i == 0 {
				lead = "    sends  "
			}
			rows = append(rows, ink.T(ink.Dim, lead).Add(ink.Foam, ink.Fit(l, max(cells-11, 8))))
		}
	}
	if len(o.Cuts) > 0 {
		for _, l := range ink.Wrap("▲ "+report.Some(o.Cuts, 8)+" may lose contact: reached through it", cells-4, 2) {
			rows = append(rows, ink.T(ink.Lamp, "    "+l))
		}
	}
	return rows
}

// hint says what the next key does. When something is to be confirmed or typed, it
// is marked in place of the choice: it must be seen.
func (v *View) hint(q Question, cells int) []ink.Row {
	if v.cursor < 0 || v.cursor >= len(q.Offers) {
		if len(q.dark) > 0 {
			return hinted("Nothing is chosen, and nothing has to be: waiting goes on.   ↑↓ or a number chooses   Esc leaves it", cells)
		}
		return hinted("Nothing is chosen: ↑↓ or a number chooses.   Esc leaves it", cells)
	}
	o := q.Offers[v.cursor]
	switch {
	case v.confirm:
		r := ink.Row{}.Strong(ink.Port, "Enter again: "+again(o)+". ").Add(ink.Dim, "Esc leaves it.").Right(ink.Row{}, cells)
		r.Marked = true
		return []ink.Row{r}
	}
	hint := "↑↓ choose   Enter does it   Esc leaves it"
	if len(q.Alike) > 0 {
		hint += "   o decides on " + q.Device + " alone"
	}
	return hinted(hint, cells)
}

// hinted is a hint in as many rows as it takes.
func hinted(text string, cells int) (rows []ink.Row) {
	if len([]rune(text)) <= cells {
		return []ink.Row{ink.T(ink.Dim, text)}
	}
	for _, part := range strings.Split(text, "   ") {
		if k := len(rows) - 1; k >= 0 && rows[k].Width()+3+len([]rune(part)) <= cells {
			rows[k] = rows[k].Add(ink.Dim, "   "+part)
			continue
		}
		rows = append(rows, ink.T(ink.Dim, part))
	}
	return rows
}

// again says why a choice is to be confirmed.
func again(o night.Offer) string {
	switch {
	case o.Choice == night.StartEarly:
		return "before the window, " + report.Count(o.Touches, "device")
	case o.Choice == night.GoOnLate:
		return "after the turn-back time, " + report.Count(o.Touches, "device")
	case o.Takes > 0 && !o.Fits:
		return report.Count(o.Touches, "device") + ", and it does not fit the window"
	}
	return report.Count(o.Touches, "device")
}

// Hold is the number of the hold the view is open on; 0 for an abort.
func (v *View) Hold() int { return v.hold }
