package nights

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// restartBook is a night in which devices are restarted, and nothing else.
const restartBook = `runbook "A new start"
  window    now for 2h
  reserve   10m

scope
  role == "quay"

timer       4m

step "A new start"
  restart
  back      within 6m
  expect    len(neighbours) >= 0 within 30s

unattended  take back the device
`

// restartNight is a night of that runbook.
func restartNight(t *testing.T, edit func(string) string, specs ...sim.Spec) *world {
	t.Helper()
	w := simple(t, specs, func(string) string { return edit(restartBook) })
	w.mark, w.loose = "", true
	return w
}

// count counts what a device went through, as it knows itself.
func (w *world) count(device string, what sim.What) (n int) {
	for _, tr := range w.sim.Device(device).Truth() {
		if tr.What == what {
			n++
		}
	}
	return n
}

// states are the states of a device, in order.
func (w *world) states(device string) (out []night.State) {
	for _, e := range w.seen {
		if e.Kind == night.Moved && e.Device == device {
			out = append(out, e.State)
		}
	}
	return out
}

// A device that is restarted is absent, and not dark; it is told once, no timer runs over it, and that it
// was restarted is proven. Every kind of device that can be restarted.
func TestADeviceIsRestarted(t *testing.T) {
	for _, platform := range []string{"tern", "osier", "plover"} {
		synctest.Test(t, func(t *testing.T) {
			w := restartNight(t, func(b string) string {
				if platform == "plover" {
					b = strings.Replace(b, "  expect    len(neighbours) >= 0 within 30s\n", "", 1)
				}
				return b
			}, sim.Spec{Platform: platform}, sim.Spec{Platform: platform})
			defer w.sim.Close()
			w.runQuiet()
			w.checkLaws()
			for _, d := range w.night.Devices {
				assert.Equal(t, night.Kept, d.State, "%s: %s", platform, d.Note)
				assert.Equal(t, 1, w.count(d.Name, sim.Told), platform)
				assert.Equal(t, 1, w.count(d.Name, sim.Restarted), platform)
				assert.Zero(t, w.count(d.Name, sim.Armed), "no timer runs over a restart")
				assert.Contains(t, w.states(d.Name), night.Absent)
				assert.NotContains(t, w.states(d.Name), night.Dark)
				require.Len(t, d.Deeds, 1)
				assert.Regexp(t, `it was away for some \d+s, and has been up for \d+s`, d.Deeds[0].Note)
			}
		})
	}
}

// What is changed behind a restart has its timer, which is armed once the device is back.
func TestAChangeBehindARestart(t *testing.T) {
	for _, platform := range []string{"tern", "osier"} {
		synctest.Test(t, func(t *testing.T) {
			line := map[string]string{"tern": "    | log host 198.51.100.14\n", "osier": "    | report\n    |   to 198.51.100.14\n"}[platform]
			w := restartNight(t, func(b string) string {
				return strings.Replace(b, "unattended", "step \"Log collector\"\n  want\n"+line+"\nunattended", 1)
			}, sim.Spec{Platform: platform})
			defer w.sim.Close()
			w.runQuiet()
			w.checkLaws()
			d := w.night.Devices[0]
			assert.Equal(t, night.Kept, d.State, d.Note)
			var whats []sim.What
			for _, tr := range w.sim.Device(d.Name).Truth() {
				if slices.Contains([]sim.What{sim.Restarted, sim.Armed, sim.Disarmed, sim.Saved}, tr.What) {
					whats = append(whats, tr.What)
				}
			}
			assert.Equal(t, sim.Restarted, whats[0], platform)
			if platform == "tern" {
				assert.Equal(t, []sim.What{sim.Restarted, sim.Armed, sim.Disarmed, sim.Saved}, whats)
			}
		})
	}
}

