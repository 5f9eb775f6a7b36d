package nights

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// mixedBook reads the same for switches whose timer is a restart and for those that take
// changes on trial.
const mixedBook = `step "Time sources"
  on tern
    want
      | time source 192.0.2.40 first
  on osier
    want
      | clock
      |   source 192.0.2.40 rank 1
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Log collector"
  on tern
    want
      | log host 198.51.100.14
  on osier
    want
      | report
      |   to 198.51.100.14

step "Gates"
  on tern
    want
      | lan 310
      |   title gates
      | port 3
      |   lan 310
  on osier
    want
      | lan 310
      |   title gates
      | port 3
      |   carries 310
`

// typedBook has the osiers' lines typed word for word.
var typedBook = strings.NewReplacer(`  on osier
    want
      | report
      |   to 198.51.100.14
`, `  on osier
    send
      | report
      | to 198.51.100.14
      | up
    undo
      | report
      | cut to 198.51.100.14
      | up
`).Replace(mixedBook)

// trial tells whether changes to a device are applied on trial.
func (w *world) trial(device string) bool {
	p := w.sim.Device(device).Platform()
	return p == "osier" || p == "skerry"
}

// Law 1 where the way back is a trial: nothing takes effect before the backup is on disk;
// what takes effect is on trial, and seen to be, before anything else is done with it; and
// what is kept was seen to be on trial no more.
func (w *world) lawOnTrial(d *night.Device, truth []sim.Truth) {
	quiet := slices.ContainsFunc(w.specs[d.Name].Faults, func(f sim.Fault) bool { return f.Kind == sim.QuietTimer })
	done, backed := w.backups.done[d.Name]
	unseen := ""
	for _, tr := range truth {
		switch tr.What {
		case sim.Changed:
			assert.True(w.t, tr.Armed || quiet, "law 1: %q took effect on %s, and not on trial", tr.Line, d.Name)
			assert.True(w.t, backed && !done.After(tr.At), "law 1: %q took effect on %s before its backup", tr.Line, d.Name)
			unseen = tr.Line
		case sim.Shown:
			unseen = ""
		case sim.Staged, sim.Saved:
			assert.Empty(w.t, unseen, "law 1: %s was %s before it was looked whether the change is on trial", d.Name, tr.What)
		}
	}
	if d.State == night.Kept && d.Touched {
		seen := true
		for _, tr := range truth {
			switch tr.What {
			case sim.Disarmed, sim.Armed:
				seen = false
			case sim.Shown:
				seen = !tr.Armed
			}
		}
		assert.True(w.t, seen, "law 4: %s is kept, and nobody looked whether it is on trial still", d.Name)
	}
	if d.Touched {
		style := w.styleOf(d.Name)
		assert.True(w.t, config.Equal(config.Parse(w.backups.text[d.Name], style), config.Parse(w.backupOf(d.Name, w.initial[d.Name]), style)),
			"law 1: the backup of %s is not what ran", d.Name)
	}
}

// osiers are devices that take changes on trial.
func osiers(specs ...sim.Spec) []sim.Spec {
	for i := range specs {
		specs[i].Platform = "osier"
	}
	return specs
}

// A mixed fleet is changed by one runbook; what differs between its devices is how each
// takes a change back.
func TestAMixedNight(t *testing.T) {
	for name, steps := range map[string]string{"wanted": mixedBook, "typed": typedBook} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{}, {Platform: "osier"}, {Platform: "osier"}}, book(steps))
				defer w.sim.Close()
				w.runQuiet()
				w.checkLaws()
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
					assert.Equal(t, "kept and saved; as predicted", d.Note)
				}
				assert.Equal(t, 3, len(w.intents("ald-quay-2", night.ToApply)), "a step, an apply")
				assert.Empty(t, w.intents("ald-quay-2", night.ToArm))
				w.night = night.Night{}
				w.runQuiet()
				for _, d := range w.night.Devices {
					again := night.Already
					if name == "typed" && w.trial(d.Name) {
						again = night.Kept // lines typed word for word may be meant again
					}
					assert.Equal(t, again, d.State, "%s: %s", d.Name, d.Note)
				}
			})
		})
	}
}

