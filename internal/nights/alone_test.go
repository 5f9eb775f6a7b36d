package nights

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
	"metabasis/internal/sim"
)

const byLine = "the runbook's unattended line"

// alone is the standard runbook with another unattended line.
func alone(line string) func(string) string {
	return func(b string) string {
		b = strings.TrimRight(b, "\n")
		if i := strings.Index(b, "\nunattended"); i >= 0 {
			b = b[:i]
		}
		return b + "\n\nunattended  " + line + "\n"
	}
}

// Where nobody is there to decide for as long as the runbook says, its unattended line decides: what
// is held by then, and what will be; not before, and not once somebody is there again.
func TestNobodyIsThereToDecide(t *testing.T) {
	refuses := []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, {}, {}}
	for name, c := range map[string]struct {
		line    string
		back    time.Duration // somebody is there again, after that; 0 is never
		decides bool
	}{
		"for as long as it says":    {"after 2m, take back the device", 0, true},
		"not for long enough":       {"after 2m, take back the device", time.Minute, false},
		"and nothing says so":       {"take back the device", 0, false},
		"but there is no such line": {"", 0, false},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				edit := alone(c.line)
				if c.line == "" {
					edit = nil
				}
				w := simple(t, refuses, edit)
				defer w.sim.Close()
				var left time.Time
				answered := map[string]bool{}
				w.run(t.Context(), func(r *run.Run, e night.Event) {
					switch {
					case e.Kind == night.HoldOpened && e.Device != "" && left.IsZero():
						left = time.Now()
						for range 2 { // once is enough
							assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Nobody}))
						}
						if c.back > 0 {
							time.AfterFunc(c.back, func() {
								assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Somebody, By: "ben"}))
							})
						}
						if !c.decides {
							time.AfterFunc(150*time.Second, func() {
								assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Somebody, By: "ben"}))
								assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.BackDevice, By: "ben"}))
							})
						}
					case e.Kind == night.HoldOpened && e.Device == "" && !c.decides:
						assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.GoOn, By: "ben"}))
					case e.Kind == night.HoldClosed:
						answered[e.By] = true
						if e.By == byLine {
							assert.GreaterOrEqual(t, time.Since(left), 2*time.Minute)
						}
					}
				})
				w.checkLaws()
				assert.Equal(t, c.decides, answered[byLine], "%v", answered)
				assert.Equal(t, night.Reverted, w.night.Devices[0].State)
				var kinds []night.Kind
				for _, e := range w.seen {
					switch e.Kind {
					case night.Alone, night.Unattended, night.Attended:
						kinds = append(kinds, e.Kind)
						if e.Kind == night.Alone {
							assert.Equal(t, strings.HasPrefix(c.line, "after"), !e.Due.IsZero())
						}
					}
				}
				want := []night.Kind{night.Alone, night.Attended}
				if c.decides {
					want[1] = night.Unattended
					assert.True(t, w.night.Alone.Line)
				} else {
					assert.Zero(t, w.night.Alone)
				}
				assert.Equal(t, want, kinds)
			})
		})
	}
}

// A night that is let stand by somebody who goes away is stopped, once nobody comes.
func TestANightThatStandsAndIsLeft(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, make([]sim.Spec, 5), alone("after 10m, take back the device"))
		defer w.sim.Close()
		said := false
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind == night.Sent && !said {
				said = true
				assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Stand, By: "ada"}))
				assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Nobody}))
			}
		})
		w.checkLaws()
		require.NotEmpty(t, w.night.Devices)
		assert.Equal(t, night.Kept, w.night.Devices[0].State)
		for _, d := range w.night.Devices[1:] {
			assert.Equal(t, night.Skipped, d.State)
		}
	})
}

// A question of the run waits for a person until the window closes, and not for ever; what is held on
// a device comes back by its timer.
func TestNobodyComesAtAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, make([]sim.Spec, 3), func(b string) string { return swapIn(b, "together  4", "together  4\n  hold      after batch 1") })
		defer w.sim.Close()
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind == night.HoldOpened {
				assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Nobody}))
			}
		})
		w.checkLaws()
		assert.Equal(t, night.Kept, w.night.Devices[0].State)
		for _, d := range w.night.Devices[1:] {
			assert.Equal(t, night.Skipped, d.State)
		}
		assert.WithinDuration(t, w.night.Outline.Window.Close, w.night.Ended, time.Minute)
	})
}
