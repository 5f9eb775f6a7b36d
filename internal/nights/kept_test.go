package nights

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"syscall"
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

// always answers every hold with the first of some choices that is offered.
func always(t *testing.T, choices ...night.Choice) person {
	return func(r *run.Run, e night.Event) {
		if e.Kind != night.HoldOpened {
			return
		}
		for _, c := range choices {
			if slices.ContainsFunc(e.Offers, func(o night.Offer) bool { return o.Choice == c }) {
				assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: c, By: "Ada", Reason: "a drill"}))
				return
			}
		}
	}
}

// holdsOf lists what was asked of a device, or of the run for ""; not what is asked beside the waiting
// for what has no contact.
func (w *world) holdsOf(device string) (out []string) {
	for _, e := range w.journal.Events {
		if e.Kind == night.HoldOpened && e.Device == device && !e.Aside() {
			out = append(out, e.Note+" / "+strings.Join(e.Lines, " / "))
		}
	}
	return out
}

// marks are the marks that each step of a device was given, in order.
func (w *world) marks(device string, step int) (out []string) {
	for _, e := range w.journal.Events {
		if e.Kind == night.Stepped && e.Device == device && e.Step == step {
			out = append(out, e.What)
		}
	}
	return out
}

// A device that says yes and means no is never kept, and never called what it is
// not.
func TestDevicesThatSayYesAndMeanNo(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
		note   string
		held   string // what it is held for; "" is never
	}{
		"quiet save":           {[]sim.Fault{{Kind: sim.QuietSave}}, night.Reverted, "equal to the backup", "after saving, the saved configuration is not what was proven"},
		"disarmed late":        {[]sim.Fault{{Kind: sim.LateDisarm, By: 3 * time.Second}}, night.Kept, "kept and saved", ""},
		"disarmed too late":    {[]sim.Fault{{Kind: sim.LateDisarm, By: time.Minute}}, night.Reverted, "came back with its saved configuration", "still pending"},
		"drifts while proven":  {[]sim.Fault{{Kind: sim.Drifts, Match: "^restart cancel", Times: 1}}, night.Reverted, "equal to the backup", "after saving, the running configuration is not what was proven"},
		"drifts when reverted": {[]sim.Fault{{Kind: sim.Rejects, Match: "^log host"}, {Kind: sim.Drifts, Match: "^restart cancel", Times: 1}}, night.Reverted, "equal to the backup", "was refused"},
		"never stops drifting": {[]sim.Fault{{Kind: sim.Rejects, Match: "^log host"}, {Kind: sim.Drifts, Match: "^restart cancel"}}, night.Stranded, "changed by itself", "was refused"},
		"backup cut short":     {[]sim.Fault{{Kind: sim.CutShort, Match: "^tell running", Times: 1}}, night.Blocked, "unsaved changes", ""},
		"saved cut short":      {[]sim.Fault{{Kind: sim.CutShort, Match: "^tell saved", Times: 1}}, night.Blocked, "unsaved changes", ""},
		"restores half": {[]sim.Fault{{Kind: sim.Rejects, Match: "^lan 310"}, {Kind: sim.LostUndo}, {Kind: sim.HalfLoad}},
			night.Reverted, "came back with its saved configuration", "was refused"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: c.faults}, {}}, nil)
				defer w.sim.Close()
				w.run(context.Background(), nil)
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				held := strings.Join(w.holdsOf("ald-quay-1"), "\n")
				assert.Contains(t, held, c.held)
				assert.True(t, c.held != "" || held == "", held)
				w.checkLaws()
			})
		})
	}
}

// A backup that is cut short is found even where nothing else is compared with it.
func TestACutBackupOfAPlatformWithoutATimer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := gateHouse(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.CutShort, Match: "^list settings", Times: 1}}}, {}})
		defer w.sim.Close()
		for i := range w.plan.Prechecks {
			w.plan.Prechecks[i].Off = w.plan.Prechecks[i].Name == "saved"
		}
		w.runQuiet()
		assert.Equal(t, night.Blocked, w.night.Devices[0].State)
		assert.Contains(t, w.night.Devices[0].Note, "reads differently the second time")
		assert.Equal(t, night.Kept, w.night.Devices[1].State)
		w.checkLaws()
	})
}

