package nights

import (
	"fmt"
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
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// types has somebody work a device by hand: lines typed in a session of their own.
func (w *world) types(device string, lines ...string) {
	i := slices.IndexFunc(w.plan.Targets(), func(t *plan.Target) bool { return t.Device.Name == device })
	s, err := w.connector().Connect(w.t.Context(), w.plan.Targets()[i])
	require.NoError(w.t, err)
	if len(lines) > 0 {
		require.NoError(w.t, s.Edit(w.t.Context()))
		for _, l := range lines {
			w.typed = map[string]bool{l: true}
			require.NoError(w.t, s.Line(w.t.Context(), l))
		}
		require.NoError(w.t, s.Apply(w.t.Context(), 0))
	}
	require.NoError(w.t, s.Close())
}

// decider answers holds of devices in turn, each with what it does; further ones by taking back.
type decider struct {
	t     *testing.T
	steps []step
	holds []night.Event // in order
}

type step struct {
	choice night.Choice
	lines  []string
	before func() // is done before it is answered
}

func (d *decider) decide(r *run.Run, e night.Event) {
	if e.Kind != night.HoldOpened || e.Device == "" || e.Aside() {
		return
	}
	d.holds = append(d.holds, e)
	s := step{choice: night.BackDevice}
	if n := len(d.holds); n <= len(d.steps) {
		s = d.steps[n-1]
	}
	if !assert.True(d.t, slices.ContainsFunc(e.Offers, func(o night.Offer) bool { return o.Choice == s.choice }), "%s is not offered: %v", s.choice, e.Offers) {
		s = step{choice: night.BackDevice}
	}
	go func() {
		if s.before != nil {
			s.before()
		}
		assert.NoError(d.t, r.Do(d.t.Context(), night.Command{Hold: e.Hold, Choice: s.choice, By: "ada", Reason: "seen on the desk", Lines: s.lines}))
	}()
}

// refusedOnce is a device that refuses the line of its log host.
var refusesLog = []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host 198.51.100.14$"}}}}

// The lines of a step are edited for one device: they are checked, what they do is computed and shown
// before any is sent, and they stand in the journal. Lines that may not be sent are not taken.
func TestLinesAreEditedForOneDevice(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, refusesLog, nil)
		defer w.sim.Close()
		d := &decider{t: t, steps: []step{
			{choice: night.OtherLines, lines: []string{"restart now"}},
			{choice: night.OtherLines, lines: []string{"log hst 198.51.100.15"}},
			{choice: night.OtherLines, lines: []string{" "}},
			{choice: night.OtherLines, lines: []string{"log host 198.51.100.15"}},
			{choice: night.TryAgain},
		}}
		w.mark = "log host 198.51.100.15"
		w.run(t.Context(), d.decide)
		w.checkLaws()
		require.Len(t, d.holds, 5)
		said := func(i int) string { return strings.Join(d.holds[i].Lines, "\n") }
		assert.Contains(t, said(1), "the profile never lets a runbook send it")
		assert.Contains(t, said(2), "the other lines were not taken: \"log hst 198.51.100.15\"")
		assert.Contains(t, said(3), "to send nothing, skip the step")
		assert.Contains(t, said(4), "other lines by ada: seen on the desk\ncomputed: + log host 198.51.100.15")
		got := w.night.Devices[0]
		assert.Equal(t, night.Kept, got.State, got.Note)
		require.Len(t, got.Edits, 1)
		assert.Equal(t, []string{"log host 198.51.100.15"}, got.Edits[0].Lines)
		assert.Equal(t, "ada: seen on the desk", got.Edits[0].By+": "+got.Edits[0].Reason)
		running := w.sim.Devices()[0].Running()
		assert.Contains(t, running, "log host 198.51.100.15\n")
		assert.NotContains(t, running, "log host 198.51.100.14\n")
	})
}

