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

// tooLate is our own message: the window has closed in the absence of that number, or a day has gone by.
type tooLate struct{ absence int }

// How long a question of the run waits for a person in an absence: until the window closes, which may
// be soon; a night without a window waits a day.
const (
	shortestWait = 10 * time.Minute
	longestWait  = 24 * time.Hour
)

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
	wait := longestWait
	if w := r.plan.Window; !w.None {
		wait = max(shortestWait, w.Close.Sub(r.now()))
	}
	r.later(wait, tooLate{r.absence})
	e := night.Event{Kind: night.Alone}
	if u := r.plan.Unattended; u.Given && u.After > 0 {
		e.Due = r.now().Add(u.After)
		r.later(u.After, unmanned{r.absence})
	}
	r.rec.Emit(e)
}

// later says something to ourselves after a while, unless the night is over by then.
func (r *Run) later(wait time.Duration, m any) {
	time.AfterFunc(wait, func() {
		select {
		case r.inbox <- m:
		case <-r.rec.done:
		}
	})
}

// endsAlone stops a night that waits for an answer, in which nobody can be expected any more: what
// is held on devices is left to them, and to their timers.
func (r *Run) endsAlone(m tooLate) {
	if !r.absent || m.absence != r.absence || r.released {
		return
	}
	for _, n := range slices.Sorted(maps.Keys(r.holds)) {
		if h := r.holds[n]; h != nil && h.of == nil {
			r.answer(night.Command{Hold: n, Choice: night.Stop, By: "metabasis", Reason: "nobody has come"})
		}
	}
	r.stop("nobody has come")
}

// somebody takes in that somebody is there to decide.
func (r *Run) somebody(by string) {
	if !r.absent {
		return
	}
	r.absent, r.lineDecides = false, false
	r.rec.Emit(night.Event{Kind: night.Attended, By: by})
	r.askOfDark() // what went dark meanwhile
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
