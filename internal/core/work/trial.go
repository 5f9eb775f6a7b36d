package work

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Where the way back is a trial, lines are staged, and nothing of them runs before they
// are applied, all at once, for a time. Unless that is confirmed in time, the device takes
// it back by itself. So the apply itself is what arms (law 1): the trial is seen pending
// right after it, or all is taken back at once.

// onTrial tells whether changes to the device are applied on trial.
func (w *worker) onTrial() bool { return w.t.Traits.Timer == plan.TrialTimer }

// stages tells whether lines take effect only when they are applied.
func (w *worker) stages() bool { return w.t.Traits.Stages }

// edit gets ready to change the configuration. Lines that an earlier session of ours has
// left staged are dropped first: they would be applied together with these.
func (w *worker) edit() error {
	if err := w.unstage(); err != nil {
		return err
	}
	w.staging = w.stages()
	return w.ses.Edit(w.ctx)
}

// leaveEdit ends what was begun to be sent. Where lines are staged, nothing of them runs.
func (w *worker) leaveEdit() error {
	if w.stages() {
		return w.unstage()
	}
	return w.ses.Apply(w.ctx, 0)
}

// unstage drops what is staged and was not applied.
func (w *worker) unstage() error {
	if !w.staging {
		return nil
	}
	if err := w.ses.Drop(w.ctx); err != nil {
		return fmt.Errorf("dropping what was staged: %w", err)
	}
	w.staging = false
	return nil
}

// apply ends what was begun to be sent, and lets it take effect. Where it is on trial then,
// that is seen: the error is errNotPending where it is not. Step is told, from 1; 0 is the
// way back.
func (w *worker) apply(step int) error {
	if !w.onTrial() {
		err := w.ses.Apply(w.ctx, 0)
		if err != nil && driver.Answered(err) {
			return errors.Join(err, w.unstage())
		}
		w.staging = w.staging && err != nil
		return err
	}
	d := w.paced().TrialFor(w.crew.Plan, w.at.step)
	if err := w.intend(night.Event{What: night.ToApply, Step: step, For: d}); err != nil {
		return err
	}
	w.assume(time.Now().Add(d)) // it may be on trial from now on, whatever we hear
	err := w.ses.Apply(w.ctx, d)
	if err != nil && !driver.Answered(err) {
		w.emit(night.TimerPerhaps(w.due, d))
		return err
	}
	pending, look := w.see()
	switch {
	case look != nil:
		w.emit(night.TimerPerhaps(w.due, d))
		return look
	case err != nil && pending: // it says no, and is on trial all the same
		w.emit(night.TimerPending(w.due, d))
		return errors.Join(err, w.unstage())
	case err != nil:
		return errors.Join(err, w.unstage())
	}
	w.staging = false
	if !pending {
		return errNotPending
	}
	w.emit(night.TimerPending(w.due, d))
	return nil
}

// unguarded is the trouble of a device that applied lines and has them not on trial.
func (w *worker) unguarded(title string) *trouble {
	return &trouble{why: fmt.Sprintf("%q was applied and is not on trial: the device would not take it back", title), err: errNotPending}
}

// together are the steps whose lines go into one apply with those of step i: all behind it,
// where nothing can be applied while that is on trial.
func (w *worker) together(i int) []int {
	out := []int{i}
	if !w.t.Traits.Once || w.t.Steps[i].Whole != "" {
		return out
	}
	for j := i + 1; j < len(w.t.Steps); j++ {
		s := w.t.Steps[j]
		if !w.skipped(j) && w.misses(s) == "" && len(s.Send) > 0 {
			out = append(out, j)
		}
	}
	return out
}

// lastApplied tells whether no further step is in the apply that step i was in.
func (w *worker) lastApplied(i int) bool {
	return !slices.ContainsFunc(w.ran, func(j int) bool { return j > i })
}

// tookEffect finds out, once contact is back, whether lines took effect that were being
// applied when it was lost. Where what runs is what ran before, they did not.
func (w *worker) tookEffect() error {
	i := w.at.step
	if !w.onTrial() || !w.begun(i) {
		w.at.sent = false
		return nil
	}
	_, now, err := w.running()
	if err != nil {
		return err
	}
	if w.at.sent = !w.asBefore(i, now); w.at.sent {
		w.steps[i].sent = len(w.t.Steps[i].Send)
		return nil
	}
	w.forget(func(j int) bool { return j >= i })
	return nil
}

// abandon is the first rung back of a change that is on trial: the device takes it back
// now, and not when its time is up.
func (w *worker) abandon() (bool, error) {
	if !w.pends() {
		return false, nil
	}
	w.doing("taking back what is on trial")
	if err := w.intend(night.Event{What: night.ToTakeBack}); err != nil {
		return false, err
	}
	w.turned = true
	if err := w.ses.TakeBack(w.ctx); err != nil {
		return false, err
	}
	if _, err := w.see(); err != nil {
		return false, err
	}
	return w.compare(RungTrial)
}

// applyBack applies lines that lead back. That they are not on trial takes nothing from
// them: the comparison decides.
func (w *worker) applyBack() error {
	if err := w.apply(0); err != nil && !errors.Is(err, errNotPending) {
		return err
	}
	return nil
}

// drafts is the table of changes that stand in a device's candidate and do not run.
const drafts = "drafts"

// nothingStaged looks whether somebody has left changes in the candidate: they would be
// applied together with ours.
func (w *worker) nothingStaged() error {
	if _, tells := w.t.Traits.Tables[drafts]; !tells {
		return nil
	}
	v, err := w.ses.Read(w.ctx, drafts)
	if err != nil {
		return err
	}
	rows, _ := v.([]map[string]any)
	if len(rows) == 0 {
		return nil
	}
	who, _ := rows[0]["user"].(string)
	if u := w.unfinished(); u != nil {
		return unfitf("changes of %s stand in its candidate and were not applied; %s was %s there when it was cut off, and they may be its own: look at them on the device, and drop them there", who, u.Night, u.Was)
	}
	return unfitf("changes of %s stand in its candidate and were not applied; have them dropped or applied first", who)
}
