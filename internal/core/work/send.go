package work

import (
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// sending is how lines are sent, and what comes of each. It holds for the way there and for the
// way back.
type sending struct {
	step int    // that they are of, from 1; 0 where they are of no single one
	what string // [night.ToUndo] or [night.ToLead]; "" on the way there
	// may tells why a line, counted from 0, must not be sent; nil where nothing speaks
	// against it.
	may func(line int) error
	// took is told of each line that was taken; nil is told nothing.
	took func()
	// refused tells whether the lines behind one that was refused are sent all the same.
	refused func() (goOn bool)
}

// stopped is the line at which sending ended.
type stopped struct {
	line  int    // from 1
	shown string // without secrets
	err   error
}

func (e *stopped) Error() string { return fmt.Sprintf("line %d: %v", e.line, e.err) }

// Unwrap is why.
func (e *stopped) Unwrap() error { return e.err }

// deliver sends lines, one at a time, in order; it is all that does. The error is a [stopped],
// or what kept a line from being sent. That all were taken proves nothing.
func (w *worker) deliver(lines []string, s sending) error {
	for n, line := range lines {
		if err := s.may(n); err != nil {
			return err
		}
		e := night.Event{Kind: night.Sent, Step: s.step, Line: n + 1, Lines: w.shown(line), What: s.what}
		asked := time.Now()
		err := w.ses.Line(w.ctx, line)
		if s.what == "" { // one that hangs on the way back is left to its timer, which is not put off for that
			w.took(asked)
		}
		var refused *driver.Refused
		switch {
		case errors.As(err, &refused):
			e.Kind, e.Note, e.What = night.Refusal, refused.Said, ""
			w.emit(e)
			if !s.refused() {
				return &stopped{n + 1, e.Lines[0], err}
			}
		case err != nil:
			return &stopped{n + 1, e.Lines[0], err}
		default:
			w.emit(e)
			if s.took != nil {
				s.took()
			}
		}
	}
	return nil
}

// unwrapped is why sending ended, without the line at which it did.
func unwrapped(err error) error {
	var at *stopped
	if errors.As(err, &at) {
		return at.err
	}
	return err
}

// wanted tells why nothing more may be sent on the way back: only letting go ends it.
func (w *worker) wanted(int) error {
	if w.ctx.Err() != nil {
		return errLetGo
	}
	return nil
}
