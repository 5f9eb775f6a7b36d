package work

import (
	"context"
	"fmt"
	"runtime/debug"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// Likeness is what a configuration of a device is that a night was cut off on.
type Likeness string

// The likenesses.
const (
	AsBefore    Likeness = "as before the night"
	AsPredicted Likeness = "as predicted, with all of the change"
	InPart      Likeness = "part of the change"
	Neither     Likeness = "neither as before nor part of the change"
	NotKnown    Likeness = "not known"
)

// Looked is what a fresh look says of a device on which a night was cut off. Nothing was done to it.
type Looked struct {
	Device string   `json:"device"`
	Runs   Likeness `json:"runs"`
	Saved  Likeness `json:"saved"`
	Lines  []string `json:"lines,omitempty"` // in which what runs differs from what it had before
	// Timer is what takes the change back by itself; "" where nothing does. Ours tells that it is that
	// of the night that was cut off.
	Timer string `json:"timer,omitempty"`
	Ours  bool   `json:"ours,omitempty"`
	// Waits tells that going on, or taking back, waits for that first.
	Waits bool `json:"waits,omitempty"`
	// InDoubt is a command of which is not known whether it was done: then it is not gone on with.
	InDoubt string `json:"in_doubt,omitempty"`
	// Left is why it is neither gone on with nor taken back; "" where it can be.
	Left string `json:"left,omitempty"`
	// Unreached is why it was not looked at.
	Unreached string `json:"unreached,omitempty"`
}

// Look looks at a device on which a night was cut off that the plan goes on with, and says what it has
// now. Nothing is done to it.
func Look(ctx context.Context, p *plan.Plan, t *plan.Target, o Outside) (out Looked) {
	crew := &Crew{Outside: o, Plan: p, Log: &told{}, Now: time.Now, Tell: func(Message) {}}
	w := crew.worker(ctx, begin(t))
	w.orders, w.onlyLooks = NewOrders(), true
	out = Looked{Device: t.Device.Name, Runs: NotKnown, Saved: NotKnown}
	defer func() {
		if p := recover(); p != nil {
			w.abandonSession(p, debug.Stack())
			out.Unreached = fmt.Sprintf("Metabasis itself failed on this device (%v)", p)
			return
		}
		w.hangUp()
	}()
	if err := w.reach(); err != nil {
		out.Unreached = err.Error()
		return out
	}
	if why := w.identify(w.who); why != "" {
		out.Unreached = why
		return out
	}
	w.lookOver(&out) //nolint:contextcheck // a worker has its context with it
	return out
}

// lookOver says what the device has that was reached.
func (w *worker) lookOver(out *Looked) {
	r := w.resumed()
	if r != nil {
		out.InDoubt = r.InDoubt
	}
	why := w.maskText(w.precheck())
	out.Ours, out.Waits = w.adopted || w.trialOurs, w.trialOurs
	if _, err := w.see(); err == nil && w.pends() {
		out.Timer = w.way()
	}
	if r == nil || w.backup == "" {
		out.Left = why
		return
	}
	had := config.Parse(r.Had, w.t.Traits.Style)
	if r.Had != "" {
		out.Lines = w.maskLines(config.Compare(had, w.before).Lines(w.t.Masked))
	}
	then, err := w.computedFrom(had)
	known := false
	var end config.Config
	if err == nil && r.Had != "" {
		end, known = then.Predicted(had)
	}
	like := func(c config.Config) Likeness {
		switch {
		case r.Had == "":
			return NotKnown
		case config.Equal(c, had):
			return AsBefore
		case !known:
			return NotKnown
		case config.Equal(c, end):
			return AsPredicted
		case w.partOf(had, c, end):
			return InPart
		}
		return Neither
	}
	out.Runs = like(w.before)
	if w.foundSaved {
		out.Saved = like(w.found)
	}
	out.Left = why
	if err := w.read(); err != nil && why == "" {
		out.Left = err.Error()
	} else if why == "" {
		out.Left = w.maskText(w.takeUp())
	}
}
