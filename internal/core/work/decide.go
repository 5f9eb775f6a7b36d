package work

import (
	"errors"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// Decisions, made of values alone: what is done next never depends on anything but what is
// written here.

// climbed is what came of climbing the ladder back once, and how the device stands then.
type climbed struct {
	err   error // why it is not equal to the backup, or not proven to be
	pends bool  // a timer is pending, as far as is known
	saved bool  // the change may be saved
	trial bool  // it takes changes on trial
	last  bool  // it is not climbed again
}

// next is what is done after the ladder was climbed.
type next int

const (
	isBack     next = iota // it is back, and proven to be
	letsGo                 // let go of it
	leavesIt               // leave it to its timer
	strands                // give it up
	climbs                 // climb again
	waits                  // wait for it, then climb again
	letsItFire             // have its timer take it back
)

// next is what is done, and how long is waited before.
func (c climbed) next() (do next, after time.Duration) {
	answers := driver.Answered(c.err)
	switch {
	case c.err == nil:
		return isBack, 0
	case errors.Is(c.err, errLetGo):
		return letsGo, 0
	case errors.Is(c.err, errDrifts): // from the first rung again
		return climbs, 0
	case errors.Is(c.err, ErrJournal) && !c.pends:
		return strands, 0
	case errors.Is(c.err, ErrJournal):
		return leavesIt, 0
	case answers && (!c.pends || c.saved) && !c.last:
		// It answers, but not as it should: it may yet. Where the change is saved, a
		// restart would only bring it back.
		return climbs, backPause
	case errors.Is(c.err, errExhausted) && c.trial && !c.pends && !c.last:
		// Somebody else may be writing in its candidate: that may be over soon.
		return climbs, candidatePause
	case !answers && !errors.Is(c.err, errExhausted) && !errors.Is(c.err, errUnseen) && !errors.Is(c.err, errNotPending):
		return waits, 0
	case !c.pends:
		return strands, 0
	}
	return letsItFire, 0
}

const (
	// backPause is a moment for a device before the ladder is climbed again.
	backPause = 2 * time.Second
	// candidatePause is how long a candidate that somebody else has is waited for.
	candidatePause = 20 * time.Second
)

// returned is how a device is that contact was lost with, when it answers again and nothing is
// pending on it.
type returned struct {
	guarded    bool // it has a timer in this night
	restarting bool // it was told to restart: that it did so is no news
	trial      bool // it takes changes on trial
	reverting  bool // it was being taken back
	early      bool // that was not due yet which was pending
	alone      bool // nothing was pending when contact was lost: no timer has fired
	equal      bool // what runs is its backup
	savedEqual bool // what is saved is, too
	proven     bool // the change was proven before, and what runs is that, or the backup
}

// end is the state in which its night is over by that, and the note of it; "" where what it is
// now is to be decided on.
func (r returned) end() (night.State, string) {
	switch {
	case !r.guarded, r.restarting:
		return "", ""
	case r.trial && r.early && !r.reverting: // it was confirmed or ended, or never begun
		return "", ""
	case r.equal && r.savedEqual && r.trial:
		return night.Reverted, "nothing is on trial any more, and it is equal to the backup"
	case r.equal && r.savedEqual:
		return night.Reverted, "came back with its saved configuration, equal to the backup"
	case r.proven: // contact was lost while closing, or while taking back what was kept
		return "", ""
	case r.alone, r.trial:
		return "", ""
	}
	return night.Stranded, "it is back without a timer and is not what was backed up: "
}
