package work

import (
	"context"
	"errors"
	"sync/atomic"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// A conductor and its workers share nothing that moves. It tells a worker by [Orders] what was
// decided; a worker tells it by a [Message] how the device stands.

// Message is what a worker tells its conductor. Those of one device come in order; [Over] is
// the last.
type Message interface {
	// Of is the name of the device.
	Of() string
}

type (
	// Held asks for a decision on a device.
	Held struct {
		Device   string
		Why      string
		Evidence []string
		Offers   []night.Offer
		Question int  // what the answer must name
		Halted   bool // it is held since that was ordered, and nothing else is wrong
		Skips    bool // leaving the step out was not tried in vain
	}
	// Unheld says that nothing waits for a decision on a device any more.
	Unheld struct{ Device string }
	// Stood says how a device stands now: taking it back takes another time.
	Stood struct {
		Device string
		Standing
	}
	// LostAlone says that contact is lost with a device that has no timer.
	LostAlone struct{ Device string }
	// CannotWrite says that what must be kept cannot be written any more.
	CannotWrite struct {
		Device string // "" where that was not found out at a device
		Err    error
	}
	// GoneDark says that contact is lost with a device, which waits by itself; Regained that it is
	// there again.
	GoneDark struct {
		Device string
		Due    time.Time // when its own way back is due; zero where nothing is pending
		Back   time.Time // when it should be there again by that
		Until  time.Time // it is looked for until then
		// Decided tells that a person left it to its timer.
		Decided bool
	}
	Regained struct{ Device string }
	// Over says that a device's night is over.
	Over struct {
		Device string
		State  night.State
		Standing
		Known Known // what whoever takes it back begins with
	}
)

// Of implements [Message].
func (m Held) Of() string { return m.Device }

// Of implements [Message].
func (m Unheld) Of() string { return m.Device }

// Of implements [Message].
func (m Stood) Of() string { return m.Device }

// Of implements [Message].
func (m LostAlone) Of() string { return m.Device }

// Of implements [Message].
func (m CannotWrite) Of() string { return m.Device }

// Of implements [Message].
func (m GoneDark) Of() string { return m.Device }

// Of implements [Message].
func (m Regained) Of() string { return m.Device }

// Of implements [Message].
func (m Over) Of() string { return m.Device }

// Standing is how a device stands: how long taking it back takes, and from when on that can
// begin.
type Standing struct {
	Back  time.Duration
	Ready time.Time // it cannot be taken back before; zero is now
	Open  bool      // nobody knows when it will be there again
}

// Orders is how a worker is told what was decided.
type Orders struct {
	back    chan struct{} // closed when the device is to be taken back
	answers chan answer
	leave   chan struct{} // filled when a device without contact is not to be looked for any more
	halts   atomic.Pointer[halt]
}

// answer is a decision on one question of a worker.
type answer struct {
	question int
	night.Command
}

// halt is that the device is to be held after what is in flight.
type halt struct {
	line bool // after the line; else after the step
	by   string
}

// NewOrders makes the orders of one worker.
func NewOrders() *Orders {
	return &Orders{back: make(chan struct{}), answers: make(chan answer, 4), leave: make(chan struct{}, 1)}
}

// Leave orders a device that has no contact to be left as it is. To one that has, it says nothing.
func (o *Orders) Leave() {
	select {
	case o.leave <- struct{}{}:
	default:
	}
}

// Unhalt takes that back, where the device is not held yet.
func (o *Orders) Unhalt() { o.halts.Store(nil) }

// Halt orders the device to be held after the line in flight, or else after its step.
func (o *Orders) Halt(line bool, by string) { o.halts.Store(&halt{line, by}) }

// TakeBack orders a device to be taken back. Only one goroutine may give orders.
func (o *Orders) TakeBack() {
	if !o.ToldBack() {
		close(o.back)
	}
}

// ToldBack tells whether that was ordered.
func (o *Orders) ToldBack() bool {
	select {
	case <-o.back:
		return true
	default:
		return false
	}
}

// Answer answers a question of a worker; one that it does not ask any more is passed over.
func (o *Orders) Answer(question int, c night.Command) { o.answers <- answer{question, c} }

// Work takes a device through its night. It returns when that is over, having told so; when ctx
// ends, the device is let go of.
func (c *Crew) Work(ctx context.Context, t *plan.Target, o *Orders) {
	w := c.worker(ctx, begin(t))
	w.orders = o
	w.work() //nolint:contextcheck // a worker has its context with it
}

// WorkBack takes a device back that was kept, from what was known of it then.
func (c *Crew) WorkBack(ctx context.Context, k Known, o *Orders) {
	w := c.worker(ctx, k.known)
	w.orders, w.reverting = o, true
	w.work() //nolint:contextcheck // a worker has its context with it
}

// Known is what was known of a device when its night was over.
type Known struct{ known }

// errLetGo ends a worker that must let go of its device at once.
var errLetGo = errors.New("let go")

// errTakeBack ends a worker's forward work: its device is to be taken back.
var errTakeBack = errors.New("taken back by decision")

// sleep waits, unless the worker is told to let go or to take back.
func (w *worker) sleep(d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	back := w.orders.back
	if w.reverting {
		back = nil
	}
	select {
	case <-t.C:
		return nil
	case <-back:
		return errTakeBack
	case <-w.ctx.Done():
		return errLetGo
	}
}

// interrupted tells whether the worker was told to stop going forward.
func (w *worker) interrupted() error {
	if w.ctx.Err() != nil {
		return errLetGo
	}
	if !w.reverting && w.orders.ToldBack() {
		return errTakeBack
	}
	return nil
}
