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
		w.emit(night.Climbed(RungLines, false, err.Error()))
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
	w.led = true
	err = w.typeBack(lines)
	w.turned = w.turned || err == nil
	return true, err
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
