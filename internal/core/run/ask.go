package run

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// openHold is a hold that waits. A hold of the run has no worker.
type openHold struct {
	w      *worker
	tr     *trouble
	answer func(Choice)
	offers []Offer
	aside  bool // others may start while it is open
}

// ask opens a hold of the run and serves until it is answered. Alone is what an
// unattended run answers; on is what going on is called here.
func (r *Run) ask(ctx context.Context, why string, evidence []string, alone, on Choice) {
	answered := false
	rest := 0
	for _, b := range r.plan.Batches[r.batch:] {
		for _, t := range b {
			if r.ends[t.Device.Name] == "" {
				rest++
			}
		}
	}
	likely := r.plan.Forecast(r.progress(r.now(), min(r.batch, len(r.plan.Batches)))).Likely
	back, touched := r.backAll()
	offers := []Offer{
		{Choice: on, Touches: rest, Takes: likely.Sub(r.now()), Reason: on == StartEarly || on == GoOnLate},
		{Choice: Stop},
		{Choice: BackAll, Touches: touched, Takes: back},
	}
	r.open(&openHold{offers: offers, answer: func(c Choice) {
		answered = true
		switch c {
		case Stop:
			r.stopping, r.why = true, cmp.Or(r.why, "stopped: "+why)
		case BackAll:
			r.takeAllBack()
		}
	}}, "", why, evidence, alone)
	r.serve(ctx, func() bool { return answered || r.released })
}

// backAll estimates taking back everything that was touched so far.
func (r *Run) backAll() (time.Duration, int) {
	var targets []*plan.Target
	for _, w := range r.kept {
		targets = append(targets, w.target)
	}
	for _, w := range r.active {
		targets = append(targets, w.target)
	}
	return r.plan.BackTime(targets), len(targets)
}

// overBudget asks once the failure budget is used up (law 9). Going on gives
// the budget one more failure.
func (r *Run) overBudget() {
	failures := "failures"
	if r.failures == 1 {
		failures = "failure"
	}
	why := fmt.Sprintf("%d %s; the runbook stops after %d", r.failures, failures, r.plan.Rules.StopAfter)
	r.budget = r.failures + 1
	back, touched := r.backAll()
	offers := []Offer{{Choice: GoOn, Touches: len(r.queue)}, {Choice: Stop}, {Choice: BackAll, Touches: touched, Takes: back}}
	r.open(&openHold{offers: offers, answer: func(c Choice) {
		switch c {
		case Stop:
			r.stop("the failure budget was used up")
		case BackAll:
			r.takeAllBack()
		}
	}}, "", why, nil, Stop)
}

// holdDevice opens a device's hold.
func (r *Run) holdDevice(m held) {
	if m.aside && r.opts.Unattended {
		return // it waits by itself, and nobody is there
	}
	m.w.wasHeld = true
	offers := m.offers
	batch := r.batchWorkers()
	offers = append(offers, Offer{Choice: BackBatch, Touches: len(batch), Takes: r.plan.BackTime(batch)})
	back, touched := r.backAll()
	offers = append(offers, Offer{Choice: BackAll, Touches: touched, Takes: back})
	h := &openHold{w: m.w, tr: m.tr, aside: m.aside, offers: offers, answer: func(c Choice) {
		switch c {
		case BackBatch:
			r.takeBatchBack()
		case BackAll:
			r.takeAllBack()
		default:
			m.w.told <- answer{m.question, c}
		}
	}}
	alone := BackDevice // nobody is there to say that it goes on after the time to change things
	if offers[0].Choice != GoOnLate {
		alone = r.alone(m.w)
	}
	if !slices.ContainsFunc(offers, func(o Offer) bool { return o.Choice == alone }) {
		alone = BackDevice // it cannot be done on this device
	}
	r.open(h, m.w.name(), m.tr.why, m.tr.evidence, alone)
}

// batchWorkers are the devices of the batch that runs which were touched.
func (r *Run) batchWorkers() (out []*plan.Target) {
	for _, t := range r.plan.Batches[min(r.batch, len(r.plan.Batches)-1)] {
		if r.active[t.Device.Name] != nil || r.ends[t.Device.Name] == Kept {
			out = append(out, t)
		}
	}
	return out
}

// alone is what an unattended run answers for a held device.
func (r *Run) alone(w *worker) Choice {
	u := r.plan.Unattended
	if w.tries < u.Tries {
		w.tries++
		return TryAgain
	}
	switch u.Then {
	case runbook.SkipStep:
		if w.at.step < len(w.target.Steps) && !w.skipFailed {
			return SkipStep
		}
	case runbook.BackBatch:
		return BackBatch
	case runbook.BackAll:
		return BackAll
	}
	return BackDevice
}

// open opens a hold and, when nobody is there, answers it.
func (r *Run) open(h *openHold, device, why string, evidence []string, alone Choice) {
	r.nextHold++
	n := r.nextHold
	r.holds[n] = h
	for i := range h.offers {
		h.offers[i].Fits = r.now().Add(h.offers[i].Takes).Before(r.plan.Window.Close)
	}
	r.rec.emit(Event{Kind: HoldOpened, Device: device, Hold: n, Note: why, Lines: evidence, Offers: h.offers})
	if r.opts.Unattended && alone != "" {
		r.answer(Command{Hold: n, Choice: alone, By: "the runbook's unattended line"})
	}
}

// answer answers a hold. What is not offered, and what lacks the reason it must
// have, answers nothing.
func (r *Run) answer(c Command) {
	n, h := c.Hold, r.holds[c.Hold]
	if h == nil || !slices.ContainsFunc(h.offers, func(o Offer) bool {
		return o.Choice == c.Choice && (!o.Reason || strings.TrimSpace(c.Reason) != "")
	}) {
		return
	}
	delete(r.holds, n)
	device := ""
	if h.w != nil {
		device = h.w.name()
	}
	r.rec.emit(Event{Kind: HoldClosed, Device: device, Hold: n, Choice: c.Choice, By: c.By, Note: r.plan.Mask(c.Reason)})
	h.answer(c.Choice)
}

// closeHolds closes the holds of a device that decided itself.
func (r *Run) closeHolds(w *worker) {
	for n, h := range r.holds {
		if h.w == w {
			delete(r.holds, n)
			r.rec.emit(Event{Kind: HoldClosed, Device: w.name(), Hold: n})
		}
	}
}