// What goes wrong with a restart ends in the truth, and no device is told to restart twice.
func TestRestartsThatGoWrong(t *testing.T) {
	for name, c := range map[string]struct {
		faults   []sim.Fault
		state    night.State
		told     int
		restarts int
		why      string // of a hold; "" for none
		note     string
	}{
		"slow to come back":        {[]sim.Fault{{Kind: sim.SlowBoot, By: 2 * time.Minute}}, night.Kept, 1, 1, "", ""},
		"says yes and means no":    {[]sim.Fault{{Kind: sim.Ignores, Match: "^restart$"}}, night.Reverted, 0, 0, "it was told to restart, and did not", "whether .* was done is not known"},
		"refuses":                  {[]sim.Fault{{Kind: sim.Balks, Match: "^restart$"}}, night.Reverted, 0, 0, "the restart was refused", ""},
		"never comes back":         {[]sim.Fault{{Kind: sim.NeverBack}}, night.Stranded, 1, 1, "", "not back by"},
		"comes back as another":    {[]sim.Fault{{Kind: sim.Spoils}}, night.Reverted, 1, 1, "came back with another configuration", "was done, which cannot be undone"},
		"says nothing more":        {[]sim.Fault{{Kind: sim.Hangs, Match: "^restart$"}}, night.Reverted, 0, 0, "it was told to restart, and did not", ""},
		"contact is lost in it":    {[]sim.Fault{{Kind: sim.Drops, Match: "^restart$"}}, night.Reverted, 0, 0, "it was told to restart, and did not", ""},
		"restarts by itself":       {[]sim.Fault{{Kind: sim.Restarts, Match: "^tell uptime$", Times: 1, After: 1}}, night.Reverted, 0, 1, "", "came back with its saved configuration"},
		"slow, and means no":       {[]sim.Fault{{Kind: sim.Slow, By: 7 * time.Second}, {Kind: sim.Ignores, Match: "^restart$"}}, night.Reverted, 0, 0, "it was told to restart, and did not", ""},
		"slow, and restarts":       {[]sim.Fault{{Kind: sim.Slow, By: 7 * time.Second}}, night.Kept, 1, 1, "", ""},
		"back only after its time": {[]sim.Fault{{Kind: sim.SlowBoot, By: 8 * time.Minute}}, night.Reverted, 1, 1, "contact was lost and is back", ""},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := restartNight(t, same, sim.Spec{Faults: c.faults})
				defer w.sim.Close()
				w.runQuiet()
				w.checkLaws()
				d := w.night.Devices[0]
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Equal(t, c.told, w.count(d.Name, sim.Told))
				assert.Equal(t, c.restarts, w.count(d.Name, sim.Restarted))
				assert.Regexp(t, c.note, d.Note)
				var holds []string
				for _, e := range w.seen {
					if e.Kind == night.HoldOpened {
						holds = append(holds, e.Note)
					}
				}
				if c.why == "" {
					assert.Empty(t, holds)
				} else {
					require.NotEmpty(t, holds)
					assert.Regexp(t, c.why, holds[0])
				}
			})
		})
	}
}

// What answers in its place once it was told to restart is not taken for it.
func TestAnotherAnswersAfterARestart(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := restartNight(t, func(b string) string { return strings.Replace(b, `role == "quay"`, `name == "ald-quay-1"`, 1) },
			sim.Spec{Faults: []sim.Fault{{Kind: sim.Exchanged, Match: "^restart$", With: "ald-quay-2"}}}, sim.Spec{})
		defer w.sim.Close()
		w.runQuiet()
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Stranded, d.State, d.Note)
		assert.Contains(t, d.Note, "ald-quay-2")
		assert.Zero(t, w.count("ald-quay-2", sim.Told))
	})
}

