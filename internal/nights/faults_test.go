package nights

import (
	"context"
	"maps"
	"os"
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
	"metabasis/internal/core/work"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// Each fault, alone on one device, ends in the state a person would expect, and
// the device next to it is not touched by it.
func TestEachFault(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state night.State
		note  string
	}{
		"refuses":         {sim.Fault{Kind: sim.Refuses}, night.Blocked, "refuses port 22"},
		"bad password":    {sim.Fault{Kind: sim.BadPassword}, night.Blocked, "login crew is denied"},
		"hangs early":     {sim.Fault{Kind: sim.Hangs, Match: "^work$"}, night.Blocked, "no prompt in 10s"},
		"hangs at line":   {sim.Fault{Kind: sim.Hangs, Match: "^log host"}, night.Reverted, "equal to the backup"},
		"drops mid-line":  {sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}, night.Reverted, "equal to the backup"},
		"rejects a line":  {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, night.Reverted, "equal to the backup"},
		"rejects early":   {sim.Fault{Kind: sim.Rejects, Match: "^time source"}, night.Reverted, "equal to the backup"},
		"garbage":         {sim.Fault{Kind: sim.Garbage, Match: "^log host"}, night.Kept, "kept and saved"},
		"slow":            {sim.Fault{Kind: sim.Slow, By: 2 * time.Second}, night.Kept, "kept and saved"},
		"restarts":        {sim.Fault{Kind: sim.Restarts, Match: "^log host"}, night.Reverted, "came back with its saved configuration"},
		"no timer":        {sim.Fault{Kind: sim.NoTimer}, night.Blocked, "the rollback timer cannot be armed"},
		"quiet timer":     {sim.Fault{Kind: sim.QuietTimer}, night.Blocked, "not pending after it was armed"},
		"stuck timer":     {sim.Fault{Kind: sim.StuckTimer}, night.Reverted, "came back with its saved configuration"},
		"no save":         {sim.Fault{Kind: sim.NoSave}, night.Reverted, "equal to the backup"},
		"never settles":   {sim.Fault{Kind: sim.NeverSettles}, night.Reverted, "equal to the backup"},
		"cuts off":        {sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}, night.Reverted, "came back with its saved configuration"},
		"lost undo":       {sim.Fault{Kind: sim.LostUndo}, night.Kept, "kept and saved"},
		"no fault at all": {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, night.Kept, "kept and saved"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{Faults: []sim.Fault{c.fault}}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), nil)
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				assert.Equal(t, night.Kept, w.night.Get("ald-quay-2").State)
				w.checkLaws()
			})
		})
	}
}

// Two faults together need the higher rungs of the ladder.
func TestLadder(t *testing.T) {
	reject := sim.Fault{Kind: sim.Rejects, Match: "^lan 310"}
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
		note   string
		rungs  []string
	}{
		"computed lines are enough": {[]sim.Fault{reject}, night.Reverted, "equal", []string{"as found", work.RungLines}},
		"undo lost, so restored":    {[]sim.Fault{reject, {Kind: sim.LostUndo}}, night.Reverted, "equal", []string{"as found", work.RungLines, work.RungUndo, work.RungRestore}},
		"computed lines lost, so undo lines": {[]sim.Fault{reject, {Kind: sim.LostUndo, Times: 3}, {Kind: sim.Refusing}}, night.Reverted, "equal",
			[]string{"as found", work.RungLines, work.RungUndo}},
		"restore refused, so the timer": {[]sim.Fault{reject, {Kind: sim.LostUndo}, {Kind: sim.Refusing}}, night.Reverted, "came back",
			[]string{"as found", work.RungLines, work.RungUndo, work.RungRestore, work.RungFire}},
		"never back": {[]sim.Fault{reject, {Kind: sim.LostUndo}, {Kind: sim.Refusing}, {Kind: sim.NeverBack}}, night.Stranded, "not back by",
			[]string{"as found", work.RungLines, work.RungUndo, work.RungRestore, work.RungFire}},
		"back as something else": {[]sim.Fault{reject, {Kind: sim.LostUndo}, {Kind: sim.Refusing}, {Kind: sim.Spoils}}, night.Stranded,
			"not what was backed up: + log host 192.0.2.254", []string{"as found", work.RungLines, work.RungUndo, work.RungRestore, work.RungFire}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{Faults: c.faults}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), nil)
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				var rungs []string
				for _, e := range w.journal.Events {
					if e.Kind == night.Rung {
						rungs = append(rungs, e.What)
					}
				}
				assert.Equal(t, c.rungs, rungs)
				w.checkLaws()
			})
		})
	}
}