// A step is left out only when the device is proven to be what it was before it;
// "undone" is said of nothing else.
func TestLeavingAStepOutIsProven(t *testing.T) {
	rejectLast := sim.Fault{Kind: sim.Rejects, Match: "^port 3", Times: 1}
	t.Run("undone", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: []sim.Fault{rejectLast}}}, nil)
			defer w.sim.Close()
			w.run(context.Background(), always(t, night.SkipStep))
			assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
			assert.Equal(t, []string{night.StepBegan, night.StepFailed, night.StepUndone, night.StepLeft}, w.marks("ald-quay-1", 3))
			assert.NotContains(t, w.sim.Device("ald-quay-1").Saved(), "lan 310")
			assert.Contains(t, w.sim.Device("ald-quay-1").Saved(), "log host 198.51.100.14")
			w.checkLaws()
		})
	})
	for name, c := range map[string]struct {
		fault  sim.Fault
		differ string
	}{
		"undo refused":  {sim.Fault{Kind: sim.Rejects, Match: "^drop lan 310"}, "+ lan 310"},
		"undo lost":     {sim.Fault{Kind: sim.LostUndo}, "+ lan 310"},
		"drifts aside":  {sim.Fault{Kind: sim.Drifts, Match: "^drop lan 310"}, "+ log host 192.0.2.253"},
		"another undid": {sim.Fault{Kind: sim.Drifts, Match: "^title gates"}, "+ log host 192.0.2.253"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{rejectLast, c.fault}}}, nil)
				defer w.sim.Close()
				first := true
				skip, back := always(t, night.SkipStep), always(t, night.BackDevice)
				w.run(context.Background(), func(r *run.Run, e night.Event) {
					if first {
						skip(r, e)
					} else {
						back(r, e)
					}
					first = first && e.Kind != night.HoldOpened
				})
				holds := w.holdsOf("ald-quay-1")
				require.Len(t, holds, 2)
				assert.Contains(t, holds[1], `"Gates" cannot be left out`)
				assert.Contains(t, holds[1], c.differ)
				before := slices.Index(w.marks("ald-quay-1", 3), night.StepUndone)
				assert.NotContains(t, w.marks("ald-quay-1", 3)[:max(before, 0)], night.StepLeft)
				assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
				w.checkLaws()
			})
		})
	}
}

// An unattended run that cannot leave a step out takes the device back, and does
// not try for ever.
func TestUnattendedSkipThatCannotBeProven(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^port 3", Times: 1}, {Kind: sim.LostUndo}}}}, func(s string) string {
			return strings.Replace(s, "unattended  take back the device", "unattended  skip the step", 1)
		})
		defer w.sim.Close()
		w.runQuiet()
		assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
		assert.Len(t, w.holdsOf("ald-quay-1"), 2)
		w.checkLaws()
	})
}

// A step that needs one that was left out is not sent; one that does not is.
func TestNeeds(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}}, func(s string) string {
			s = strings.Replace(s, "step \"Gates\"\n", "step \"Gates\"\n  needs     \"Log collector\"\n", 1)
			return strings.Replace(s, "finish\n", "step \"Label\"\n  needs     \"Gates\"\n  send\n    | port 2\n    | label \"desk\"\n    | up\n  undo\n    | port 2\n    | drop label\n    | up\n\n"+
				"step \"Name\"\n  send\n    | name ald-quay-x\n  undo\n    | name ald-quay-1\n\nfinish\n", 1)
		})
		defer w.sim.Close()
		w.run(context.Background(), always(t, night.SkipStep))
		assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
		assert.Equal(t, 3, w.night.Devices[0].LeftSteps())
		for _, step := range []int{3, 4} {
			assert.Equal(t, []string{night.StepLeft}, w.marks("ald-quay-1", step))
		}
		assert.Contains(t, w.sim.Device("ald-quay-1").Saved(), "name ald-quay-x")
		assert.NotContains(t, w.sim.Device("ald-quay-1").Saved(), "lan 310")
		assert.Contains(t, w.journalText(), `it needs \"Log collector\", which was left out`)
	})
}

