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

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// Each fault, alone on one device, ends in the state a person would expect, and
// the device next to it is not touched by it.
func TestEachFault(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state run.State
		note  string
	}{
		"refuses":         {sim.Fault{Kind: sim.Refuses}, run.Blocked, "refuses port 22"},
		"bad password":    {sim.Fault{Kind: sim.BadPassword}, run.Blocked, "login crew is denied"},
		"hangs early":     {sim.Fault{Kind: sim.Hangs, Match: "^work$"}, run.Blocked, "no prompt in 10s"},
		"hangs at line":   {sim.Fault{Kind: sim.Hangs, Match: "^log host"}, run.Reverted, "equal to the backup"},
		"drops mid-line":  {sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}, run.Reverted, "equal to the backup"},
		"rejects a line":  {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, run.Reverted, "equal to the backup"},
		"rejects early":   {sim.Fault{Kind: sim.Rejects, Match: "^time source"}, run.Reverted, "equal to the backup"},
		"garbage":         {sim.Fault{Kind: sim.Garbage, Match: "^log host"}, run.Kept, "kept and saved"},
		"slow":            {sim.Fault{Kind: sim.Slow, By: 2 * time.Second}, run.Kept, "kept and saved"},
		"restarts":        {sim.Fault{Kind: sim.Restarts, Match: "^log host"}, run.Reverted, "came back with its saved configuration"},
		"no timer":        {sim.Fault{Kind: sim.NoTimer}, run.Blocked, "the rollback timer cannot be armed"},
		"quiet timer":     {sim.Fault{Kind: sim.QuietTimer}, run.Blocked, "not pending after it was armed"},
		"stuck timer":     {sim.Fault{Kind: sim.StuckTimer}, run.Reverted, "came back with its saved configuration"},
		"no save":         {sim.Fault{Kind: sim.NoSave}, run.Reverted, "equal to the backup"},
		"never settles":   {sim.Fault{Kind: sim.NeverSettles}, run.Reverted, "equal to the backup"},
		"cuts off":        {sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}, run.Reverted, "came back with its saved configuration"},
		"lost undo":       {sim.Fault{Kind: sim.LostUndo}, run.Kept, "kept and saved"},
		"no fault at all": {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, run.Kept, "kept and saved"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{Faults: []sim.Fault{c.fault}}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), nil)
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				assert.Equal(t, run.Kept, w.night.Get("ald-quay-2").State)
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
		state  run.State
		note   string
		rungs  []string
	}{
		"computed lines are enough": {[]sim.Fault{reject}, run.Reverted, "equal", []string{"as found", run.RungLines}},
		"undo lost, so restored":    {[]sim.Fault{reject, {Kind: sim.LostUndo}}, run.Reverted, "equal", []string{"as found", run.RungLines, run.RungUndo, run.RungRestore}},
		"computed lines lost, so undo lines": {[]sim.Fault{reject, {Kind: sim.LostUndo, Times: 3}, {Kind: sim.Refusing}}, run.Reverted, "equal",
			[]string{"as found", run.RungLines, run.RungUndo}},
		"restore refused, so the timer": {[]sim.Fault{reject, {Kind: sim.LostUndo}, {Kind: sim.Refusing}}, run.Reverted, "came back",
			[]string{"as found", run.RungLines, run.RungUndo, run.RungRestore, run.RungFire}},
		"never back": {[]sim.Fault{reject, {Kind: sim.LostUndo}, {Kind: sim.Refusing}, {Kind: sim.NeverBack}}, run.Stranded, "not back by",
			[]string{"as found", run.RungLines, run.RungUndo, run.RungRestore, run.RungFire}},
		"back as something else": {[]sim.Fault{reject, {Kind: sim.LostUndo}, {Kind: sim.Refusing}, {Kind: sim.Spoils}}, run.Stranded,
			"not what was backed up: + log host 192.0.2.254", []string{"as found", run.RungLines, run.RungUndo, run.RungRestore, run.RungFire}},
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
					if e.Kind == run.Rung {
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
				assert.Equal(t, run.Blocked, d.State)
				assert.Contains(t, d.Note, c.note)
				assert.Equal(t, run.SomeBlocked, w.night.Outcome())
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
		assert.Equal(t, run.Kept, w.night.Get("ald-quay-1").State)
		assert.Equal(t, run.Reverted, w.night.Get("ald-quay-2").State)
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
		assert.Equal(t, run.Blocked, w.night.Get("ald-quay-1").State)
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
		assert.Equal(t, map[run.State]int{run.Kept: 2, run.Already: 1}, w.night.Count())
		w.checkLaws()
		before := len(w.sim.Device("ald-quay-1").Truth())
		w.night = run.Night{}
		w.run(context.Background(), nil)
		assert.Equal(t, map[run.State]int{run.Already: 3}, w.night.Count())
		for _, tr := range w.sim.Device("ald-quay-1").Truth()[before:] {
			assert.Equal(t, sim.Shown, tr.What)
		}
	})
}

