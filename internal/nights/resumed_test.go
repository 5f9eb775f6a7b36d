package nights

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// cut runs a night that is cut off at an event: nothing behind that is written down, and what is not
// written down is not done. It returns what its journal has.
func (w *world) cut(at func(e night.Event) bool) []night.Event {
	ctx, kill := context.WithCancel(context.Background())
	defer kill()
	j := &cutJournal{at: at, kill: kill}
	w.journal.inner = j
	_ = w.runTo(ctx, nil)
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.events
}

// cutJournal is a journal whose process is killed at an event.
type cutJournal struct {
	at   func(e night.Event) bool
	kill func()

	mu     sync.Mutex
	events []night.Event
	gone   bool
}

func (j *cutJournal) Append(events []night.Event) error {
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.gone {
		return errors.New("the process was killed")
	}
	j.events = append(j.events, events...)
	if slices.ContainsFunc(events, j.at) {
		j.gone = true
		j.kill()
	}
	return nil
}

// slowly are devices that take a while over every command: what a night does is written down line by
// line, and it is cut off between two.
func slowly(n int) []sim.Spec {
	specs := make([]sim.Spec, n)
	for i := range specs {
		specs[i].Faults = []sim.Fault{{Kind: sim.Slow, By: time.Second}}
	}
	return specs
}

// goOn has the next night of the world go on with one that was cut off, as far as its journal has it.
func (w *world) goOn(journal []night.Event, back bool) {
	const id = 7
	told := night.Fold(night.Night{}, journal...)
	left := told.TimersLeft()
	w.resumed = func(device string) *work.Resumed {
		d := told.Get(device)
		if d == nil || d.Over {
			return nil
		}
		r := &work.Resumed{ID: id, Night: "night 7", Begun: d.Begun(), Was: d.WasAt(), GoBack: back, Software: d.Ran, Worked: len(d.Works) > 0, Steps: d.Steps, Did: map[int]int{}}
		for _, deed := range d.Given() {
			switch {
			case deed.Looks:
			case deed.OK:
				r.Did[deed.Step]++
			default:
				r.InDoubt, r.DoubtStep, r.DoubtAt = deed.Command, deed.Step, deed.At
			}
		}
		if d.Backup != "" {
			w.backups.mu.Lock()
			r.Had = w.backups.text[device]
			w.backups.mu.Unlock()
		}
		return r
	}
	w.remnants = func(device string) (out []work.Remnant) {
		for _, due := range left[device] {
			out = append(out, work.Remnant{ID: id, Night: "night 7", Due: due})
		}
		return out
	}
	w.night, w.journal = night.Night{}, &recordingJournal{}
}

// A night that is cut off at any moment is gone on with: what it had done is not done again, its
// timers are adopted, and every device ends as it would have, or as it was.
func TestANightIsGoneOnWith(t *testing.T) {
	for name, c := range map[string]func(e night.Event) bool{
		"while it checks":        func(e night.Event) bool { return e.Kind == night.Prechecked && e.Device == "ald-quay-2" },
		"once it has a backup":   func(e night.Event) bool { return e.Kind == night.BackedUp },
		"as it arms":             func(e night.Event) bool { return e.Kind == night.Intent && e.What == night.ToArm },
		"once it is armed":       func(e night.Event) bool { return e.Kind == night.TimerSeen },
		"as a step is sent":      func(e night.Event) bool { return e.Kind == night.Intent && e.What == night.ToSend },
		"at a line":              func(e night.Event) bool { return e.Kind == night.Sent },
		"in the midst of a step": func(e night.Event) bool { return e.Kind == night.Sent && e.Step == 3 && e.Line == 3 },
		"between two steps":      func(e night.Event) bool { return e.Kind == night.Stepped && e.Step == 2 && e.What == night.StepDone },
		"while it soaks":         func(e night.Event) bool { return e.Kind == night.Moved && e.State == night.Soaking },
		"as it disarms":          func(e night.Event) bool { return e.Kind == night.Intent && e.What == night.ToDisarm },
		"once it is disarmed":    func(e night.Event) bool { return e.Kind == night.TimerGone },
		"as it saves":            func(e night.Event) bool { return e.Kind == night.Intent && e.What == night.ToSave },
		"before its end is told": func(e night.Event) bool { return e.Kind == night.Shelved },
		"once one is kept":       func(e night.Event) bool { return e.Kind == night.Moved && e.State == night.Kept },
	} {
		for _, back := range []bool{false, true} {
			t.Run(fmt.Sprintf("%s, back %t", name, back), func(t *testing.T) {
				dir := t.TempDir()
				synctest.Test(t, func(t *testing.T) {
					w := simpleIn(t, dir, slowly(3), book(wantedBook))
					defer w.sim.Close()
					journal := w.cut(c)
					require.NotEmpty(t, journal)
					time.Sleep(20 * time.Second)
					w.goOn(journal, back)
					then := night.Fold(night.Night{}, journal...)
					w.runQuiet()
					w.endsInTruth()
					for _, d := range w.night.Devices {
						was, dev := then.Get(d.Name), w.sim.Device(d.Name)
						switch {
						case back && was.Begun() && !was.Over:
							assert.Equal(t, night.Reverted, d.State, "%s: %s", d.Name, d.Note)
							assert.Equal(t, w.initial[d.Name], dev.Running(), d.Name)
						case was.Over:
							assert.Equal(t, night.Already, d.State, "%s: %s", d.Name, d.Note)
						default:
							assert.Contains(t, []night.State{night.Kept, night.Already}, d.State, "%s: %s", d.Name, d.Note)
						}
						assert.Equal(t, dev.Running(), dev.Saved(), d.Name)
					}
				})
			})
		}
	}
}

