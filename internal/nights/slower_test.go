package nights

import (
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
	"metabasis/internal/sim"
)

// A device that has not begun is left out for a reason, also one of a later batch; one that has begun
// is not, and nothing is without a reason.
func TestADeviceIsLeftOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, make([]sim.Spec, 6), func(b string) string { return swapIn(b, "sizes     1, 4", "sizes     2, 4") })
		defer w.sim.Close()
		said := false
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind != night.Sent || said {
				return
			}
			said = true
			for device, reason := range map[string]string{e.Device: "too late", "ald-quay-5": "its crew is not there", "ald-quay-6": " ", "nobody": "no such device"} {
				assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.LeaveOut, Device: device, By: "ada", Reason: reason}))
			}
		})
		w.checkLaws()
		for _, d := range w.night.Devices {
			if d.Name == "ald-quay-5" {
				assert.Equal(t, night.Skipped, d.State)
				assert.Equal(t, "left out by ada: its crew is not there", d.Note)
				continue
			}
			assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
		}
	})
}

// The number of devices that are in change at once is made smaller while a night runs, and larger
// again up to what the runbook says, and not beyond.
func TestANightIsMadeSlower(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, make([]sim.Spec, 9), func(b string) string { return swapIn(b, "sizes     1, 4", "sizes     1, 8") })
		defer w.sim.Close()
		in, most, first := map[string]bool{}, 0, true
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind == night.Sent && first {
				first = false
				for _, n := range []int{0, 2, 99, -1} {
					assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.AtOnce, Number: n, By: "ada"}))
				}
			}
			if e.Kind == night.Moved {
				in[e.Device] = e.State != night.Kept
				n := 0
				for _, is := range in {
					if is {
						n++
					}
				}
				most = max(most, n)
			}
		})
		w.checkLaws()
		assert.Equal(t, 2, most)
		var notes []string
		for _, n := range w.night.Notes {
			notes = append(notes, n.String())
		}
		assert.Equal(t, "ada notes: 2 in change at once from now on; it was 4", strings.Join(notes, "; "))
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
		}
	})
}
