package work

import (
	"errors"
	"fmt"
	"syscall"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// claim takes the device for this night, so that no other night on this machine
// changes it meanwhile.
func (w *worker) claim() error {
	if w.crew.Claim == nil || w.release != nil {
		return nil
	}
	for told := false; ; told = true {
		release, err := w.crew.Claim(w.ctx, w.t)
		var taken *Taken
		switch {
		case err == nil:
			w.release = release
			return nil
		case w.ctx.Err() != nil:
			return errLetGo
		case !w.crew.Wait || !errors.As(err, &taken):
			return err
		}
		if !told {
			w.move(night.Checking, "waiting: "+err.Error())
		}
		if err := w.sleep(claimEvery); err != nil {
			return err
		}
	}
}

// claimEvery is how often a device that another night has is asked for again.
const claimEvery = 2 * time.Second

// clear looks whether the way is clear for a step's lines: its timer runs as we
// left it, and, before the first line, nobody else is at work on the device. It
// also keeps what runs before the step, which leaving it out must lead back to.
func (w *worker) clear(i int) *trouble {
	if !w.t.Steps[i].Changes() {
		return nil
	}
	if err := w.snap(i); err != nil {
		return faced("reading what runs before "+w.t.Steps[i].Title, err)
	}
	if !w.begun(i) { // else what ran before it is what its lines were sent to
		_, now, tr := w.seen("", *w.steps[i].before)
		if tr != nil {
			w.steps[i].before = nil // it is read again when this is tried again
			return tr
		}
		w.steps[i].before = &now
	}
	if tr := w.compute(i); tr != nil || w.steps[i].already {
		return tr
	}
	if !w.looked {
		if tr := w.nobodyElse(); tr != nil {
			return tr
		}
		w.looked = true
	}
	return w.timerAsLeft() // the last thing before a line
}

// snap keeps what runs before a step.
func (w *worker) snap(i int) error {
	if w.steps[i].before != nil {
		return nil
	}
	if len(w.ran) == 0 {
		w.steps[i].before = &w.before
		return nil
	}
	_, now, err := w.running()
	if err == nil {
		w.steps[i].before = &now
	}
	return err
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
		w.emit(night.Event{Kind: night.TimerSeen, Due: w.due, For: time.Until(w.due)})
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
		w.emit(night.Event{Kind: night.TimerSeen, Due: w.due, For: time.Until(w.due)})
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

// nobodyElse looks whether somebody else is changing the configuration, as far as
// the device can tell: the precheck was a while ago.
func (w *worker) nobodyElse() *trouble {
	var staged *unfit
	if err := w.nothingStaged(); errors.As(err, &staged) {
		return &trouble{why: "right before the first line: " + staged.why, err: &driver.Unclear{Asked: drafts, Got: staged.why}}
	} else if err != nil {
		return faced("looking whether something is staged", err)
	}
	if _, tells := w.t.Traits.Tables[editors]; !tells || w.crew.Plan.Off("alone") {
		return nil
	}
	if _, waived := w.crew.Plan.Waived("alone", w.t); waived {
		return nil
	}
	_, err := w.alone()
	var u *unfit
	switch {
	case errors.As(err, &u):
		return &trouble{why: "right before the first line: " + u.why, err: &driver.Unclear{Asked: editors, Got: u.why}}
	case err != nil:
		return faced("looking whether somebody else is at work", err)
	}
	return nil
}

// editors is the table of those who are changing the configuration.
const editors = "editors"

// full tells whether an error of ours says that the disk takes no more.
func full(err error) bool {
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT) || errors.Is(err, syscall.EROFS)
}