func TestBlockedBeforeAnythingIsChanged(t *testing.T) {
	for name, c := range map[string]struct {
		spec sim.Spec
		note string
	}{
		"unsaved changes": {sim.Spec{Unsaved: "log host 192.0.2.77"}, "unsaved changes: + log host 192.0.2.77"},
		"clock off":       {sim.Spec{ClockOff: -time.Hour}, "its clock is off by 1h"},
		"storage full":    {sim.Spec{FreeMB: 3}, "3 MB free, at least 20 MB is wanted"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{c.spec}, nil)
				defer w.sim.Close()
				w.run(context.Background(), nil)
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, night.Blocked, d.State)
				assert.Contains(t, d.Note, c.note)
				assert.Equal(t, night.SomeBlocked, w.night.Outcome())
				w.checkLaws()
			})
		})
	}
}

// A change of a secret shows it nowhere: not in the plan's lines, not in what was
// sent, refused or differs (law 12).
func TestASecretInAChangeIsShownNowhere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.SaysBack, Match: "^login ferry"}}}, {Unsaved: "login bob secret " + inConfig}}, func(s string) string {
			return strings.Replace(s, "step \"Gates\"", "step \"Login\"\n  send\n    | login ferry secret "+inConfig+"\n  undo\n    | drop login ferry\n\nstep \"Gates\"", 1)
		})
		defer w.sim.Close()
		w.run(context.Background(), nil)
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-1").State)
		assert.Equal(t, night.Reverted, w.night.Get("ald-quay-2").State)
		assert.Contains(t, w.night.Get("ald-quay-3").Note, "+ login bob secret ▒▒▒▒")
		assert.Contains(t, w.sim.Device("ald-quay-1").Running(), "login ferry secret "+inConfig)
		assert.Contains(t, w.journalText(), "login ferry secret ▒▒▒▒")
		w.checkLaws()
	})
}

// A device may print what it was told in confidence anywhere, even in the midst
// of its configuration: it is kept nowhere (law 12).
func TestASecretInTheConfigurationIsShownNowhere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Unsaved: "name " + operator}}, nil) // in its prompts as well
		defer w.sim.Close()
		require.NoError(t, w.plan.Waive([]plan.Waiver{{Check: plan.IdentityCheck, Device: "ald-quay-1", Reason: "it is being renamed"}}))
		w.run(context.Background(), nil)
		assert.Equal(t, night.Blocked, w.night.Get("ald-quay-1").State)
		assert.Equal(t, "saved: it has unsaved changes: - name ald-quay-1, + name ▒▒▒▒", w.night.Get("ald-quay-1").Note)
		assert.Contains(t, w.journalText(), "it calls itself ▒▒▒▒, and ald-quay-1 is meant")
		w.checkLaws()
	})
}

// A denied login is tried once: trying again locks accounts.
func TestADeniedLoginIsTriedOnce(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.BadPassword}}}}, nil)
		defer w.sim.Close()
		w.run(context.Background(), nil)
		assert.Equal(t, "not reachable: login crew is denied: check user, password and key; it was tried once", w.night.Get("ald-quay-1").Note)
		truth := w.sim.Device("ald-quay-1").Truth()
		if assert.Len(t, truth, 1) {
			assert.Equal(t, sim.Denied, truth[0].What)
		}
	})
}

// A device that is as intended is not touched, and a second night after a good
// one touches nothing (law 10).
func TestSecondNightTouchesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {Config: intendedConfig}, {}}, nil)
		defer w.sim.Close()
		w.run(context.Background(), nil)
		assert.Equal(t, map[night.State]int{night.Kept: 2, night.Already: 1}, w.night.Count())
		w.checkLaws()
		before := len(w.sim.Device("ald-quay-1").Truth())
		w.night = night.Night{}
		w.run(context.Background(), nil)
		assert.Equal(t, map[night.State]int{night.Already: 3}, w.night.Count())
		for _, tr := range w.sim.Device("ald-quay-1").Truth()[before:] {
			assert.Equal(t, sim.Shown, tr.What)
		}
	})
}

