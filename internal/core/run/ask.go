package run

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
)

// openHold is a hold that waits. A hold of the run is of no device.
type openHold struct {
	of      *hand
	answer  func(night.Command)
	offers  []night.Offer
	aside   bool     // others may start while it is open
	devices []string // that it is about, where they are several
	halted  bool     // it was held by letting the night stand
	since   time.Time
	alone   func() night.Choice // what the unattended line answers; nil is nothing
}

// ask opens a hold of the run and serves until it is answered. Alone is what an
// unattended run answers; on is what going on is called here.
func (r *Run) ask(ctx context.Context, why string, evidence []string, alone, on night.Choice) {
	answered := false
	likely := r.plan.Forecast(r.progress(r.now(), min(r.batch, len(r.plan.Batches)))).Likely
	back, touched := r.backAll()
	offers := []night.Offer{
		{
			Choice:  on,
			Touches: r.toCome(),
			Takes:   likely.Sub(r.now()),
			Reason:  on == night.StartEarly || on == night.GoOnLate,
			Against: alone == night.Stop,
		},
		{Choice: night.Stop},
		{Choice: night.BackAll, Touches: touched, Takes: back, Open: r.unknown(r.inChange())},
	}
	r.open(&openHold{offers: offers, answer: func(c night.Command) {
		answered = true
		switch c.Choice {
		case night.Stop:
			r.stopping, r.why = true, cmp.Or(r.why, "stopped: "+why)
		case night.BackAll:
			r.takeAllBack()
		}
	}, alone: always(alone)}, "", why, evidence)
	r.serve(ctx, func() bool { return answered || r.released })
}

// backAll estimates taking back everything that was touched so far.
func (r *Run) backAll() (time.Duration, int) {
	var targets []*plan.Target
	for _, h := range r.kept {
		targets = append(targets, h.target)
	}
	for _, h := range r.active {
		targets = append(targets, h.target)
	}
	return r.backTime(targets), len(targets)
}

// backTime estimates taking some devices back, by what each of them has shown: one that has
// no contact is not back before its timer has fired.
func (r *Run) backTime(targets []*plan.Target) time.Duration {
	now, of := time.Now(), map[string]*hand{}
	for _, h := range r.kept {
		of[h.name()] = h
	}
	maps.Copy(of, r.active)
	longest := time.Duration(0)
	var quick []*plan.Target
	each := map[*plan.Target]time.Duration{}
	for _, t := range targets {
		h := of[t.Device.Name]
		if h == nil {
			each[t] = t.Back()
		} else {
			each[t] = h.takesBack(now)
		}
		if h != nil && h.waits() { // it stands in nobody's way meanwhile
			longest = max(longest, each[t])
			continue
		}
		quick = append(quick, t)
	}
	return max(longest, r.plan.BackTimeOf(quick, func(t *plan.Target) time.Duration { return each[t] }))
}

// overBudget asks once the failure budget is used up (law 9). Going on gives
// the budget one more failure. A further failure while it is asked takes the place of
// the question: they do not stack.
func (r *Run) overBudget() {
	if r.holds[r.budgetHold] != nil {
		delete(r.holds, r.budgetHold)
		r.rec.Emit(night.Event{Kind: night.HoldClosed, Hold: r.budgetHold})
	}
	failures := "failures"
	if r.failures == 1 {
		failures = "failure"
	}
	why := fmt.Sprintf("%d %s; the runbook stops after %d", r.failures, failures, r.plan.Rules.StopAfter)
	likely := r.plan.Forecast(r.progress(r.now(), min(r.batch, len(r.plan.Batches)))).Likely
	back, touched := r.backAll()
	offers := []night.Offer{
		{Choice: night.GoOn, Touches: r.toCome(), Takes: likely.Sub(r.now()), Against: true},
		{Choice: night.Stop},
		{Choice: night.BackAll, Touches: touched, Takes: back, Open: r.unknown(r.inChange())},
	}
	r.open(&openHold{offers: offers, answer: func(c night.Command) {
		switch c.Choice {
		case night.GoOn:
			r.budget = r.failures + 1
		case night.Stop:
			r.stop("the failure budget was used up")
		case night.BackAll:
			r.takeAllBack()
		}
	}, alone: always(night.Stop)}, "", why, r.failedSoFar())
	r.budgetHold = r.nextHold
}