// intents are what was about to be done to a device, of one kind.
func (w *world) intents(device, what string) (out []night.Event) {
	for _, e := range w.seen {
		if e.Kind == night.Intent && e.What == what && e.Device == device {
			out = append(out, e)
		}
	}
	return out
}

// Each fault of a platform with a trial, alone on one device, ends as a person would
// expect, and its neighbour is not touched by it.
func TestEachFaultOnTrial(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state night.State
		note  string
	}{
		"no fault at all":          {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, night.Kept, "kept and saved"},
		"slow":                     {sim.Fault{Kind: sim.Slow, By: 2 * time.Second}, night.Kept, "kept and saved"},
		"rejects a line":           {sim.Fault{Kind: sim.Rejects, Match: "^to 198"}, night.Reverted, "equal to the backup"},
		"rejects early":            {sim.Fault{Kind: sim.Rejects, Match: "^source"}, night.Reverted, "equal to the backup"},
		"ignores a line":           {sim.Fault{Kind: sim.Ignores, Match: "^to 198"}, night.Reverted, "equal to the backup"},
		"sound, and not applied":   {sim.Fault{Kind: sim.RefusesApply, After: 1}, night.Reverted, "equal to the backup"},
		"never applied":            {sim.Fault{Kind: sim.RefusesApply}, night.Reverted, "equal to the backup"},
		"not on trial":             {sim.Fault{Kind: sim.QuietTimer, Times: 1}, night.Reverted, "equal to the backup"},
		"hangs in the draft":       {sim.Fault{Kind: sim.Hangs, Match: "^to 198", Times: 1}, night.Reverted, "equal to the backup"},
		"drops in the draft":       {sim.Fault{Kind: sim.Drops, Match: "^to 198", Times: 1}, night.Reverted, "equal to the backup"},
		"drops before the apply":   {sim.Fault{Kind: sim.Drops, Match: "^apply", Times: 1}, night.Reverted, "equal to the backup"},
		"drops after the apply":    {sim.Fault{Kind: sim.DropsAfter, Match: "^apply", Times: 1}, night.Reverted, "equal to the backup"},
		"confirm lost on the way":  {sim.Fault{Kind: sim.Drops, Match: "^keep", Times: 1}, night.Reverted, "equal to the backup"},
		"answer to confirm lost":   {sim.Fault{Kind: sim.DropsAfter, Match: "^keep", Times: 1}, night.Reverted, "equal to the backup"},
		"confirmed in words only":  {sim.Fault{Kind: sim.StuckTimer}, night.Reverted, "equal to the backup"},
		"confirmed late":           {sim.Fault{Kind: sim.LateDisarm, By: 3 * time.Second}, night.Kept, "kept and saved"},
		"cannot be kept":           {sim.Fault{Kind: sim.NoSave}, night.Reverted, "equal to the backup"},
		"kept in words only":       {sim.Fault{Kind: sim.QuietSave, Times: 1}, night.Reverted, "equal to the backup"},
		"cuts itself off":          {sim.Fault{Kind: sim.CutsOff, Match: "^carries"}, night.Reverted, "equal to the backup"},
		"cut off, and never fires": {sim.Fault{Kind: sim.NeverFires}, night.Kept, "kept and saved"},
		"somebody joins":           {sim.Fault{Kind: sim.Joined, Match: "^screen off"}, night.Reverted, "equal to the backup"},
		"restarts by itself":       {sim.Fault{Kind: sim.Restarts, Match: "^to 198", Times: 1}, night.Reverted, "equal to the backup"},
		"somebody ends the trial":  {sim.Fault{Kind: sim.OtherTimer, Match: "^sight clock", After: 2, Times: 1}, night.Reverted, "equal to the backup"},
		"drifts":                   {sim.Fault{Kind: sim.Drifts, Match: "^keep", Times: 1}, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, osiers(sim.Spec{Faults: []sim.Fault{c.fault}}, sim.Spec{}), book(mixedBook))
				defer w.sim.Close()
				w.run(context.Background(), nil)
				w.endsAs(c.state, c.note)
			})
		})
	}
}

