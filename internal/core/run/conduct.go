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
	"metabasis/internal/core/work"
)

// waitForWindow waits until the window opens, unless a person starts earlier.
func (r *Run) waitForWindow(ctx context.Context) {
	open := r.plan.Window.Open
	if !r.now().Before(open) {
		return
	}
	hold := r.nextHold + 1 // the one opened below: only that is answered by the time
	t := time.AfterFunc(open.Sub(r.now()), func() {
		select {
		case r.inbox <- windowOpen{hold}:
		case <-ctx.Done():
		}
	})
	defer t.Stop()
	r.ask(
		ctx,
		"the window opens at "+open.Format("Mon 2 Jan 15:04 MST"),
		[]string{"the run starts by itself when it opens"},
		"",
		night.StartEarly,
	)
}

// resumed is what a night that was cut off has left on a device, where this one goes on with it; nil
// where that had not begun with it.
func (r *Run) resumed(device string) *work.Resumed {
	if r.opts.Resumed == nil {
		return nil
	}
	if from := r.opts.Resumed(device); from != nil && from.Begun {
		return from
	}
	return nil
}

// skip ends the night of devices that were never started.
func (r *Run) skip(targets []*plan.Target, why string) {
	for _, t := range targets {
		if r.ends[t.Device.Name] == "" {
			state := night.Skipped
			if from := r.resumed(t.Device.Name); from != nil { // it is not untouched
				state, why = night.Stranded, from.NotGoneOn(why)
			}
			r.ends[t.Device.Name] = state
			e := night.EndsIn(state, why, true)
			e.Device = t.Device.Name
			r.rec.Emit(e)
		}
	}
}

// inTime asks before a batch that can no longer be taken back inside the
// window (law 9).
func (r *Run) inTime(ctx context.Context) {
	r.lateAsked = false
	turn := r.plan.TurnBack(r.batch, r.now(), r.pace.shown)
	if turn.IsZero() || !r.now().After(turn) {
		return
	}
	r.lateAsked = true // and need not be asked for each of its devices
	r.ask(ctx, fmt.Sprintf("the turn-back time of batch %d was %s", r.batch+1, turn.Format("15:04:05")),
		[]string{"started now, it may not be possible to take everything back before the window closes"}, night.Stop, night.GoOnLate)
}

// heed asks before a batch when a device was lost in a way that nothing but a
// person will mend.
func (r *Run) heed(ctx context.Context) {
	if len(r.alarms) == 0 {
		return
	}
	alarms := r.alarms
	r.alarms = nil
	r.ask(ctx, fmt.Sprintf("before batch %d: a device needs a person", r.batch+1), alarms, night.Stop, night.GoOn)
}

func (r *Run) runBatch(ctx context.Context) {
	r.queue = r.unended(r.plan.Order(r.batch))
	r.batchBack = false
	r.rec.Emit(night.Event{Kind: night.BatchBegan, Batch: r.batch + 1})
	r.forecast(true)
	r.serve(ctx, func() bool { return len(r.queue) == 0 && !r.heldUp() && len(r.backs) == 0 })
	r.rec.Emit(night.Event{Kind: night.BatchEnded, Batch: r.batch + 1})
}

// afterBatch holds where the runbook says so, and after a batch that was taken
// back.
func (r *Run) afterBatch(ctx context.Context) {
	last := r.batch == len(r.plan.Batches)-1
	rules := r.plan.Rules
	switch {
	case last || r.stopping:
	case r.batchBack:
		r.ask(ctx, fmt.Sprintf("batch %d was taken back", r.batch+1), nil, night.Stop, night.GoOn)
	case rules.HoldAlways || slices.Contains(rules.HoldAfter, r.batch+1):
		count := map[night.State]int{}
		for _, t := range r.plan.Batches[r.batch] {
			count[cmp.Or(r.ends[t.Device.Name], night.Dark)]++ // one that has no end is still looked for
		}
		var lines []string
		for _, s := range slices.Sorted(maps.Keys(count)) {
			lines = append(lines, fmt.Sprintf("%d %s", count[s], s))
		}
		alone, failed := night.GoOn, count[night.Reverted]+count[night.Stranded]+count[night.Dark]
		if (failed > 0 || count[night.Kept]+count[night.Already] == 0) && !r.plan.Unattended.GoOn {
			alone = night.Stop // nobody is there who has seen it
		}
		r.ask(ctx, fmt.Sprintf("the runbook holds after batch %d", r.batch+1), lines, alone, night.GoOn)
	}
}