// endsInTruth holds what the night says of its devices against what they are: none has a timer, or
// anything that was not saved, and none that runs part of the change is said to be well.
func (w *world) endsInTruth() {
	w.t.Helper()
	for _, d := range w.night.Devices {
		dev := w.sim.Device(d.Name)
		if d.State.Good() || d.State == night.Reverted {
			assert.Zero(w.t, dev.Due(), "%s is %s, and its timer runs: %s", d.Name, d.State, d.Note)
		}
	}
}

// What is neither what a night found nor part of what it was to leave is left to a person, with its
// way back: somebody else has been there.
func TestWhatAStrangerDidIsNotGoneOnWith(t *testing.T) {
	for _, back := range []bool{false, true} {
		dir, drifts := t.TempDir(), []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Drifts, Match: "^log host", Times: 1}}}}
		synctest.Test(t, func(t *testing.T) {
			w := simpleIn(t, dir, drifts, book(wantedBook))
			defer w.sim.Close()
			journal := w.cut(func(e night.Event) bool { return e.Kind == night.Sent && e.Step == 2 })
			name := journal[len(journal)-1].Device
			before := w.sim.Device(name).Running()
			w.goOn(journal, back)
			w.runQuiet()
			d := w.night.Get(name)
			assert.Equal(t, night.Stranded, d.State, d.Note)
			assert.Contains(t, d.Note, "neither what it had before night 7 nor a known part of what that was to leave")
			assert.Contains(t, d.Note, "restarts at")
			assert.Equal(t, before, w.sim.Device(name).Running())
		})
	}
}

// A command that was done, and cannot be undone, is not done again; where the steps are others by now,
// nobody knows which of them were done, and it is left to a person.
func TestWhatWasDoneIsNotDoneAgain(t *testing.T) {
	for name, c := range map[string]struct {
		at     func(e night.Event) bool
		others bool
		state  night.State
	}{
		"in its midst":   {func(e night.Event) bool { return e.Kind == night.Intent && e.What == night.ToDo }, false, night.Stranded},
		"once it is":     {func(e night.Event) bool { return e.Kind == night.Done && e.Step == 3 }, false, night.Kept},
		"behind it":      {func(e night.Event) bool { return e.Kind == night.Stepped && e.Step == 4 }, false, night.Kept},
		"of other steps": {func(e night.Event) bool { return e.Kind == night.Done && e.Step == 3 }, true, night.Stranded},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, slowly(1), func(string) string { return deedsBook })
				defer w.sim.Close()
				journal := w.cut(c.at)
				w.goOn(journal, false)
				if of := w.resumed; c.others {
					w.resumed = func(device string) *work.Resumed {
						r := of(device)
						r.Steps = append([]string{"Another"}, r.Steps...)
						return r
					}
				}
				w.runQuiet()
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Equal(t, 1, w.did("ald-quay-1"))
			})
		})
	}
}

// What a night left is taken back whatever its devices are fit for by then: neither a precheck nor a
// table that cannot be read keeps it from that.
func TestTakingBackWantsLess(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleIn(t, dir, slowly(2), func(b string) string {
			return swapIn(book(wantedBook)(b), "  storage   at least 20 MB", "  storage   at least 20 MB\n  check     \"No collector\" where not (config has \"log host 198.51.100.14\")")
		})
		defer w.sim.Close()
		journal := w.cut(func(e night.Event) bool { return e.Kind == night.Sent && e.Step == 2 })
		name := journal[len(journal)-1].Device
		w.goOn(journal, false)
		w.runQuiet()
		d := w.night.Get(name)
		assert.Equal(t, night.Stranded, d.State, d.Note)
		assert.Contains(t, d.Note, "not gone on with: No collector")
		w.goOn(journal, true)
		w.plan.Prechecks = nil // as for every night that takes back
		w.runQuiet()
		d = w.night.Get(name)
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, w.initial[name], w.sim.Device(name).Running())
		assert.Contains(t, d.WillDiffer, "- log host 198.51.100.14", "what is predicted is the way back")
	})
}

// TestResumed runs random nights that are cut off at a random moment, and goes on with them or takes
// them back.
func TestResumed(t *testing.T) { eachSeed(t, resumedNight) }