// failedSoFar names the devices that failed, and how they ended.
func (r *Run) failedSoFar() (out []string) {
	for _, name := range slices.Sorted(maps.Keys(r.failed)) {
		end := string(r.ends[name])
		if end == "" {
			end = "no contact"
		}
		out = append(out, name+": "+end)
	}
	return out
}

// offerAnew reckons anew what the choices of the open holds touch and how long they take, and
// tells it where it is otherwise by more than a tenth.
func (r *Run) offerAnew() {
	if r.released {
		return
	}
	for _, n := range slices.Sorted(maps.Keys(r.holds)) {
		h := r.holds[n]
		fresh, other := slices.Clone(h.offers), false
		if n == r.dark.hold {
			h.devices = r.stillAsked()
			fresh = r.darkOffers(h.devices)
			other = !slices.Equal(h.devices, r.dark.asked) || len(fresh) != len(h.offers)
			r.dark.asked = h.devices
			if len(fresh) != len(h.offers) {
				h.offers = fresh
			}
		}
		for i := range fresh {
			o, was := &fresh[i], h.offers[i]
			switch o.Choice {
			case night.BackAll:
				o.Takes, o.Touches = r.backAll()
				o.Open = r.unknown(r.inChange())
			case night.BackBatch:
				batch := r.batchTargets()
				o.Takes, o.Touches, o.Open = r.backTime(batch), len(batch), r.unknown(batch)
			case night.BackSite:
				site := r.ofSite(h.of.target.Device.Site)
				o.Takes, o.Touches, o.Open = r.backTime(site), len(site), r.unknown(site)
			case night.GoOn, night.GoOnLate:
				if h.of == nil {
					o.Touches = r.toCome()
				}
			default:
				continue
			}
			o.Fits = r.now().Add(o.Takes).Before(r.plan.Window.Close)
			other = other || o.Touches != was.Touches || o.Open != was.Open || (o.Takes-was.Takes).Abs() > max(was.Takes, o.Takes)/10
		}
		if !other {
			continue
		}
		h.offers = fresh
		device := ""
		if h.of != nil {
			device = h.of.name()
		}
		r.rec.Emit(night.Event{Kind: night.HoldAnew, Device: device, Devices: h.devices, Hold: n, Offers: fresh})
	}
}

// inChange are the devices that are worked on.
func (r *Run) inChange() (out []*plan.Target) {
	for _, h := range r.active {
		out = append(out, h.target)
	}
	return out
}

// unknown tells whether one of some devices has no contact and no timer: nobody can say when
// it will be there again.
func (r *Run) unknown(targets []*plan.Target) bool {
	return slices.ContainsFunc(targets, func(t *plan.Target) bool {
		h := r.active[t.Device.Name]
		return h != nil && h.standing != nil && h.standing.Open
	})
}

// holdDevice opens a device's hold.
func (r *Run) holdDevice(of *hand, m work.Held) {
	of.wasHeld = true
	offers := m.Offers
	batch := r.batchTargets()
	offers = append(offers, night.Offer{Choice: night.BackBatch, Touches: len(batch), Takes: r.backTime(batch), Open: r.unknown(batch)})
	if site := r.ofSite(of.target.Device.Site); len(site) > 1 {
		offers = append(offers, night.Offer{Choice: night.BackSite, Touches: len(site), Takes: r.backTime(site), Open: r.unknown(site),
			Does: of.target.Device.Site})
	}
	back, touched := r.backAll()
	offers = append(offers, night.Offer{Choice: night.BackAll, Touches: touched, Takes: back, Open: r.unknown(r.inChange())})
	h := &openHold{of: of, halted: m.Halted, offers: offers, answer: func(c night.Command) {
		switch c.Choice {
		case night.BackBatch:
			r.takeBatchBack()
		case night.BackSite:
			r.takeSiteBack(of.target.Device.Site)
		case night.BackAll:
			r.takeAllBack()
		default:
			of.orders.Answer(m.Question, c)
		}
	}}
	offered := func(c night.Choice) bool { // without a reason, which nobody is there to give
		return slices.ContainsFunc(offers, func(o night.Offer) bool { return o.Choice == c && !o.Reason })
	}
	h.alone = func() night.Choice {
		alone := night.BackDevice // nobody is there to say that it goes on after the time to change things
		if offers[0].Choice != night.GoOnLate {
			alone = r.alone(of, m.Skips, offered(night.TryAgain))
		}
		if !offered(alone) {
			alone = night.BackDevice // it cannot be done on this device
		}
		return alone
	}
	r.open(h, m.Device, m.Why, m.Evidence)
}