// once are the shipped profiles, with an osier that applies nothing while something is on
// trial, and gives a trial no more time.
func once(t testing.TB) profile.Set {
	set := shipped(t)
	p := *set["osier"]
	p.Trial.Again, p.Trial.Extend = false, profile.Command{}
	set["osier"] = &p
	return set
}

// wholes are the shipped profiles, with an osier that takes only whole configurations.
func wholes(t testing.TB, set profile.Set) profile.Set {
	p := *set["osier"]
	p.Config.Whole = true
	set["osier"] = &p
	return set
}

// A platform that takes only whole configurations reads the same in a runbook: lines are
// carried out on the text, which is handed over, checked and applied.
func TestWholeConfigurations(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		once   bool
		state  night.State
		note   string
	}{
		"all is well":               {nil, false, night.Kept, "kept and saved; as predicted"},
		"in one apply":              {nil, true, night.Kept, "kept and saved; as predicted"},
		"cannot be handed over":     {[]sim.Fault{{Kind: sim.Refusing}}, false, night.Reverted, "equal to the backup"},
		"half of it arrives":        {[]sim.Fault{{Kind: sim.HalfLoad, Times: 1}}, false, night.Reverted, "equal to the backup"},
		"sound, and not applied":    {[]sim.Fault{{Kind: sim.RefusesApply, Times: 1}}, false, night.Reverted, "equal to the backup"},
		"an expectation fails":      {[]sim.Fault{{Kind: sim.NeverSettles}}, false, night.Reverted, "equal to the backup"},
		"the trial cannot be ended": {[]sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.LostUndo}}, true, night.Reverted, "equal to the backup"},
		"lost in the apply":         {[]sim.Fault{{Kind: sim.DropsAfter, Match: "^apply", Times: 1}}, true, night.Reverted, "equal to the backup"},
		"lost while handed over":    {[]sim.Fault{{Kind: sim.Hangs, Match: "^load draft$", Times: 1}}, false, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := shipped(t), t.TempDir()
			if c.once {
				set = once(t)
			}
			set = wholes(t, set)
			synctest.Test(t, func(t *testing.T) {
				w := simpleOf(t, set, dir, osiers(sim.Spec{Once: c.once, Faults: c.faults}, sim.Spec{Once: c.once}), nil, book(typedBook))
				defer w.sim.Close()
				w.runQuiet()
				w.endsAs(c.state, c.note)
			})
		})
	}
}

// putBook puts a whole file in place, and changes it then.
const putBook = `step "All of it"
  on osier
    put file "osier.conf"
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Gates"
  on osier
    want
      | port 3
      |   carries 310
`

