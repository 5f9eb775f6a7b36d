package work

import (
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// prepareTimer arms the device. A device whose timer is not seen pending is
// not changed; one that may be armed without our knowing is watched.
func (w *worker) prepareTimer() (over bool) {
	d := w.t.TimerFor(w.crew.Plan)
	err := w.arm(night.ToArm, d)
	switch {
	case err == nil:
		w.move(night.Armed, "timer armed")
		return false
	case errors.Is(err, errNotPending):
		w.blocked("the rollback timer is not pending after it was armed")
		return true
	case errors.Is(err, ErrJournal):
		w.blocked(err.Error())
		return true
	case driver.Answered(err) && w.nothingPending():
		w.blocked("the rollback timer cannot be armed: " + err.Error())
		return true
	}
	w.assume(time.Now().Add(d)) // it may be armed
	w.emit(night.TimerPending(w.due, d))
	return w.face(faced("arming", lostWith(err)))
}

// lostWith makes an error count as lost contact, whatever it was.
func lostWith(err error) error { return fmt.Errorf("contact lost: %s", err.Error()) }

func (w *worker) nothingPending() bool {
	_, pending, err := w.ses.Pending(w.ctx)
	return err == nil && !pending
}

var errNotPending = errors.New("no rollback timer is pending")

// arm puts the timer on the clock and looks that it is pending (law 1).
func (w *worker) arm(what string, d time.Duration) error {
	if err := w.intend(night.Event{What: what, For: d}); err != nil {
		return err
	}
	if err := w.ses.Arm(w.ctx, d); err != nil {
		return err
	}
	pending, err := w.see()
	if err != nil {
		return err
	}
	if !pending {
		return errNotPending
	}
	w.emit(night.TimerPending(w.due, d))
	return nil
}

// see looks at the timer and takes down when it is due, and how far that may be
// off: it is right at some moment while the device answers.
func (w *worker) see() (pending bool, err error) {
	asked := time.Now()
	left, pending, err := w.ses.Pending(w.ctx)
	if err != nil {
		return false, err
	}
	w.took(asked)
	w.saw(left, pending, asked, time.Now())
	return pending, nil
}

// outlast extends the timer before it could run short of the work that remains
// from step i on (law 3).
func (w *worker) outlast(i int, extra time.Duration) error {
	if !w.pends() || w.onTrial() && !w.t.Traits.Extends {
		return nil
	}
	need := w.paced().Left(i, w.crew.Plan.Soak) + extra + plan.Margin
	if w.covers(need, time.Now()) {
		return nil
	}
	return w.arm(night.ToExtend, max(need+plan.Margin, w.crew.Plan.Timer.Long(w.t.Device.Platform)).Round(time.Second))
}

// timerAsLeft looks whether the timer is still on the clock as we left it. One
// that was changed under us is somebody else's work on the device: nothing more is
// sent until a person has decided. What is pending then counts as known.
func (w *worker) timerAsLeft() *trouble {
	if !w.guarded() {
		return nil
	}
	was := w.timer
	pending, err := w.see()
	if err != nil {
		return faced("looking at the timer", err)
	}
	switch {
	case !pending && !was.pends() && w.onTrial(): // nothing was applied yet
	case !pending && !was.pends():
		return w.armAgain()
	case pending && !was.pends() && w.onTrial():
		w.emit(night.TimerPending(w.due, time.Until(w.due)))
		evidence := "it is on trial until " + w.due.Format("15:04:05")
		if w.untold {
			evidence = "the device does not tell until when"
		}
		return changedUnderUs("something is on trial that we have not applied", evidence)
	case !pending && w.onTrial():
		w.emit(night.Event{Kind: night.TimerGone})
		return changedUnderUs("what was on trial is so no more: its time was up, or somebody confirmed it or took it back",
			"it was on trial until "+was.due.Format("15:04:05")+"; nothing is now")
	case !pending:
		w.emit(night.Event{Kind: night.TimerGone})
		return changedUnderUs("the rollback timer is gone: somebody or something took it off the clock",
			"it was due "+was.due.Format("15:04:05")+"; nothing is pending now")
	case !was.pends(), was.untold: // what it is known by now is what it tells now
	case w.another(was):
		w.emit(night.TimerPending(w.due, time.Until(w.due)))
		return changedUnderUs("the rollback timer was changed under us",
			fmt.Sprintf("it was due %s; now it is due %s", was.due.Format("15:04:05"), w.due.Format("15:04:05")))
	default:
		w.due, w.slack = was.due, was.slack // as near as the first reading; it must not wander
	}
	return nil
}

func changedUnderUs(why, evidence string) *trouble {
	return &trouble{why: why, evidence: []string{evidence}, err: &driver.Unclear{Asked: "timer", Got: evidence}}
}

// armAgain puts a timer back on the clock of a device that lost it, where that is
// safe: it must bring back the backup, or what runs now.
func (w *worker) armAgain() *trouble {
	safe, err := w.restartIsSafe()
	switch {
	case err != nil:
		return faced("looking whether it may be armed again", err)
	case !safe:
		return changedUnderUs("no rollback timer is pending, and none may be armed",
			"what is saved on it is neither the backup nor what runs now: a restart would bring that back")
	}
	if err := w.arm(night.ToArm, w.paced().TimerFor(w.crew.Plan)); err != nil {
		return faced("arming again", err)
	}
	return nil
}

// secure sees to it that a timer guards the way back and runs long enough. A
// restart would bring back the saved configuration, so it is armed only where
// that is the backup or what runs now.
func (w *worker) secure() error {
	if !w.guarded() {
		return nil
	}
	what := night.ToExtend
	if _, err := w.see(); err != nil {
		return err
	}
	need := w.paced().Back()*2 + plan.Margin                // at the pace that it has just shown
	if w.onTrial() && (!w.pends() || !w.t.Traits.Extends) { // what is applied is on trial by that
		return nil
	}
	if !w.pends() {
		what = night.ToArm
	}
	if w.pends() && !w.doubted && w.covers(need, time.Now()) {
		return nil
	}
	if !w.pends() {
		safe, err := w.restartIsSafe()
		if err != nil {
			return err
		}
		if !safe {
			return &driver.Unclear{Asked: "saved configuration", Got: "neither the backup nor what runs now"}
		}
	}
	err := w.arm(what, max(need+plan.Margin, w.crew.Plan.Timer.Long(w.t.Device.Platform)).Round(time.Second))
	if err == nil && w.doubted {
		// A disarming that was asked for may yet come, and take this one, too.
		w.doubted = false
		if err := w.sleep(disarmPause); err != nil {
			return err
		}
		return w.secure()
	}
	if err != nil && driver.Answered(err) && w.pends() {
		return nil // the timer that is pending stays; it may yet be long enough
	}
	return err
}

func (w *worker) restartIsSafe() (bool, error) {
	_, running, err := w.running()
	if err != nil {
		return false, err
	}
	saved, known, err := w.savedConfig()
	if err != nil || !known {
		return false, err
	}
	return config.Equal(saved, w.before) || config.Equal(saved, running), nil
}
