package work

import "time"

// timer is what is known of the rollback timer on a device: when it is due, by our clock, and
// how sure that is. It asks nobody; who has asked the device says what it said.
type timer struct {
	due     time.Time     // zero when none is pending
	slack   time.Duration // how far due may be off: the time the device took to tell
	untold  bool          // it is pending, and nobody knows when it is due
	doubted bool          // a disarming was asked for and not seen: it may go at any moment
}

// pends tells whether one is pending, as far as is known.
func (t *timer) pends() bool { return !t.due.IsZero() }

// saw takes down what a device said at now, of which it was asked at asked: how much is left,
// where it tells that, else a negative time. What it does not tell stays as it is known; what
// nobody knows may be any moment.
func (t *timer) saw(left time.Duration, pending bool, asked, now time.Time) {
	switch {
	case !pending:
		t.lapse()
	case left >= 0:
		t.due, t.slack, t.untold = now.Add(left), now.Sub(asked), false
	case !t.pends():
		t.due, t.slack, t.untold = now, 0, true
	}
}

// lapse takes down that none is pending.
func (t *timer) lapse() { t.due, t.slack, t.untold = time.Time{}, 0, false }

// assume takes one for pending until then, at the least: it may be, whatever was heard.
func (t *timer) assume(until time.Time) { t.due, t.slack, t.untold = later(t.due, until), 0, false }

// covers tells whether work that takes so long from now on is over before it is due.
func (t *timer) covers(work time.Duration, now time.Time) bool { return t.due.Sub(now) >= work }

// rounding is how far a device may round what it says of its timer.
const rounding = 2 * time.Second

// another tells whether it is another one than it was: what a device says twice of one timer
// differs by what it took to tell, and by how it rounds.
func (t *timer) another(was timer) bool {
	return t.due.Sub(was.due).Abs() > was.slack+t.slack+rounding
}
