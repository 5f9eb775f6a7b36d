package work

import (
	"errors"
	"fmt"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// leadBack sends the lines that lead from what runs now to the backup, as the language of
// the platform has them.
func (w *worker) leadBack() (bool, error) {
	_, now, err := w.running()
	if err != nil {
		return false, err
	}
	switch sent, err := w.leadTo(now, w.before, 0); {
	case err != nil && !sent && errors.Is(err, errNoLines):
		w.emit(night.Event{Kind: night.Rung, What: RungLines, Note: err.Error()})
		return false, nil
	case err != nil:
		return false, err
	case !sent: // what differs is not of the configuration
		return false, nil
	}
	return w.compare(RungLines)
}

// errNoLines says that nothing is known that leads back. Which lines they are that no rule
// leads back to is not said: they stand in the midst of a text, where no pattern would
// find the secrets that they may hold.
var errNoLines = errors.New("no lines are known that lead back")

// leadTo sends the lines that lead from one configuration to another; step is that
// which they undo, from 1, 0 where it is all of them. It stops at the first that is
// refused: those behind it were meant for where it would have led. What it says proves
// nothing: whoever calls compares.
func (w *worker) leadTo(from, to config.Config, step int) (sent bool, err error) {
	lines, err := w.t.Lead(from, to)
	if err != nil {
		return false, errNoLines
	}
	if len(lines) == 0 {
		return false, nil
	}
	if err := w.secure(); err != nil { // a while has passed since it was looked at
		return false, err
	}
	w.doing("sending the lines that lead back")
	if err := w.intend(night.Event{What: night.ToLead, Step: step, Lines: w.shown(lines...)}); err != nil {
		return false, err
	}
	w.turned, w.led = true, true
	return true, w.typeBack(lines)
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

// typeBack types lines in edit mode, up to the first that is refused.
func (w *worker) typeBack(lines []string) error {
	if err := w.edit(); err != nil {
		return err
	}
	err := w.deliver(lines, sending{what: night.ToLead, may: w.wanted, refused: func() bool { return false }})
	var refused *driver.Refused
	switch {
	case errors.As(err, &refused):
		w.refusedUndo++
		if w.stages() { // half of them leads nowhere
			return w.unstage()
		}
	case err != nil:
		return unwrapped(err)
	}
	switch err := w.applyBack(); {
	case err != nil && w.stages():
		return err
	case err != nil:
		return fmt.Errorf("leaving the mode: %w", err)
	}
	return nil
}
