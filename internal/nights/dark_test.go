package nights

import (
	"slices"
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

// behindOne is a switch that cuts itself off, and three that are reached through it.
func behindOne() []sim.Spec {
	specs := make([]sim.Spec, 6)
	for i := 1; i < 4; i++ {
		specs[i].Uplink = "ald-quay-1"
	}
	specs[0].Faults = []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3", Times: 1}}
	for i := 1; i < 4; i++ {
		specs[i].Faults = []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3", Times: 1}}
	}
	return specs
}

// Devices that go dark together are one question, at once, that says when each should be back and what
// they have in common; it closes when they are back, and nothing waits for its answer.
func TestDarkTogetherIsOneQuestion(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, behindOne(), func(b string) string {
			return swapIn(b, "sizes     1, 4\n  together  4", "sizes     100%\n  together  6")
		})
		defer w.sim.Close()
		var asked []night.Event
		var lost time.Time
		w.run(t.Context(), func(_ *run.Run, e night.Event) {
			if e.Aside() {
				asked = append(asked, e)
			}
			if e.Kind == night.Moved && e.State == night.Dark {
				lost = e.At
			}
		})
		w.checkLaws()
		require.NotEmpty(t, asked)
		last := asked[len(asked)-1]
		assert.Greater(t, len(last.Devices), 1, "those that are reached through one another are not in change at once; the rest goes dark together")
		assert.Less(t, last.At.Sub(lost), 30*time.Second)
		text := strings.Join(last.Lines, "\n")
		for _, name := range last.Devices {
			assert.Contains(t, text, name+": dark since")
		}
		assert.Contains(t, text, "should be back by")
		assert.Contains(t, text, "all are reached through ald-quay-1")
		assert.Empty(t, w.night.Holds)
		for _, d := range w.night.Devices {
			assert.True(t, d.Over)
		}
	})
}

// The rest goes on beside what has no contact, where somebody says so or the runbook does, and the
// night ends when that is known, too.
func TestTheRestGoesOnBesideTheDark(t *testing.T) {
	for name, c := range map[string]struct {
		edit   func(string) string
		says   bool
		beside bool
	}{
		"nobody says so":      {nil, false, false},
		"somebody says so":    {nil, true, true},
		"the runbook says so": {func(b string) string { return swapIn(b, "  together  4", "  together  4\n  while dark wait 30s") }, false, true},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				specs := make([]sim.Spec, 4)
				specs[0].Faults = []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3", Times: 1}}
				w := simple(t, specs, func(b string) string {
					if c.edit != nil {
						b = c.edit(b)
					}
					return b
				})
				defer w.sim.Close()
				w.run(t.Context(), func(r *run.Run, e night.Event) {
					if e.Aside() && c.says {
						assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.GoOnBeside, By: "ada"}))
					}
				})
				w.checkLaws()
				first, second := w.night.Get("ald-quay-1"), w.night.Get("ald-quay-2")
				assert.Equal(t, night.Reverted, first.State, first.Note)
				assert.Equal(t, night.Kept, second.State, second.Note)
				assert.Equal(t, c.beside, second.Began.Before(first.Ended))
				assert.False(t, w.night.Ended.Before(first.Ended))
				assert.Equal(t, 0, len(w.night.Holds))
			})
		})
	}
}

// What is left to itself is let go of at once, also while it is being tried; what comes back meanwhile
// is out of the question.
func TestTheDarkAreLeftTogether(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		specs := make([]sim.Spec, 4)
		for i := range specs[:3] {
			specs[i].Faults = []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3", Times: 1}}
		}
		w := simple(t, specs, func(b string) string {
			return swapIn(swapIn(b, "sizes     1, 4\n  together  4", "sizes     100%\n  stop      never"), "timer       4m", "timer       40m")
		})
		defer w.sim.Close()
		var said time.Time
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Aside() && len(e.Devices) == 3 && said.IsZero() {
				said = time.Now().Add(5 * time.Second)
				answerLater(t.Context(), r, night.Command{Hold: e.Hold, Choice: night.Leave, By: "ada"}, 5*time.Second)
			}
		})
		w.checkLaws()
		for i, d := range w.night.Devices {
			if i == 3 {
				assert.Equal(t, night.Kept, d.State)
				continue
			}
			assert.Equal(t, night.Dark, d.State, d.Note)
			assert.Contains(t, d.Note, "left to itself")
			assert.Less(t, d.Ended.Sub(said).Abs(), time.Second)
		}
		assert.True(t, slices.ContainsFunc(w.night.Decided, func(d night.Decision) bool { return d.Choice == night.Leave && d.By == "ada" }))
	})
}