// A person's decisions at a hold.
func TestDecisions(t *testing.T) {
	for name, c := range map[string]struct {
		fault  sim.Fault
		choose run.Choice
		held   run.State // how the held device ends
		first  run.State // how the device of batch 1 ends
	}{
		"try again":            {sim.Fault{Kind: sim.Rejects, Match: "^log host", Times: 1}, run.TryAgain, run.Kept, run.Kept},
		"try again after loss": {sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}, run.TryAgain, run.Kept, run.Kept},
		"skip the step":        {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, run.SkipStep, run.Kept, run.Kept},
		"take back":            {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, run.BackDevice, run.Reverted, run.Kept},
		"take batch back":      {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, run.BackBatch, run.Reverted, run.Kept},
		"take all back":        {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, run.BackAll, run.Reverted, run.Reverted},
		"wait for the timer":   {sim.Fault{Kind: sim.Rejects, Match: "^log host"}, run.LetFire, run.Reverted, run.Kept},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{}, {Faults: []sim.Fault{c.fault}}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), func(r *run.Run, e run.Event) {
					if e.Kind == run.HoldOpened {
						choice := c.choose
						if e.Device == "" {
							choice = run.GoOn
						}
						assert.NoError(t, r.Do(context.Background(), run.Command{Hold: e.Hold, Choice: choice, By: "Ada"}))
					}
				})
				assert.Equal(t, c.held, w.night.Get("ald-quay-2").State, w.night.Get("ald-quay-2").Note)
				assert.Equal(t, c.first, w.night.Get("ald-quay-1").State)
				if c.choose == run.SkipStep {
					assert.Equal(t, 1, w.night.Get("ald-quay-2").LeftSteps())
					assert.NotContains(t, w.sim.Device("ald-quay-2").Running(), "198.51.100.14")
					assert.Equal(t, run.SomeBack, w.night.Outcome())
				}
				if c.choose == run.BackBatch {
					assert.Equal(t, run.Reverted, w.night.Get("ald-quay-3").State)
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
		w.run(context.Background(), func(*run.Run, run.Event) {})
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, run.Reverted, d.State, d.Note)
		assert.Equal(t, w.initial["ald-quay-1"], w.sim.Device("ald-quay-1").Running())
		w.checkLaws()
	})
}

// Abort once takes back what is in change; twice lets go of it, and the timers
// do their work.
func TestAbort(t *testing.T) {
	for name, c := range map[string]struct {
		choices []run.Choice
		state   run.State
	}{
		"take back":   {[]run.Choice{run.BackDevice}, run.Reverted},
		"let finish":  {[]run.Choice{run.Finish}, run.Kept},
		"let go":      {[]run.Choice{run.BackDevice, run.Release}, run.Dark},
		"let go soon": {[]run.Choice{run.Release}, run.Dark},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), func(r *run.Run, e run.Event) {
					if e.Kind == run.Sent && e.Device == "ald-quay-1" && e.Step == 1 && e.What == "" {
						for _, choice := range c.choices {
							assert.NoError(t, r.Do(context.Background(), run.Command{Choice: choice, By: "Ada"}))
						}
					}
				})
				assert.Equal(t, c.state, w.night.Get("ald-quay-1").State, w.night.Get("ald-quay-1").Note)
				assert.Equal(t, run.Skipped, w.night.Get("ald-quay-2").State)
				if c.state == run.Dark {
					assert.Contains(t, w.night.Get("ald-quay-1").Note, "let go; restarts at")
					assert.Equal(t, run.NeedsPerson, w.night.Outcome())
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
				assert.Equal(t, run.Reverted, w.night.Get("brm-b").State)
				assert.Equal(t, run.Skipped, w.night.Get("brm-a").State)
				assert.Equal(t, "its partner brm-b is reverted", w.night.Get("brm-a").Note)
			} else {
				assert.Equal(t, run.Kept, w.night.Get("brm-a").State)
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
		assert.Equal(t, map[run.State]int{run.Kept: 1, run.Reverted: 2, run.Skipped: 3}, w.night.Count())
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
			w.run(context.Background(), when(opened, func(r *run.Run, e run.Event) {
				go func() {
					time.Sleep(2 * time.Minute)
					answered = time.Now()
					assert.NoError(t, r.Do(context.Background(), run.Command{Hold: e.Hold, Choice: run.BackDevice, By: "test"}))
				}()
			}))
			assert.Equal(t, map[run.State]int{run.Kept: 3, run.Reverted: 1}, w.night.Count(), line)
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
			assert.False(t, e.Kind == run.HoldOpened && e.Device == "", "asked: %s", e.Note)
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
		w.run(context.Background(), func(r *run.Run, e run.Event) {
			if e.Kind != run.HoldOpened {
				return
			}
			open = append(open, e.Note)
			go func() {
				if len(open) == 1 { // exactly as the window opens
					time.Sleep(time.Until(w.plan.Window.Open))
				} else {
					time.Sleep(time.Hour)
				}
				_ = r.Do(context.Background(), run.Command{Hold: e.Hold, Choice: run.GoOn, By: "Ada"})
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
		assert.Equal(t, run.Kept, w.night.Get("ald-quay-1").State)
		assert.Equal(t, run.Skipped, w.night.Get("ald-quay-2").State)
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
			w.run(context.Background(), when(opened, func(r *run.Run, e run.Event) {
				assert.Contains(t, e.Note, "the last moment to begin ald-quay-")
				c := run.Command{Hold: e.Hold, Choice: run.Stop, By: "test"}
				if late {
					c = run.Command{Hold: e.Hold, Choice: run.GoOnLate, By: "test", Reason: "the desk agreed"}
				}
				go func() { assert.NoError(t, r.Do(context.Background(), c)) }()
			}))
			begun := 0
			for _, d := range w.night.Devices {
				begun += asOne(!d.Began.IsZero())
			}
			assert.Equal(t, late, begun == 3, "begun %d", begun)
			assert.Equal(t, run.Kept, w.night.Devices[0].State)
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
			w.run(context.Background(), func(r *run.Run, e run.Event) {
				if e.Kind == run.Moved && e.State == run.Verifying {
					woke.Store(true)
				}
				if opened(e) {
					go func() {
						assert.NoError(t, r.Do(context.Background(), run.Command{Hold: e.Hold, Choice: e.Offers[len(e.Offers)-1].Choice, By: "test", Reason: "the test says so"}))
					}()
				}
			})
			assert.Equal(t, slept == 0, w.night.Get("ald-quay-1").State == run.Kept && w.night.Get("ald-quay-2").State == run.Kept, w.story())
			w.checkLaws()
		})
	}
}