// A person accepts what a device came back with: what is changed behind that is computed from it, with a
// timer, and what they accepted is told.
func TestWhatADeviceCameBackWithIsAccepted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := restartNight(t, func(b string) string {
			return strings.Replace(b, "unattended", "step \"Log collector\"\n  want\n    | log host 198.51.100.14\n  no other  \"log host *\"\n\nunattended", 1)
		}, sim.Spec{Faults: []sim.Fault{{Kind: sim.Spoils, Times: 1}}})
		defer w.sim.Close()
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind == night.HoldOpened {
				for _, o := range e.Offers {
					assert.NotEqual(t, night.SkipStep, o.Choice, "what it came back with is never passed over")
					assert.True(t, o.Choice != night.TryAgain || o.Most < time.Minute, "nothing is restarted again: %+v", o)
				}
				assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.Accept, By: "ada", Reason: "it is known"}))
			}
		})
		d := w.night.Devices[0]
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Contains(t, d.Note, "not as predicted")
		running := w.sim.Device(d.Name).Running()
		assert.Contains(t, running, "log host 198.51.100.14")
		assert.NotContains(t, running, "log host 192.0.2.254", "what it came back with is no other either")
		assert.Positive(t, w.count(d.Name, sim.Armed))
	})
}

// Where the restart is left out, what a person then does at the console has its timer all the same.
func TestAConsoleBehindARestartIsGuarded(t *testing.T) {
	for _, skips := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			var faults []sim.Fault
			if skips {
				faults = []sim.Fault{{Kind: sim.Balks, Match: "^restart$"}}
			}
			w := restartNight(t, func(b string) string {
				return strings.Replace(b, "unattended", "step \"Mend it\" by console\n\nunattended", 1)
			}, sim.Spec{Faults: faults})
			defer w.sim.Close()
			ready := false
			w.run(t.Context(), func(r *run.Run, e night.Event) {
				if e.Kind != night.HoldOpened {
					return
				}
				c := night.Command{Hold: e.Hold, Choice: night.SkipStep, By: "ada"}
				if strings.Contains(e.Note, "ready to be worked by hand") {
					ready = true
					assert.False(t, w.sim.Device("ald-quay-1").Due().IsZero(), "its timer is pending")
					c.Choice = night.BackDevice
				}
				assert.NoError(t, r.Do(t.Context(), c))
			})
			assert.True(t, ready)
		})
	}
}

// A device that was told and did not restart is looked at again, which sends nothing, or told once more,
// for a reason.
func TestARestartThatIsDecidedOn(t *testing.T) {
	for _, again := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			w := restartNight(t, same, sim.Spec{Faults: []sim.Fault{{Kind: sim.Ignores, Match: "^restart$", Times: 1}}})
			defer w.sim.Close()
			asked := 0
			w.run(t.Context(), func(r *run.Run, e night.Event) {
				if e.Kind != night.HoldOpened {
					return
				}
				asked++
				choices := []night.Choice{}
				for _, o := range e.Offers {
					choices = append(choices, o.Choice)
				}
				assert.Subset(t, choices, []night.Choice{night.TryAgain, night.DoAgain, night.BackDevice})
				assert.NotContains(t, choices, night.ItIsDone, "it tells by itself")
				c := night.Command{Hold: e.Hold, Choice: night.TryAgain, By: "ada"}
				if again {
					c.Choice, c.Reason = night.DoAgain, "it did not"
				} else if asked == 2 {
					c.Choice = night.BackDevice
				}
				assert.NoError(t, r.Do(t.Context(), c))
			})
			d := w.night.Devices[0]
			if again {
				assert.Equal(t, night.Kept, d.State, d.Note)
				assert.Equal(t, 1, w.count(d.Name, sim.Restarted))
				return
			}
			assert.Equal(t, 2, asked)
			assert.Equal(t, night.Reverted, d.State, d.Note)
			assert.Zero(t, w.count(d.Name, sim.Restarted))
		})
	}
}