// A whole file of the workspace, with the device's own values, is put in place, and what
// was there before comes back where something fails.
func TestAWholeFileIsPutInPlace(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		once   bool
		state  night.State
		note   string
	}{
		"all is well":           {nil, false, night.Kept, "kept and saved; as predicted"},
		"in one apply":          {nil, true, night.Kept, "kept and saved; as predicted"},
		"cannot be handed over": {[]sim.Fault{{Kind: sim.Refusing}}, false, night.Reverted, "equal to the backup"},
		"an expectation fails":  {[]sim.Fault{{Kind: sim.NeverSettles}}, true, night.Reverted, "equal to the backup"},
		"half of it arrives":    {[]sim.Fault{{Kind: sim.HalfLoad, Times: 1}}, false, night.Reverted, "equal to the backup"},
		"it cannot be ended":    {[]sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.LostUndo}}, false, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := shipped(t), t.TempDir()
			if c.once {
				set = once(t)
			}
			set = wholes(t, set)
			whole := strings.Replace(intendedConfig, "{{.Name}}", "ald-quay-0", 1)
			if c.once { // the second step is for what the file does not have
				whole = strings.Replace(whole, "port 3\n  label \"gate\"\n  lan 310\n", "port 3\n  label \"gate\"\n", 1)
			}
			text := sim.Braces(whole)
			text = "## the quay of <<site>>\n\n" + strings.Replace(text, "ald-quay-0", "<<name>>", 1)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "osier.conf"), []byte(text), 0o600))
			synctest.Test(t, func(t *testing.T) {
				w := simpleOf(t, set, dir, osiers(sim.Spec{Once: c.once, Faults: c.faults}, sim.Spec{Once: c.once}), nil, book(putBook))
				defer w.sim.Close()
				w.runQuiet()
				w.endsAs(c.state, c.note)
				assert.Contains(t, w.sim.Device("ald-quay-2").Saved(), "name ald-quay-2\n")
				if c.state == night.Kept && !c.once {
					w.night = night.Night{}
					w.runQuiet()
					assert.Equal(t, night.Already, w.night.Get("ald-quay-1").State, "the file is in place: %s", w.night.Get("ald-quay-1").Note)
				}
			})
		})
	}
}

// A platform that takes only whole configurations may have a timer that restarts it: what
// is handed over takes effect at once, guarded by that.
func TestWholeConfigurationsWithATimer(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
		note   string
	}{
		"all is well":            {nil, night.Kept, "kept and saved; as predicted"},
		"cannot be handed over":  {[]sim.Fault{{Kind: sim.Refusing}}, night.Reverted, "equal to the backup"},
		"half of it arrives":     {[]sim.Fault{{Kind: sim.HalfLoad, Times: 1}}, night.Reverted, "equal to the backup"},
		"an expectation fails":   {[]sim.Fault{{Kind: sim.NeverSettles}}, night.Reverted, "equal to the backup"},
		"lost while handed over": {[]sim.Fault{{Kind: sim.Drops, Match: "^load", Times: 1}}, night.Reverted, "equal to the backup"},
		"its check says no":      {[]sim.Fault{{Kind: sim.Balks, Match: "^tell unsaved$"}}, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := shipped(t), t.TempDir()
			p := *set["tern"]
			p.Config.Whole = true
			p.Config.Check = profile.Command{In: "work", Send: "tell unsaved"}
			p.Config.Apply = profile.Command{In: "work", Send: "tell storage"}
			set["tern"] = &p
			synctest.Test(t, func(t *testing.T) {
				w := simpleOf(t, set, dir, []sim.Spec{{Faults: c.faults}, {}}, nil, book(mixedBook))
				defer w.sim.Close()
				w.loose = true
				w.runQuiet()
				w.endsAs(c.state, c.note)
			})
		})
	}
}

// Where nothing can be applied while something is on trial, all steps go into one apply,
// and what they expect is looked at after it.
func TestAllInOneApply(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
		note   string
		marks  []string
	}{
		"all is well":            {nil, night.Kept, "kept and saved; as predicted", []string{night.StepDone, night.StepDone, night.StepDone}},
		"a line is refused":      {[]sim.Fault{{Kind: sim.Rejects, Match: "^carries"}}, night.Reverted, "equal to the backup", nil},
		"an expectation fails":   {[]sim.Fault{{Kind: sim.NeverSettles}}, night.Reverted, "equal to the backup", []string{night.StepUndone, night.StepUndone, night.StepUndone}},
		"lost in the apply":      {[]sim.Fault{{Kind: sim.DropsAfter, Match: "^apply", Times: 1}}, night.Reverted, "equal to the backup", nil},
		"not taken back at once": {[]sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.LostUndo}}, night.Reverted, "equal to the backup", nil},
		"a line is ignored":      {[]sim.Fault{{Kind: sim.Ignores, Match: "^to 198"}}, night.Reverted, "equal to the backup", nil},
		"cut off":                {[]sim.Fault{{Kind: sim.CutsOff, Match: "^to 198"}}, night.Reverted, "equal to the backup", nil},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := once(t), t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleOf(t, set, dir, osiers(sim.Spec{Once: true, Faults: c.faults}, sim.Spec{Once: true}), nil, book(mixedBook))
				defer w.sim.Close()
				w.runQuiet()
				w.endsAs(c.state, c.note)
				if c.marks != nil {
					assert.Equal(t, c.marks, w.night.Get("ald-quay-1").Marks)
				}
				assert.Len(t, w.intents("ald-quay-2", night.ToApply), 1)
			})
		})
	}
}