// A person's decisions at a hold.
func TestDecisions(t *testing.T) {
	for name, c := range map[string]struct {
		fault  sim.Fault
		choose night.Choice
		held   night.State // how the held device ends
		first  night.State // how the device of batch 1 ends
	}{
		"try again":            {sim.Fault{Kind: sim.Rejects, Match: "^log host", Times: 1}, night.TryAgain, night.Kept, night.Kept},
		"try again after loss": {sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}, night.TryAgain, night.Kept, night.Kept},
		"skip the step":        {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, night.SkipStep, night.Kept, night.Kept},
		"take back":            {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, night.BackDevice, night.Reverted, night.Kept},
		"take batch back":      {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, night.BackBatch, night.Reverted, night.Kept},
		"take all back":        {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, night.BackAll, night.Reverted, night.Reverted},
		"wait for the timer":   {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, night.LetFire, night.Reverted, night.Kept},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{}, {Faults: []sim.Fault{c.fault}}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), func(r *run.Run, e night.Event) {
					if e.Kind == night.HoldOpened {
						choice := c.choose
						if e.Device == "" {
							choice = night.GoOn
						}
						assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: choice, By: "Ada"}))
					}
				})
				assert.Equal(t, c.held, w.night.Get("ald-quay-2").State, w.night.Get("ald-quay-2").Note)
				assert.Equal(t, c.first, w.night.Get("ald-quay-1").State)
				if c.choose == night.SkipStep {
					assert.Equal(t, 1, w.night.Get("ald-quay-2").LeftSteps())
					assert.NotContains(t, w.sim.Device("ald-quay-2").Running(), "198.51.100.14")
					assert.Equal(t, night.SomeBack, w.night.Outcome())
				}
				if c.choose == night.BackBatch {
					assert.Equal(t, night.Reverted, w.night.Get("ald-quay-3").State)
				}
				w.checkLaws()
			})
		})
	}
}

// A hold that nobody answers ends when the timer fires: the device is safe.
func TestUnansweredHoldIsTakenBackByTheTimer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}}, nil)
		defer w.sim.Close()
		w.run(context.Background(), func(*run.Run, night.Event) {})
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, w.initial["ald-quay-1"], w.sim.Device("ald-quay-1").Running())
		w.checkLaws()
	})
}

// Abort once takes back what is in change; twice lets go of it, and the timers
// do their work.
func TestAbort(t *testing.T) {
	for name, c := range map[string]struct {
		choices []night.Choice
		state   night.State
	}{
		"take back":   {[]night.Choice{night.BackDevice}, night.Reverted},
		"let finish":  {[]night.Choice{night.Finish}, night.Kept},
		"let go":      {[]night.Choice{night.BackDevice, night.Release}, night.Dark},
		"let go soon": {[]night.Choice{night.Release}, night.Dark},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), func(r *run.Run, e night.Event) {
					if e.Kind == night.Sent && e.Device == "ald-quay-1" && e.Step == 1 && e.What == "" {
						for _, choice := range c.choices {
							assert.NoError(t, r.Do(context.Background(), night.Command{Choice: choice, By: "Ada"}))
						}
					}
				})
				assert.Equal(t, c.state, w.night.Get("ald-quay-1").State, w.night.Get("ald-quay-1").Note)
				assert.Equal(t, night.Skipped, w.night.Get("ald-quay-2").State)
				if c.state == night.Dark {
					assert.Contains(t, w.night.Get("ald-quay-1").Note, "let go; restarts at")
					assert.Equal(t, night.NeedsPerson, w.night.Outcome())
					time.Sleep(10 * time.Minute)
					assert.Equal(t, w.initial["ald-quay-1"], w.sim.Device("ald-quay-1").Running())
				}
				w.checkLaws()
			})
		})
	}
}