// What somebody else does to a device between arming and the first line holds it
// before the line.
func TestSomebodyElseOnTheDevice(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		held  string
		sent  int // lines that may have reached it before
	}{
		"joins after arming":      {sim.Fault{Kind: sim.Joined, Match: "^restart in", Times: 1}, "right before the first line: somebody else is changing its configuration: deckhand", 0},
		"timer cancelled":         {sim.Fault{Kind: sim.OtherTimer, Match: "^tell sessions", Times: 1}, "the rollback timer is gone", 0},
		"timer put off":           {sim.Fault{Kind: sim.OtherTimer, Match: "^tell sessions", Times: 1, By: time.Hour}, "the rollback timer was changed under us", 0},
		"cancelled between steps": {sim.Fault{Kind: sim.OtherTimer, Match: "^log host", Times: 1}, "the rollback timer is gone", 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{c.fault}}, {}}, nil)
				defer w.sim.Close()
				sent := 0
				w.run(context.Background(), func(r *run.Run, e night.Event) {
					if e.Kind == night.Sent && e.Device == "ald-quay-1" && e.What == "" {
						sent++
					}
					if e.Kind == night.HoldOpened {
						assert.Equal(t, c.sent, sent, "lines that reached it before it was held")
						choice := night.BackDevice
						if e.Device == "" {
							choice = night.GoOn
						}
						assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: choice, By: "Ada"}))
					}
				})
				assert.Contains(t, strings.Join(w.holdsOf("ald-quay-1"), "\n"), c.held)
				assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
				assert.Equal(t, night.Kept, w.night.Devices[1].State)
			})
		})
	}
}

// A timer that somebody took off the clock is put back by decision, and only then.
func TestACancelledTimerIsArmedAgainByDecision(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.OtherTimer, Match: "^tell sessions", Times: 1}}}}, nil)
		defer w.sim.Close()
		w.run(context.Background(), always(t, night.TryAgain))
		assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
		w.checkLaws()
	})
}

// A device's timer that a dead night of ours left is recognised; any other is not
// ours.
func TestTimersOfDeadNights(t *testing.T) {
	for off, want := range map[time.Duration]string{
		3 * time.Second: "it is our own, armed by the night of yesterday, which never saw its end",
		5 * time.Minute: "it is not ours",
	} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}}, nil)
			defer w.sim.Close()
			// A first night arms the device and dies.
			ctx, cancel := context.WithCancel(context.Background())
			w.run(ctx, func(_ *run.Run, e night.Event) {
				if e.Kind == night.Sent {
					cancel()
				}
			})
			due := w.night.Devices[0].TimerDue
			require.False(t, due.IsZero())
			w.remnants = func(string) []work.Remnant {
				return []work.Remnant{{Night: "the night of yesterday", Due: due.Add(off)}}
			}
			w.night = night.Night{}
			w.runQuiet()
			assert.Equal(t, night.Blocked, w.night.Devices[0].State)
			assert.Contains(t, w.night.Devices[0].Note, want)
			assert.Contains(t, w.night.Devices[0].Note, "due "+due.Format("15:04:05"))
		})
	}
}

// A device that another night has is blocked, untouched, and says whose it is.
func TestClaimedByAnotherNight(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {}, {Config: intendedConfig}}, nil)
		defer w.sim.Close()
		given := map[string]int{}
		w.claim = func(_ context.Context, tgt *plan.Target) (func(), error) {
			if tgt.Device.Name == "ald-quay-2" {
				return nil, fmt.Errorf("the night of ben has it since 01:12")
			}
			return func() { given[tgt.Device.Name]++ }, nil
		}
		w.runQuiet()
		assert.Equal(t, "the night of ben has it since 01:12", w.night.Get("ald-quay-2").Note)
		assert.Equal(t, night.Blocked, w.night.Get("ald-quay-2").State)
		assert.Empty(t, w.sim.Device("ald-quay-2").Truth(), "it was not even reached")
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-1").State)
		assert.Equal(t, map[string]int{"ald-quay-3": 1}, given, "what was not touched is given free at once; what is kept is not")
	})
}

