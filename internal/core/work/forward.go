package work

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// forward carries on from where the work stands. It returns nil when the
// device's night is over.
func (w *worker) forward() *trouble {
	for w.at.step < len(w.t.Steps) {
		if tr := w.halted(false); tr != nil {
			return tr
		}
		if tr := w.step(w.at.step); tr != nil {
			return tr
		}
		w.at = position{step: w.at.step + 1}
	}
	if !w.at.soaked {
		if tr := w.soak(); tr != nil {
			return tr
		}
		w.at.soaked = true
	}
	if tr := w.halted(false); tr != nil {
		return tr
	}
	if tr := w.asRecorded(); tr != nil {
		return tr
	}
	if !w.t.Touches() && !w.proves {
		w.end(night.Already, "nothing was to be changed; what was to be looked at, waited for or done by hand was")
		return nil
	}
	return w.finish()
}

func (w *worker) step(i int) *trouble {
	if w.steps[i].already && w.proves {
		if tr := w.proveStep(i); tr != nil {
			return tr
		}
	}
	if why := w.t.Steps[i].Not; why != "" {
		w.emit(night.Step(i+1, night.StepNot, why))
		return nil
	}
	if w.steps[i].already {
		w.emit(night.Step(i+1, night.StepAlready, ""))
		return nil
	}
	if w.t.Steps[i].Kind != plan.ChangeStep {
		return w.deed(i)
	}
	if !w.at.sent && !(w.t.Traits.Once && w.begun(i)) {
		s := w.t.Steps[i]
		if title := w.misses(s); title != "" {
			w.leaveOut(i, "it needs "+title+", which was left out")
			return nil
		}
		if tr := w.inWindow(s); tr != nil {
			return tr
		}
		w.move(night.Changing, s.Title)
		w.emit(night.Step(i+1, night.StepBegan, ""))
		if err := w.outlast(i, 0); err != nil {
			return faced("extending the timer", err)
		}
		if tr := w.clear(i); tr != nil {
			return tr
		}
		if w.steps[i].already { // as it was only now computed to be
			w.emit(night.Step(i+1, night.StepAlready, ""))
			return nil
		}
		if !w.at.sent { // else it is tried again, and all of its lines are in
			if tr := w.send(i); tr != nil {
				return tr
			}
		}
	}
	w.at.sent = true
	if tr := w.asPredicted(i); tr != nil {
		return tr
	}
	if tr := w.proveStep(i); tr != nil {
		return tr
	}
	w.emit(night.Step(i+1, night.StepDone, ""))
	return nil
}

// inWindow refuses a step that changes something once the reserve has begun, unless a
// person has said that this device goes on all the same.
func (w *worker) inWindow(s plan.Step) *trouble {
	win := w.crew.Plan.Window
	w.overrun = (s.Changes() || s.Acts()) && !w.goesOnLate && !win.None && !w.crew.Now().Before(win.Ends())
	if !w.overrun {
		return nil
	}
	what := "the reserve has begun"
	if win.Reserve == 0 {
		what = "the window is closed"
	}
	why := fmt.Sprintf("%s since %s, and %q was not sent", what, win.Ends().Format("15:04:05"), s.Title)
	return &trouble{why: why, err: &driver.Unclear{Asked: "the window", Got: what}}
}

// proveStep waits for what a step expects.
func (w *worker) proveStep(i int) *trouble {
	s := w.t.Steps[i]
	if len(s.Expect) > 0 {
		w.move(night.Verifying, s.Title)
	}
	for _, e := range s.Expect {
		if tr := w.expect(i, e); tr != nil {
			w.emit(night.Step(i+1, night.StepFailed, ""))
			return tr
		}
	}
	return nil
}

