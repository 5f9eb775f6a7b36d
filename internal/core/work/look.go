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
	Neither     Likeness = "neither as before nor a known part of the change"
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
	// Restarted is for how long it has been up, where it was restarted as the night had told it to.
	Restarted string `json:"restarted,omitempty"`
	// Software says how its software stands, where the night was to give it another.
	Software string `json:"software,omitempty"`
	// Trial tells that what it runs of its software goes back by itself, unless it is kept.
	Trial bool `json:"trial,omitempty"`
	// Waits tells that going on, or taking back, waits for that first.
	Waits bool `json:"waits,omitempty"`
	// NotOn is why it is not gone on with, and can be taken back; "" where it is.
	NotOn string `json:"not_on,omitempty"`
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
	out.Left = w.maskText(w.precheck())
	if err := w.settleRestart(); err != nil {
		out.Unreached = err.Error()
		return
	}
	out.Ours, out.Waits = w.adopted || w.trialOurs, w.trialOurs
	if _, err := w.see(); err == nil && w.pends() {
		out.Timer = w.way()
	}
	r := w.resumed() // as the device tells it by now
	if r == nil || w.backup == "" {
		return
	}
	out.Restarted = r.Restarted
	wrong := w.read() // its software, too
	m, err := w.remains(r)
	if err == nil {
		out.Lines = w.maskLines(config.Compare(m.had, m.runs).Lines(w.t.Masked))
		if out.Runs = w.like(m, m.runs); w.foundSaved {
			out.Saved = w.like(m, w.found)
		}
		err = wrong
	}
	out.Software, out.Trial = w.softwareNote(), w.runs.Trial
	switch {
	case out.Left != "":
	case err != nil:
		out.Left = w.maskText(err.Error())
	default:
		out.NotOn = w.maskText(w.notOn(r, m))
		out.Left = w.maskText(w.takeUp())
		out.Waits = out.Waits || w.waitsOut
	}
}
