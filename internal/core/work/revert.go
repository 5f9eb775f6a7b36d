package work

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Where only something beside the configuration is not as it was, such as what a
// daemon says of itself, it is looked at a few times: it may need a moment.
const (
	partLooks = 5
	partPause = 3 * time.Second
)

// takeBackTries is how often the ladder is climbed when contact is lost on it.
const takeBackTries = 3

// errUnseen says that equality with the backup proves nothing. Undo lines are not
// sent on a guess: what they take away may have been there before.
var errUnseen = errors.New("not proven")

// takeBack brings the device back to its backup and proves it. Its night is
// over when it returns.
func (w *worker) takeBack(why string) {
	w.reverting = true
	w.move(night.Reverting, why)
	var err error
	for try := range takeBackTries {
		err = w.climb()
		do, after := climbed{err, w.pends(), w.saved, w.onTrial(), try == takeBackTries-1}.next()
		switch do {
		case isBack:
			w.end(night.Reverted, w.backNote()+w.refusals())
			return
		case letsGo:
			w.letGo()
			return
		case leavesIt:
			w.leave(err.Error())
			return
		case strands:
			w.end(night.Stranded, "could not be taken back: "+err.Error())
			return
		case climbs:
			w.emit(night.Event{Kind: night.Rung, What: "gone wrong", Note: err.Error()})
			if after > 0 && w.sleep(after) != nil {
				w.letGo()
				return
			}
			continue
		case letsItFire:
			w.letFire()
		}
		if w.await(err.Error()) == over {
			return
		}
		w.move(night.Reverting, "contact again")
	}
	if w.pends() { // its timer can still do what we could not
		w.letFire()
		if w.await(err.Error()) == over {
			return
		}
	}
	w.end(night.Stranded, "could not be taken back: "+err.Error())
}