// What is not saved would be lost by a restart: such a device is blocked before anything is sent.
func TestARestartLosesNothing(t *testing.T) {
	for _, platform := range []string{"tern", "osier"} {
		synctest.Test(t, func(t *testing.T) {
			w := restartNight(t, same, sim.Spec{Platform: platform, Unsaved: "log host 198.51.100.99"})
			defer w.sim.Close()
			w.runQuiet()
			d := w.night.Devices[0]
			assert.Equal(t, night.Blocked, d.State, d.Note)
			assert.Regexp(t, "not saved|unsaved", d.Note)
			assert.Zero(t, w.count(d.Name, sim.Restarted))
		})
	}
}

// Both members of a pair are never absent at once, and the second not before the first is kept.
func TestAPairIsNeverAwayAtOnce(t *testing.T) {
	for name, faults := range map[string][]sim.Fault{"well": nil, "the first is slow": {{Kind: sim.SlowBoot, By: 3 * time.Minute}}, "the first never comes back": {{Kind: sim.NeverBack}},
		"the first is not there": {{Kind: sim.Refuses}}} {
		synctest.Test(t, func(t *testing.T) {
			w := restartNight(t, same, sim.Spec{Pair: "ald-gates standby", Faults: faults}, sim.Spec{Pair: "ald-gates"}, sim.Spec{}, sim.Spec{})
			defer w.sim.Close()
			w.runQuiet()
			w.checkLaws()
			away := map[string]bool{}
			for _, e := range w.seen {
				if e.Kind != night.Moved || e.Device != "ald-quay-1" && e.Device != "ald-quay-2" {
					continue
				}
				away[e.Device] = e.State == night.Absent || e.State == night.Dark || e.State == night.Held
				assert.False(t, away["ald-quay-1"] && away["ald-quay-2"], name)
			}
			if strings.Contains(name, "never") || strings.Contains(name, "not there") {
				assert.Zero(t, w.count("ald-quay-2", sim.Restarted), "its partner is not there")
			}
		})
	}
}

// A device whose partner is not there is not restarted, whether the night is about the partner or not.
func TestAPartnerThatIsAwayCarriesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := restartNight(t, func(b string) string { return strings.Replace(b, `role == "quay"`, `name == "ald-quay-1"`, 1) },
			sim.Spec{Pair: "ald-gates"}, sim.Spec{Pair: "ald-gates", Faults: []sim.Fault{{Kind: sim.Refuses}}})
		defer w.sim.Close()
		w.runQuiet()
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Zero(t, w.count(d.Name, sim.Told))
		require.NotEmpty(t, w.night.Decided)
		assert.True(t, slices.ContainsFunc(w.seen, func(e night.Event) bool {
			return e.Kind == night.HoldOpened && strings.Contains(e.Note, "it is not restarted: its partner ald-quay-2 cannot be reached")
		}))
	})
}

// How long devices were away is learned, and said of the next restart.
func TestHowLongADeviceIsAwayIsLearned(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := restartNight(t, same, sim.Spec{}, sim.Spec{}, sim.Spec{Faults: []sim.Fault{{Kind: sim.SlowBoot, By: time.Minute}}})
		defer w.sim.Close()
		w.runQuiet()
		learned := w.plan.Learned(plan.Learn([]plan.Times{w.night.Times()}))
		target := learned.Targets()[0]
		usual, seldom := learned.AwayFor(target, target.Steps[0])
		assert.InDelta(t, 17, usual.Seconds(), 8, "the median of them")
		assert.Greater(t, seldom, 40*time.Second)
		usual, seldom = w.plan.AwayFor(target, target.Steps[0])
		assert.Equal(t, 20*time.Second, usual, "as the profile says")
		assert.Zero(t, seldom)
	})
}