func resumedNight(t *testing.T, seed uint64, dir string) {
	g := &generator{rng: rand.New(rand.NewPCG(seed, 2))}
	scenario, csv := g.fleet()
	book := g.book()
	w := newWorld(t, scenario, csv, book, dir)
	w.loose = strings.Contains(book, "no other")
	defer w.sim.Close()
	n, at, back := 0, 1+g.rng.IntN(600), g.chance(0.4)
	journal := w.cut(func(night.Event) bool { n++; return n == at })
	time.Sleep(time.Duration(g.rng.IntN(600)) * time.Second)
	told := night.Fold(night.Night{}, journal...)
	for _, d := range told.Devices { // what it has before the night that goes on is what that leads back to
		if d.Over && d.State == night.Kept || !d.Begun() {
			w.initial[d.Name] = w.sim.Device(d.Name).Running()
		}
	}
	w.goOn(journal, back)
	w.runQuiet()
	w.everyNightEnds()
	w.journal.Events = append(journal, w.journal.Events...)
	for _, d := range w.night.Devices {
		if !strings.HasPrefix(d.Note, "not gone on with: ") {
			w.lawEndsAreTrue(d)
		}
	}
	w.endsInTruth()
	if t.Failed() {
		t.Logf("seed %d, cut at %d, back %t\n%s\n%s\n%s", seed, at, back, book, csv, w.story())
	}
}

// In the midst of a step a device has what there is neither before nor in the end, such as a rank that
// shifts with each line. That is of the change, too: it is gone on with, or taken back, from any line.
func TestInTheMidstOfAStep(t *testing.T) {
	ranks := func(b string) string {
		i, j := strings.Index(b, "step \"Time sources\""), strings.Index(b, "finish\n")
		return b[:i] + `step "Time sources"
  want
    | time source 192.0.2.40 first
    | time source 192.0.2.41 second
  no other  "time source *"

step "Log collector"
  want
    | log host 198.51.100.14

` + b[j:]
	}
	lines := 0
	for k := 1; k == 1 || k <= lines; k++ {
		for _, back := range []bool{false, true} {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, slowly(1), ranks)
				w.loose = true
				defer w.sim.Close()
				journal := w.cut(func(e night.Event) bool {
					if e.Kind == night.Intent && e.What == night.ToSend && e.Step == 1 {
						lines = len(e.Lines)
					}
					return e.Kind == night.Sent && e.Step == 1 && e.Line == k
				})
				w.goOn(journal, back)
				w.runQuiet()
				d, dev := w.night.Get("ald-quay-1"), w.sim.Device("ald-quay-1")
				want := night.Kept
				if back {
					want = night.Reverted
					assert.Equal(t, w.asCompared(w.initial[d.Name]), w.asCompared(dev.Running()))
				}
				assert.Equal(t, want, d.State, "line %d, back %t: %s", k, back, d.Note)
				assert.Equal(t, dev.Running(), dev.Saved())
				assert.Zero(t, dev.Due())
			})
		}
	}
	assert.Greater(t, lines, 2)
}

// A night that was cut off while a device was worked by hand: what was done there is not gone on with;
// it is taken back where somebody says so, at once, and waited for where its timer does.
func TestWorkedByHandWhenItWasCutOff(t *testing.T) {
	for _, back := range []bool{true, false} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, make([]sim.Spec, 1), func(b string) string {
				head, _, _ := strings.Cut(b, "step \"Time sources\"")
				return head + "step \"Mend it\" by console\n\nunattended  take back the device\n"
			})
			defer w.sim.Close()
			journal := w.handCut("log host 198.51.100.77")
			began := time.Now()
			w.goOn(journal, back)
			l := work.Look(t.Context(), w.plan, w.plan.Targets()[0], work.Outside{Connector: w.reached(), Backups: w.backups, Remnants: w.remnants, Resumed: w.resumed})
			assert.Contains(t, l.NotOn, "it was worked by hand", "%+v", l)
			assert.Empty(t, l.Left)
			w.runQuiet()
			d := w.night.Devices[0]
			assert.Equal(t, night.Reverted, d.State, d.Note)
			assert.Equal(t, w.initial["ald-quay-1"], w.sim.Devices()[0].Running())
			assert.Equal(t, back, time.Since(began) < time.Minute, "back %t: %s", back, time.Since(began))
		})
	}
}

// handCut runs a night that is cut off once a line was typed at a device's console.
func (w *world) handCut(line string) []night.Event {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	var events []night.Event
	before := w.journal
	w.run(ctx, func(r *run.Run, e night.Event) {
		events = append(events, e)
		if e.Kind != night.HoldOpened {
			return
		}
		if e.Offers[0].Choice == night.AtConsole {
			_ = r.Do(ctx, night.Command{Hold: e.Hold, Choice: night.AtConsole, By: "ada"})
			return
		}
		w.types(e.Device, line)
		cancel()
	})
	w.journal = &recordingJournal{inner: before.inner}
	for i, e := range events { // nobody has written down how it ended
		if e.Kind == night.LetGo {
			return events[:i]
		}
	}
	return events
}
