package run

import (
	"maps"
	"slices"
	"time"

	"metabasis/internal/core/night"
)

// A night that goes on without a terminal may have nobody who decides: nobody is attached to it, or
// nobody of those that look has the wheel. It waits for a person then, for as long as the runbook's
// unattended line says; after that the line decides, until somebody is there again. A runbook that
// says no such time has the night wait: devices that are held come back by their timers.

// unmanned is our own message: the runbook's wait is over of the absence of that number.
type unmanned struct{ absence int }

// byLine tells whether the runbook's unattended line decides now.
func (r *Run) byLine() bool { return r.opts.Unattended || r.lineDecides }

// nobody takes in that nobody is there to decide.
func (r *Run) nobody() {
	if r.absent || r.opts.Unattended {
		return
	}
	r.absent = true
	r.absence++
	e := night.Event{Kind: night.Alone}
	if u := r.plan.Unattended; u.Given && u.After > 0 {
		e.Due = r.now().Add(u.After)
		this := unmanned{r.absence}
		time.AfterFunc(u.After, func() {
			select {
			case r.inbox <- this:
			case <-r.rec.done:
			}
		})
	}
	r.rec.Emit(e)
}

// somebody takes in that somebody is there to decide.
func (r *Run) somebody(by string) {
	if !r.absent {
		return
	}
	r.absent, r.lineDecides = false, false
	r.rec.Emit(night.Event{Kind: night.Attended, By: by})
}

// leftAlone has the unattended line decide: what is held now, and what will be.
func (r *Run) leftAlone(m unmanned) {
	if !r.absent || m.absence != r.absence || r.released {
		return
	}
	r.lineDecides = true
	r.rec.Emit(night.Event{Kind: night.Unattended})
	for _, n := range slices.Sorted(maps.Keys(r.holds)) {
		r.answerByLine(n)
	}
}

// answerByLine answers a hold as the unattended line says, unless it is one that waits by itself.
func (r *Run) answerByLine(n int) {
	h := r.holds[n]
	if h == nil || h.alone == nil || h.aside {
		return
	}
	if choice := h.alone(); choice != "" {
		r.answer(night.Command{Hold: n, Choice: choice, By: "the runbook's unattended line"})
	}
}

// always is a choice that is the same whenever it is made.
func always(c night.Choice) func() night.Choice { return func() night.Choice { return c } }