// Once the reserve has begun no step that changes something is begun, but taken back, or
// gone on with for a reason.
func TestNothingIsChangedInTheReserve(t *testing.T) {
	for choice, want := range map[run.Choice]run.State{run.BackDevice: run.Reverted, run.GoOnLate: run.Kept, "": run.Reverted} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Slow, Match: "^(edit|up|time source|log host|tell)", By: 9 * time.Second}}}}, func(s string) string {
				return strings.Replace(s, "window    now for 3h\n  reserve   20m", "window    now for 6m\n  reserve   4m40s", 1)
			})
			defer w.sim.Close()
			var who person
			if choice != "" {
				who = when(opened, func(r *run.Run, e run.Event) {
					assert.Regexp(t, `the reserve has begun since \d\d:\d\d:\d\d, and ".*" was not sent`, e.Note)
					assert.Equal(t, run.GoOnLate, e.Offers[0].Choice)
					assert.True(t, e.Offers[0].Reason)
					go func() {
						assert.NoError(t, r.Do(context.Background(), run.Command{Hold: e.Hold, Choice: choice, By: "test", Reason: "the desk agreed"}))
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
		assert.Equal(t, run.Kept, d.State)
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
		w.run(context.Background(), againThen(t, run.BackDevice, &holds))
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
		w.run(context.Background(), func(r *run.Run, e run.Event) {
			if e.Kind == run.Moved && e.State == run.Dark && !e.OK {
				for ; asked < times; asked++ {
					assert.NoError(t, r.Do(context.Background(), run.Command{Choice: run.BackDevice, By: "Ada"}))
				}
			}
		})
		said := 0
		for _, e := range w.journal.Events {
			if e.Kind == run.Doing && strings.Contains(e.Note, "to be taken back as soon as it is there: decided at ") {
				said++
			}
		}
		assert.Equal(t, 1, said)
		assert.Equal(t, run.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
		w.checkLaws()
	})
}

// Nobody is there at a planned hold: the night goes on where all went well, and stops where
// something was taken back, or where nothing shows that it went well.
func TestAPlannedHoldThatNobodySees(t *testing.T) {
	refuses, off := sim.Spec{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, sim.Spec{ClockOff: time.Hour}
	for name, c := range map[string]struct {
		first []sim.Spec
		state run.State // of the device in the second batch
	}{
		"all kept":              {[]sim.Spec{{}, {}}, run.Kept},
		"one kept, one back":    {[]sim.Spec{{}, refuses}, run.Skipped},
		"none kept":             {[]sim.Spec{off, off}, run.Skipped},
		"one kept, one blocked": {[]sim.Spec{{}, off}, run.Kept},
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
		assert.Equal(t, run.Blocked, d.State, d.Note)
		assert.Contains(t, d.Note, `the undo lines of "Label" do not lead back on it, no others are known, and it takes nothing back by itself`)
		assert.Empty(t, w.sentTo(d.Name, run.ToSend))
	})
}