// send sends the lines of a step and applies them. Where nothing can be applied while that
// is on trial, the lines of the steps behind it go with it.
func (w *worker) send(i int) *trouble {
	title := w.t.Steps[i].Title
	if len(w.t.Steps[i].Send) == 0 {
		return nil
	}
	steps := w.together(i)
	for _, j := range steps {
		what := night.ToSend
		if w.t.Steps[j].Whole != "" {
			what = night.ToRestore
		}
		if err := w.intend(night.Event{What: what, Step: j + 1, Lines: w.shown(w.t.Steps[j].Send...)}); err != nil {
			return faced(title, err)
		}
		if !w.stages() {
			w.begin(j, w.ses)
			w.turned = false // what is sent now was not taken back
		}
	}
	if w.t.Steps[i].Whole != "" {
		return w.putBack(i)
	}
	if err := w.edit(); err != nil {
		return faced(title, err)
	}
	for _, j := range steps {
		if j > i {
			w.emit(night.Step(j+1, night.StepBegan, ""))
			if err := w.ses.Edit(w.ctx); err != nil { // at the top again
				return faced(title, err)
			}
		}
		if tr := w.lines(j); tr != nil {
			return tr
		}
	}
	for _, j := range steps {
		if w.stages() { // from here on they may run
			w.begin(j, w.ses)
		}
	}
	return w.applied(i, steps)
}

// applied applies what was sent of steps that go together, from step i on, and takes note
// of what may run now.
func (w *worker) applied(i int, steps []int) *trouble {
	title := w.t.Steps[i].Title
	err := w.apply(i + 1)
	if w.onTrial() && err != nil && !w.pends() && driver.Answered(err) { // none of them does
		w.forget(func(j int) bool { return slices.Contains(steps, j) })
	}
	for _, j := range steps {
		if w.stages() && (err == nil || errors.Is(err, errNotPending)) {
			w.taken, w.steps[j].sent = true, len(w.t.Steps[j].Send)
		}
	}
	switch {
	case errors.Is(err, errNotPending):
		return w.unguarded(title)
	case err != nil:
		return faced(title, err)
	}
	return nil
}

// lines sends the lines of a step, one at a time, and stops at the first that is refused.
func (w *worker) lines(i int) *trouble {
	s := w.t.Steps[i]
	if len(s.Put) > 0 {
		return w.put(i)
	}
	err := w.deliver(s.Send, sending{step: i + 1,
		may:     func(line int) error { return w.mayGoOn(i, line) },
		refused: func() bool { return false },
		took: func() {
			if !w.stages() {
				w.taken = true
				w.steps[i].sent++
			}
		}})
	var at *stopped
	var refused *driver.Refused
	switch {
	case errors.As(err, &at) && errors.As(err, &refused):
		w.emit(night.Step(i+1, night.StepFailed, ""))
		if err := w.leaveEdit(); err != nil && !driver.Answered(err) {
			return faced(s.Title, err)
		}
		return &trouble{why: fmt.Sprintf("line %d of %q was refused", at.line, s.Title), err: refused,
			evidence: []string{"sent: " + at.shown, "said: " + refused.Said}}
	case at != nil:
		return faced(fmt.Sprintf("line %d of %q", at.line, s.Title), at.err)
	case err != nil:
		return troubled(s.Title, err)
	}
	return nil
}

// mayGoOn tells why a line of a step must not be sent any more.
func (w *worker) mayGoOn(i, line int) error {
	if err := w.interrupted(); err != nil {
		return err
	}
	if tr := w.timeFor(i, line); tr != nil {
		return tr
	}
	if tr := w.halted(true); tr != nil {
		if err := w.leaveEdit(); err != nil && !driver.Answered(err) {
			return faced(w.t.Steps[i].Title, err)
		}
		return tr
	}
	return nil
}

// put hands a whole configuration over.
func (w *worker) put(i int) *trouble {
	s := w.t.Steps[i]
	if err := w.interrupted(); err != nil {
		return faced(s.Title, err)
	}
	if err := w.ses.Put(w.ctx, strings.Join(s.Put, "\n")+"\n"); err != nil {
		return faced(s.Title, err)
	}
	w.emit(
		night.Event{
			Kind:  night.Sent,
			Step:  i + 1,
			Line:  len(s.Put),
			Lines: []string{fmt.Sprintf("a whole file of %s", night.CountLines(len(s.Put)))},
		},
	)
	return nil
}

