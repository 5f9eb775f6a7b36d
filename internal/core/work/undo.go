package work

import (
	"errors"
	"slices"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

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

// undo sends the undo lines of a step. What it says proves nothing: whoever calls
// compares.
func (w *worker) undo(i int) error {
	s := w.t.Steps[i]
	w.doing("undoing %s", s.Title)
	if err := w.intend(night.Event{What: night.ToUndo, Step: i + 1, Lines: w.shown(s.Undo...)}); err != nil {
		return err
	}
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
	w.steps[i].undone, w.turned = true, true
	return nil
}

// proveUndone takes note of a step that was proven to be undone.
func (w *worker) proveUndone(i int) {
	w.forget(func(j int) bool { return j == i })
	w.emit(night.Step(i+1, night.StepUndone, ""))
}

// undoStep undoes one step: by lines that are computed to lead from what its own lines
// made to what was before it, or by its undo lines where nobody can compute them or the
// runbook wants those first. What others made meanwhile stays, and is seen when it is
// compared.
func (w *worker) undoStep(i int) error {
	s, l := w.t.Steps[i], w.t.Traits.Language
	if l == nil || s.UndoFirst {
		return w.undo(i)
	}
	if w.steps[i].before == nil {
		return &driver.Unclear{Asked: "undo of " + s.Title, Got: "what ran before it was not read"}
	}
	made, err := l.Predict(w.steps[i].onto, s.Send[:w.steps[i].sent])
	if s.After != nil && (len(s.Put) > 0 || s.Whole != "") {
		made, err = *s.After, nil
	}
	if err != nil {
		err = errNoLines
	} else {
		_, err = w.leadTo(made, *w.steps[i].before, i+1)
	}
	switch {
	case errors.Is(err, errNoLines) && s.Want == nil && !s.Unwritten && len(s.Undo) > 0:
		return w.undo(i)
	case errors.Is(err, errNoLines):
		return &driver.Unclear{Asked: "undo of " + s.Title, Got: err.Error()}
	case err == nil:
		w.steps[i].undone = true
	}
	return err
}
