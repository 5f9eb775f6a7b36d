package acts

import (
	"context"
	"errors"
	"fmt"
	"time"
)

// A night is over before its backups are brought off this machine: what another machine does
// holds nobody up who waits for the night.

// pushing is the pushing that follows a night, for whoever waits for it.
type pushing struct {
	over chan struct{}
	err  error // once it is over
	ctx  context.Context
	halt context.CancelCauseFunc
}

func newPushing() *pushing {
	p := &pushing{over: make(chan struct{})}
	p.ctx, p.halt = context.WithCancelCause(context.Background())
	return p
}

// within is a context that ends when somebody does not want to wait any longer.
func (p *pushing) within(ctx context.Context) context.Context {
	ctx, end := context.WithCancelCause(ctx)
	context.AfterFunc(p.ctx, func() { end(context.Cause(p.ctx)) })
	return ctx
}

func (p *pushing) end(err error) {
	p.err = err
	close(p.over)
}

// stop ends it, and waits until it has ended.
func (p *pushing) stop() {
	p.halt(errLeftPushing)
	<-p.over
}

var errLeftPushing = errors.New("it was not waited for")

// Pushed waits until the backups of a night that is over are pushed, or ctx ends: then what
// is left is pushed the next time. The error says what is not pushed.
func (n *Tonight) Pushed(ctx context.Context) error {
	if len(n.desk.Settings.Places) == 0 {
		return nil
	}
	select {
	case <-n.pushing.over:
	case <-ctx.Done():
		n.pushing.stop()
	}
	return n.pushing.err
}

// Places are where the backups of the workspace are pushed.
func (d *Desk) Places() (names []string) {
	for _, p := range d.Settings.Places {
		names = append(names, p.Name())
	}
	return names
}

// Places are where its backups are pushed once it is over.
func (n *Tonight) Places() []string { return n.desk.Places() }

// PushAllWithin bounds pushing where a person has asked for it; ErrPushTime says that it was
// over.
const PushAllWithin = 30 * time.Minute

// ErrPushTime says that pushing took too long.
var ErrPushTime = fmt.Errorf("not all was pushed within %s; what is there stays, and pushing again goes on", PushAllWithin)

// PushWithin bounds pushing at the end of a night: what is left is pushed the next time.
const PushWithin = 2 * time.Minute

// push pushes what the night put on the shelf, where the settings name places for it.
func (n *Tonight) push(ctx context.Context) error {
	if len(n.desk.Settings.Places) == 0 {
		return nil
	}
	ctx, stop := context.WithTimeoutCause(ctx, PushWithin, fmt.Errorf("that was not done within %s", PushWithin))
	defer stop()
	all, err := n.desk.Push(ctx, false, nil)
	wrong := []error{err}
	for _, p := range all {
		if p.Error != "" {
			wrong = append(wrong, fmt.Errorf("not all backups are at %s: %s; push them with metabasis backups push", p.Place, p.Error))
		}
	}
	return errors.Join(wrong...)
}
