package run

import (
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
)

// hand is how the conductor has a worker in hand: what it may order, and what it was told
// last. The worker itself it never sees.
type hand struct {
	target   *plan.Target
	orders   *work.Orders
	standing *work.Standing // nil before the worker has said anything
	known    work.Known     // of a device that was kept
	wasHeld  bool           // it waited for an answer: what it took says nothing of others
	tries    int            // times an unattended run has tried again
}

func newHand(t *plan.Target) *hand { return &hand{target: t, orders: work.NewOrders()} }

// again is for the worker that takes back what was kept.
func (h *hand) again() *hand {
	return &hand{target: h.target, orders: work.NewOrders(), standing: h.standing, known: h.known}
}

func (h *hand) name() string { return h.target.Device.Name }

// stands takes down how the device stands.
func (h *hand) stands(s work.Standing) { h.standing = &s }

// takesBack is how long taking the device back takes, from now on.
func (h *hand) takesBack(now time.Time) time.Duration {
	if h.standing == nil {
		return h.target.Back()
	}
	return max(h.standing.Ready.Sub(now), 0) + h.standing.Back
}

// waits tells whether it has no contact: it is waited for.
func (h *hand) waits() bool { return h.standing != nil && !h.standing.Ready.IsZero() }
