package run

import (
	"context"
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// verdict is what came of waiting for a lost device.
type verdict int

const (
	over     verdict = iota // its night is over
	regained                // it is back with its timer, or its change, as it was
)

// Bounds on waiting for a lost device.
const (
	connectWait = 12 * time.Second
	firstPause  = time.Second
	longestWait = 15 * time.Second
	grace       = 30 * time.Second // beyond the timer and twice the boot time
	patience    = 5 * time.Minute  // when no timer is pending
)

// await waits for a device we lost contact with: until its timer is due and it
// has had time to come back (law 5). Lost contact is not failure yet.
func (w *worker) await(why string) verdict {
	w.hangUp()
	w.emit(Event{Kind: Lost, Note: why})
	boot := w.t.Traits.Boot
	deadline := time.Now().Add(patience + 2*boot)
	note := "looking for it; no contact"
	if !w.due.IsZero() {
		deadline = later(w.due, time.Now()).Add(2*boot + grace)
		note = "timer due " + w.due.Format("15:04:05") + "; no contact"
	}
	if w.firing {
		note = "waiting for its timer, due " + w.due.Format("15:04:05")
	}
	w.move(Dark, note)
	if w.firing {
		if err := w.pause(time.Until(w.due) + boot/2); err != nil {
			return w.letGo()
		}
	}
	pause := firstPause
	last := why
	for {
		ctx, cancel := context.WithTimeout(w.ctx, connectWait)
		ses, err := w.r.connector.Connect(ctx, w.t)
		cancel()
		if err == nil {
			w.ses, w.mask = ses, ses.Mask
			v, decided, err := w.recognise()
			if decided {
				return v
			}
			w.hangUp()
			last = err.Error()
		} else {
			last = err.Error()
		}
		if w.ctx.Err() != nil {
			return w.letGo()
		}
		if time.Now().After(deadline) {
			w.end(Stranded, fmt.Sprintf("not back by %s; last try: %s", deadline.Format("15:04:05"), last))
			return over
		}
		if err := w.pause(pause); err != nil {
			return w.letGo()
		}
		pause = min(pause*2, longestWait)
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// pause waits while the device is dark. Nothing but letting go ends it early: a
// take-back needs the device first.
func (w *worker) pause(d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-w.ctx.Done():
		return errLetGo
	}
}

// recognise looks at a device that answers again and finds out what became of
// it. It decides nothing while the device cannot be read or the timer we wait
// for is still pending.
func (w *worker) recognise() (v verdict, decided bool, err error) {
	left, pending, err := w.ses.Pending(w.ctx)
	if err != nil {
		return over, false, err
	}
	running, err := w.ses.Config(w.ctx, Running)
	if err != nil {
		return over, false, err
	}
	saved, err := w.ses.Config(w.ctx, Saved)
	if err != nil {
		return over, false, err
	}
	style := w.t.Traits.Style
	now := config.Parse(running, style)
	w.emit(Event{Kind: Contact})
	if pending {
		w.due = time.Now().Add(left)
		if w.firing {
			return over, false, errors.New("its timer is still pending")
		}
		w.emit(Event{Kind: TimerSeen, Due: w.due, For: left})
		return regained, true, nil
	}
	w.due, w.firing = time.Time{}, false
	w.emit(Event{Kind: TimerGone})
	diff := config.Compare(w.before, now)
	w.emit(Event{Kind: Differs, Lines: diff.Lines(w.t.Traits.Masked)})
	savedEqual := config.Equal(w.before, config.Parse(saved, style))
	switch {
	case w.r.plan.Timer.None || w.t.Traits.Timer == plan.NoTimer:
		return regained, true, nil
	case diff.Empty() && savedEqual:
		w.end(Reverted, "came back with its saved configuration, equal to the backup")
		return over, true, nil
	case w.intended != "" && (config.Equal(config.Parse(w.intended, style), now) || diff.Empty()):
		// Contact was lost while closing, or while taking back what was kept.
		return regained, true, nil
	}
	evidence := diff.Lines(w.t.Traits.Masked)
	if !savedEqual {
		evidence = append(evidence, "the saved configuration differs from the backup, too")
	}
	w.end(Stranded, "it is back without a timer and is not what was backed up: "+joinSome(evidence))
	return over, true, nil
}

// letGo leaves the device to its timer (law 7).
func (w *worker) letGo() verdict {
	state, note := Dark, "let go; no timer is pending on it"
	switch {
	case !w.due.IsZero():
		note = "let go; its timer fires at " + w.due.Format("15:04:05")
	case len(w.begun) == 0 && w.intended == "":
		state, note = Skipped, "let go before anything was changed"
	default:
		state = Stranded
	}
	w.end(state, note)
	return over
}