// endsAs tells how the first device has ended, by the laws, and that the one beside it is
// kept.
func (w *world) endsAs(state night.State, note string) {
	w.t.Helper()
	w.checkLaws()
	d, beside := w.night.Get("ald-quay-1"), w.night.Get("ald-quay-2")
	assert.Equal(w.t, state, d.State, d.Note)
	assert.Contains(w.t, d.Note, note)
	assert.Equal(w.t, night.Kept, beside.State, beside.Note)
	if w.t.Failed() {
		w.t.Log(w.story())
	}
}

// Wherever in its night a device is lost, or says no, it ends as the laws have it: never
// with lines of ours staged on it, nor with a trial that nobody knows of.
func TestTrialsCutOffAtEveryPoint(t *testing.T) {
	for name, set := range map[string]profile.Set{"a step, an apply": shipped(t), "one apply": once(t), "whole": wholes(t, shipped(t))} {
		for _, kind := range []string{sim.Drops, sim.DropsAfter, sim.Hangs, sim.Balks} {
			t.Run(name+" "+kind, func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				for k := range 48 {
					synctest.Test(t, func(t *testing.T) {
						spec := sim.Spec{Once: name == "one apply", Faults: []sim.Fault{{Kind: kind, Times: 1, After: k}}}
						w := simpleOf(t, set, filepath.Join(dir, fmt.Sprint(k)), osiers(spec), nil, book(mixedBook))
						defer w.sim.Close()
						w.runQuiet()
						w.checkLaws()
						d, dev := w.night.Devices[0], w.sim.Devices()[0]
						assert.Contains(t, []night.State{night.Kept, night.Reverted, night.Blocked}, d.State, "at %d: %s", k, d.Note)
						assert.Zero(t, dev.Due(), "at %d: %s", k, d.Note)
						assert.True(t, dev.Drafted() == "" || strings.Contains(d.Note, "may still stand in its candidate"), "at %d, %s: a draft of %s is left: %s", k, d.State, dev.Drafted(), d.Note)
						if t.Failed() {
							t.Log(w.story())
						}
					})
				}
			})
		}
	}
}

// What somebody has left in the candidate is never applied with ours, and a trial that is
// not ours is left alone.
func TestWhatStandsThereBefore(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, osiers(sim.Spec{Draft: "bosun"}, sim.Spec{Editing: "bosun"}, sim.Spec{}), book(mixedBook))
		defer w.sim.Close()
		w.runQuiet()
		assert.Equal(t, night.Blocked, w.night.Get("ald-quay-1").State)
		assert.Contains(t, w.night.Get("ald-quay-1").Note, "changes of bosun stand in its candidate")
		assert.NotEqual(t, night.Kept, w.night.Get("ald-quay-2").State)
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-3").State)
		w.checkLaws()
	})
}

// Where it cannot be read whether something is staged, nothing is done.
func TestDraftsThatCannotBeRead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		balks := sim.Fault{Kind: sim.Balks, Match: "^sight draft$"}
		w := simple(t, osiers(sim.Spec{Faults: []sim.Fault{balks}}, sim.Spec{}), book(mixedBook))
		defer w.sim.Close()
		w.runQuiet()
		assert.Equal(t, night.Blocked, w.night.Get("ald-quay-1").State, w.night.Get("ald-quay-1").Note)
		assert.Contains(t, w.night.Get("ald-quay-1").Note, "sight draft")
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-2").State)
		w.checkLaws()
	})
}

