package run

import (
	"context"
	"fmt"
	"slices"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// startMore starts what the caps, the pairs and the open holds allow.
func (r *Run) startMore(ctx context.Context) {
	if r.released {
		return
	}
	for i := 0; i < len(r.backs); {
		h := r.backs[i]
		if !r.room(h.target) {
			i++
			continue
		}
		r.backs = slices.Delete(r.backs, i, i+1)
		r.start(h, func() { r.crew.WorkBack(ctx, h.known, h.orders) })
	}
	if r.stopping || r.waits() || len(r.backs) > 0 {
		return
	}
	for i := 0; i < len(r.queue) && !r.busy.Full(); {
		t := r.queue[i]
		ok, why := r.mayStart(t)
		switch {
		case why != "":
			r.queue = slices.Delete(r.queue, i, i+1)
			r.skip([]*plan.Target{t}, why)
		case ok && r.tooLate(t):
			return
		case ok:
			r.queue = slices.Delete(r.queue, i, i+1)
			h := newHand(t)
			r.start(h, func() { r.crew.Work(ctx, t, h.orders) })
		default:
			i++
		}
	}
	if len(r.active) == 0 && len(r.queue) > 0 { // whatever they wait for, nothing will bring it: a night never stands still
		r.skip(r.queue, "nothing lets it begin any more: its partner, or the caps of the runbook, keep it")
		r.queue = nil
	}
}

// tooLate tells whether the last moment has passed at which a device may be begun, and
// asks once for the batch whether it is to be begun all the same (law 9).
func (r *Run) tooLate(t *plan.Target) bool {
	last := r.plan.LastStart(t, r.batch, r.pace.shown)
	if last.IsZero() || r.lateAsked || !r.now().After(last) {
		return false
	}
	r.lateAsked = true
	back, touched := r.backAll()
	why := fmt.Sprintf("the last moment to begin %s was %s", t.Device.Name, last.Format("15:04:05"))
	offers := []night.Offer{
		{Choice: night.GoOnLate, Touches: r.toCome(), Reason: true, Against: true},
		{Choice: night.Stop},
		{Choice: night.BackAll, Touches: touched, Takes: back, Open: r.unknown(r.inChange())},
	}
	r.open(&openHold{offers: offers, answer: func(c night.Command) {
		switch c.Choice {
		case night.Stop:
			r.stop("its last moment in the window had passed")
		case night.BackAll:
			r.takeAllBack()
		}
	}, alone: always(night.Stop)}, "", why, []string{"begun now, it may not be over before the reserve begins, or not be taken back before the window closes"})
	return true
}

// waits tells whether a hold is open that nothing new may start beside: one of the run,
// or of a device where the runbook has the others wait.
func (r *Run) waits() bool {
	for _, h := range r.holds {
		if !h.aside && (h.of == nil || !r.plan.Rules.GoOnHeld) {
			return true
		}
	}
	return false
}

// mayStart tells whether a device may start now, or why it never may.
func (r *Run) mayStart(t *plan.Target) (ok bool, never string) {
	if t.Second {
		switch first := r.ends[t.Partner]; first {
		case night.Kept, night.Already:
		case "":
			return false, ""
		default:
			return false, fmt.Sprintf("its partner %s is %s", t.Partner, first)
		}
	}
	return r.room(t), ""
}

// room tells whether the caps, the pair and what is reached through one another leave
// room for a device (laws 8, 9).
func (r *Run) room(t *plan.Target) bool { return r.busy.Keeps(t) == "" }

// start has a worker begin with a device.
func (r *Run) start(h *hand, take func()) {
	r.active[h.name()] = h
	r.busy.Begin(h.target)
	r.pace.begin(h, r.now())
	go take()
	if len(r.holds) > 0 {
		r.offerAnew()
	}
}

// unstarted tells whether any device is still to be started.
func (r *Run) unstarted() bool {
	return slices.ContainsFunc(r.plan.Targets(), func(t *plan.Target) bool {
		return r.ends[t.Device.Name] == "" && r.active[t.Device.Name] == nil
	})
}

// toCome counts the devices that were not begun yet, of this batch and of those behind it.
func (r *Run) toCome() (n int) {
	for _, b := range r.plan.Batches[min(r.batch, len(r.plan.Batches)):] {
		for _, t := range b {
			if r.ends[t.Device.Name] == "" && r.active[t.Device.Name] == nil {
				n++
			}
		}
	}
	return n
}
