package run

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// settle deals with trouble: it waits for a lost device, takes back a device
// that is to be taken back, and otherwise holds for a decision. It tells
// whether the device's night is over.
func (w *worker) settle(tr *trouble) (done bool) {
	for {
		switch {
		case errors.Is(tr.err, errLetGo):
			w.letGo()
			return true
		case errors.Is(tr.err, errTakeBack):
			w.takeBack("taken back by decision")
			return true
		case errors.Is(tr.err, errNotPending) && w.onTrial():
			w.takeBack("taken back at once: " + tr.why)
			return true
		case tr.lost():
			if w.await(tr.why) == over {
				return true
			}
			if err := w.interrupted(); err != nil {
				tr = &trouble{why: err.Error(), err: err}
				continue
			}
			tr = &trouble{why: "contact was lost and is back", evidence: []string{tr.why}, err: &Unclear{Asked: "contact", Got: "lost"}}
			if err := w.tookEffect(); err != nil {
				tr = faced("looking what became of the lines that were being applied", err)
				continue
			}
		}
		next, done := w.decide(tr)
		if next == nil {
			return done
		}
		tr = next
	}
}

// decide holds and carries out the choice. It returns further trouble, or nil
// and whether the night is over.
func (w *worker) decide(tr *trouble) (next *trouble, over bool) {
	choice, err := w.hold(tr)
	if err != nil {
		return &trouble{why: err.Error(), err: err, evidence: tr.evidence}, false
	}
	if choice != Accept && choice != Extend {
		w.differs = nil
	}
	w.overrun = false
	switch choice {
	case GoOnLate:
		w.goesOnLate = true
		return nil, false
	case TryAgain:
		w.doing("trying again")
		return nil, false
	case SkipStep:
		return w.skipStep(), false
	case Extend:
		if err := w.arm(ToExtend, max(w.r.plan.Timer.Long(w.t.Device.Platform), w.paced().TimerFor(w.r.plan))); err != nil {
			return faced("extending the timer", err), false
		}
		return tr, false
	case Accept:
		return w.accept(), false
	case LetFire:
		w.firing = true
		return &trouble{why: "waiting for its timer by decision", err: lostWith(errors.New("session ended by decision"))}, false
	default: // BackDevice, and what widens it
		w.takeBack("taken back by decision: " + tr.why)
		return nil, true
	}
}

// skipStep undoes what was sent of the step, proves that the device is what it
// was before the step, and goes on to the next. A difference is never passed
// over: it would be saved as if it had been left out.
func (w *worker) skipStep() *trouble {
	i := w.at.step
	title := w.t.Steps[i].Title
	if w.unsaved && w.already[i] {
		w.skipFailed = true
		return &trouble{why: fmt.Sprintf("%q cannot be left out: it ran already, and saving would keep it unproven", title),
			err: &Unclear{Asked: "leaving out " + title, Got: "it runs already"}}
	}
	if slices.Contains(w.begun, i) {
		w.skipFailed = true // until it is proven
		if err := w.undoStep(i); err != nil {
			return faced("undoing the step that is left out", err)
		}
		_, now, err := w.running()
		if err != nil {
			return faced("reading what was undone", err)
		}
		if d := config.Compare(w.snaps[i], now); !d.Empty() {
			w.at.sent = false
			return &trouble{why: fmt.Sprintf("%q cannot be left out: its undo lines were sent, and the device is still not what it was before the step", title),
				evidence: d.Lines(w.t.Masked), err: &Unclear{Asked: "undo of " + title, Got: d.String()}}
		}
		w.skipFailed = false
		w.proveUndone(i)
	}
	w.leaveOut(i, "by decision")
	w.at = position{step: i + 1}
	return nil
}

// leaveOut marks a step as left out. Those behind it are computed anew.
func (w *worker) leaveOut(i int, why string) {
	w.left[w.t.Steps[i].Number] = true
	w.emit(Event{Kind: Stepped, Step: i + 1, What: StepLeft, Note: why})
	if now, known := w.snaps[i]; known && w.t.Traits.Language != nil {
		w.expected = &now
	}
	w.computeFrom(i+1, w.expected)
}

// misses names the first step that a step needs and that was left out; "" when
// there is none.
func (w *worker) misses(s plan.Step) string {
	for _, n := range s.Needs {
		if w.left[n] {
			return strconv.Quote(w.r.plan.StepTitles[n-1])
		}
	}
	return ""
}

// hold asks the conductor for a decision and waits for it. Meanwhile the timer
// runs on; when it fires, there is nothing left to decide.
func (w *worker) hold(tr *trouble) (Choice, error) {
	w.move(Held, tr.why)
	w.question++
	shown := &trouble{why: w.maskText(tr.why), evidence: w.maskLines(tr.evidence), err: tr.err}
	w.r.inbox <- held{w: w, tr: shown, offers: w.choices(), question: w.question}
	var fired <-chan time.Time
	if !w.due.IsZero() {
		t := time.NewTimer(time.Until(w.due) + time.Second)
		defer t.Stop()
		fired = t.C
	}
	close := func(err error) (Choice, error) {
		w.r.inbox <- unheld{w}
		return "", err
	}
	for {
		select {
		case a := <-w.told:
			if a.question == w.question { // else it came too late for an earlier hold
				return a.choice, nil
			}
		case <-fired:
			w.firing = true
			why := "its timer fired while it was held"
			if w.onTrial() {
				why = "its trial was over while it was held"
			}
			return close(lostWith(errors.New(why)))
		case <-w.back:
			return close(errTakeBack)
		case <-w.ctx.Done():
			return close(errLetGo)
		}
	}
}

// choices are what can be done with the device as it is.
func (w *worker) choices() []Offer {
	t := w.paced()
	left := t.Left(w.at.step, w.r.plan.Soak)
	var out []Offer
	offer := func(c Choice, takes time.Duration) {
		out = append(out, Offer{Choice: c, Touches: 1, Takes: takes})
	}
	if w.overrun {
		offer(GoOnLate, left)
		out[0].Reason = true
	} else {
		offer(TryAgain, left)
		out[0].Looks = w.at.sent || w.at.step == len(w.t.Steps)
	}
	if w.at.step < len(w.t.Steps) && !w.t.Traits.Once {
		offer(SkipStep, t.Left(w.at.step+1, w.r.plan.Soak)+t.Back()/2)
	}
	offer(BackDevice, t.Back())
	if !w.due.IsZero() {
		offer(LetFire, time.Until(w.due)+w.t.Traits.Boot)
		out[len(out)-1].Way = w.t.Traits.Timer
		if !w.onTrial() || w.t.Traits.Extends {
			offer(Extend, time.Second)
		}
	}
	if w.differs != nil {
		offer(Accept, left)
		out[len(out)-1].Reason = true
	}
	return out
}

// Messages from workers to the conductor.
type (
	held struct {
		w        *worker
		tr       *trouble
		offers   []Offer
		question int
		aside    bool // it waits by itself; others may start meanwhile
	}
	unheld      struct{ w *worker }
	lostAlone   struct{ w *worker } // contact is lost with a device that has no timer
	cannotWrite struct{ err error } // what we keep cannot be written any more
	windowOpen  struct{ hold int }
	ended       struct {
		w     *worker
		state State
	}
)

// answer is a decision on one question of a worker.
type answer struct {
	question int
	choice   Choice
}

// errUnknownHold answers a decision that comes too late.
func errUnknownHold(n int) error { return fmt.Errorf("hold %d is not open any more", n) }