// Random nights over mixed fleets, with the faults of both kinds.
func TestMixedNights(t *testing.T) {
	eachSeed(t, func(t *testing.T, seed uint64, dir string) {
		g := &generator{rng: rand.New(rand.NewPCG(seed, 77))}
		scenario, csv := g.fleet()
		set := shipped(t)
		only := g.chance(0.3)
		if only {
			set = once(t)
		}
		if g.chance(0.25) {
			set = wholes(t, set)
		}
		for i := range scenario.Devices {
			d := &scenario.Devices[i]
			if g.chance(0.6) {
				d.Platform, d.Unsaved, d.Once = "osier", "", only
				csv = strings.Replace(csv, d.Name+","+d.Address+",tern", d.Name+","+d.Address+",osier", 1)
				if len(d.Faults) > 0 {
					d.Faults = exchanged(d.Faults, "^source", "^apply", "^keep")
					g.spoilTrial(d)
				}
				if g.chance(0.4) {
					d.Platform, d.Once = "skerry", false
					csv = strings.Replace(csv, d.Name+","+d.Address+",osier", d.Name+","+d.Address+",skerry", 1)
					if len(d.Faults) > 0 {
						d.Faults = exchanged(d.Faults, "^set", "commit", "confirm")
						g.spoilNetconf(d)
					}
				}
			}
		}
		b := book(pick(g, []string{allBook, strings.Replace(allBook, mixedBook[strings.Index(mixedBook, "  on osier\n    want\n      | report"):strings.Index(mixedBook, "\nstep \"Gates\"")], typedBook[strings.Index(typedBook, "  on osier\n    send"):strings.Index(typedBook, "\nstep \"Gates\"")], 1)}))(g.book())
		w := newWorldOf(t, set, scenario, csv, b, nil, dir)
		w.loose = true // what comes back to a list may stand elsewhere in it
		defer w.sim.Close()
		w.runWith(g)
		w.checkLaws()
		if g.calm {
			w.checkCalm()
		}
		if t.Failed() {
			t.Logf("seed %d\n%s\n%s\n%s", seed, b, csv, w.story())
		}
	})
}

// exchanged keeps, of some faults, that a device is exchanged with another, at a line of its
// own platform.
func exchanged(faults []sim.Fault, lines ...string) (out []sim.Fault) {
	for _, f := range faults {
		if f.Kind != sim.Exchanged {
			continue
		}
		if f.Match != "" {
			f.Match = lines[f.After%len(lines)]
		}
		out = append(out, f)
	}
	return out
}

// spoilTrial gives an osier a fault or two.
func (g *generator) spoilTrial(spec *sim.Spec) {
	lines := []string{"^source", "^to 198", "^lan 310$", "^title", "^port 3$", "^carries", "^up$", "^draft$", "^sight trial", "^apply", "^keep", "^end trial", "^sight running", "^cut", "^close", "^drop draft", "^check"}
	kinds := []string{sim.Refuses, sim.BadPassword, sim.Hangs, sim.Drops, sim.DropsAfter, sim.Rejects, sim.Garbage, sim.Slow, sim.Restarts, sim.NeverBack, sim.NoSave, sim.NeverSettles, sim.CutsOff,
		sim.QuietTimer, sim.StuckTimer, sim.LostUndo, sim.Refusing, sim.QuietSave, sim.LateDisarm, sim.Drifts, sim.HalfLoad, sim.OtherTimer, sim.Joined, sim.Ignores, sim.NeverFires, sim.RefusesApply}
	for range 1 + g.rng.IntN(3) {
		f := sim.Fault{Kind: pick(g, kinds), Times: g.rng.IntN(3)}
		switch f.Kind {
		case sim.Hangs, sim.Drops, sim.DropsAfter, sim.Rejects, sim.Garbage, sim.Restarts, sim.CutsOff:
			f.Match = pick(g, lines)
		case sim.Ignores:
			f.Match = pick(g, []string{"^source", "^to 198", "^lan 310$", "^carries"})
		case sim.Slow:
			f.By = time.Duration(g.rng.IntN(4000)) * time.Millisecond
		case sim.LateDisarm:
			f.By = time.Duration(g.rng.IntN(15)) * time.Second
		case sim.Drifts:
			f.Match = pick(g, []string{"^keep", "^source", "^apply"})
		case sim.OtherTimer:
			f.Match, f.By = pick(g, []string{"^sight running", "^sight sessions", "^sight clock"}), time.Duration(g.rng.IntN(3))*time.Minute
		case sim.Joined:
			f.Match = pick(g, []string{"^sight", "^apply", "^draft$"})
		case sim.RefusesApply:
			f.After = g.rng.IntN(3)
		}
		spec.Faults = append(spec.Faults, f)
	}
	if g.chance(0.1) {
		spec.Draft = "bosun"
	}
}