// Of a redundant pair, the standby goes first, and its partner only after it is
// kept (law 8).
func TestPairs(t *testing.T) {
	for _, fails := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			specs := []sim.Spec{{Name: "brm-a", Address: "192.0.2.1"}, {Name: "brm-b", Address: "192.0.2.2"}}
			if fails {
				specs[1].Faults = []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}
			}
			csv := "name,address,platform,role,pair,login\nbrm-a,192.0.2.1,tern,quay,brm,crew\nbrm-b,192.0.2.2,tern,quay,brm standby,crew\n"
			book := strings.Replace(standardBook, "sizes     1, 4", "sizes     8", 1)
			w := newWorld(t, sim.Scenario{Boot: 15 * time.Second, Settle: time.Second, Devices: specs}, csv, book, t.TempDir())
			defer w.sim.Close()
			w.run(context.Background(), nil)
			if fails {
				assert.Equal(t, night.Reverted, w.night.Get("brm-b").State)
				assert.Equal(t, night.Skipped, w.night.Get("brm-a").State)
				assert.Equal(t, "its partner brm-b is reverted", w.night.Get("brm-a").Note)
			} else {
				assert.Equal(t, night.Kept, w.night.Get("brm-a").State)
				assert.True(t, w.night.Get("brm-b").Ended.Before(w.night.Get("brm-a").Began.Add(time.Nanosecond)))
			}
			w.checkLaws()
		})
	}
}

// The failure budget stops the run; nothing new is started after it.
func TestFailureBudget(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		bad := []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}
		w := simple(t, []sim.Spec{{}, {Faults: bad}, {Faults: bad}, {}, {}, {}}, func(s string) string {
			return strings.Replace(s, "sizes     1, 4\n  together  4\n", "sizes     1, 2\n  stop      after 2 failures\n", 1)
		})
		defer w.sim.Close()
		w.run(context.Background(), nil)
		assert.Equal(t, map[night.State]int{night.Kept: 1, night.Reverted: 2, night.Skipped: 3}, w.night.Count())
		w.checkLaws()
	})
}

// While a device is held, the others wait for the answer, or go on beside it where the
// runbook says so; the batch behind waits for both.
func TestWhileADeviceIsHeld(t *testing.T) {
	for line, beside := range map[string]bool{"": false, "  while held wait\n": false, "  while held go on\n": true} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, {}, {}, {}}, func(s string) string {
				return strings.Replace(s, "sizes     1, 4\n  together  4\n", "sizes     3\n  together  2\n"+line, 1)
			})
			defer w.sim.Close()
			answered := time.Time{}
			w.run(context.Background(), when(opened, func(r *run.Run, e night.Event) {
				go func() {
					time.Sleep(2 * time.Minute)
					answered = time.Now()
					assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.BackDevice, By: "test"}))
				}()
			}))
			assert.Equal(t, map[night.State]int{night.Kept: 3, night.Reverted: 1}, w.night.Count(), line)
			assert.Equal(t, beside, w.night.Get("ald-quay-3").Began.Before(answered), line)
			assert.False(t, w.night.Get("ald-quay-4").Began.Before(answered), "the batch behind waits: %s", line)
			w.checkLaws()
		})
	}
}

// When the last device uses up the budget, there is nothing left to ask about.
func TestBudgetUsedUpByTheLastDevice(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}}, func(s string) string {
			return strings.Replace(s, "together  4\n", "together  4\n  stop      after 1 failure\n", 1)
		})
		defer w.sim.Close()
		w.run(context.Background(), nil)
		for _, e := range w.journal.Events {
			assert.False(t, e.Kind == night.HoldOpened && e.Device == "", "asked: %s", e.Note)
		}
		w.checkLaws()
	})
}

// The opening of the window answers the question about the window and no other,
// however close to it a person decides.
func TestTheWindowAnswersOnlyItsOwnQuestion(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {}}, func(s string) string {
			return strings.NewReplacer("now for 3h", "01:30 for 3h", "together  4\n", "together  4\n  hold      after batch 1\n").Replace(s)
		})
		defer w.sim.Close()
		var open []string
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			if e.Kind != night.HoldOpened {
				return
			}
			open = append(open, e.Note)
			go func() {
				if len(open) == 1 { // exactly as the window opens
					time.Sleep(time.Until(w.plan.Window.Open))
				} else {
					time.Sleep(time.Hour)
				}
				_ = r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.GoOn, By: "Ada"})
			}()
		})
		assert.Len(t, open, 2)
		gap := w.night.Get("ald-quay-2").Began.Sub(w.night.Get("ald-quay-1").Ended)
		assert.GreaterOrEqual(t, gap, time.Hour, "the planned hold was passed by itself")
	})
}