// putBack puts a whole backup back, where no lines lead to it. Where it is only staged by
// that, it is applied as lines are.
func (w *worker) putBack(i int) *trouble {
	s := w.t.Steps[i]
	if err := w.interrupted(); err != nil {
		return faced(s.Title, err)
	}
	if err := w.unstage(); err != nil {
		return faced(s.Title, err)
	}
	if !w.onTrial() { // it may run from now on
		w.begin(i, w.ses)
	}
	w.staging = w.stages()
	err := w.ses.Restore(w.ctx, s.Whole)
	var refused *driver.Refused
	switch {
	case errors.As(err, &refused):
		w.emit(night.Step(i+1, night.StepFailed, ""))
		return &trouble{
			why:      fmt.Sprintf("the backup %s was refused", s.Was.Name),
			err:      errors.Join(refused, w.unstage()),
			evidence: []string{"said: " + refused.Said},
		}
	case err != nil && driver.Answered(err):
		return faced(s.Title, errors.Join(err, w.unstage()))
	case err != nil:
		return faced(s.Title, err)
	}
	w.emit(
		night.Event{
			Kind:  night.Sent,
			Step:  i + 1,
			Line:  len(s.Send),
			Lines: []string{fmt.Sprintf("the whole backup %s, %s", s.Was.Name, night.CountLines(len(s.Send)))},
		},
	)
	if w.onTrial() {
		w.begin(i, w.ses)
		return w.applied(i, []int{i})
	}
	w.staging = false
	w.taken, w.steps[i].sent = true, len(s.Send)
	return nil
}

// timeFor looks whether there is time for a line, and for leaving the mode after it,
// before the timer fires (law 3). The timer was extended for the whole step, at the
// pace that the device had; this is for one that has become slower since.
func (w *worker) timeFor(i, n int) *trouble {
	if !w.guarded() || w.onTrial() || time.Until(w.due) > plan.Margin+2*w.command {
		return nil
	}
	if err := w.leaveEdit(); err != nil && !driver.Answered(err) {
		return faced(w.t.Steps[i].Title, err)
	}
	return &trouble{why: fmt.Sprintf("the timer runs short before line %d of %q: the device has become slow", n+1, w.t.Steps[i].Title),
		evidence: []string{fmt.Sprintf("due %s; a command takes %s", w.due.Format("15:04:05"), w.command.Round(100*time.Millisecond))},
		err:      &driver.Unclear{Asked: "timer", Got: "short"}}
}

// soak watches that every expectation keeps holding for a while.
func (w *worker) soak() *trouble {
	if w.crew.Plan.Soak <= 0 {
		return nil
	}
	w.move(night.Soaking, "watching that it holds")
	patient := within(w.crew.Plan.Soak)
	if err := w.outlast(len(w.t.Steps), 0); err != nil {
		return faced("extending the timer", err)
	}
	var tr *trouble
	_, err := w.until(patient, func() (_ bool, err error) {
		tr, err = w.brokenOff()
		return tr != nil, err
	})
	if err != nil {
		return faced("soak", err)
	}
	return tr
}

// brokenOff looks whether an expectation has stopped holding.
func (w *worker) brokenOff() (*trouble, error) {
	tables := tables{}
	for i, s := range w.t.Steps {
		if w.skipped(i) {
			continue
		}
		for _, e := range s.Expect {
			ok, env, err := w.holds(e.Check, tables)
			if err != nil {
				return nil, err
			}
			if !ok {
				why := e.Cond.Explain(env)
				w.emit(night.Event{Kind: night.Expected, Step: i + 1, What: e.Cond.Source, Note: why})
				return &trouble{why: "during the soak, an expectation stopped holding", evidence: []string{why, "expectation: " + e.Cond.Source},
					err: &driver.Unclear{Asked: e.Cond.Source, Got: why}}, nil
			}
		}
	}
	return nil, nil
}