// What was sent by other lines is taken back with the rest.
func TestEditedLinesAreTakenBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		specs := slices.Clone(refusesLog)
		specs[0].Faults = append(slices.Clone(specs[0].Faults), sim.Fault{Kind: sim.Rejects, Match: "^title gates"})
		w := simple(t, specs, nil)
		defer w.sim.Close()
		d := &decider{t: t, steps: []step{{choice: night.OtherLines, lines: []string{"log host 198.51.100.15"}}, {choice: night.TryAgain}, {choice: night.BackDevice}}}
		w.run(t.Context(), d.decide)
		w.checkLaws()
		assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
		assert.Equal(t, w.initial["ald-quay-1"], w.sim.Devices()[0].Running())
	})
}

// A device is worked by hand while it is held: its timer is put off meanwhile, what was changed is
// told, and adopted, in the place of the step or under it.
func TestADeviceIsWorkedByHand(t *testing.T) {
	for name, c := range map[string]struct {
		then night.Choice
		want []string
	}{
		"adopted":            {night.Adopt, []string{"log host 198.51.100.77\n"}},
		"adopted, and tried": {night.TryAgain, []string{"log host 198.51.100.77\n", "log host 198.51.100.14\n"}},
		"taken back":         {night.BackDevice, nil},
		"left to its timer":  {night.LetFire, nil},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				specs := []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host 198.51.100.14$", Times: 1}}}}
				w := simple(t, specs, nil)
				defer w.sim.Close()
				d := &decider{t: t, steps: []step{
					{choice: night.AtConsole},
					{choice: night.ConsoleOver, before: func() {
						time.Sleep(25 * time.Minute) // many times what its timer was armed for
						w.types("ald-quay-1", "log host 198.51.100.77")
					}},
					{choice: c.then},
				}}
				w.run(t.Context(), d.decide)
				w.checkLaws()
				require.GreaterOrEqual(t, len(d.holds), 3)
				assert.Equal(t, "worked by hand by ada: 1 line is different", d.holds[2].Note)
				assert.Contains(t, strings.Join(d.holds[2].Lines, "\n"), "+ log host 198.51.100.77")
				got, running := w.night.Devices[0], w.sim.Devices()[0].Running()
				require.Len(t, got.Works, 1)
				assert.False(t, got.Works[0].Over.IsZero())
				if c.want == nil {
					assert.Equal(t, night.Reverted, got.State, got.Note)
					assert.Equal(t, w.initial["ald-quay-1"], running)
					return
				}
				assert.Equal(t, night.Kept, got.State, got.Note)
				for _, line := range c.want {
					assert.Contains(t, running, line)
				}
				assert.Equal(t, len(c.want) == 2, strings.Contains(running, "log host 198.51.100.14\n"))
				assert.Equal(t, running, w.sim.Devices()[0].Saved())
			})
		})
	}
}

// Other lines come on top of what was done by hand, and are sent once that is adopted; what was done so
// is taken back with the rest.
func TestOtherLinesOnTopOfWhatWasDoneByHand(t *testing.T) {
	for then, state := range map[night.Choice]night.State{night.TryAgain: night.Kept, night.Adopt: night.Kept, night.BackDevice: night.Reverted} {
		for name, set := range map[string]func(testing.TB) profile.Set{"a language": shipped, "no language": withoutLanguage} {
			t.Run(string(then)+", "+name, func(t *testing.T) {
				dir := t.TempDir()
				synctest.Test(t, func(t *testing.T) {
					w := simpleOf(t, set(t), dir, refusesLog, nil, nil)
					defer w.sim.Close()
					w.mark = "log host 198.51.100"
					d := &decider{t: t, steps: []step{{choice: night.AtConsole},
						{choice: night.ConsoleOver, before: func() { w.types("ald-quay-1", "log host 198.51.100.77") }},
						{choice: night.OtherLines, lines: []string{"log host 198.51.100.15"}}, {choice: then}}}
					w.run(t.Context(), d.decide)
					w.checkLaws()
					require.GreaterOrEqual(t, len(d.holds), 4)
					assert.Equal(t, "worked by hand by ada: 1 line is different", d.holds[3].Note)
					assert.Contains(t, strings.Join(d.holds[3].Lines, "\n"), "other lines by ada: seen on the desk")
					got, running := w.night.Devices[0], w.sim.Devices()[0].Running()
					assert.Equal(t, state, got.State, got.Note)
					if state == night.Reverted {
						assert.Equal(t, w.initial["ald-quay-1"], running)
						return
					}
					assert.Contains(t, running, "log host 198.51.100.77\n")
					assert.Equal(t, then == night.TryAgain, strings.Contains(running, "log host 198.51.100.15\n"))
					assert.Equal(t, running, w.sim.Devices()[0].Saved())
				})
			})
		}
	}
}