// serve runs the event loop until done says so.
func (r *Run) serve(ctx context.Context, done func() bool) {
	for {
		r.heedJournal()
		r.startMore(ctx)
		if done() {
			return
		}
		select {
		case m := <-r.inbox:
			r.message(m)
		case c := <-r.commands:
			r.command(c)
		case <-ctx.Done():
			r.letGoAll("interrupted")
			// Workers end by themselves now; wait for them.
			for len(r.active) > 0 {
				r.message(<-r.inbox)
			}
			for _, h := range r.backs {
				r.rec.Emit(night.Event{Kind: night.Doing, Device: h.name(), Note: "kept; it was let go of before it could be taken back"})
			}
			r.backs = nil
			r.skip(r.queue, "let go before it was started")
			r.queue = nil
			if done() || r.released {
				return
			}
		}
	}
}

// heedJournal stops the run where the journal cannot be written any more. A worker may say that
// its night is over for it before anybody else has told us.
func (r *Run) heedJournal() {
	if broken := r.rec.broken.Load(); broken != nil {
		r.message(work.CannotWrite{Err: *broken})
	}
}

// message takes in one of our own goroutines', or of a worker's.
func (r *Run) message(m any) {
	switch m := m.(type) {
	case windowOpen:
		r.answer(night.Command{Hold: m.hold, Choice: night.StartEarly, By: "the clock", Reason: "the window is open"})
	case unmanned:
		r.leftAlone(m)
	case tooLate:
		r.endsAlone(m)
	case askDark:
		if r.still(m.darkDevice) && !slices.Contains(r.dark.asked, m.Device) {
			r.askOfDark()
		}
	case goBeside:
		m.beside = r.still(m.darkDevice)
	case work.CannotWrite: // whoever says it, and whenever
		if !r.stopping {
			r.stop("stopped: " + m.Err.Error())
			r.answerRunHolds(night.Stop, "what cannot be written")
		}
	case work.Message:
		if h := r.active[m.Of()]; h != nil { // else its night is over
			r.told(h, m)
		}
	}
}

// told takes in what a worker tells of its device.
func (r *Run) told(h *hand, m work.Message) {
	switch m := m.(type) {
	case work.Held:
		r.holdDevice(h, m)
	case work.Unheld:
		r.closeHolds(m.Device)
	case work.Stood:
		h.stands(m.Standing)
		r.offerAnew()
	case work.GoneDark:
		r.goneDark(m)
	case work.Regained:
		r.regained(m.Device)
	case work.LostAlone:
		r.alarm(m.Device, "no contact, and no timer that would take it back")
		r.fail(m.Device)
	case work.Over:
		r.finished(h, m)
	}
}

// windowOpen is our own message: the time has come for which that hold waits.
type windowOpen struct{ hold int }

// finished takes note of a device whose night is over.
func (r *Run) finished(h *hand, m work.Over) {
	name, s := h.name(), m.State
	r.closeHolds(name)
	delete(r.active, name)
	r.regained(name)
	r.busy.End(h.target)
	r.ends[name] = s
	if s == night.Kept {
		h.known = m.Known
		h.stands(m.Standing)
		r.kept = append(r.kept, h)
		if h.orders.ToldBack() { // it was being saved when it was to be taken back
			r.undoKept(func(k *hand) bool { return k == h })
		}
		r.pace.learn(h, r.plan, r.now())
	}
	if s == night.Stranded || s == night.Dark {
		r.alarm(name, string(s))
	}
	if s == night.Reverted || s == night.Stranded || s == night.Dark {
		r.fail(name)
	}
	r.offerAnew()
	r.forecast(false)
}

// fail counts a device against the failure budget, once.
func (r *Run) fail(device string) {
	if r.failed[device] || r.stopping || r.batchBack || r.sitesBack[r.siteOf(device)] {
		return
	}
	r.failed[device] = true
	r.failures++
	if r.budget > 0 && r.failures >= r.budget && r.unstarted() {
		r.overBudget()
	}
}

// alarm notes what must be asked about before the next batch.
func (r *Run) alarm(device, what string) {
	text := device + ": " + what
	for i, a := range r.alarms {
		if strings.HasPrefix(a, device+": ") {
			r.alarms[i] = text
			return
		}
	}
	r.alarms = append(r.alarms, text)
}

// stop starts no new device; those in change go on.
func (r *Run) stop(why string) {
	r.stopping = true
	r.why = cmp.Or(r.why, why)
	r.skip(r.queue, why)
	r.queue = nil
}
