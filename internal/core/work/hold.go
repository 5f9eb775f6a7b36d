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
	choice, err := w.hold(tr)
	if err != nil {
		return &trouble{why: err.Error(), err: err, evidence: tr.evidence}, false
	}
	if choice != night.Accept && choice != night.Extend {
		w.differs = nil
	}
	w.overrun = false
	switch choice {
	case night.GoOnLate:
		w.goesOnLate = true
		return nil, false
	case night.TryAgain:
		w.doing("trying again")
		return nil, false
	case night.SkipStep:
		return w.skipStep(), false
	case night.Extend:
		if err := w.arm(night.ToExtend, max(w.crew.Plan.Timer.Long(w.t.Device.Platform), w.paced().TimerFor(w.crew.Plan))); err != nil {
			return faced("extending the timer", err), false
		}
		return tr, false
	case night.Accept:
		return w.accept(), false
	case night.LetFire:
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
	if w.proves && w.steps[i].already {
		w.skipFailed = true
		return &trouble{why: fmt.Sprintf("%q cannot be left out: it ran already, and saving would keep it unproven", title),
			err: &driver.Unclear{Asked: "leaving out " + title, Got: "it runs already"}}
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
	w.emit(night.Event{Kind: night.Stepped, Step: i + 1, What: night.StepLeft, Note: why})
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
func (w *worker) hold(tr *trouble) (night.Choice, error) {
	w.move(night.Held, tr.why)
	w.question++
	w.crew.Tell(Held{Device: w.name(), Why: w.maskText(tr.why), Evidence: w.maskLines(slices.Concat(tr.evidence, w.wayBack())),
		Offers: w.choices(), Question: w.question, Skips: w.at.step < len(w.target.Steps) && !w.skipFailed})
	var fired <-chan time.Time
	if w.pends() {
		t := time.NewTimer(time.Until(w.due) + time.Second)
		defer t.Stop()
		fired = t.C
	}
	close := func(err error) (night.Choice, error) {
		w.crew.Tell(Unheld{w.name()})
		return "", err
	}
	for {
		select {
		case a := <-w.orders.answers:
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
		case <-w.orders.back:
			return close(errTakeBack)
		case <-w.ctx.Done():
			return close(errLetGo)
		}
	}
}

// choices are what can be done with the device as it is.
func (w *worker) choices() []night.Offer {
	var out []night.Offer
	offer := func(c night.Choice, takes time.Duration, does string) *night.Offer {
		out = append(out, night.Offer{Choice: c, Touches: 1, Takes: takes, Does: does})
		return &out[len(out)-1]
	}
	usual, most := w.going(w.at.step, w.at.sent, w.at.soaked)
	again := night.TryAgain
	if w.overrun {
		again = night.GoOnLate
	}
	o := offer(again, usual, w.againDoes(usual))
	o.Most, o.Reason = most, w.overrun
	if w.at.step < len(w.t.Steps) && !w.t.Traits.Once {
		usual, most := w.going(w.at.step+1, false, false)
		undo := w.skipping()
		offer(night.SkipStep, usual+undo, w.skipDoes()).Most = most + undo
	}
	offer(night.BackDevice, w.backing(), w.backDoes())
	if w.pends() {
		offer(night.LetFire, w.firingTakes(), "").Way = w.t.Traits.Timer
		if !w.onTrial() || w.t.Traits.Extends {
			offer(night.Extend, w.each(1, opArm)+w.each(1, opPending), "")
		}
	}
	if w.differs != nil {
		usual, most := w.going(w.at.step, true, w.at.soaked)
		o := offer(night.Accept, usual, "sends nothing for it; "+w.thenDoes(w.at.step+1))
		o.Most, o.Reason = most, true
	}
	return out
}

// skipping is how long leaving the step out takes: what was sent of it is undone.
func (w *worker) skipping() time.Duration {
	i := w.at.step
	if !w.begun(i) {
		return 0
	}
	return w.each(2, opConfig) + w.each(1, opEdit) + w.each(len(w.t.Steps[i].Undo), opLine) + w.each(1, opApply)
}

// againDoes says what trying again sends.
func (w *worker) againDoes(takes time.Duration) string {
	text := ""
	switch i := w.at.step; {
	case i < len(w.t.Steps) && w.at.sent:
		text = fmt.Sprintf("looks once more at %q and sends none of its lines; once it is so, ", w.t.Steps[i].Title)
	case i < len(w.t.Steps) && w.t.Steps[i].Changes():
		text = fmt.Sprintf("sends %q once more from its first line; ", w.t.Steps[i].Title)
	case !w.at.soaked && w.crew.Plan.Soak > 0:
		text = "watches anew that it holds; "
	default:
		text = "looks once more; "
	}
	if w.pends() && time.Until(w.due) < takes && (!w.onTrial() || w.t.Traits.Extends) {
		text += "its timer is extended first; "
	}
	return text + w.thenDoes(w.at.step+1)
}

// thenDoes says what going on from a step sends.
func (w *worker) thenDoes(from int) string {
	more := 0
	for i := from; i < len(w.t.Steps); i++ {
		if w.t.Steps[i].Changes() && !w.skipped(i) {
			more++
		}
	}
	text := "then "
	if more == 1 {
		text += "sends 1 step more, "
	} else if more > 1 {
		text += fmt.Sprintf("sends %d steps more, ", more)
	}
	return text + w.keepDoes()
}

// keepDoes says what keeping the device sends.
func (w *worker) keepDoes() string {
	switch {
	case w.onTrial():
		return "confirms it, which keeps it"
	case w.guarded() && w.t.Traits.Saves:
		return "cancels its timer and saves"
	case w.t.Traits.Saves:
		return "saves"
	case w.guarded():
		return "cancels its timer"
	}
	return "keeps it"
}

// skipDoes says what leaving the step out sends.
func (w *worker) skipDoes() string {
	i := w.at.step
	if !w.begun(i) {
		return "nothing of it was sent; " + w.thenDoes(i+1)
	}
	return fmt.Sprintf("undoes %q and proves that; %s", w.t.Steps[i].Title, w.thenDoes(i+1))
}

// backDoes says what taking the device back sends.
func (w *worker) backDoes() string {
	text := "compares with its backup, and sends nothing if it is equal"
	if len(w.ran) > 0 {
		text = "undoes what was sent, and compares with its backup"
		if w.onTrial() && w.pends() {
			text = "ends its trial, and compares with its backup"
		}
	}
	if w.guarded() && !w.onTrial() && w.pends() {
		text += "; then cancels its timer"
	}
	if w.saved {
		text += "; saves again, since the change may be saved"
	}
	return text
}

// wayBack says, at a hold, whether anything takes the change back by itself, and whether
// anything of it is saved.
func (w *worker) wayBack() []string {
	way := "no way back of its own: nothing but we takes it back"
	switch {
	case w.pends() && w.doubted:
		way = "its timer may be gone: cancelling it was asked for and not seen; else it " + w.way()
	case w.pends() && w.untold:
		way = "a change is on trial on it, and it does not tell until when"
	case w.pends() && w.onTrial():
		way = "its way back is pending: " + w.way()
	case w.pends():
		way = "its way back is pending: it " + w.way()
	case w.onTrial() && len(w.ran) == 0:
		way = "nothing is on trial on it, and nothing of the change runs"
	case w.guarded():
		way = "no timer is pending on it: nothing but we takes it back"
	}
	saved := "nothing of the change is saved"
	switch {
	case w.t.Traits.One && len(w.ran) > 0:
		saved = "what runs is what is saved, as its profile says"
	case w.saved:
		saved = "the change may be saved: that was asked for"
	}
	return []string{way, saved}
}
