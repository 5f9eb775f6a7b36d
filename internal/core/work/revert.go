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

// Rungs of the ladder back (law 6).
const (
	asFound     = "as found"
	RungTrial   = "end the trial"
	RungUndo    = "undo lines"
	RungLines   = "computed lines"
	RungRestore = "restore the backup"
	RungFire    = "let the timer fire"
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

// errExhausted says that no rung but the timer is left.
var errExhausted = errors.New("not equal to the backup after the last rung")

// takeBack brings the device back to its backup and proves it. Its night is
// over when it returns.
func (w *worker) takeBack(why string) {
	w.reverting = true
	w.move(night.Reverting, why)
	last := error(nil)
	for try := range takeBackTries {
		if last = w.climb(); last == nil {
			w.end(night.Reverted, w.backNote()+w.refusals())
			return
		}
		switch {
		case errors.Is(last, errLetGo):
			w.letGo()
			return
		case errors.Is(last, errDrifts):
			w.emit(night.Event{Kind: night.Rung, What: "gone wrong", Note: last.Error()})
			continue // from the first rung again
		case errors.Is(last, ErrJournal) && !w.pends():
			w.end(night.Stranded, "could not be taken back: "+last.Error())
			return
		case errors.Is(last, ErrJournal):
			w.leave(last.Error())
			return
		case driver.Answered(last) && (!w.pends() || w.saved) && try < takeBackTries-1:
			// It answers, but not as it should: it may yet. Where the change is saved, a
			// restart would only bring it back.
			w.emit(night.Event{Kind: night.Rung, What: "gone wrong", Note: last.Error()})
			if w.pauseBack() != nil {
				w.letGo()
				return
			}
			continue
		case errors.Is(last, errExhausted) && w.onTrial() && !w.pends() && try < takeBackTries-1:
			// Somebody else may be writing in its candidate: that may be over soon.
			w.emit(night.Event{Kind: night.Rung, What: "gone wrong", Note: last.Error()})
			if w.sleep(candidatePause) != nil {
				w.letGo()
				return
			}
			continue
		case driver.Answered(last), errors.Is(last, errExhausted), errors.Is(last, errUnseen), errors.Is(last, errNotPending):
			if !w.pends() {
				w.end(night.Stranded, "could not be taken back: "+last.Error())
				return
			}
			w.letFire()
		}
		if w.await(last.Error()) == over {
			return
		}
		w.move(night.Reverting, "contact again")
	}
	if w.pends() { // its timer can still do what we could not
		w.letFire()
		if w.await(last.Error()) == over {
			return
		}
	}
	w.end(night.Stranded, "could not be taken back: "+last.Error())
}

// candidatePause is how long a candidate that somebody else has is waited for before the
// ladder is climbed again.
const candidatePause = 20 * time.Second

// pauseBack gives a device a moment before the ladder is climbed again.
func (w *worker) pauseBack() error { return w.sleep(2 * time.Second) }

// letFire chooses to wait for the timer, the last rung.
func (w *worker) letFire() {
	w.emit(night.Event{Kind: night.Rung, What: RungFire, Note: "due " + w.due.Format("15:04:05")})
	w.firing = true
}

// climb goes up the ladder once. After each rung the device is compared with
// the backup; when it is equal, disarming is proven.
func (w *worker) climb() error {
	if w.ses == nil {
		if err := w.reach(); err != nil {
			return err
		}
	}
	if err := w.unstage(); err != nil {
		return err
	}
	equal, err := w.compare(asFound)
	if err != nil {
		return err
	}
	rungs := []func() (bool, error){w.undoAll, w.restore}
	if w.t.Traits.Language != nil {
		rungs = []func() (bool, error){w.undoFirst, w.leadBack, w.undoAll, w.restore}
	}
	if w.onTrial() {
		rungs = slices.Insert(rungs, 0, w.abandon)
	}
	wrong := ""
	for _, rung := range rungs {
		if equal {
			break
		}
		if err := w.secure(); err != nil {
			return err
		}
		// A device that answers, but not as it should, may still take the next rung.
		if equal, err = rung(); err != nil && !driver.Answered(err) {
			return err
		} else if err != nil {
			wrong = ": " + err.Error()
			w.emit(night.Event{Kind: night.Rung, What: "gone wrong", Note: err.Error()})
		}
	}
	if !equal {
		return fmt.Errorf("%w%s", errExhausted, wrong)
	}
	return w.proveBack()
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
	for n, line := range s.Undo {
		if w.ctx.Err() != nil {
			return errLetGo
		}
		err := w.ses.Line(w.ctx, line)
		var refused *driver.Refused
		switch {
		case errors.As(err, &refused):
			if w.whole(i) && !w.led { // else it may be undone already
				w.refusedUndo++
			}
			w.emit(night.Event{Kind: night.Refusal, Step: i + 1, Line: n + 1, Lines: w.shown(line), Note: refused.Said})
		case err != nil:
			return err
		default:
			w.emit(night.Event{Kind: night.Sent, Step: i + 1, Line: n + 1, Lines: w.shown(line), What: night.ToUndo})
		}
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
