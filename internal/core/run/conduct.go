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

// Options are what a run needs from outside: what its workers need, and what it needs itself.
type Options struct {
	work.Outside
	Journal Journal
	// Unattended answers every hold as the runbook's unattended line says.
	Unattended bool
	By         string // who runs it
	// Asleep is how long this machine has been suspended, in all: measured time stands still
	// meanwhile. nil is a machine that never is.
	Asleep func() time.Duration
}

// Journal keeps events.
type Journal interface {
	// Append returns once all the events are durable, in order.
	Append(events []night.Event) error
}

// Run is one night.
type Run struct {
	plan     *plan.Plan
	crew     *work.Crew
	rec      *recorder
	commands chan night.Command
	inbox    chan any // messages of workers, and of our own goroutines
	opts     Options

	// Owned by the conductor's goroutine.
	release    context.CancelFunc // lets go of all devices
	released   bool
	stopping   bool   // no new device starts
	why        string // it is stopping, when somebody said
	batch      int    // from 0
	queue      []*plan.Target
	backs      []*hand // kept devices to be taken back, in that order
	active     map[string]*hand
	busy       *plan.Busy // the same, as the caps count them
	ends       map[string]night.State
	kept       []*hand // in the order they were kept
	holds      map[int]*openHold
	nextHold   int
	failures   int
	failed     map[string]bool // devices that count as failures already
	alarms     []string        // what must be asked about before the next batch
	budget     int             // failures at which we ask; 0 is never
	budgetHold int             // the hold at which that is asked
	pace       paceKeeper
	began      time.Time
	slept      time.Duration // before it began
	forecastAt time.Time     // before then, none is made anew but at the ends of batches
	lateAsked  bool          // somebody has said that the batch that runs goes on late, or is being asked
	batchBack  bool          // the batch that runs is being taken back
}

// New prepares a run of the plan.
func New(p *plan.Plan, o Options) *Run {
	r := &Run{
		plan:     p,
		rec:      newRecorder(o.Journal),
		opts:     o,
		commands: make(chan night.Command, 16),
		inbox:    make(chan any, 64),
		active:   map[string]*hand{},
		ends:     map[string]night.State{},
		holds:    map[int]*openHold{},
		failed:   map[string]bool{},
		budget:   p.Rules.StopAfter,
	}
	r.crew = &work.Crew{Outside: o.Outside, Log: r.rec, Now: r.now, Tell: func(m work.Message) { r.inbox <- m }}
	return r
}

// Events hands out what happens, in order, as it becomes durable. It must be
// read until it is closed, or the run stands still.
func (r *Run) Events() <-chan []night.Event { return r.rec.out }

// Do passes on a decision. A decision on a hold that is closed is ignored.
func (r *Run) Do(ctx context.Context, c night.Command) error {
	select {
	case r.commands <- c:
		return nil
	case <-ctx.Done():
		return ctx.Err()
	case <-r.rec.done:
		return errUnknownHold(c.Hold)
	}
}

// Go carries the plan out. It returns when every device's night is over and all
// events are durable. When ctx ends, everything is let go of.
func (r *Run) Go(ctx context.Context) error {
	r.rec.onFail = func(err error) {
		select {
		case r.inbox <- work.CannotWrite{Err: err}:
		case <-r.rec.done:
		}
	}
	go r.rec.run()
	r.began, r.slept = time.Now(), r.asleep()
	r.plan = r.plan.Begun(r.began)
	r.crew.Plan = r.plan
	r.busy = r.plan.Busy()
	all, release := context.WithCancel(ctx)
	r.release = release
	defer release()
	r.rec.Emit(night.Event{Kind: night.Planned, Outline: night.Outlined(r.plan)})
	r.rec.Emit(night.Event{Kind: night.Began, By: r.opts.By})
	r.forecast(true)
	r.waitForWindow(all)
	for r.batch = 0; r.batch < len(r.plan.Batches) && !r.stopping; r.batch++ {
		r.heed(all)
		if r.stopping {
			break
		}
		r.inTime(all)
		if r.stopping {
			break
		}
		r.runBatch(all)
		r.afterBatch(all)
	}
	for _, b := range r.plan.Batches[min(r.batch, len(r.plan.Batches)):] {
		r.skip(b, cmp.Or(r.why, "the run was stopped before its batch"))
	}
	r.serve(all, func() bool { return len(r.active) == 0 && len(r.backs) == 0 })
	r.rec.Emit(night.Event{Kind: night.Ended})
	close(r.rec.in)
	<-r.rec.done
	r.rec.telling.Wait()
	if r.rec.failed != nil {
		return fmt.Errorf("%w: %w", work.ErrJournal, r.rec.failed)
	}
	return nil
}