// letFire chooses to wait for the timer, the last rung.
func (w *worker) letFire() {
	w.emit(night.Event{Kind: night.Rung, What: RungFire, Note: "due " + w.due.Format("15:04:05")})
	w.firing = true
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

// compare tells whether what runs now is the backup, and says so.
func (w *worker) compare(rung string) (bool, error) {
	var now config.Config
	looks, early := w.tooEarly(rung)
	_, err := w.until(looking{times: looks, every: partPause}, func() (_ bool, err error) {
		_, now, err = w.running()
		return !early(now), err
	})
	if err != nil {
		return false, err
	}
	d := config.Compare(w.before, now)
	if unseen := w.unseen(now); rung == asFound && !w.turned && d.Empty() && len(unseen) > 0 {
		err := fmt.Errorf("%w: it reads like the backup, but it took the lines of %q, and nothing of them is seen: what its profile reads may not be what runs", errUnseen, w.t.Steps[unseen[0]].Title)
		w.emit(night.Event{Kind: night.Rung, What: rung, Note: err.Error()})
		return false, err
	}
	w.emit(night.Event{Kind: night.Rung, What: rung, OK: d.Empty(), Note: d.String()})
	w.emit(night.Event{Kind: night.Differs, Lines: d.Lines(w.t.Masked)})
	if d.Empty() {
		for _, i := range slices.Backward(w.ran) {
			w.proveUndone(i)
		}
	}
	return d.Empty(), nil
}

// tooEarly tells how often what runs is looked at after a rung, and whether it may have been
// read too early: what runs beside the configuration may need a moment, and so may what a
// device took until it shows. A device that took lines and reads like its backup is looked at
// more than once.
func (w *worker) tooEarly(rung string) (looks int, early func(now config.Config) bool) {
	if rung != asFound {
		return partLooks + 1, func(now config.Config) bool { return config.OnlyParts(w.before, now) }
	}
	looks = missedLooks
	if w.madeSomething() {
		looks = partLooks * 2
	}
	return looks, func(now config.Config) bool { return w.taken && !w.turned && config.Equal(w.before, now) }
}

// madeSomething tells whether the device took lines in this session that make something,
// by its language. Where nothing of it shows, it may do so late.
func (w *worker) madeSomething() bool {
	return slices.ContainsFunc(w.ran, func(i int) bool {
		base, after := w.steps[i].before, w.t.Steps[i].After
		return base != nil && after != nil && w.steps[i].in == w.ses && w.whole(i) && !config.Equal(*base, *after)
	})
}

// undoAll sends the undo lines of every step that was begun, the last step
// first. A line that is refused is passed over: the comparison decides.
func (w *worker) undoAll() (bool, error) {
	return w.undoWritten(func(plan.Step) bool { return true })
}

// undoFirst sends those undo lines that a runbook wants sent before computed ones.
func (w *worker) undoFirst() (bool, error) {
	return w.undoWritten(func(s plan.Step) bool { return s.UndoFirst })
}

// undoWritten sends undo lines that stand in the runbook. Computed ones are computed anew
// from what runs; see [worker.leadBack].
func (w *worker) undoWritten(which func(plan.Step) bool) (bool, error) {
	sent := false
	for _, i := range slices.Backward(w.ran) {
		s := w.t.Steps[i]
		if w.steps[i].undone || s.Want != nil || s.Unwritten || len(s.Undo) == 0 || !which(s) {
			continue
		}
		sent = true
		if err := w.undo(i); err != nil {
			return false, err
		}
	}
	if !sent {
		return false, nil
	}
	return w.compare(RungUndo)
}

// proveUndone takes note of a step that was proven to be undone.
func (w *worker) proveUndone(i int) {
	w.forget(func(j int) bool { return j == i })
	w.emit(night.Event{Kind: night.Stepped, Step: i + 1, What: night.StepUndone})
}

// undo sends the undo lines of a step. What it says proves nothing: whoever calls
// compares.
func (w *worker) undo(i int) error {
	s := w.t.Steps[i]
	w.doing("undoing %s", s.Title)
	if err := w.intend(night.Event{What: night.ToUndo, Step: i + 1, Lines: w.shown(s.Undo...)}); err != nil {
		return err
	}
	w.turned = true
	if err := w.edit(); err != nil {
		return err
	}
	err := w.deliver(s.Undo, sending{step: i + 1, what: night.ToUndo, may: w.wanted, refused: func() bool {
		if w.whole(i) && !w.led { // else it may be undone already
			w.refusedUndo++
		}
		return true
	}})
	if err != nil {
		return unwrapped(err)
	}
	if err := w.applyBack(); err != nil {
		return err
	}
	w.steps[i].undone = true
	return nil
}

func (w *worker) restore() (bool, error) {
	w.doing("restoring the backup")
	if err := w.intend(night.Event{What: night.ToRestore}); err != nil {
		return false, err
	}
	w.turned = true
	var refused *driver.Refused
	w.staging = w.stages()
	err := w.ses.Restore(w.ctx, w.backup)
	switch {
	case err == nil && w.onTrial():
		err = w.applyBack()
	case err == nil:
		w.staging = false
	case driver.Answered(err): // what was handed over and not applied would be in the way
		err = errors.Join(err, w.unstage())
	}
	if errors.As(err, &refused) {
		w.emit(night.Event{Kind: night.Rung, What: RungRestore, Note: "refused: " + refused.Said})
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return w.compare(RungRestore)
}

// proveBack disarms, and saves only where something else was saved.
func (w *worker) proveBack() error {
	if tr := w.disarm(); tr != nil {
		return tr.err
	}
	if err := w.saveBack(); err != nil {
		return err
	}
	// The last word: what ran when it was proven may have changed meanwhile.
	_, now, err := w.running()
	if err != nil {
		return err
	}
	if d := config.Compare(w.before, now); !d.Empty() {
		w.emit(night.Event{Kind: night.Differs, Lines: d.Lines(w.t.Masked)})
		return fmt.Errorf("%w: %s", errDrifts, d)
	}
	return nil
}

// errDrifts says that a device changed by itself after it was proven.
var errDrifts = errors.New("the running configuration changed by itself after it was equal to the backup")