// Where nothing was changed by hand, it is held as before. Where a person cuts the device off by hand,
// its timer brings it back.
func TestWorkedByHandWithoutAWord(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host 198.51.100.14$", Times: 1}}}}, nil)
		defer w.sim.Close()
		d := &decider{t: t, steps: []step{{choice: night.AtConsole}, {choice: night.ConsoleOver}, {choice: night.TryAgain}}}
		w.run(t.Context(), d.decide)
		w.checkLaws()
		require.Len(t, d.holds, 3)
		assert.Equal(t, d.holds[0].Note, d.holds[2].Note)
		assert.Contains(t, d.holds[2].Lines[0], "what runs is what ran before")
		assert.Equal(t, night.Kept, w.night.Devices[0].State)
	})
}

// A step by console is a night of its own: the device has its backup and its timer before anybody
// works it, what was done is adopted and kept, or taken back; skipped, nothing is.
func TestAStepByConsole(t *testing.T) {
	book := func(b string) string {
		head, _, _ := strings.Cut(b, "step \"Time sources\"")
		return head + "step \"Mend it\" by console\n\nunattended  take back the device\n"
	}
	for name, c := range map[string]struct {
		lines []string
		then  night.Choice
		state night.State
	}{
		"adopted":         {[]string{"log host 198.51.100.77"}, night.Adopt, night.Kept},
		"taken back":      {[]string{"log host 198.51.100.77"}, night.BackDevice, night.Reverted},
		"nothing is done": {nil, night.ItIsDone, night.Kept},
		"skipped":         {nil, night.SkipStep, night.Kept},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, make([]sim.Spec, 1), book)
				defer w.sim.Close()
				w.mark = "log host 198.51.100"
				d := &decider{t: t, steps: []step{{choice: night.AtConsole},
					{choice: night.ConsoleOver, before: func() { w.types("ald-quay-1", c.lines...) }}, {choice: c.then}}}
				w.run(t.Context(), d.decide)
				w.checkLaws()
				got := w.night.Devices[0]
				assert.Equal(t, c.state, got.State, got.Note)
				assert.True(t, got.Timed, "its way back was armed")
				assert.Equal(t, len(c.lines) == 0, strings.Contains(got.Note, "as predicted"), "nobody had predicted what was done: %s", got.Note)
				assert.Equal(t, c.then == night.Adopt, strings.Contains(w.sim.Devices()[0].Saved(), "198.51.100.77"))
				assert.True(t, w.sim.Devices()[0].Due().IsZero())
			})
		})
	}
}

// Nobody there: a step by console is not done, and what the unattended line says is.
func TestAStepByConsoleWithNobodyThere(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, make([]sim.Spec, 1), func(b string) string {
			head, _, _ := strings.Cut(b, "step \"Time sources\"")
			return head + "step \"Mend it\" by console\n\nunattended  take back the device\n"
		})
		defer w.sim.Close()
		w.runQuiet()
		w.checkLaws()
		assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
	})
}

