package cli

import (
	"context"

	"metabasis/internal/core/run"
)

// result is how a night ended.
type result struct {
	night run.Night
	err   error
}

// runNight runs a night to its end, whoever looks.
func runNight(ctx context.Context, r *run.Run, shown chan<- []run.Event, left <-chan struct{}) result {
	done := make(chan error, 1)
	go func() { done <- r.Go(ctx) }()
	night := follow(r.Events(), shown, left)
	return result{night, <-done}
}

// follow folds what happens and passes it on to be shown, until left is closed.
// It never waits for whoever shows it: a terminal that stands still, or a pager
// that nobody reads on in, must not hold up a night whose timers run.
func follow(events <-chan []run.Event, shown chan<- []run.Event, left <-chan struct{}) (night run.Night) {
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