// now is the time of the night's own clock: it was right when the night began, and runs on
// from there whatever becomes of this machine's. A clock that is set at night, by hand or
// by the network, does not move the window, and neither does a machine that is suspended.
func (r *Run) now() time.Time {
	return r.began.Round(0).Add(time.Since(r.began) + r.asleep() - r.slept)
}

func (r *Run) asleep() time.Duration {
	if r.opts.Asleep == nil {
		return 0
	}
	return r.opts.Asleep()
}

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

// skip ends the night of devices that were never started.
func (r *Run) skip(targets []*plan.Target, why string) {
	for _, t := range targets {
		if r.ends[t.Device.Name] == "" {
			r.ends[t.Device.Name] = night.Skipped
			r.rec.Emit(night.Event{Kind: night.Moved, Device: t.Device.Name, State: night.Skipped, Note: why, OK: true})
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
	r.queue = r.plan.Order(r.batch)
	r.batchBack = false
	r.rec.Emit(night.Event{Kind: night.BatchBegan, Batch: r.batch + 1})
	r.forecast(true)
	r.serve(ctx, func() bool { return len(r.queue) == 0 && len(r.active) == 0 && len(r.backs) == 0 })
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
			count[r.ends[t.Device.Name]]++
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

func (r *Run) message(m any) {
	if m, ok := m.(interface{ Of() string }); ok && m.Of() != "" && r.active[m.Of()] == nil {
		return // its night is over
	}
	switch m := m.(type) {
	case work.Held:
		r.holdDevice(r.active[m.Device], m)
	case work.Stood:
		r.active[m.Device].stands(m.Standing)
		r.offerAnew()
	case work.Unheld:
		r.closeHolds(m.Device)
	case work.Over:
		r.finished(r.active[m.Device], m)
	case windowOpen:
		r.answer(night.Command{Hold: m.hold, Choice: night.StartEarly, By: "the clock", Reason: "the window is open"})
	case work.LostAlone:
		r.alarm(m.Device, "no contact, and no timer that would take it back")
		r.fail(m.Device)
	case work.CannotWrite:
		if !r.stopping {
			r.stop("stopped: " + m.Err.Error())
			r.answerRunHolds(night.Stop, "what cannot be written")
		}
	}
}

// errUnknownHold answers a decision that comes too late.
func errUnknownHold(n int) error { return fmt.Errorf("hold %d is not open any more", n) }

// windowOpen is our own message: the time has come for which that hold waits.
type windowOpen struct{ hold int }

// finished takes note of a device whose night is over.
func (r *Run) finished(h *hand, m work.Over) {
	name, s := h.name(), m.State
	r.closeHolds(name)
	delete(r.active, name)
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
	if r.failed[device] || r.stopping || r.batchBack {
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

// unstarted tells whether any device is still to be started.
func (r *Run) unstarted() bool {
	return slices.ContainsFunc(r.plan.Targets(), func(t *plan.Target) bool {
		return r.ends[t.Device.Name] == "" && r.active[t.Device.Name] == nil
	})
}

// stop starts no new device; those in change go on.
func (r *Run) stop(why string) {
	r.stopping = true
	r.why = cmp.Or(r.why, why)
	r.skip(r.queue, why)
	r.queue = nil
}

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
	r.open(&openHold{offers: offers, answer: func(c night.Choice) {
		switch c {
		case night.Stop:
			r.stop("its last moment in the window had passed")
		case night.BackAll:
			r.takeAllBack()
		}
	}}, "", why, []string{"begun now, it may not be over before the reserve begins, or not be taken back before the window closes"}, night.Stop)
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
	return at
}

func latest(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}