// The night is let stand, after the line in flight or after the step; it goes on for all at once.
func TestWhatIsInChangeIsHeld(t *testing.T) {
	for _, how := range []night.Choice{night.StandLine, night.StandStep} {
		t.Run(string(how), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				specs := make([]sim.Spec, 7)
				for i := range specs {
					specs[i].Faults = []sim.Fault{{Kind: sim.Slow, By: time.Second}}
				}
				w := simple(t, specs, nil)
				defer w.sim.Close()
				said, held, sent := false, map[string]bool{}, 0
				w.run(t.Context(), func(r *run.Run, e night.Event) {
					if e.Kind == night.Sent && e.Step == 3 && e.Line == 2 && w.night.Batch == 2 && !said {
						said = true
						assert.NoError(t, r.Do(t.Context(), night.Command{Choice: how, By: "ada"}))
					}
					if e.Kind == night.HoldOpened && e.Device != "" {
						held[e.Device] = true
						assert.Equal(t, "held by ada "+strings.TrimPrefix(string(how), "hold ")+" in flight", e.Note)
					}
					if e.Kind == night.Sent && len(held) > 0 {
						sent++
					}
					if e.Kind == night.HoldOpened && e.Device == "" {
						answerLater(t.Context(), r, night.Command{Hold: e.Hold, Choice: night.GoOn, By: "ada"}, time.Minute)
					}
				})
				w.checkLaws()
				assert.Len(t, held, 4, "those of the batch that were in change")
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
				}
			})
		})
	}
}

// The same failure on many devices is one decision.
func TestOneDecisionForManyDevices(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		specs := make([]sim.Spec, 5)
		for i := range specs[1:] {
			specs[i+1].Faults = []sim.Fault{{Kind: sim.Rejects, Match: "^log host 198.51.100.14$", Times: 1}}
		}
		specs[4].Faults = []sim.Fault{{Kind: sim.Rejects, Match: "^title gates", Times: 1}}
		w := simple(t, specs, nil)
		defer w.sim.Close()
		answered := false
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind != night.HoldOpened || len(w.night.Holds) < 4 || answered {
				return
			}
			answered = true
			var first night.Hold
			for _, h := range w.night.Holds {
				if h.Device == "ald-quay-2" {
					first = h
				}
			}
			var also []int
			for _, h := range w.night.Alike(first) {
				also = append(also, h.Number)
			}
			assert.Len(t, also, 2, "one is held for another reason")
			assert.NoError(t, r.Do(t.Context(), night.Command{Hold: first.Number, Also: append(also, first.Number, 999), Choice: night.TryAgain, By: "ada"}))
			for _, h := range w.night.Holds {
				if h.Device == "ald-quay-5" {
					answerLater(t.Context(), r, night.Command{Hold: h.Number, Choice: night.BackDevice, By: "ada"}, time.Second)
				}
			}
		})
		w.checkLaws()
		require.True(t, answered)
		tried := 0
		for _, d := range w.night.Decided {
			if d.Choice == night.TryAgain {
				tried++
				assert.Equal(t, "ada", d.By)
			}
		}
		assert.Equal(t, 3, tried)
		for i, d := range w.night.Devices {
			want := night.Kept
			if i == 4 {
				want = night.Reverted
			}
			assert.Equal(t, want, d.State, "%s: %s", d.Name, d.Note)
		}
	})
}

// A site is taken back: what was kept of it too, and no further one of it begins; the others go on.
func TestASiteIsTakenBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		specs := make([]sim.Spec, 8)
		specs[3].Faults = []sim.Fault{{Kind: sim.Rejects, Match: "^log host", Times: 1}}
		w := simple(t, specs, func(b string) string { return swapIn(b, "sizes     1, 4", "sizes     2, 3") })
		defer w.sim.Close()
		for i, target := range w.plan.Targets() {
			if i%2 == 1 {
				target.Device.Site = "BRM"
			}
		}
		d := &decider{t: t, steps: []step{{choice: night.BackSite}}}
		w.run(t.Context(), d.decide)
		w.checkLaws()
		require.Len(t, d.holds, 1)
		for i, dev := range w.night.Devices {
			want := night.Kept
			if i%2 == 1 {
				want = night.Reverted
			}
			if i == 5 || i == 7 {
				want = night.Skipped
				assert.Equal(t, "its site was taken back", dev.Note)
			}
			assert.Equal(t, want, dev.State, "%s: %s", dev.Name, dev.Note)
		}
		assert.Zero(t, len(w.night.Holds))
	})
}

