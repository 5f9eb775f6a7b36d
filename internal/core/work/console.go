package work

import (
	"fmt"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// A person may work a device by hand in the midst of a night, at its console: where it is held, or
// in a step that is that. Its way back is watched meanwhile. What they do there nobody can say: what
// runs is read when they are done, shown as a difference, and adopted or taken back.

// handwork is what was done by hand and is not adopted: it is read again before anything goes on.
type handwork struct {
	from config.Config // what ran before
	by   string        // who did it last
}

// atConsole lets a person work the device by hand, and reads what came of it.
func (w *worker) atConsole(tr *trouble, by string) (next *trouble, over bool) {
	_, from, err := w.running()
	if err != nil {
		return faced("reading what runs before it is worked by hand", err), false
	}
	if err := w.intend(night.Event{What: night.ToHand, Step: w.at.step + 1, By: by}); err != nil {
		return faced("working it by hand", err), false
	}
	w.handed = true
	if w.untaken == nil { // else nobody has adopted yet what was done before
		w.untaken = &handwork{from: from}
	}
	w.untaken.by = by
	w.emit(night.Event{Kind: night.Worked, Step: w.at.step + 1, By: by})
	switch decided, err := w.whileWorked(by); {
	case err != nil:
		return &trouble{why: err.Error(), err: err, evidence: []string{"it was worked by hand by " + by}}, false
	case decided.Choice != night.ConsoleOver:
		return w.carry(tr, decided)
	}
	if w.at.step < len(w.steps) {
		w.steps[w.at.step].worked = true
	}
	return w.readWorked(tr), false
}

// byHanded tells whether it has another configuration since it was worked by hand, which is to be
// adopted, or not.
func (w *worker) byHanded() bool { return w.untaken != nil && w.differs != nil }

// withWorked is a trouble with what was done by hand and nobody has read yet, such as when contact was
// lost at the console: nothing is decided before that is read, and what is not adopted is never kept.
func (w *worker) withWorked(tr *trouble) *trouble {
	if w.untaken == nil || w.byHanded() {
		return tr
	}
	return w.readWorked(tr)
}

// readWorked reads what was done by hand, and holds for it where that is anything.
func (w *worker) readWorked(tr *trouble) *trouble {
	_, now, err := w.running()
	if err != nil {
		return faced("reading what was done by hand", err)
	}
	by, d := w.untaken.by, config.Compare(w.untaken.from, now)
	lines := d.Lines(w.t.Masked)
	w.emit(night.WorkedOver(w.at.step+1, by, lines))
	remarks := w.timerAfter()
	if d.Empty() {
		w.untaken = nil
		again := *tr
		again.remarks = append([]string{"worked by hand by " + by + ": what runs is what ran before"}, remarks...)
		return &again
	}
	w.differs = &now
	return &trouble{why: fmt.Sprintf("worked by hand by %s: %s", by, differ(len(lines))), remarks: remarks, evidence: lines,
		err: &driver.Unclear{Asked: "what was done by hand", Got: d.String()}}
}

func differ(n int) string {
	if n == 1 {
		return "1 line is different"
	}
	return fmt.Sprintf("%d lines are different", n)
}

// whileWorked waits until the person has finished. Its timer is put off as long as there is time in
// the window for what comes behind.
func (w *worker) whileWorked(by string) (night.Command, error) {
	why := "worked by hand by " + by
	w.move(night.Held, why)
	w.question++
	at := w.situation()
	offers := []night.Offer{{Choice: night.ConsoleOver, Touches: 1, Does: "reads what runs, and shows what was changed"},
		{Choice: night.BackDevice, Touches: 1, Takes: at.back, Does: at.backDoes(), Cuts: at.cuts}}
	if at.pends() {
		offers = append(offers, night.Offer{Choice: night.LetFire, Touches: 1, Takes: at.fire, Way: at.by, Cuts: at.cuts})
	}
	w.crew.Tell(Held{Device: w.name(), Why: why, Evidence: w.maskLines(at.wayBack()), Offers: offers, Question: w.question})
	return w.answered(func() error {
		if win := w.crew.Plan.Window; !win.None && !w.crew.Now().Before(win.Ends()) {
			return nil // what is done by then comes back by its timer
		}
		if at := w.crew.AtConsole; at != nil && !at(w.name()) {
			return nil // nobody is there, and nobody may come
		}
		if err := w.outlast(w.at.step, 0); err != nil {
			return lostOr(err)
		}
		return nil
	})
}

// lostOr is nil for an error of a device that answers: its timer runs on as it is, and whoever works
// it has it in hand.
func lostOr(err error) error {
	if driver.Answered(err) {
		return nil
	}
	return err
}

// timerAfter says what became of its timer while it was worked by hand.
func (w *worker) timerAfter() []string {
	tr := w.timerAsLeft()
	if tr == nil || tr.lost() {
		return nil // where it is lost, what comes next finds that out
	}
	return append([]string{tr.why}, tr.evidence...)
}

// adoptWorked goes on from what was done by hand: it stands for the step.
func (w *worker) adoptWorked() *trouble {
	w.untaken, w.unpredicted = nil, true // nobody had predicted what a person would do
	if i := w.at.step; i < len(w.t.Steps) {
		w.at.sent, w.steps[i].confirmed = true, true
		s := w.t.Steps[i]
		if s.Kind == plan.ChangeStep && !w.begun(i) {
			w.begin(i, w.ses)
		}
		s.Already = nil // what runs stands for it, whatever its lines would have made
		w.setStep(i, s)
	}
	return w.accept()
}

// adoptUnder goes on from what was done by hand, and the step is still to be done.
func (w *worker) adoptUnder() {
	w.untaken, w.unpredicted = nil, true
	if w.expected != nil {
		w.accepted = append(w.accepted, w.notAsPredicted(config.Compare(*w.expected, *w.differs))...)
		w.expected = w.differs
	}
	w.at.sent = false
	w.computeFrom(w.at.step, w.differs)
}

// halted holds the device where that was ordered: after its line, or after its step.
func (w *worker) halted(line bool) *trouble {
	h := w.orders.halts.Load()
	if h == nil || line && !h.line {
		return nil
	}
	w.orders.halts.CompareAndSwap(h, nil)
	what := "step"
	if line {
		what = "line"
	}
	why := fmt.Sprintf("held by %s after the %s in flight", h.by, what)
	return &trouble{why: why, halted: true, err: &driver.Unclear{Asked: "holding", Got: "held by " + h.by}}
}
