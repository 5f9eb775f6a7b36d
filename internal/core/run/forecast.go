package run

import (
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// seldom is how often a forecast is made anew while a batch runs, and share how many times
// as long as it took the run is then left alone: what one device more shows of five
// thousand does not move it.
const (
	seldom = 2 * time.Second
	share  = 50
)

// forecast tells when the rest will run, corrected by what the night has shown; a batch
// that begins or ends is always told.
func (r *Run) forecast(always bool) {
	now := r.now()
	if len(r.plan.Batches) == 0 || !always && now.Before(r.forecastAt) {
		return
	}
	began := time.Now()
	defer func() { r.forecastAt = now.Add(max(seldom, share*time.Since(began))) }()
	o := r.plan.Forecast(r.progress(latest(now, r.plan.Window.Open), min(r.batch, len(r.plan.Batches))))
	r.rec.Emit(night.Event{Kind: night.Forecast, Batch: r.batch + 1, Slots: o.Slots, Due: o.Likely, Late: o.Late, Stays: o.Stays})
}

// progress is how far the night is, as the forecast wants it.
func (r *Run) progress(now time.Time, batch int) plan.Progress {
	at := plan.Progress{Now: now, Batch: batch, Over: map[string]bool{}, Began: map[string]time.Time{}, Pace: r.pace.shown}
	if batch >= len(r.plan.Batches) {
		return at
	}
	for _, t := range r.plan.Batches[batch] {
		name := t.Device.Name
		if r.ends[name] != "" {
			at.Over[name] = true
		} else if r.active[name] != nil {
			at.Began[name] = r.pace.began[name]
		}
	}
	for _, h := range r.holds { // that time is not worked
		if h.of != nil && !at.Began[h.of.name()].IsZero() {
			at.Began[h.of.name()] = at.Began[h.of.name()].Add(r.now().Sub(h.since))
		}
	}
	return at
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// paceKeeper learns how this night's devices compare with the estimates.
type paceKeeper struct {
	began map[string]time.Time
	shown plan.Pace
}

func (k *paceKeeper) begin(h *hand, now time.Time) {
	if k.began == nil {
		k.began = map[string]time.Time{}
	}
	k.began[h.name()] = now
}

// stood takes in for how long a device waited for a person: that was no work on it.
func (k *paceKeeper) stood(device string, held time.Duration) {
	if began, ok := k.began[device]; ok {
		k.began[device] = began.Add(held)
	}
}

// learn takes in a device that was kept. One that was held shows nothing: it waited for a
// person.
func (k *paceKeeper) learn(h *hand, p *plan.Plan, now time.Time) {
	if h.wasHeld {
		return
	}
	usual, _ := h.target.Estimate(p)
	k.shown.Add(now.Sub(k.began[h.name()])-p.Soak, usual)
}
