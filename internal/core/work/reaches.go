package work

import (
	"context"
	"errors"
	"fmt"
	"sync"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Conditions may ask whether an address answers: the device itself, this machine, or another
// device. What cannot be found out is not known, and neither so nor not so: another device that
// is away says nothing of the address.

// reached finds out what a condition asks for. The error is one of the device's own session.
func (w *worker) reached(c plan.Check, env runbook.Env) (runbook.Env, error) {
	asks := c.Cond.Reaches(env)
	if len(asks) == 0 {
		return env, nil
	}
	all := map[runbook.ReachAsk]runbook.Reached{}
	for _, a := range asks {
		r, err := w.answer(a)
		if err != nil {
			return env, err
		}
		r.Not = w.maskText(r.Not)
		all[a] = r
		w.tellReached(a, r)
	}
	return env.WithReached(all), nil
}

// answer asks one address for an answer.
func (w *worker) answer(a runbook.ReachAsk) (r runbook.Reached, err error) {
	if err := w.interrupted(); err != nil {
		return r, err
	}
	if err := a.Check(); err != nil {
		return runbook.Reached{Not: err.Error()}, nil
	}
	switch {
	case a.From == "":
		w.doing("reaching %s", a.To)
		r, err = w.ses.Reach(w.ctx, a.To)
		var unclear *driver.Unclear
		var refused *driver.Refused
		if errors.As(err, &unclear) || errors.As(err, &refused) { // it is there, and says nothing of the address
			return runbook.Reached{Not: err.Error()}, nil
		}
		return r, err
	case a.From == runbook.Here && w.crew.Here == nil:
		return runbook.Reached{Not: "nothing can be reached from here"}, nil
	case a.From == runbook.Here:
		w.doing("reaching %s", a)
		ctx, over := w.untilTold()
		r, err = w.crew.Here(ctx, a.To)
		over()
	default:
		w.doing("reaching %s", a)
		ctx, over := w.untilTold()
		r, err = w.crew.others().reach(ctx, w.crew, a)
		over()
	}
	if told := w.interrupted(); told != nil {
		return r, told
	}
	if err != nil {
		return runbook.Reached{Not: err.Error()}, nil
	}
	return r, nil
}

// untilTold is a context that ends as soon as the worker is told not to go forward any more: what
// is found out elsewhere may be waited for, and is none of the device's business then.
func (w *worker) untilTold() (ctx context.Context, over func()) {
	ctx, cancel := context.WithCancel(w.ctx)
	if w.reverting {
		return ctx, cancel
	}
	done := make(chan struct{})
	go func() {
		defer close(done)
		select {
		case <-w.orders.back:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() { cancel(); <-done }
}

// tellReached tells what came of an address, where it is not what came of it last.
func (w *worker) tellReached(a runbook.ReachAsk, r runbook.Reached) {
	step := w.expects
	key := reachKey{step, a}
	if last, told := w.answers[key]; told && last.Sent == r.Sent && last.Answered == r.Answered && last.Not == r.Not {
		return
	}
	if w.answers == nil {
		w.answers = map[reachKey]runbook.Reached{}
	}
	w.answers[key] = r
	w.emit(night.Event{Kind: night.Reached, Step: step, OK: r.Not == "" && r.Answered > 0,
		Reach: &night.Reach{ReachAsk: a, Reached: r}})
}

// reachKey is what was asked for in a step.
type reachKey struct {
	step int // from 1; 0 is before all
	ask  runbook.ReachAsk
}

// Others are the devices from which something is reached for the devices of a night: a session
// each, which those who wait for it use one after the other, and which is over with the last of
// them. Nothing is ever changed on it. The zero value is ready to be used.
type Others struct {
	mu sync.Mutex
	by map[string]*other
}

type other struct {
	turn    chan struct{} // holds one who may use the session
	waiting int           // guarded by Others.mu
	ses     driver.Session
}

func (c *Crew) others() *Others {
	if c.Others != nil {
		return c.Others
	}
	return &c.own
}

// enter waits for the session with a device.
func (o *Others) enter(ctx context.Context, name string) (*other, error) {
	o.mu.Lock()
	if o.by == nil {
		o.by = map[string]*other{}
	}
	d := o.by[name]
	if d == nil {
		d = &other{turn: make(chan struct{}, 1)}
		o.by[name] = d
	}
	d.waiting++
	o.mu.Unlock()
	select {
	case d.turn <- struct{}{}:
		return d, nil
	case <-ctx.Done():
		o.mu.Lock()
		d.waiting--
		o.mu.Unlock()
		return nil, ctx.Err()
	}
}

// leave gives it to the next; the last one ends it.
func (o *Others) leave(d *other) {
	o.mu.Lock()
	d.waiting--
	last := d.waiting == 0
	o.mu.Unlock()
	if last && d.ses != nil {
		_ = d.ses.Close()
		d.ses = nil
	}
	<-d.turn
}

// reach asks an address for an answer from another device.
func (o *Others) reach(ctx context.Context, c *Crew, a runbook.ReachAsk) (r runbook.Reached, err error) {
	t := c.Plan.Other(a.From)
	if t == nil {
		return r, fmt.Errorf("the plan knows of no device %s from which something is reached", a.From)
	}
	d, err := o.enter(ctx, a.From)
	if err != nil {
		return r, err
	}
	defer o.leave(d)
	if d.ses == nil {
		if d.ses, err = c.openOther(ctx, t); err != nil {
			return r, err
		}
	}
	reacher, can := d.ses.(driver.Reacher)
	if !can {
		return r, fmt.Errorf("%s: %w", a.From, cannot("reach an address"))
	}
	r, err = reacher.Reach(ctx, a.To)
	if err != nil {
		err = fmt.Errorf("%s: %s", a.From, d.ses.Mask(err.Error()))
		_ = d.ses.Close() // whatever it was, the next one begins anew
		d.ses = nil
	}
	return r, err
}

// openOther opens a session with another device, which must be the one that is meant.
func (c *Crew) openOther(ctx context.Context, t *plan.Target) (driver.Session, error) {
	s, seen, err := c.connect(ctx, t)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be reached: %w", t.Device.Name, err)
	}
	if err := identity.Check(t.Device.Meant(), c.last(t.Device.Name), seen); err != nil {
		_ = s.Close()
		return nil, fmt.Errorf("what answers is not %s: %w", t.Device.Name, err)
	}
	return s, nil
}
