package reach

import (
	"context"
	"sync"
)

// Sweep does the same thing to many devices, so many together, and returns when
// all are done. A device that hangs takes one place until its own time is out;
// the others go on. When ctx ends, those that have not begun are not begun:
// skipped is called for them instead, from the same goroutines.
func Sweep[D any](ctx context.Context, devices []D, together int, do, skipped func(context.Context, D)) {
	next := make(chan D)
	var wg sync.WaitGroup
	for range min(max(together, 1), len(devices)) {
		wg.Go(func() {
			for d := range next {
				if ctx.Err() != nil {
					skipped(ctx, d)
					continue
				}
				do(ctx, d)
			}
		})
	}
	for _, d := range devices {
		next <- d
	}
	close(next)
	wg.Wait()
}
