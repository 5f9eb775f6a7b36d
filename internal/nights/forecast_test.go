package nights

import (
	"context"
	"fmt"
	"math"
	"math/rand/v2"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/sim"
)

// pacedNight draws a night without faults: so many devices, some slow and some quick, in
// a night that is slow or quick as a whole.
func pacedNight(t *testing.T, rng *rand.Rand, dir string, devices int, edit func(string) string) *world {
	night := math.Exp(0.2 * rng.NormFloat64())
	var specs []sim.Spec
	for range devices {
		slow := 0.25 * night * math.Exp(0.5*rng.NormFloat64())
		specs = append(specs, sim.Spec{Faults: []sim.Fault{{Kind: sim.Slow, By: time.Duration(min(slow, 3) * float64(time.Second))}}})
	}
	return simpleIn(t, dir, specs, edit)
}

// The end that a forecast gives after the first batch as that of nine nights in ten holds
// in about as many: not in fewer, or nobody may trust it, and not in all, or it says
// nothing. It learns from three nights before, as the first of a fleet do.
//
// make calibration prints the figure over 500 nights.
func TestForecastsHold(t *testing.T) {
	nights := max(*count/8, 24)
	var holds, likely atomic.Int64
	var off, wide atomic.Int64 // of the likely end, and from it to the late one, in thousandths of the night
	t.Run("nights", func(t *testing.T) {
		for i := range nights {
			seed := *firstSeed + uint64(i)
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				rng := rand.New(rand.NewPCG(seed, 11))
				rules := func(s string) string {
					return strings.NewReplacer("sizes     1, 4\n  together  4\n", "sizes     3, 100%\n  together  4\n", "soak      30s", "soak      10s").Replace(s)
				}
				var before []plan.Times
				for n := range 4 {
					synctest.Test(t, func(t *testing.T) {
						w := pacedNight(t, rng, fmt.Sprintf("%s/%d", dir, n), 15, rules)
						defer w.sim.Close()
						w.plan = w.plan.Learned(plan.Learn(before))
						w.run(context.Background(), nil)
						require.Equal(t, 15, w.night.Count()[night.Kept])
						before = append(before, w.night.Times())
						if n < 3 {
							return
						}
						var told night.Event
						for _, e := range w.seen {
							if e.Kind == night.Forecast && e.Batch == 2 && told.Late.IsZero() {
								told = e
							}
						}
						ended := w.night.Ended
						holds.Add(int64(asOne(!ended.After(told.Late))))
						likely.Add(int64(asOne(!ended.After(told.Due))))
						took := ended.Sub(told.At).Seconds()
						off.Add(int64(1000 * math.Abs(ended.Sub(told.Due).Seconds()) / took))
						wide.Add(int64(1000 * told.Late.Sub(told.Due).Seconds() / took))
					})
				}
			})
		}
	})
	n := float64(nights)
	t.Logf("of %d nights, %.1f %% ended by the end given for nine in ten, %.1f %% by the likely one; that was off by %.1f %%, and %.1f %% before the late one",
		nights, 100*float64(holds.Load())/n, 100*float64(likely.Load())/n, float64(off.Load())/10/n, float64(wide.Load())/10/n)
	spread := 2.5 * math.Sqrt(0.09/n) // few nights tell it less well
	assert.InDelta(t, 0.9, float64(holds.Load())/n, 0.05+spread)
}

// However slow its devices are, and whenever somebody takes everything back: a night that
// keeps to its turn-back times has it back before the window closes.
func TestAllIsBackBeforeTheWindowCloses(t *testing.T) {
	eachOf(t, max(*count/8, 20), func(t *testing.T, seed uint64, dir string) {
		rng := rand.New(rand.NewPCG(seed, 12))
		length := time.Duration(6+rng.IntN(10)) * time.Minute
		reserve := length / time.Duration(2+rng.IntN(3))
		rules := []string{"sizes     1, 4", "sizes     2, 50%", "sizes     3, 100%"}[rng.IntN(3)] + []string{"\n  together  2", "\n  together  4", ""}[rng.IntN(3)]
		w := pacedNight(t, rng, dir, 5+rng.IntN(12), func(s string) string {
			return strings.NewReplacer("now for 3h", "now for "+length.String(), "reserve   20m", "reserve   "+reserve.Round(time.Second).String(),
				"sizes     1, 4\n  together  4", rules, "soak      30s", "soak      5s").Replace(s)
		})
		defer w.sim.Close()
		when := time.Duration(rng.Int64N(int64(length - reserve + 30*time.Second)))
		if rng.IntN(2) == 0 { // or as late as it may be: as the reserve begins
			when = length - reserve
		}
		over, end := context.WithCancel(context.Background())
		back := func(r *run.Run, at time.Duration) {
			select {
			case <-time.After(at):
				_ = r.Do(context.Background(), night.Command{Choice: night.BackAll, By: "test"})
			case <-over.Done():
			}
		}
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			switch e.Kind {
			case night.Began:
				go back(r, when)
			case night.HoldOpened: // a batch or a device that would be begun too late, or has run into the reserve
				go func() {
					choice := night.Stop
					if e.Device != "" {
						choice = night.BackDevice
					}
					_ = r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: choice, By: "test"})
				}()
			}
		})
		end()
		closes := w.night.Outline.Window.Close
		assert.False(t, w.night.Ended.After(closes), "it was over %s after the window closed (seed %d)", w.night.Ended.Sub(closes), seed)
		for _, d := range w.night.Devices {
			assert.Contains(t, []night.State{night.Kept, night.Reverted, night.Skipped, night.Blocked}, d.State, "%s: %s", d.Name, d.Note)
			assert.True(t, w.night.Aborted == "" || d.State != night.Kept, "%s is %s although everything was to be taken back", d.Name, d.State)
		}
		if t.Failed() {
			t.Log(w.story())
		}
		w.checkLaws()
	})
}
