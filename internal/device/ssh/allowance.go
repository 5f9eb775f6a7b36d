package ssh

import (
	"context"
	"errors"
	"sync"
	"time"
)

// errSilent is a peer that has said nothing for as long as a stage may take.
var errSilent = errors.New("no answer")

// allowance is the time one stage may take; each stage has its own. It stands
// still while we wait for ourselves.
type allowance struct {
	ctx    context.Context
	cancel context.CancelCauseFunc
	each   time.Duration

	mu    sync.Mutex
	timer *time.Timer
}

func newAllowance(parent context.Context, each time.Duration) *allowance {
	a := &allowance{each: each}
	a.ctx, a.cancel = context.WithCancelCause(parent)
	a.timer = time.AfterFunc(each, func() { a.cancel(errSilent) })
	return a
}

func (a *allowance) pause() { a.mu.Lock(); defer a.mu.Unlock(); a.timer.Stop() }

func (a *allowance) reset() { a.mu.Lock(); defer a.mu.Unlock(); a.timer.Reset(a.each) }

func (a *allowance) stop() { a.mu.Lock(); defer a.mu.Unlock(); a.timer.Stop(); a.cancel(nil) }

// cause says why something ended with err: because its time was out, because
// the caller has given up, or for err itself.
func (a *allowance) cause(err error) error {
	if a.ctx.Err() != nil {
		return context.Cause(a.ctx)
	}
	return err
}