// A device that is lost without a timer, or stranded, counts as a failure at once
// and is asked about before the next batch.
func TestWhatNeedsAPersonIsAskedAboutBeforeTheNextBatch(t *testing.T) {
	stranding := []sim.Fault{{Kind: sim.Rejects, Match: "^lan 310"}, {Kind: sim.LostUndo}, {Kind: sim.Refusing}, {Kind: sim.NeverBack}}
	for _, c := range []struct {
		choice night.Choice
		next   night.State
	}{{night.GoOn, night.Kept}, {night.Stop, night.Skipped}} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: stranding}, {}}, nil)
			defer w.sim.Close()
			w.run(context.Background(), always(t, night.BackDevice, c.choice))
			assert.Equal(t, night.Stranded, w.night.Devices[0].State)
			asked := w.holdsOf("")
			require.Len(t, asked, 1)
			assert.Contains(t, asked[0], "before batch 2: a device needs a person / ald-quay-1: stranded")
			assert.Equal(t, c.next, w.night.Devices[1].State)
			assert.Equal(t, 1, w.night.Failures)
		})
	}
	synctest.Test(t, func(t *testing.T) { // a gate controller that is dark has no timer
		w := gateHouse(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Restarts, Match: "^set report", Times: 1}}}, {}})
		defer w.sim.Close()
		var dark, counted time.Time
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			if e.Kind == night.Moved && e.State == night.Dark && dark.IsZero() {
				dark = e.At
			}
			if w.night.Failures == 1 && counted.IsZero() {
				counted = e.At
			}
			always(t, night.BackDevice, night.GoOn)(r, e)
		})
		assert.False(t, dark.IsZero())
		assert.Equal(t, dark, counted, "it counts when contact is lost, not when it is back")
		require.Len(t, w.holdsOf(""), 1)
		assert.Contains(t, w.holdsOf("")[0], "no contact, and no timer that would take it back")
		assert.Equal(t, night.Kept, w.night.Devices[1].State)
	})
}

// Without a line that says otherwise, two failures are asked about; "stop never"
// must be written.
func TestTheUsualBudget(t *testing.T) {
	bad := []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}
	for line, want := range map[string]map[night.State]int{
		"":                    {night.Reverted: 2, night.Skipped: 3},
		"  stop      never\n": {night.Reverted: 5},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: bad}, {Faults: bad}, {Faults: bad}, {Faults: bad}, {Faults: bad}}, func(s string) string {
				return strings.Replace(s, "sizes     1, 4\n  together  4\n", "sizes     1\n"+line, 1)
			})
			defer w.sim.Close()
			w.runQuiet()
			assert.Equal(t, want, w.night.Count())
			w.checkLaws()
		})
	}
}

// Starting before the window, and a batch after its turn-back time, need a reason,
// which is in the journal.
func TestReasons(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}}, func(s string) string { return strings.Replace(s, "now for 3h", "01:30 for 3h", 1) })
		defer w.sim.Close()
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			if e.Kind == night.HoldOpened {
				for _, reason := range []string{"", "  ", "the ferry is late"} {
					assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.StartEarly, By: "Ada", Reason: reason}))
				}
			}
		})
		d := w.night.Devices[0]
		assert.Equal(t, night.Kept, d.State)
		assert.True(t, d.Began.Before(w.plan.Window.Open))
		require.Len(t, w.night.Decided, 1)
		assert.Equal(t, "the ferry is late", w.night.Decided[0].Reason)
	})
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {}}, func(s string) string {
			return strings.Replace(s, "window    now for 3h\n  reserve   20m", "window    now for 3m\n  reserve   2m", 1)
		})
		defer w.sim.Close()
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			if e.Kind == night.HoldOpened && e.Device == "" {
				assert.Contains(t, e.Note, "the turn-back time of batch")
				assert.True(t, e.Offers[0].Reason)
				assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.GoOn, By: "Ada", Reason: "not on offer"}))
				assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.GoOnLate, By: "Ada"}))
				assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.GoOnLate, By: "Ada", Reason: "the desk agreed to 20 minutes more"}))
			}
		})
		assert.Equal(t, night.Kept, w.night.Devices[1].State)
		assert.Contains(t, w.journalText(), "the desk agreed to 20 minutes more")
	})
}

// A window that opens when the run begins opens then, not when it was planned.
func TestWindowNowOpensWhenTheRunBegins(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}}, nil)
		defer w.sim.Close()
		time.Sleep(5 * time.Hour) // the screen stood open
		w.runQuiet()
		assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
		assert.Equal(t, w.started, w.night.Outline.Window.Open)
		assert.Equal(t, 3*time.Hour, w.night.Outline.Window.Close.Sub(w.started))
	})
}

