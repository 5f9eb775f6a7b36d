package work

import (
	"context"
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
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
	darkEvery   = time.Minute      // between two words on a device that is looked for
)

// await waits for a device we lost contact with: until its timer is due and it
// has had time to come back (law 5). Lost contact is not failure yet.
func (w *worker) await(why string) verdict {
	w.hangUp()
	if !w.firing { // else we left it
		w.emit(night.Event{Kind: night.Lost, Note: why})
	}
	boot := w.t.Traits.Boot
	deadline := time.Now().Add(patience + 2*boot)
	note := "looking for it; no contact"
	if w.pends() {
		deadline = later(w.due, time.Now()).Add(2*boot + grace)
		note = "no contact; " + w.way()
	}
	if w.firing {
		note = "left to itself: " + w.way()
	}
	w.move(night.Dark, note)
	if !w.pends() && w.changed() {
		w.crew.Tell(LostAlone{w.name()})
	}
	select {
	case <-w.orders.leave: // said of an earlier time
	default:
	}
	dark := GoneDark{Device: w.name(), Until: deadline, Decided: w.firing}
	if w.pends() {
		dark.Due, dark.Back = w.due, later(w.due, time.Now()).Add(boot)
	}
	defer func() { w.crew.Tell(Regained{w.name()}) }()
	w.crew.Tell(dark)
	if w.firing {
		if err := w.pause(time.Until(w.due) + boot/2); err != nil {
			return w.gone(err)
		}
	}
	pause := firstPause
	last, since, told := why, time.Now(), time.Now()
	for {
		if time.Since(told) >= darkEvery { // nobody should have to wonder whether it is still looked for
			told = time.Now()
			w.doing(
				"no contact for %s; it is looked for until %s; last try: %s",
				time.Since(since).Round(time.Second),
				deadline.Format("15:04:05"),
				last,
			)
		}
		// A device that is slow to let one in is not dead: it gets twice what it took tonight.
		left, err := w.tryAgain(max(connectWait, 2*w.paced().Traits.Connect, 2*w.entry))
		if left {
			return w.gone(errLeave)
		}
		if err == nil {
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
			w.end(night.Stranded, fmt.Sprintf("not back by %s; last try: %s", deadline.Format("15:04:05"), last))
			return over
		}
		if err := w.pause(pause); err != nil {
			return w.gone(err)
		}
		pause = min(pause*2, longestWait)
	}
}

// tryAgain tries to open a session, for a while. It is told at once when it is not to be looked for
// any more.
func (w *worker) tryAgain(wait time.Duration) (left bool, err error) {
	ctx, cancel := context.WithTimeout(w.ctx, wait)
	told := make(chan bool, 1)
	go func() {
		select {
		case <-w.orders.leave:
			cancel()
			told <- true
		case <-ctx.Done():
			told <- false
		}
	}()
	err = w.open(ctx)
	cancel()
	if left = <-told; left {
		w.hangUp()
	}
	return left, err
}

// changed tells whether a line of the change may have reached the device.
func (w *worker) changed() bool {
	return len(w.ran) > 0 || w.acted || w.handed || w.intended != "" || w.reverting
}

// gone ends the night of a device that we stop waiting for.
func (w *worker) gone(err error) verdict {
	if errors.Is(err, errLeave) {
		w.leave("by decision")
		return over
	}
	return w.letGo()
}

// leave leaves the device as it is: to its timer, where one is pending.
func (w *worker) leave(why string) {
	if !w.pends() {
		w.end(night.Stranded, "left as it is, "+why+"; no timer is pending on it")
		return
	}
	w.end(night.Dark, "left to itself ("+w.way()+"), "+why+"; look whether it took the change back")
}

// way says what the device does by itself, and when, such as "restarts at 02:41:00".
func (w *worker) way() string { return w.t.Traits.Timer.Does(w.due.Format("15:04:05")) }

// errLeave ends the waiting for a device that a person has decided to leave.
var errLeave = errors.New("left by decision")

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// pause waits while the device is dark. Nothing but letting go, or leaving it,
// ends it early: a take-back needs the device first.
func (w *worker) pause(d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-t.C:
		return nil
	case <-w.orders.leave:
		return errLeave
	case <-w.ctx.Done():
		return errLetGo
	}
}

// recognise looks at a device that answers again and finds out what became of
// it. It decides nothing while the device cannot be read or the timer we wait
// for is still pending.
func (w *worker) recognise() (v verdict, decided bool, err error) {
	asked := time.Now()
	left, pending, err := w.ses.Pending(w.ctx)
	if err != nil {
		return over, false, err
	}
	w.took(asked)
	_, now, err := w.running()
	if err != nil {
		return over, false, err
	}
	saved, known, err := w.savedConfig()
	if err != nil {
		return over, false, err
	}
	w.emit(night.Event{Kind: night.Contact})
	if pending {
		w.saw(left, true, asked, time.Now())
		if w.firing {
			return over, false, errors.New("its timer is still pending")
		}
		w.emit(night.TimerPending(w.due, max(left, 0)))
		return regained, true, nil
	}
	if config.OnlyParts(w.before, now) && w.partLooks < partLooks {
		w.partLooks++
		return over, false, errors.New("what runs beside its configuration is not as it was yet")
	}
	at := returned{guarded: w.guarded(), trial: w.onTrial(), reverting: w.reverting,
		early: time.Now().Before(w.due), alone: !w.pends(), restarting: w.restarting() || w.exchanged()}
	w.lapse()
	w.firing = false
	w.emit(night.Event{Kind: night.TimerGone})
	diff := config.Compare(w.before, now)
	w.emit(night.Event{Kind: night.Differs, Lines: diff.Lines(w.t.Masked)})
	at.equal, at.savedEqual = diff.Empty(), known && config.Equal(w.before, saved)
	at.proven = w.intended != "" && (at.equal || config.Equal(config.Parse(w.intended, w.t.Traits.Style), now))
	end, note := at.end()
	if end == "" {
		return regained, true, nil
	}
	if end == night.Stranded {
		evidence := diff.Lines(w.t.Masked)
		if known && !at.savedEqual {
			evidence = append(evidence, "the saved configuration differs from the backup, too")
		}
		note += joinSome(evidence)
	}
	w.end(end, note)
	return over, true, nil
}

// letGo leaves the device to its timer (law 7).
func (w *worker) letGo() verdict {
	state, note := night.Dark, "let go; no timer is pending on it"
	switch {
	case w.pends():
		note = "let go; " + w.way()
	case len(w.ran) == 0 && w.intended == "" && !w.acted && !w.handed:
		state, note = night.Skipped, "let go before anything was changed"
	default:
		state = night.Stranded
	}
	w.end(state, note)
	return over
}
