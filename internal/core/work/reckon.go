package work

import (
	"slices"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// How long a choice takes is reckoned from what the device itself has shown tonight: how
// long each kind of thing took that was asked of it, and which of them the choice needs.

// op is a kind of thing that is asked of a device.
type op int

const (
	opRead op = iota
	opConfig
	opLine
	opEdit
	opApply
	opArm
	opPending
	opDisarm
	opSave
	opRestore
	opEnd // ending a trial
	ops
)

// commands is how many commands each of them usually is, as long as it was not seen.
var commands = [ops]float64{
	opRead:    1,
	opConfig:  1,
	opLine:    1,
	opEdit:    1,
	opApply:   1,
	opArm:     1,
	opPending: 1,
	opDisarm:  1,
	opSave:    1,
	opRestore: 4,
	opEnd:     1,
}

// clock is how long things took on one device, the newest counting most.
type clock struct{ took [ops]time.Duration }

func (c *clock) add(o op, began time.Time) {
	d := time.Since(began)
	if c.took[o] == 0 {
		c.took[o] = d
	} else {
		c.took[o] = (c.took[o] + d) / 2
	}
}

// of is how long one takes; usual is how long a command takes where nothing was seen.
func (c *clock) of(o op, usual time.Duration) time.Duration {
	if c.took[o] > 0 {
		return c.took[o]
	}
	sum, n := 0.0, 0.0
	for i, d := range c.took {
		if d > 0 {
			sum, n = sum+d.Seconds(), n+commands[i]
		}
	}
	if n > 0 {
		usual = time.Duration(sum / n * float64(time.Second))
	}
	return time.Duration(commands[o] * float64(usual))
}

// quietAfter is how long a device may take over an answer before that is told.
const quietAfter = 5 * time.Second

// quiet begins to wait for an answer of the device: one that does not come is told.
func (w *worker) quiet() (heard func()) {
	told := make(chan struct{})
	t := time.AfterFunc(quietAfter, func() {
		defer close(told)
		w.crew.Log.Emit(night.Event{Kind: night.Quiet, Device: w.name(), For: quietAfter})
	})
	return func() {
		if t.Stop() {
			return
		}
		<-told
		w.crew.Log.Emit(night.Event{Kind: night.Contact, Device: w.name()})
	}
}

// each is how long so many of some things take.
func (w *worker) each(n int, o op) time.Duration {
	return time.Duration(n) * w.clock.of(o, w.t.Traits.Command)
}

// closing is how long it takes from the proof to the end: disarming, saving, and looking at
// all of it.
func (w *worker) closing() time.Duration {
	d := w.each(1, opConfig)
	if w.guarded() {
		d += w.each(1, opDisarm) + w.each(1, opPending)
	}
	if w.t.Traits.Saves {
		d += w.each(1, opSave)
	}
	if d += w.each(1, opConfig); w.t.Traits.TellsSaved {
		d += w.each(1, opConfig)
	}
	return d + time.Duration(len(w.t.Record.Tables))*w.each(1, opRead)
}

// stepping is how long a step takes: its lines, where they are still to be sent, and what it
// expects. Most is when each expectation takes all the time that it may.
func (w *worker) stepping(i int, sent bool) (usual, most time.Duration) {
	s := w.t.Steps[i]
	if s.Changes() && !sent {
		if len(w.ran) > 0 {
			usual += w.each(1, opConfig)
		}
		if w.guarded() {
			usual += w.each(1, opPending)
		}
		lines := len(s.Send)
		if len(s.Put) > 0 {
			lines = 4
		}
		usual += w.each(1, opEdit) + w.each(lines, opLine) + w.each(1, opApply)
		if w.onTrial() {
			usual += w.each(1, opPending)
		}
	}
	if s.Kind != plan.ChangeStep && !sent {
		if s.Acts() && w.steps[i].did == len(s.Commands) { // nothing is given again
			return w.expecting(s) / 3, w.expecting(s)
		}
		u, m := s.Work(w.t.Traits.Command)
		if s.Kind == plan.SoftwareStep {
			u, m = w.t.UpgradeWork(s)
		}
		usual, most = usual+u, most+m
		return usual, most + w.expecting(s)
	}
	if s.Changes() && w.t.Traits.Language != nil {
		usual += w.each(1, opConfig)
	}
	most = usual
	for n, e := range s.Expect {
		look := time.Duration(max(len(e.Cond.Names()), 1)) * w.each(1, opRead)
		usual, most = usual+look, most+look+e.Within
		if est, known := w.crew.Plan.Usual(w.t, s.Title); known && n == 0 && !sent {
			usual += max(est-look, 0)
		} else if !sent {
			usual += e.Within / 3
		}
	}
	return usual, most
}

// expecting is how long what a step expects may take.
func (w *worker) expecting(s plan.Step) (most time.Duration) {
	for _, e := range s.Expect {
		most += e.Within
	}
	return most
}

// going is how long it takes to go on to the end, from a step on; sent tells that its lines
// are in, and soaked that the soak is over.
func (w *worker) going(from int, sent, soaked bool) (usual, most time.Duration) {
	for i := from; i < len(w.t.Steps); i++ {
		if w.skipped(i) {
			continue
		}
		u, m := w.stepping(i, sent && i == from)
		usual, most = usual+u, most+m
	}
	if !soaked && w.crew.Plan.Soak > 0 {
		usual, most = usual+w.crew.Plan.Soak, most+w.crew.Plan.Soak
	}
	most += w.t.Record.Within
	return usual + w.closing(), most + w.closing()
}

// undoing is how many lines lead back from what the device has by now, and with some further
// steps.
func (w *worker) undoing(more ...int) (lines, edits int) {
	for _, i := range w.ran {
		more = slices.DeleteFunc(more, func(j int) bool { return i == j })
	}
	begun := slices.Concat(w.ran, more)
	if len(begun) == 0 {
		return 0, 0
	}
	for _, i := range begun {
		undo := len(w.t.Steps[i].Undo)
		if undo == 0 {
			undo = len(w.t.Steps[i].Send)
		}
		lines, edits = lines+undo, edits+1
	}
	if w.t.Traits.Language != nil { // computed, and sent at once
		edits = 1
	}
	return lines, edits
}

// backing is how long it takes to take the device back and prove it.
func (w *worker) backing(more ...int) time.Duration {
	d := w.each(1, opConfig) + w.startingOld()
	lines, edits := w.undoing(more...)
	switch {
	case edits == 0:
	case w.onTrial() && w.pends():
		d += w.each(2, opPending) + w.each(1, opEnd) + w.each(1, opConfig)
	default:
		if w.guarded() {
			d += w.each(2, opPending)
		}
		d += w.each(edits, opEdit) + w.each(lines, opLine) + w.each(edits, opApply) + w.each(1, opConfig)
		if w.t.Traits.Language != nil {
			d += w.each(1, opConfig)
			if w.guarded() {
				d += w.each(1, opPending)
			}
		}
	}
	if w.guarded() {
		if d += w.each(1, opPending); !w.onTrial() {
			d += w.each(1, opDisarm)
		}
	}
	if w.t.Traits.TellsSaved {
		d += w.each(1, opConfig)
	}
	if w.saved {
		d += w.each(1, opSave) + w.each(1, opConfig)
	}
	return d + w.each(1, opConfig)
}

// startingOld is how long it takes to start the device with the software that it ran before.
func (w *worker) startingOld() time.Duration {
	i, does := w.t.Upgrades()
	if !does || !w.exchanged() || w.runs.Stands(w.software) || w.t.Steps[i].Absence == nil {
		return 0
	}
	usual, _ := w.crew.Plan.AwayFor(w.t, w.t.Steps[i])
	return w.each(3, opRead) + w.each(2, opLine) + max(usual, w.entry)
}

// backingKept is how long it takes to take back a device that was kept: it is connected to
// and armed again.
func (w *worker) backingKept() time.Duration {
	if len(w.ran) == 0 && !w.saved && !w.exchanged() {
		return w.entry + w.each(3, opConfig)
	}
	d := w.backing() + max(w.entry, w.t.Traits.Connect/4)
	if w.guarded() && !w.onTrial() {
		d += w.each(1, opArm) + w.each(1, opPending) + w.each(2, opConfig)
	}
	return d
}

// firingTakes is how long it takes until the device has taken the change back by itself and was
// seen to have.
func (w *worker) firingTakes() time.Duration {
	return max(time.Until(w.due), 0) + w.t.Traits.Boot + w.entry + w.each(1, opPending) + w.each(2, opConfig)
}

// standing is how the device stands in a state.
func (w *worker) standing(s night.State) Standing {
	switch {
	case s == night.Dark && !w.pends():
		return Standing{Back: w.backing(), Ready: time.Now().Add(patience), Open: true}
	case s == night.Dark: // it takes itself back
		return Standing{Ready: time.Now().Add(w.firingTakes())}
	case s == night.Absent: // it is taken back once it is there again
		if time.Now().Before(w.trip.usual) {
			return Standing{Back: w.backing(), Ready: w.trip.usual}
		}
		return Standing{Back: w.backing(), Ready: w.trip.most}
	case s == night.Changing: // with the step in hand
		return Standing{Back: w.backing(w.at.step)}
	case s == night.Kept:
		return Standing{Back: w.backingKept()}
	}
	return Standing{Back: w.backing()}
}
