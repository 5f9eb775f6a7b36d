package run

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// A night may be made smaller and slower while it runs, and never larger or faster than its runbook.

// leaveOut leaves a device out that has not begun, for a reason.
func (r *Run) leaveOut(c night.Command) {
	if r.released || strings.TrimSpace(c.Reason) == "" || r.ends[c.Device] != "" || r.active[c.Device] != nil {
		return
	}
	i := slices.IndexFunc(r.plan.Targets(), func(t *plan.Target) bool { return t.Device.Name == c.Device })
	if i < 0 {
		return
	}
	r.queue = slices.DeleteFunc(r.queue, func(t *plan.Target) bool { return t.Device.Name == c.Device })
	r.skip(r.plan.Targets()[i:i+1], fmt.Sprintf("left out by %s: %s", c.By, r.plan.Mask(c.Reason)))
}

// atOnce has so many devices in change at once from now on, at most as many as the runbook says. What
// is in change stays so.
func (r *Run) atOnce(c night.Command) {
	most := r.most
	if r.released || c.Number < 1 || most > 0 && c.Number > most || c.Number == r.plan.Rules.Together {
		return
	}
	was := "as many as a batch has"
	if n := r.plan.Rules.Together; n > 0 {
		was = fmt.Sprint(n)
	}
	r.plan = r.plan.Together(c.Number)
	r.busy.Follow(r.plan)
	r.note(night.Command{By: c.By, Reason: fmt.Sprintf("%d in change at once from now on; it was %s", c.Number, was)})
	r.forecast(true)
}

// unended are those of some devices of which the night is not over: what was left out does not begin.
func (r *Run) unended(targets []*plan.Target) []*plan.Target {
	return slices.DeleteFunc(slices.Clone(targets), func(t *plan.Target) bool { return r.ends[t.Device.Name] != "" })
}
