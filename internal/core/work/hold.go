package work

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// decide holds and carries out the choice. It returns further trouble, or nil
// and whether the night is over.
func (w *worker) decide(tr *trouble) (next *trouble, over bool) {
	if tr = w.withWorked(tr); tr.lost() {
		return tr, false
	}
	decided, err := w.hold(tr)
	if err != nil {
		return &trouble{why: err.Error(), err: err, evidence: tr.evidence}, false
	}
	return w.carry(tr, decided)
}

// carry carries out what was decided of a trouble.
func (w *worker) carry(tr *trouble, decided night.Command) (next *trouble, over bool) {
	if w.untaken != nil && !w.byHanded() && goesOn(decided.Choice) {
		return tr, false // what was done by hand is to be read first
	}
	switch decided.Choice {
	case night.Accept, night.Adopt, night.Extend, night.OtherLines:
	case night.TryAgain, night.GoOnLate:
		if w.byHanded() {
			w.adoptUnder()
		}
		w.differs = nil
	default:
		w.differs = nil
	}
	w.overrun = false
	switch decided.Choice {
	case night.OtherLines:
		return w.otherLines(tr, decided), false
	case night.AtConsole:
		return w.atConsole(tr, decided.By)
	case night.Accept:
		return w.accept(), false
	case night.Adopt:
		return w.adoptWorked(), false
	case night.GoOnLate:
		w.goesOnLate = true
		return nil, false
	case night.TryAgain:
		w.doing("trying again")
		return nil, false
	case night.ItIsDone, night.DoAgain:
		w.settled(decided.Choice)
		return nil, false
	case night.SkipStep:
		return w.skipStep(), false
	case night.Extend:
		if err := w.arm(night.ToExtend, max(w.crew.Plan.Timer.Long(w.t.Device.Platform), w.paced().TimerFor(w.crew.Plan))); err != nil {
			return faced("extending the timer", err), false
		}
		return tr, false
	case night.LetFire:
		w.firing = true
		return &trouble{why: "waiting for its timer by decision", err: lostWith(errors.New("session ended by decision"))}, false
	default: // BackDevice, and what widens it
		w.takeBack("taken back by decision: " + tr.why)
		return nil, true
	}
}

// goesOn tells whether a choice leads on to the device's being kept.
func goesOn(c night.Choice) bool {
	switch c {
	case night.TryAgain, night.GoOnLate, night.SkipStep, night.ItIsDone, night.DoAgain, night.Accept, night.Adopt, night.OtherLines:
		return true
	}
	return false
}