// A batch does not start after its turn-back time (law 9).
func TestTurnBackTime(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {}, {}}, func(s string) string {
			return strings.Replace(s, "window    now for 3h\n  reserve   20m", "window    now for 3m15s\n  reserve   2m", 1)
		})
		defer w.sim.Close()
		w.run(context.Background(), nil)
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-1").State)
		assert.Equal(t, night.Skipped, w.night.Get("ald-quay-2").State)
	})
}

// In a batch, too, no device is begun after the last moment at which it, and all before
// it, can be taken back; a person may say that it goes on all the same.
func TestNoDeviceIsBegunTooLate(t *testing.T) {
	for _, late := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Slow, By: 4 * time.Second}}}, {}, {}}, func(s string) string {
				return strings.NewReplacer("window    now for 3h\n  reserve   20m", "window    now for 6m\n  reserve   1m", "sizes     1, 4\n  together  4", "sizes     3\n  together  1").Replace(s)
			})
			defer w.sim.Close()
			w.run(context.Background(), when(opened, func(r *run.Run, e night.Event) {
				assert.Contains(t, e.Note, "the last moment to begin ald-quay-")
				c := night.Command{Hold: e.Hold, Choice: night.Stop, By: "test"}
				if late {
					c = night.Command{Hold: e.Hold, Choice: night.GoOnLate, By: "test", Reason: "the desk agreed"}
				}
				go func() { assert.NoError(t, r.Do(context.Background(), c)) }()
			}))
			begun := 0
			for _, d := range w.night.Devices {
				begun += asOne(!d.Began.IsZero())
			}
			assert.Equal(t, late, begun == 3, "begun %d", begun)
			assert.Equal(t, night.Kept, w.night.Devices[0].State)
			w.checkLaws()
		})
	}
}

// A machine that was suspended has lost that time of its window, though none was measured.
func TestAMachineThatSlept(t *testing.T) {
	for _, slept := range []time.Duration{0, 2*time.Hour + 55*time.Minute} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}, {}}, func(s string) string {
				return strings.Replace(s, "sizes     1, 4", "sizes     1", 1)
			})
			defer w.sim.Close()
			var woke atomic.Bool
			w.asleep = func() time.Duration {
				if woke.Load() {
					return 9*time.Hour + slept
				}
				return 9 * time.Hour // before the night
			}
			w.run(context.Background(), func(r *run.Run, e night.Event) {
				if e.Kind == night.Moved && e.State == night.Verifying {
					woke.Store(true)
				}
				if opened(e) {
					go func() {
						assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: e.Offers[len(e.Offers)-1].Choice, By: "test", Reason: "the test says so"}))
					}()
				}
			})
			assert.Equal(t, slept == 0, w.night.Get("ald-quay-1").State == night.Kept && w.night.Get("ald-quay-2").State == night.Kept, w.story())
			w.checkLaws()
		})
	}
}

// Once the reserve has begun no step that changes something is begun, but taken back, or
// gone on with for a reason.
func TestNothingIsChangedInTheReserve(t *testing.T) {
	for choice, want := range map[night.Choice]night.State{night.BackDevice: night.Reverted, night.GoOnLate: night.Kept, "": night.Reverted} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Slow, Match: "^(edit|up|time source|log host|tell)", By: 9 * time.Second}}}}, func(s string) string {
				return strings.Replace(s, "window    now for 3h\n  reserve   20m", "window    now for 6m\n  reserve   4m40s", 1)
			})
			defer w.sim.Close()
			var who person
			if choice != "" {
				who = when(opened, func(r *run.Run, e night.Event) {
					assert.Regexp(t, `the reserve has begun since \d\d:\d\d:\d\d, and ".*" was not sent`, e.Note)
					assert.Equal(t, night.GoOnLate, e.Offers[0].Choice)
					assert.True(t, e.Offers[0].Reason)
					go func() {
						assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: choice, By: "test", Reason: "the desk agreed"}))
					}()
				})
			}
			w.run(context.Background(), who)
			assert.Equal(t, want, w.night.Devices[0].State, "%s: %s", choice, w.night.Devices[0].Note)
			w.checkLaws()
		})
	}
}

