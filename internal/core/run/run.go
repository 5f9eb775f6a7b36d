package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
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
	release     context.CancelFunc // lets go of all devices
	released    bool
	stopping    bool   // no new device starts
	why         string // it is stopping, when somebody said
	batch       int    // from 0
	queue       []*plan.Target
	backs       []*hand // kept devices to be taken back, in that order
	active      map[string]*hand
	busy        *plan.Busy // the same, as the caps count them
	ends        map[string]night.State
	kept        []*hand // in the order they were kept
	holds       map[int]*openHold
	nextHold    int
	failures    int
	failed      map[string]bool // devices that count as failures already
	alarms      []string        // what must be asked about before the next batch
	budget      int             // failures at which we ask; 0 is never
	budgetHold  int             // the hold at which that is asked
	standHold   int             // the hold by which somebody lets the night stand
	pace        paceKeeper
	began       time.Time
	slept       time.Duration // before it began
	forecastAt  time.Time     // before then, none is made anew but at the ends of batches
	lateAsked   bool          // somebody has said that the batch that runs goes on late, or is being asked
	most        int           // devices that may be in change at once, as the runbook says; 0 is no cap
	absent      bool          // nobody is there to decide
	absence     int           // how often that was so
	lineDecides bool          // and the unattended line does, since it has been so for long
	batchBack   bool          // the batch that runs is being taken back
	dark        darkness
	sitesBack   map[string]bool // sites that were taken back
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
	r.busy, r.most = r.plan.Busy(), r.plan.Rules.Together
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

// errUnknownHold answers a decision that comes too late.
func errUnknownHold(n int) error {
	if n == 0 { // it was of a device, or of the night
		return errors.New("the night is over: nothing was done")
	}
	return fmt.Errorf("hold %d is not open any more", n)
}