// batchTargets are the devices of the batch that runs which were touched.
func (r *Run) batchTargets() (out []*plan.Target) {
	for _, t := range r.plan.Batches[min(r.batch, len(r.plan.Batches)-1)] {
		if r.active[t.Device.Name] != nil || r.ends[t.Device.Name] == night.Kept {
			out = append(out, t)
		}
	}
	return out
}

// ofSite are the devices of a site that were touched, in whichever batch.
func (r *Run) ofSite(site string) (out []*plan.Target) {
	if site == "" {
		return nil
	}
	for _, h := range r.kept {
		if h.target.Device.Site == site {
			out = append(out, h.target)
		}
	}
	for _, h := range r.active {
		if h.target.Device.Site == site {
			out = append(out, h.target)
		}
	}
	return out
}

// alone is what an unattended run answers for a held device.
func (r *Run) alone(h *hand, skips, again bool) night.Choice {
	u := r.plan.Unattended
	if again && h.tries < u.Tries {
		h.tries++
		return night.TryAgain
	}
	switch u.Then {
	case runbook.SkipStep:
		if skips {
			return night.SkipStep
		}
	case runbook.BackBatch:
		return night.BackBatch
	case runbook.BackAll:
		return night.BackAll
	}
	return night.BackDevice
}

// open opens a hold and, when nobody is there, answers it.
func (r *Run) open(h *openHold, device, why string, evidence []string) {
	r.nextHold++
	n := r.nextHold
	r.holds[n], h.since = h, r.now()
	for i := range h.offers {
		h.offers[i].Fits = r.now().Add(h.offers[i].Takes).Before(r.plan.Window.Close)
	}
	r.rec.Emit(night.Event{Kind: night.HoldOpened, Device: device, Devices: h.devices, Hold: n, Note: why, Lines: evidence, Offers: h.offers})
	if r.byLine() {
		r.answerByLine(n)
	}
}

// answer answers a hold, and those that are alike with it. What is not offered, and what lacks the
// reason it must have, answers nothing.
func (r *Run) answer(c night.Command) {
	holds := append([]int{c.Hold}, c.Also...)
	c.Also = nil
	for i, n := range holds {
		h := r.holds[n]
		if h == nil || slices.Contains(holds[:i], n) || i > 0 && h.of == nil || !h.offered(c) {
			continue
		}
		delete(r.holds, n)
		device := ""
		if h.of != nil {
			device = h.of.name()
		}
		r.rec.Emit(night.Event{Kind: night.HoldClosed, Device: device, Hold: n, Choice: c.Choice, By: c.By, Note: r.plan.Mask(c.Reason)})
		r.pace.stood(device, r.now().Sub(h.since))
		h.answer(c)
		if c.Choice.Wide() { // of all that are alike, once
			return
		}
	}
}

// offered tells whether that is what can be decided.
func (h *openHold) offered(c night.Command) bool {
	return slices.ContainsFunc(h.offers, func(o night.Offer) bool {
		return o.Choice == c.Choice && (!o.Reason || strings.TrimSpace(c.Reason) != "")
	})
}

// closeHolds closes the holds of a device that decided itself.
func (r *Run) closeHolds(device string) {
	for n, h := range r.holds {
		if h.of != nil && h.of.name() == device {
			delete(r.holds, n)
			r.rec.Emit(night.Event{Kind: night.HoldClosed, Device: device, Hold: n})
		}
	}
}