// A night that is cut off at any event of a restart is gone on with, or taken back: no device is told to
// restart a second time, and what is said of it is so.
func TestARestartThatIsCutOff(t *testing.T) {
	total := 0
	synctest.Test(t, func(t *testing.T) {
		w := restartNight(t, same, sim.Spec{})
		defer w.sim.Close()
		w.runQuiet()
		total = len(w.seen)
	})
	require.Greater(t, total, 15)
	for at := 1; at < total; at++ {
		for _, back := range []bool{false, true} {
			t.Run(fmt.Sprintf("event %d, back %t", at, back), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					w := restartNight(t, same, sim.Spec{})
					defer w.sim.Close()
					n := 0
					journal := w.cut(func(night.Event) bool { n++; return n == at })
					then := night.Fold(night.Night{}, journal...)
					if then.Devices[0].Over {
						return // it is left out of the next night
					}
					time.Sleep(time.Second)
					w.goOn(journal, back)
					w.runQuiet()
					w.endsInTruth()
					d := w.night.Devices[0]
					assert.LessOrEqual(t, w.count(d.Name, sim.Told), 1, "%s: %s", d.State, d.Note)
					switch told := w.count(d.Name, sim.Told); {
					case back:
						assert.NotEqual(t, night.Stranded, d.State, d.Note)
					case told == 0: // it was about to be told, and nobody knows yet that it was not
						assert.NotEqual(t, night.Kept, d.State, d.Note)
					default:
						assert.Contains(t, []night.State{night.Kept, night.Already}, d.State, d.Note)
						assert.Equal(t, 1, w.count(d.Name, sim.Restarted), d.Note)
					}
					assert.Equal(t, w.initial[d.Name], w.sim.Device(d.Name).Running())
				})
			})
		}
	}
}

// A fresh look at what a night was cut off in says whether the device was restarted, and for how long that
// cannot be told yet.
func TestAFreshLookTellsOfARestart(t *testing.T) {
	for name, c := range map[string]struct {
		faults    []sim.Fault
		wait      time.Duration
		restarted bool
		notOn     string
	}{
		"it was":          {nil, 30 * time.Second, true, ""},
		"it may yet":      {[]sim.Fault{{Kind: sim.Ignores, Match: "^restart$"}}, 30 * time.Second, false, "it may yet; from 00:06:00 on that can be told"},
		"it did not":      {[]sim.Fault{{Kind: sim.Ignores, Match: "^restart$"}}, 7 * time.Minute, false, ""},
		"it is slow, too": {[]sim.Fault{{Kind: sim.Ignores, Match: "^restart$"}, {Kind: sim.Slow, By: 9 * time.Second}}, 7 * time.Minute, false, ""},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := restartNight(t, same, sim.Spec{Faults: c.faults})
			defer w.sim.Close()
			journal := w.cut(func(e night.Event) bool { return e.Kind == night.Moved && e.State == night.Absent })
			time.Sleep(c.wait)
			w.goOn(journal, true) // as a look is: what can be done, going on included, is asked for
			l := work.Look(t.Context(), w.plan, w.plan.Targets()[0], work.Outside{Connector: w.reached(), Backups: w.backups, Remnants: w.remnants, Resumed: w.resumed})
			assert.Empty(t, l.Unreached+l.Left, name)
			assert.Equal(t, c.restarted, l.Restarted != "", "%s: %+v", name, l)
			if c.notOn == "" {
				assert.Empty(t, l.NotOn, name)
			} else {
				assert.Contains(t, l.NotOn, c.notOn, name)
			}
		})
	}
}

// A rehearsal says what would be restarted, and restarts nothing.
func TestARehearsalRestartsNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := restartNight(t, same, sim.Spec{})
		defer w.sim.Close()
		found, _ := w.rehearse()
		require.NotEmpty(t, found)
		assert.Zero(t, w.count("ald-quay-1", sim.Restarted))
	})
	for platform, unsaved := range map[string]string{"tern": "unsaved", "osier": "not saved"} {
		synctest.Test(t, func(t *testing.T) {
			w := restartNight(t, same, sim.Spec{Platform: platform, Unsaved: "log host 198.51.100.99"})
			defer w.sim.Close()
			found, _ := w.rehearse()
			require.NotEmpty(t, found)
			for _, r := range found {
				assert.Contains(t, r.Blocked, unsaved, "it would be blocked at night, and is not called ready")
			}
		})
	}
}

