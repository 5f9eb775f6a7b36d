package report

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/reach"
)

// Reached says in a line what reaching a device came to; the name takes so many
// cells.
func Reached(r reach.Result, width int) string {
	took := fmt.Sprintf("%.1f s", r.Took.Round(100*time.Millisecond).Seconds())
	if !r.OK() {
		return fmt.Sprintf("%-*s  %-10s  %s", width, r.Device, r.Failure.Stage, r.Failure.Error())
	}
	note := ""
	if other := r.OtherName(); other != "" {
		note = "  calls itself " + other
	}
	for _, w := range r.Warnings {
		note += "  ! " + w
	}
	return fmt.Sprintf("%-*s  %-10s  %s%s", width, r.Device, "ready", took, note)
}

// Reach sums up a board: how many are ready, then the causes of the others.
func Reach(b *reach.Board) []string {
	c := b.Count()
	out := []string{fmt.Sprintf("%d of %s ready.", c[reach.Ready], Count(len(b.Entries), "device"))}
	for _, cause := range b.Causes() {
		names := cause.Devices
		list := strings.Join(names[:min(len(names), 6)], ", ")
		if len(names) > 6 {
			list += fmt.Sprintf(" and %d more", len(names)-6)
		}
		out = append(out, fmt.Sprintf("  %d at the %s: %s", len(names), cause.Stage.Noun(), list), "    "+cause.Failure.Error())
	}
	return out
}