// A run waits for its window to open.
func TestWindowOpensLater(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}}, func(s string) string { return strings.Replace(s, "now for 3h", "01:30 for 3h", 1) })
		defer w.sim.Close()
		w.run(context.Background(), nil)
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Kept, d.State)
		assert.False(t, d.Began.Before(w.plan.Window.Open), "began %s, window %s", d.Began, w.plan.Window.Open)
	})
}

// A line that is refused is why a device is held, also where leaving the mode it was sent in is
// refused, too.
func TestALineIsRefusedAndSoIsTheWayOut(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}, {Kind: sim.Balks, Match: "^done", After: 1, Times: 1}}}}, nil)
		defer w.sim.Close()
		var holds []string
		w.run(context.Background(), againThen(t, night.BackDevice, &holds))
		require.NotEmpty(t, holds)
		assert.Contains(t, holds[0], `line 1 of "Log collector" was refused`)
		w.checkLaws()
	})
}

// A device without contact cannot be taken back when that is decided: it is said that it will
// be, once.
func TestADarkDeviceIsToBeTakenBack(t *testing.T) {
	for _, times := range []int{1, 2} {
		darkAndTakenBack(t, times)
	}
}

func darkAndTakenBack(t *testing.T, times int) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3"}}}}, nil)
		defer w.sim.Close()
		asked := 0
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			if e.Kind == night.Moved && e.State == night.Dark && !e.OK {
				for ; asked < times; asked++ {
					assert.NoError(t, r.Do(context.Background(), night.Command{Choice: night.BackDevice, By: "Ada"}))
				}
			}
		})
		said := 0
		for _, e := range w.journal.Events {
			if e.Kind == night.Doing && strings.Contains(e.Note, "to be taken back as soon as it is there: decided at ") {
				said++
			}
		}
		assert.Equal(t, 1, said)
		assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
		w.checkLaws()
	})
}

// Nobody is there at a planned hold: the night goes on where all went well, and stops where
// something was taken back, or where nothing shows that it went well.
func TestAPlannedHoldThatNobodySees(t *testing.T) {
	refuses, off := sim.Spec{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, sim.Spec{ClockOff: time.Hour}
	for name, c := range map[string]struct {
		first []sim.Spec
		state night.State // of the device in the second batch
	}{
		"all kept":              {[]sim.Spec{{}, {}}, night.Kept},
		"one kept, one back":    {[]sim.Spec{{}, refuses}, night.Skipped},
		"none kept":             {[]sim.Spec{off, off}, night.Skipped},
		"one kept, one blocked": {[]sim.Spec{{}, off}, night.Kept},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, append(c.first, sim.Spec{}), edits("sizes     1, 4", "sizes     2, 4\n  hold      after batch 1\n  stop      never"))
				defer w.sim.Close()
				w.runQuiet()
				assert.Equal(t, c.state, w.night.Get("ald-quay-3").State, w.night.Get("ald-quay-3").Note)
				w.checkLaws()
			})
		})
	}
}

// A device that takes nothing back by itself is not changed where no lines are known that
// lead back: its profile says of one of the undo lines that it takes nothing away.
func TestNothingLeadsBack(t *testing.T) {
	text, err := os.ReadFile("../../profiles/tern.yaml")
	require.NoError(t, err)
	const rule = ", key: label, away: drop label}"
	require.Contains(t, string(text), rule)
	p, err := profile.Load("tern.yaml", []byte(strings.Replace(string(text), rule, ", key: label}", 1)))
	require.NoError(t, err)
	p.Timer, p.Restore = profile.Timer{Kind: plan.NoTimer}, profile.Restore{}
	set := maps.Clone(shipped(t))
	set["tern"] = p
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleOf(t, set, dir, []sim.Spec{{}}, nil, func(s string) string {
			return untimed(book("step \"Label\"\n  send\n    | port 5\n    | label \"desk\"\n  undo\n    | port 5\n    | drop label\n")(s))
		})
		defer w.sim.Close()
		w.noTimer = true
		w.runQuiet()
		d := w.night.Devices[0]
		assert.Equal(t, night.Blocked, d.State, d.Note)
		assert.Contains(t, d.Note, `the undo lines of "Label" do not lead back on it, no others are known, and it takes nothing back by itself`)
		assert.Empty(t, w.sentTo(d.Name, night.ToSend))
	})
}