// A dark device can be left to its timer, so that it does not hold up the others.
func TestADarkDeviceCanBeLeft(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3"}}}, {}}, func(s string) string {
			return strings.Replace(s, "timer       4m", "timer       50m", 1)
		})
		defer w.sim.Close()
		var asked time.Time
		w.run(context.Background(), func(r *run.Run, e night.Event) {
			if e.Aside() {
				asked = e.At
				assert.Equal(t, []string{"ald-quay-1"}, e.Devices)
			}
			always(t, night.Leave, night.GoOn)(r, e)
		})
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Dark, d.State)
		assert.Contains(t, d.Note, "left to itself (restarts at "+d.TimerDue.Format("15:04:05"))
		assert.Less(t, d.Ended.Sub(asked), time.Second)
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-2").State)
		assert.Equal(t, night.NeedsPerson, w.night.Outcome())
		assert.Contains(t, w.holdsOf("")[0], "ald-quay-1: dark")
		time.Sleep(2 * time.Hour)
		assert.Equal(t, w.initial["ald-quay-1"], w.sim.Device("ald-quay-1").Running())
	})
	synctest.Test(t, func(t *testing.T) { // and where nobody answers, it is waited for, and the question goes away
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3"}}}, {}}, nil)
		defer w.sim.Close()
		w.run(context.Background(), func(*run.Run, night.Event) {})
		assert.Equal(t, night.Reverted, w.night.Get("ald-quay-1").State)
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-2").State)
		asked := slices.IndexFunc(w.seen, night.Event.Aside)
		require.GreaterOrEqual(t, asked, 0)
		assert.True(t, slices.ContainsFunc(w.seen[asked:], func(e night.Event) bool {
			return e.Kind == night.HoldClosed && e.Hold == w.seen[asked].Hold && e.Choice == ""
		}))
		w.checkLaws()
	})
}

// A disk that is full is called that: nothing new is reached, and what was armed is
// left to its timer.
func TestAFullDisk(t *testing.T) {
	noSpace := fmt.Errorf("write metabasis.db: %w", syscall.ENOSPC)
	t.Run("journal", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}, {}, {}, {}}, func(s string) string { return strings.Replace(s, "sizes     1, 4", "sizes     2", 1) })
			defer w.sim.Close()
			full := false
			w.journal.Fail = func(ev []night.Event) error {
				full = full || slices.ContainsFunc(ev, func(e night.Event) bool { return e.Kind == night.Intent && e.Step == 2 })
				if full {
					return noSpace
				}
				return nil
			}
			err := w.runTo(context.Background(), nil)
			assert.ErrorContains(t, err, "the journal cannot be written")
			assert.ErrorIs(t, err, syscall.ENOSPC)
			for _, d := range w.night.Devices[:2] {
				assert.Equal(t, night.Dark, d.State)
				assert.Contains(t, d.Note, "left to itself (restarts at ")
				assert.Contains(t, d.Note, "no space left on device")
			}
			for _, d := range w.night.Devices[2:] {
				assert.Equal(t, night.Skipped, d.State)
				assert.Contains(t, d.Note, "no space left on device")
				assert.Empty(t, w.sim.Device(d.Name).Truth())
			}
			for _, e := range w.seen {
				assert.False(t, e.Kind == night.Lost, "contact was not lost: %s", e.Note)
			}
		})
	})
	t.Run("backups", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}, {}, {}}, func(s string) string { return strings.Replace(s, "sizes     1, 4", "sizes     1", 1) })
			defer w.sim.Close()
			w.store = failingBackups{noSpace}
			w.runQuiet()
			assert.Equal(t, map[night.State]int{night.Blocked: 1, night.Skipped: 2}, w.night.Count())
			assert.Contains(t, w.night.Devices[0].Note, "no backup: write metabasis.db: no space left on device")
			assert.Contains(t, w.night.Devices[1].Note, "backups cannot be written")
			w.checkLaws()
		})
	})
}

type failingBackups struct{ err error }

func (b failingBackups) Put(string, string, time.Time) (work.Backup, error) {
	return work.Backup{}, b.err
}

