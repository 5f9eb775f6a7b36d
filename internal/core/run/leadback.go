package run

import (
	"errors"
	"fmt"
)

// leadBack sends the lines that lead from what runs now to the backup, as the language of
// the platform has them. It stops at the first that is refused: those behind it were
// meant for where it would have led. What it says proves nothing; the comparison does.
func (w *worker) leadBack() (bool, error) {
	_, now, err := w.running()
	if err != nil {
		return false, err
	}
	lines, err := w.t.Traits.Language.Lead(now, w.before)
	if err == nil {
		err = w.maySend(lines)
	}
	if err != nil {
		// Which lines they are that no rule leads back to is not said: they stand in the
		// midst of a text, where no pattern would find the secrets that they may hold.
		w.emit(Event{Kind: Rung, What: RungLines, Note: "no lines are known that lead back"})
		return false, nil
	}
	if len(lines) == 0 { // what differs is not of the configuration
		return false, nil
	}
	w.doing("sending the lines that lead back")
	if err := w.intend(Event{What: ToLead, Lines: w.shown(lines...)}); err != nil {
		return false, err
	}
	w.turned = true
	if err := w.typeBack(lines); err != nil {
		return false, err
	}
	return w.compare(RungLines)
}

// typeBack types lines in edit mode, up to the first that is refused.
func (w *worker) typeBack(lines []string) error {
	if err := w.ses.Edit(w.ctx); err != nil {
		return err
	}
	for n, line := range lines {
		if w.ctx.Err() != nil {
			return errLetGo
		}
		err := w.ses.Line(w.ctx, line)
		var refused *Refused
		if errors.As(err, &refused) {
			w.emit(Event{Kind: Refusal, Line: n + 1, Lines: w.shown(line), Note: refused.Said})
			break
		}
		if err != nil {
			return err
		}
	}
	return w.ses.Apply(w.ctx)
}

// maySend refuses lines that are never sent, and those that cannot be.
func (w *worker) maySend(lines []string) error {
	for _, line := range lines {
		for _, never := range w.t.Traits.Never {
			if never.MatchString(line) {
				return fmt.Errorf("%q is never sent", line)
			}
		}
		if w.t.Traits.Unsendable != nil {
			if why := w.t.Traits.Unsendable(line); why != "" {
				return fmt.Errorf("%q cannot be sent: %s", line, why)
			}
		}
	}
	return nil
}