// Restarts are drawn: platforms, faults, what is changed behind them, and the event at which the night
// is cut off, to be gone on with or taken back. No device is told twice, every law holds, and what is
// said is so.
func TestDrawnRestarts(t *testing.T) {
	var met tally
	t.Run("nights", func(t *testing.T) {
		eachOf(t, (*count+1)/2, func(t *testing.T, seed uint64, dir string) {
			g := &generator{rng: rand.New(rand.NewPCG(seed, 27))}
			var specs []sim.Spec
			for range 1 + g.rng.IntN(3) {
				spec := sim.Spec{Platform: pick(g, []string{"tern", "tern", "osier", "plover"})}
				for g.chance(0.4) {
					spec.Faults = append(spec.Faults, g.restartFault())
				}
				specs = append(specs, spec)
			}
			w := simpleIn(t, dir, specs, func(string) string {
				b := strings.Replace(restartBook, "  expect    len(neighbours) >= 0 within 30s\n", "", 1)
				if g.chance(0.4) {
					b = strings.Replace(b, "unattended", "step \"Log collector\"\n  on tern\n    want\n      | log host 198.51.100.14\n"+
						"  on osier\n    want\n      | report\n      |   to 198.51.100.14\n\nunattended", 1)
					b = strings.Replace(b, "timer       4m", "timer       4m\ntimer       none on plover", 1)
				}
				return b
			})
			defer w.sim.Close()
			w.mark, w.loose = "", true
			over := map[string]bool{} // by the first night, which a night that is gone on with leaves out
			if g.chance(0.5) {
				at, n := 5+g.rng.IntN(60), 0
				journal := w.cut(func(night.Event) bool { n++; return n == at })
				for then, i := night.Fold(night.Night{}, journal...), 0; i < len(then.Devices); i++ {
					over[then.Devices[i].Name] = then.Devices[i].Over
				}
				time.Sleep(time.Duration(g.rng.IntN(400)) * time.Second)
				w.goOn(journal, g.chance(0.5))
				w.runQuiet()
				w.endsInTruth()
			} else {
				w.runQuiet()
				w.checkLaws()
			}
			met.add(w)
			for _, d := range w.night.Devices {
				dev := w.sim.Device(d.Name)
				if over[d.Name] {
					continue
				}
				assert.LessOrEqual(t, w.count(d.Name, sim.Told), 1, "%s: %s", d.State, d.Note)
				if d.State == night.Reverted {
					assert.Equal(t, w.initial[d.Name], dev.Running(), "%s: %s", d.Name, d.Note)
				}
				if d.State == night.Kept {
					assert.Equal(t, dev.Running(), dev.Saved(), "%s: %s", d.Name, d.Note)
					assert.Positive(t, w.count(d.Name, sim.Restarted), "%s: %s", d.Name, d.Note)
				}
			}
		})
	})
	for _, s := range []night.State{night.Kept, night.Reverted, night.Stranded} {
		assert.True(t, *count < 50 || met.of[string(s)] > 0, "no night ended with a device %s: %v", s, met.of)
	}
}

// restartFault is something that may go wrong with a restart.
func (g *generator) restartFault() sim.Fault {
	f := sim.Fault{Kind: pick(g, []string{sim.SlowBoot, sim.Ignores, sim.Balks, sim.NeverBack, sim.Spoils, sim.Drops, sim.Hangs, sim.Restarts, sim.DropsAfter, sim.Slow}),
		Match: pick(g, []string{"^restart$", "uptime$"}), Times: g.rng.IntN(3)}
	switch f.Kind {
	case sim.SlowBoot:
		f.By = time.Duration(g.rng.IntN(600)) * time.Second
	case sim.Ignores:
		f.Match = "^restart$"
	case sim.Slow:
		f.By, f.Match = time.Duration(g.rng.IntN(9))*time.Second, ""
	}
	return f
}