// A value that was asked for as a secret is sent, and shown nowhere: not in a line,
// not in a refusal, not in a difference (law 12).
func TestAnAskedSecretIsShownNowhere(t *testing.T) {
	const key = "gull-w1ng-77"
	synctest.Test(t, func(t *testing.T) {
		w := simpleWith(t, []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.SaysBack, Match: "^label"}}}}, map[string]string{"key": key}, func(s string) string {
			s = strings.Replace(s, "scope\n", "ask\n  key       secret  \"The key\"\n\nscope\n", 1)
			return strings.Replace(s, "step \"Gates\"", "step \"Label\"\n  already   when config has \"port 2 > label \\\"<<key>>\\\"\"\n  send\n    | port 2\n    | label \"<<key>>\"\n    | up\n  undo\n    | port 2\n    | drop label\n    | up\n\nstep \"Gates\"", 1)
		})
		defer w.sim.Close()
		w.runQuiet()
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-1").State, w.night.Get("ald-quay-1").Note)
		assert.Equal(t, night.Reverted, w.night.Get("ald-quay-2").State)
		assert.Contains(t, w.sim.Device("ald-quay-1").Saved(), key)
		w.secrets = append(w.secrets, key)
		assert.Contains(t, w.journalText(), `label \"▒▒▒▒\"`)
		w.checkLaws()
	})
}

// Lines that were taken and not done, lines that a line editor has altered, and
// messages in the midst of them: what ran in truth is what is said.
func TestLinesThatAreNotWhatWasSent(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		end   night.State
		held  string
	}{
		"ignored":            {sim.Fault{Kind: sim.Ignores, Match: "^log host"}, night.Reverted, "after \"Log collector\", what runs is not what was predicted / predicted, and not there: log host 198.51.100.14"},
		"seen a little late": {sim.Fault{Kind: sim.ShowsLate, By: 3 * time.Second}, night.Kept, ""},
		"seen too late":      {sim.Fault{Kind: sim.ShowsLate, Match: "^log host", By: time.Minute, Times: 1}, night.Reverted, "after \"Log collector\", what runs is not what was predicted / predicted, and not there: log host 198.51.100.14"},
		"altered":            {sim.Fault{Kind: sim.Alters, Match: `^log host 198\.51\.100\.$`, Times: 1}, night.Reverted, `what the device says back is not what was sent: log host 198.51.100.4`},
		"altered, a command": {sim.Fault{Kind: sim.Alters, Match: `^tell runn$`, Times: 1}, night.Blocked, ""},
		"broken into":        {sim.Fault{Kind: sim.BreaksIn, Match: `^log ho$`, Times: 1}, night.Kept, ""},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{c.fault}}}, nil)
				defer w.sim.Close()
				w.runQuiet()
				w.checkLaws()
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.end, d.State, d.Note)
				if c.held != "" {
					assert.Contains(t, strings.Join(w.holdsOf("ald-quay-1"), "\n"), c.held)
				}
			})
		})
	}
}

// A device that took a line and still prints what ran before is not as it was, although
// it reads so: it is looked at again before anything is said.
func TestWhatShowsLateIsTakenBackInTruth(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		config := strings.NewReplacer("lan 310\n  title gates\n", "", "  label \"gate\"\n  lan 310\n", "  label \"gate\"\n").Replace(intendedConfig)
		w := simpleIn(t, dir, []sim.Spec{{Config: config, Faults: []sim.Fault{{Kind: sim.ShowsLate, Match: "^lan 310", By: 4 * time.Second}, {Kind: sim.Rejects, Match: "^title"}}}}, nil)
		defer w.sim.Close()
		w.runQuiet()
		w.checkLaws()
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, w.initial[d.Name], w.sim.Device(d.Name).Running())
	})
}

// A slow device that was kept and is taken back is armed for as long as its undoing takes at
// its pace: its timer does not go in the midst of it, by which nobody could tell what came of
// the lines (law 3).
func TestASlowDeviceThatWasKeptIsTakenBack(t *testing.T) {
	set, dir := wordless(t, "tern"), t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleOf(t, set, dir, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Slow, By: 8 * time.Second}}}, {}}, nil,
			edits("timer       4m", "timer       1m", "together  4", "together  1\n  hold      after every batch"))
		defer w.sim.Close()
		w.run(context.Background(), always(t, night.BackAll))
		d := w.night.Devices[0]
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.NotContains(t, truthOf(w, d.Name), sim.Fired, "its timer went while it was taken back: %s", d.Note)
		w.checkLaws()
		if t.Failed() {
			t.Log(w.story())
		}
	})
}

// truthOf is what happened to a device, without the lines.
func truthOf(w *world, device string) (out []sim.What) {
	for _, tr := range w.sim.Device(device).Truth() {
		out = append(out, tr.What)
	}
	return out
}
