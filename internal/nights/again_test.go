package nights

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
	"metabasis/internal/sim"
)

// againThen is a person who tries again at the first hold, and at those behind it decides as
// is said. Each hold is noted, with its evidence.
func againThen(t *testing.T, then night.Choice, holds *[]string) person {
	return func(r *run.Run, e night.Event) {
		if e.Kind != night.HoldOpened {
			return
		}
		choice := night.TryAgain
		if len(*holds) > 0 {
			choice = then
		}
		*holds = append(*holds, e.Note+" "+strings.Join(e.Lines, "; "))
		assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: choice, By: "Ada", Reason: "seen to"}))
	}
}

// A step that is tried again must lead to what was predicted of it. What a misheard line
// has left runs, too, and was predicted by nobody: the device is held for it, and is never
// called as predicted.
func TestAMisheardLineTriedAgain(t *testing.T) {
	for name, then := range map[string]night.Choice{"taken back": night.BackDevice, "kept": night.Accept} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Alters, Match: "^lan 3", Times: 1}}}}, nil)
				defer w.sim.Close()
				var holds []string
				w.run(context.Background(), againThen(t, then, &holds))
				d := w.night.Devices[0]
				if assert.Len(t, holds, 2, "%s: %s", d.State, d.Note) {
					assert.Contains(t, holds[1], `after "Gates", what runs is not what was predicted`)
					assert.Contains(t, holds[1], "there, and not predicted: lan 30")
				}
				if then == night.BackDevice {
					assert.Equal(t, night.Reverted, d.State, d.Note)
				} else {
					assert.Equal(t, night.Kept, d.State, d.Note)
					assert.Contains(t, d.Note, "not as predicted")
					assert.Equal(t, []string{"there, and not predicted: lan 30"}, d.Unlike)
					said := 0
					for _, e := range w.journal.Events {
						if e.IsAtTheEnd() {
							said++
						}
					}
					assert.Equal(t, 1, said, "what became of the prediction is said once")
				}
				w.checkLaws()
			})
		})
	}
}

// What a step expects is proven also where its lines turn out to be in when it is tried
// again: that they are in is not what was expected of them.
func TestTriedAgainAndInAlready(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
	}{
		"it holds":         {nil, night.Kept},
		"it does not hold": {[]sim.Fault{{Kind: sim.NeverSettles}}, night.Reverted},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				faults := append(c.faults, sim.Fault{Kind: sim.DropsAfter, Match: "^time source 192.0.2.40", Times: 1})
				w := simple(t, []sim.Spec{{Faults: faults}}, book("step \"Time sources\"\n  want\n    | time source 192.0.2.40 first\n  expect    clock.source == \"192.0.2.40\" and clock.settled within 40s\n\nstep \"Log collector\"\n  want\n    | log host 198.51.100.14\n"))
				defer w.sim.Close()
				w.mark = ""
				var holds []string
				w.run(context.Background(), againThen(t, night.BackDevice, &holds))
				require.NotEmpty(t, holds)
				for _, h := range holds[1:] {
					assert.Contains(t, h, `expectation of "Time sources"`, "nothing but what is expected holds it")
				}
				d := w.night.Devices[0]
				assert.Equal(t, c.state, d.State, d.Note)
				w.checkLaws()
			})
		})
	}
}

// An answer may be lost behind each line. Tried again, the step leads where it was to lead:
// the device is kept, as predicted, and asks for nothing more.
func TestEachAnswerIsLostOnce(t *testing.T) {
	wanted := "step \"Gates\"\n  want\n    | lan 310\n    |   title gates\n    | port 3\n    |   lan 310\n    | log host 198.51.100.14\n"
	for name, steps := range map[string]string{"sent": "", "wanted": wanted, "wanted, and one behind it": wanted + "\nstep \"Desk\"\n  want\n    | port 4\n    |   label \"desk\"\n"} {
		for _, line := range []string{"^time source 192.0.2.40", "^log host", "^lan 310$", "^title", "^port 3$", "^up$", "^label"} {
			t.Run(name+" "+line, func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					edit := book(steps)
					if steps == "" {
						edit = nil
					}
					w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.DropsAfter, Match: line, Times: 1}}}}, edit)
					defer w.sim.Close()
					holds := 0
					w.run(context.Background(), func(r *run.Run, e night.Event) {
						if e.Kind == night.HoldOpened {
							holds++
							assert.Contains(t, e.Note, "contact was lost and is back")
							assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.TryAgain, By: "Ada"}))
						}
					})
					d := w.night.Devices[0]
					assert.Equal(t, night.Kept, d.State, d.Note)
					assert.True(t, d.Predicted, d.Note)
					assert.LessOrEqual(t, holds, 1)
					w.checkLaws()
				})
			})
		}
	}
}

// A step that was tried again, whose lines turned out to be in and whose expectation does not
// hold, can be left out: what was before it is there again, and the rest goes on.
func TestLeftOutAfterItWasTriedAgain(t *testing.T) {
	for name, line := range map[string]string{"all of it is in": "^log host", "half of it is in": "^time source 192.0.2.40"} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.DropsAfter, Match: line, Times: 1}}}},
					book("step \"Both\"\n  want\n    | time source 192.0.2.40 first\n    | log host 198.51.100.14\n  expect    clock.settled within 20s\n\nstep \"Desk\"\n  want\n    | port 4\n    |   label \"desk\"\n"))
				defer w.sim.Close()
				w.mark = "desk"
				var holds []string
				w.run(context.Background(), againThen(t, night.SkipStep, &holds))
				d := w.night.Devices[0]
				assert.Len(t, holds, 2, d.Note)
				assert.Equal(t, night.Kept, d.State, d.Note)
				assert.Equal(t, 1, d.LeftSteps())
				running := w.sim.Device(d.Name).Running()
				assert.NotContains(t, running, "198.51.100.14")
				assert.NotContains(t, running, "192.0.2.40")
				assert.Contains(t, running, "desk")
				w.checkLaws()
			})
		})
	}
}