// A text in braces is the same configuration, and loads again.
func TestBracesAreTheSame(t *testing.T) {
	text := sim.Braces(strings.ReplaceAll(intendedConfig, "{{.Name}}", "ald-dist-1"))
	require.Contains(t, text, "port 3 {\n    label \"gate\";\n    carries 310;\n}\n")
	require.Contains(t, text, fmt.Sprintf("member crew word %s;\n", inConfig))
}

// A pair of which one does the work of both is changed one after the other: when the one that
// does it is lost, the other takes over, and at no moment neither does.
func TestAPairThatFailsOver(t *testing.T) {
	for name, c := range map[string]struct {
		active, standby []sim.Fault
		states          [2]night.State
		over            bool // the work has gone over to the standby
		note            string
	}{
		"all is well":           {nil, nil, [2]night.State{night.Kept, night.Kept}, false, "kept and saved"},
		"the active one is cut": {[]sim.Fault{{Kind: sim.CutsOff, Match: "^carries"}}, nil, [2]night.State{night.Reverted, night.Kept}, true, "equal to the backup"},
		"the standby is cut":    {nil, []sim.Fault{{Kind: sim.CutsOff, Match: "^carries"}}, [2]night.State{night.Skipped, night.Reverted}, false, "its partner brm-dist-2 is reverted"},
		"it is not healthy":     {nil, []sim.Fault{{Kind: sim.PairAway}}, [2]night.State{night.Skipped, night.Blocked}, false, "its partner brm-dist-2 is blocked"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				specs := []sim.Spec{{Name: "brm-dist-1", Platform: "osier", Pair: "brm", Address: "192.0.2.1", Faults: c.active}, {Name: "brm-dist-2", Platform: "osier", Pair: "brm", Address: "192.0.2.2", Faults: c.standby}}
				csv := "name,address,platform,role,pair,login\nbrm-dist-1,192.0.2.1,osier,quay,brm,crew\nbrm-dist-2,192.0.2.2,osier,quay,brm standby,crew\n"
				text := strings.NewReplacer("sizes     1, 4", "sizes     8", "  saved\n", "  saved\n  pair      healthy\n").Replace(book(mixedBook)(standardBook))
				w := newWorld(t, sim.Scenario{Boot: 15 * time.Second, Settle: time.Second, Devices: specs}, csv, text, t.TempDir())
				defer w.sim.Close()
				assert.True(t, w.sim.Active("brm-dist-1"))
				w.runQuiet()
				w.checkLaws()
				one, two := w.night.Get("brm-dist-1"), w.night.Get("brm-dist-2")
				assert.Equal(t, c.states, [2]night.State{one.State, two.State}, "%s; %s", one.Note, two.Note)
				assert.Contains(t, one.Note, c.note)
				assert.Equal(t, c.over, w.sim.Active("brm-dist-2"))
				assert.Empty(t, w.sim.Outages("brm"), "neither did the work")
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}
