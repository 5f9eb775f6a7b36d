package cli

import (
	"context"
	"fmt"
	"sync/atomic"

	"metabasis/internal/core/run"
)

// result is how a night ended.
type result struct {
	night run.Night
	err   error
}

// runNight runs a night to its end, whoever looks.
func runNight(ctx context.Context, r *run.Run, shown chan<- []run.Event, left <-chan struct{}, n *needs) result {
	done := make(chan error, 1)
	go func() { done <- r.Go(ctx) }()
	night := follow(r.Events(), shown, left, n)
	return result{night, <-done}
}

// needs is what needs a person now, in a few words, for whoever cannot see the
// night: somebody who works a device by hand.
type needs struct{ text atomic.Pointer[string] }

// set notes what a night needs. A nil needs is nobody's.
func (n *needs) set(night *run.Night) {
	if n == nil {
		return
	}
	text := ""
	switch {
	case !night.Ended.IsZero():
		text = "the night is over"
	case len(night.Holds) > 0:
		who := "the run"
		if d := night.Holds[0].Device; d != "" {
			who = d
		}
		text = "◆ " + who + " is held"
		if more := len(night.Holds) - 1; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
	case night.Count()[run.Dark]+night.Count()[run.Stranded] > 0:
		text = fmt.Sprintf("▲ %d out of contact", night.Count()[run.Dark]+night.Count()[run.Stranded])
	}
	n.text.Store(&text)
}

// get returns what was noted last.
func (n *needs) get() string {
	if n == nil {
		return ""
	}
	if p := n.text.Load(); p != nil {
		return *p
	}
	return ""
}

// follow folds what happens and passes it on to be shown, until left is closed.
// It never waits for whoever shows it: a terminal that stands still, or a pager
// that nobody reads on in, must not hold up a night whose timers run.
func follow(events <-chan []run.Event, shown chan<- []run.Event, left <-chan struct{}, n *needs) (night run.Night) {
	defer close(shown)
	var queue []run.Event
	for events != nil || len(queue) > 0 {
		out := shown
		if len(queue) == 0 {
			out = nil
		}
		select {
		case batch, ok := <-events:
			if !ok {
				events = nil
				continue
			}
			night = run.Fold(night, batch...)
			n.set(&night)
			if left != nil {
				queue = append(queue, batch...)
			}
		case out <- queue:
			queue = nil
		case <-left:
			left, queue = nil, nil
		}
	}
	return night
}