// skipStep undoes what was sent of the step, proves that the device is what it
// was before the step, and goes on to the next. A difference is never passed
// over: it would be saved as if it had been left out.
func (w *worker) skipStep() *trouble {
	i := w.at.step
	title := w.t.Steps[i].Title
	if w.proves && w.steps[i].already {
		w.skipFailed = true
		return &trouble{why: fmt.Sprintf("%q cannot be left out: it ran already, and saving would keep it unproven", title),
			err: &driver.Unclear{Asked: "leaving out " + title, Got: "it runs already"}}
	}
	if w.exchanged() {
		w.skipFailed = true
		return &trouble{why: fmt.Sprintf("%q cannot be left out: the device may run other software than before", title),
			evidence: []string{w.softwareNote()}, err: &driver.Unclear{Asked: "leaving out " + title, Got: w.runs.String()}}
	}
	if w.begun(i) {
		w.skipFailed = true // until it is proven
		if err := w.undoStep(i); err != nil {
			return faced("undoing the step that is left out", err)
		}
		_, now, err := w.running()
		if err != nil {
			return faced("reading what was undone", err)
		}
		if d := w.unlikeBefore(i, now); !d.Empty() {
			w.at.sent = false
			return &trouble{why: fmt.Sprintf("%q cannot be left out: its undo lines were sent, and the device is still not what it was before the step", title),
				evidence: d.Lines(w.t.Masked), err: &driver.Unclear{Asked: "undo of " + title, Got: d.String()}}
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
	w.steps[i].left = true
	w.emit(night.Step(i+1, night.StepLeft, why))
	if now := w.steps[i].before; now != nil && w.t.Traits.Language != nil {
		w.expected = now
	}
	w.computeFrom(i+1, w.expected)
}

// misses names the first step that a step needs and that was left out; "" when
// there is none.
func (w *worker) misses(s plan.Step) string {
	for _, n := range s.Needs {
		if i := slices.IndexFunc(w.t.Steps, func(o plan.Step) bool { return o.Number == n }); i >= 0 && w.steps[i].left {
			return strconv.Quote(w.crew.Plan.StepTitles[n-1])
		}
	}
	return ""
}

// hold asks the conductor for a decision and waits for it. Meanwhile the timer
// runs on; when it fires, there is nothing left to decide.
func (w *worker) hold(tr *trouble) (night.Command, error) {
	w.move(night.Held, tr.why)
	w.question++
	at := w.situation()
	w.crew.Tell(Held{Device: w.name(), Why: w.maskText(tr.why), Evidence: w.maskLines(slices.Concat(tr.remarks, tr.evidence, at.wayBack())),
		Offers: at.offers(), Question: w.question, Halted: tr.halted, Skips: w.at.step < len(w.target.Steps) && !w.skipFailed && !w.exchanged()})
	return w.answered(nil)
}

// watchEvery is how often the timer of a device is looked after while somebody works it by hand.
const watchEvery = 5 * time.Second

// answered waits for the answer to what was asked last. Meanwhile is done every now and then; nil
// is nothing.
func (w *worker) answered(meanwhile func() error) (night.Command, error) {
	close := func(err error) (night.Command, error) {
		w.crew.Tell(Unheld{w.name()})
		return night.Command{}, err
	}
	for {
		a, err := w.wait(meanwhile != nil)
		switch {
		case errors.Is(err, errNotYet):
			if err := meanwhile(); err != nil {
				return close(err)
			}
		case err != nil:
			return close(err)
		case a.question == w.question: // else it came too late for an earlier hold
			return a.Command, nil
		}
	}
}

// errNotYet says that nothing was decided for a while.
var errNotYet = errors.New("nothing was decided yet")

// wait waits for an answer, for a while or as long as it takes.
func (w *worker) wait(briefly bool) (answer, error) {
	var fired, tick <-chan time.Time
	if w.pends() {
		t := time.NewTimer(time.Until(w.due) + time.Second)
		defer t.Stop()
		fired = t.C
	}
	if briefly {
		t := time.NewTimer(watchEvery)
		defer t.Stop()
		tick = t.C
	}
	select {
	case a := <-w.orders.answers:
		return a, nil
	case <-tick:
		return answer{}, errNotYet
	case <-fired:
		w.firing = true
		why := "its timer fired while it was held"
		if w.onTrial() {
			why = "its trial was over while it was held"
		}
		return answer{}, lostWith(errors.New(why))
	case <-w.orders.back:
		return answer{}, errTakeBack
	case <-w.ctx.Done():
		return answer{}, errLetGo
	}
}

// situation copies how the device stands: what its offers are made of.
func (w *worker) situation() situation {
	i := w.at.step
	s := situation{
		position: w.at, timer: w.timer, by: w.t.Traits.Timer, now: time.Now(),
		guarded: w.guarded(), extends: w.t.Traits.Extends, once: w.t.Traits.Once, saves: w.t.Traits.Saves, one: w.t.Traits.One,
		over: i >= len(w.t.Steps), soaks: w.crew.Plan.Soak > 0,
		late: w.overrun, unlike: w.differs != nil, touched: len(w.ran) > 0 || w.handed, saved: w.saved,
		back: w.backing(), fire: w.firingTakes(), extend: w.each(1, opArm) + w.each(1, opPending),
	}
	for j := i + 1; j < len(w.t.Steps); j++ {
		if (w.t.Steps[j].Changes() || w.t.Steps[j].Acts()) && !w.skipped(j) {
			s.later++
		}
	}
	byHand := i < len(w.t.Steps) && w.t.Steps[i].ByPerson()                                             // once somebody says that it is done
	s.byHanded, s.sealed, s.hears = w.byHanded(), w.crew.Plan.Seal != "", w.ses != nil && w.t.Touches() // else nothing was armed
	s.cuts, s.undoes, s.steps = few(w.t.Below), w.undoLines(), len(w.t.Steps)
	s.again.usual, s.again.most = w.going(i, w.at.sent || byHand, w.at.soaked)
	s.accept.usual, s.accept.most = w.going(i, true, w.at.soaked)
	if w.t.OnlyRestarts() && !s.pends() { // no timer has a part in it
		s.guarded, s.by = false, plan.NoTimer
	}
	s.software, s.moved, s.ran = w.softwareNote(), w.exchanged(), w.software
	if s.over {
		return s
	}
	s.title, s.changes, s.begun = w.t.Steps[i].Title, w.t.Steps[i].Changes(), w.begun(i)
	s.kind, s.repeatable, s.expects = w.t.Steps[i].Kind, w.t.Steps[i].Deed.Repeatable, len(w.t.Steps[i].Expect) > 0
	s.acted = w.acted
	if s.kind == plan.SoftwareStep && w.steps[i].move.Kind != "" {
		s.lastMove = moving(w.steps[i].move)
	}
	s.doubt, s.confirmed, s.worked = w.steps[i].doubt != "", w.steps[i].confirmed, w.steps[i].worked
	s.skip.usual, s.skip.most = w.going(i+1, false, false)
	s.taken = w.steps[i].sent
	s.lines, s.whole = w.shown(w.t.Steps[i].Send...), len(w.t.Steps[i].Put) > 0 || w.t.Steps[i].Was != nil
	s.undo = w.shown(w.t.Steps[i].Undo...)
	if s.begun { // what was sent of it is undone
		undo := w.each(2, opConfig) + w.each(1, opEdit) + w.each(len(w.t.Steps[i].Undo), opLine) + w.each(1, opApply)
		s.skip.usual, s.skip.most = s.skip.usual+undo, s.skip.most+undo
	}
	return s
}