// withoutLanguage are the shipped profiles, of which that of the terns does not say what lines do.
func withoutLanguage(t testing.TB) profile.Set {
	set := shipped(t)
	tern := *set["tern"]
	tern.Grammar.Lines = nil
	set["tern"] = &tern
	return set
}

// What was done by hand is never kept without a word, also where nobody can compute what it does: it is
// worked once more without a change, its timer is put off, and only then is it adopted.
func TestWhatWasDoneByHandIsNotPassedOver(t *testing.T) {
	for name, between := range map[string][]step{
		"once more, without a change": {{choice: night.AtConsole}, {choice: night.ConsoleOver}},
		"put off":                     {{choice: night.Extend}},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleOf(t, withoutLanguage(t), dir, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host 198.51.100.14$", Times: 1}}}}, nil, nil)
				defer w.sim.Close()
				d := &decider{t: t, steps: slices.Concat([]step{{choice: night.AtConsole},
					{choice: night.ConsoleOver, before: func() { w.types("ald-quay-1", "log host 198.51.100.77") }}}, between, []step{{choice: night.Adopt}})}
				w.run(t.Context(), d.decide)
				w.checkLaws()
				asked := 0
				for _, h := range d.holds {
					if h.Note != "worked by hand by ada: 1 line is different" {
						continue
					}
					asked++
					assert.Equal(t, night.Adopt, h.Offers[0].Choice)
					for _, o := range h.Offers {
						assert.NotContains(t, []night.Choice{night.SkipStep, night.ItIsDone, night.Accept}, o.Choice)
						assert.True(t, o.Choice != night.TryAgain || o.Reason)
					}
				}
				assert.Equal(t, 2, asked)
				assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
				assert.NotContains(t, w.night.Devices[0].Note, "as predicted")
			})
		})
	}
}

// Contact is lost at any reading, that of what was done by hand among them: a device is never kept with
// what nobody adopted. The unattended line adopts nothing, either.
func TestContactIsLostOverWhatWasDoneByHand(t *testing.T) {
	lost := 0
	for after := range 16 {
		for _, leaves := range []bool{false, true} {
			t.Run(fmt.Sprint(after, leaves), func(t *testing.T) {
				dir := t.TempDir()
				synctest.Test(t, func(t *testing.T) {
					specs := []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host 198.51.100.14$", Times: 1},
						{Kind: sim.Drops, Match: "^tell running", After: after, Times: 1}}}}
					w := simpleOf(t, withoutLanguage(t), dir, specs, nil, func(b string) string {
						return swapIn(b, "unattended  take back the device", "unattended  after 1m, try again 3 times, then skip the step")
					})
					defer w.sim.Close()
					typed := false
					w.run(t.Context(), func(r *run.Run, e night.Event) {
						if e.Kind != night.HoldOpened || e.Device == "" {
							return
						}
						first := e.Offers[0].Choice
						switch {
						case first == night.ConsoleOver && !typed:
							typed = true
							w.types(e.Device, "log host 198.51.100.77")
						case !typed:
							first = night.AtConsole
						case leaves:
							assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Nobody}))
							return
						}
						go func() {
							assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: first, By: "ada", Reason: "seen on the desk"}))
						}()
					})
					w.everyNightEnds()
					d := w.night.Devices[0]
					has := strings.Contains(w.sim.Devices()[0].Running(), "198.51.100.77")
					adopted := slices.ContainsFunc(w.night.Decided, func(x night.Decision) bool { return x.Choice == night.Adopt })
					assert.Equal(t, has, adopted && d.State == night.Kept, "%s: %s", d.State, d.Note)
					if slices.ContainsFunc(w.seen, func(e night.Event) bool { return e.Kind == night.Lost }) && typed {
						lost++
					}
				})
			})
		}
	}
	assert.Greater(t, lost, 3)
}
