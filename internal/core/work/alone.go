package work

import (
	"errors"
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
	if len(w.ran) == 0 && !w.handed && len(w.accepted) == 0 && w.moves == 0 { // other software may have changed it by itself
		w.steps[i].before = &w.before
		if w.from != nil {
			w.steps[i].before = w.from
		}
		return nil
	}
	_, now, err := w.running()
	if err == nil {
		w.steps[i].before = &now
	}
	return err
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
