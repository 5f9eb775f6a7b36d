package nights

import (
	"context"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// wantedBook says what shall be there; nothing else needs to be written.
const wantedBook = `step "Time sources"
  want
    | time source 192.0.2.40 first
    | time source 192.0.2.9 second
  no other  "time source *"
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Log hosts"
  want
    | log host 198.51.100.14
  no other  "log host *"

step "Gates"
  want
    | lan 310
    |   title gates
    | port 3
    |   lan 310
`

// book is a runbook with other steps than the standard one.
func book(steps string) func(string) string {
	return func(b string) string {
		return b[:strings.Index(b, "step \"Time")] + steps + "\n" + b[strings.Index(b, "finish\n"):]
	}
}

// sentTo are the lines that a device was sent, by what they were sent for.
func (w *world) sentTo(device, what string) (out []string) {
	for _, e := range w.seen {
		if e.Kind == night.Intent && e.What == what && e.Device == device {
			out = append(out, e.Lines...)
		}
	}
	return out
}

// What is wanted leads to lines of its own on each device, whatever stood there; all of
// it is proven to be as predicted, and run again it finds nothing to do.
func TestWhatIsWantedIsDone(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		half := strings.Replace(baseConfig, "log host 198.51.100.9\n", "log host 198.51.100.14\nlog host 198.51.100.8\n", 1)
		done := strings.NewReplacer("log host 198.51.100.9\n", "", "time source 192.0.2.10 third\n", "").Replace(intendedConfig)
		w := simple(t, []sim.Spec{{}, {Config: half}, {Config: done}}, book(wantedBook))
		defer w.sim.Close()
		w.mark = "title gates"
		w.runQuiet()
		w.checkLaws()
		for _, name := range []string{"ald-quay-1", "ald-quay-2"} {
			d := w.night.Get(name)
			assert.Equal(t, night.Kept, d.State, d.Note)
			assert.True(t, d.Predicted)
			assert.True(t, strings.HasPrefix(w.sim.Device(name).Saved(), strings.Replace(done, "{{.Name}}", name, 1)), w.sim.Device(name).Saved())
			assert.Equal(t, d.Diff, d.WillDiffer)
		}
		assert.Equal(t, night.Already, w.night.Get("ald-quay-3").State, w.night.Get("ald-quay-3").Note)
		assert.Equal(t, []string{"time source 192.0.2.40 first", "drop time source 192.0.2.10", "log host 198.51.100.14", "drop log host 198.51.100.9", "lan 310", "title gates", "up", "port 3", "lan 310"},
			w.sentTo("ald-quay-1", night.ToSend))
		assert.Equal(t, []string{"drop log host 198.51.100.8"}, w.sentTo("ald-quay-2", night.ToSend)[2:3])
	})
}

// Undo lines that nobody wrote are computed; where nothing leads back, nothing is sent.
func TestUndoThatNobodyWrote(t *testing.T) {
	unwritten := "step \"Move\"\n  send\n    | port 2\n    | trunk\n  expect    any(ports, .port == 99) within 2s\n"
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}}, book(unwritten))
		defer w.sim.Close()
		w.runQuiet()
		w.checkLaws()
		assert.Equal(t, night.Reverted, w.night.Devices[0].State, w.night.Devices[0].Note)
		assert.Equal(t, []string{"port 2", "lan 10"}, w.sentTo("ald-quay-1", night.ToLead), "where it was before")
	})
	synctest.Test(t, func(t *testing.T) { // port 9 is there, port 99 is not
		w := simple(t, []sim.Spec{{}}, book("step \"Gone\"\n  want\n    | port 9\n    |   shut\n    | port 99\n    |   shut\n"))
		defer w.sim.Close()
		w.runQuiet()
		assert.Equal(t, night.Blocked, w.night.Devices[0].State)
		assert.Contains(t, w.night.Devices[0].Note, `step "Gone": "port 99" is not there, and no line makes it`)
		assert.Empty(t, w.sentTo("ald-quay-1", night.ToSend))
		found, _ := w.rehearse()
		assert.Contains(t, found[0].Blocked, `step "Gone": "port 99" is not there, and no line makes it`, "a rehearsal says the same")
		assert.Empty(t, found[0].Steps)
	})
}

// Undo lines that are written and do not lead back are told before the first line, with
// what would; the device is taken back all the same.
func TestWrittenUndoThatDoesNotLeadBack(t *testing.T) {
	slip := "step \"Gates\"\n  send\n    | lan 310\n    | up\n    | port 2\n    | lan 310\n    | up\n  undo%s\n    | port 2\n    | drop lan\n    | up\n    | drop lan 310\n  expect    any(ports, .port == 99) within 2s\n"
	for first, rungs := range map[string][]string{"": {"as found", work.RungLines}, " first": {"as found", work.RungUndo, work.RungLines}} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}}, book(fmt.Sprintf(slip, first)))
			defer w.sim.Close()
			w.runQuiet()
			w.checkLaws()
			d := w.night.Devices[0]
			assert.Equal(t, night.Reverted, d.State, d.Note)
			assert.Equal(t, []string{`the undo lines of "Gates" do not lead back: they would leave 1 missing, 0 added`, "- port 2 > lan 10",
				"computed: port 2", "computed: lan 10", "computed: up", "computed: drop lan 310"}, d.Notices)
			var got []string
			for _, e := range w.seen {
				if e.Kind == night.Rung {
					got = append(got, e.What)
				}
			}
			assert.Equal(t, rungs, got)
		})
	}
}

// A loop over the ports of the device sends lines for those that fit, and nothing for
// those that are so already.
func TestLoopOverWhatTheDeviceHas(t *testing.T) {
	loop := "step \"Gates\"\n  for       p in ports where p.label == \"gate\"\n  already   when config has \"port <<p.port>> > shut\"\n  send\n    | port <<p.port>>\n    | shut\n    | up\n  undo\n    | port <<p.port>>\n    | open\n    | up\n  expect    any(ports, .port == p.port and .state == \"shut\") within 5s\n"
	want := "step \"Gates\"\n  for       p in ports where p.label == \"gate\"\n  want\n    | port <<p.port>>\n    |   shut\n"
	for _, steps := range []string{loop, want} {
		synctest.Test(t, func(t *testing.T) {
			gates := strings.Replace(baseConfig, "port 2\n  lan 10\n", "port 2\n  label \"gate\"\n  lan 10\n  shut\n", 1)
			w := simple(t, []sim.Spec{{Config: gates}, {Config: strings.Replace(baseConfig, "gate", "bell", 1)}, {Faults: []sim.Fault{{Kind: sim.Balks, Match: "^tell ports"}}}}, book(steps))
			defer w.sim.Close()
			w.mark = "shut"
			w.runQuiet()
			w.checkLaws()
			assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
			assert.Equal(t, []string{"port 3", "shut"}, w.sentTo("ald-quay-1", night.ToSend)[:2])
			assert.NotContains(t, w.sentTo("ald-quay-1", night.ToSend), "port 2")
			assert.Empty(t, w.sentTo("ald-quay-2", night.ToSend), "no port there is a gate")
			assert.Equal(t, []string{`step "Gates": no row of ports fits, of 12`}, w.night.Get("ald-quay-2").Notices)
			assert.Equal(t, night.Blocked, w.night.Get("ald-quay-3").State, "its ports cannot be read: which of them are gates, nobody knows")
			assert.Empty(t, w.sentTo("ald-quay-3", night.ToSend))
		})
	}
}

// A device that is not as predicted is held. A person may keep it as it runs, with a
// reason, and that it is not as predicted is told at the end.
func TestNotAsPredicted(t *testing.T) {
	drifts := []sim.Fault{{Kind: sim.Drifts, Match: "^title gates", Times: 1}}
	for _, c := range []struct {
		choice night.Choice
		end    night.State
	}{{night.Accept, night.Kept}, {night.BackDevice, night.Reverted}} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{Faults: drifts}}, book(wantedBook))
			defer w.sim.Close()
			w.mark = "title gates"
			choose := always(t, c.choice)
			w.run(context.Background(), choose)
			w.checkLaws()
			assert.Equal(t, []string{`after "Gates", what runs is not what was predicted / there, and not predicted: log host 192.0.2.253 / so far: step 3 of 3, 5 of 5 lines taken / its way back is pending: it restarts at 00:04:00 / nothing of the change is saved`}, w.holdsOf("ald-quay-1"))
			d := w.night.Devices[0]
			assert.Equal(t, c.end, d.State, d.Note)
			if c.end == night.Kept {
				assert.False(t, d.Predicted)
				assert.Equal(t, []string{"there, and not predicted: log host 192.0.2.253"}, d.Unlike)
			}
		})
	}
}

// TestPredictedNights draws configurations and runbooks of what is wanted and what is
// sent. What was predicted is the truth on every device that is kept; what is taken back
// is as it was; and where a rule of the language is wrong, nothing is saved.
func TestPredictedNights(t *testing.T) {
	var met tally
	t.Run("nights", func(t *testing.T) {
		eachOf(t, (*count+1)/2, func(t *testing.T, seed uint64, dir string) {
			rng := rand.New(rand.NewPCG(seed, 11))
			met.add(predictedNight(t, rng, shipped(t), false, dir))
		})
	})
	t.Log(met.of)
	if *count >= 200 {
		for _, what := range []string{"kept", "reverted", "already"} {
			assert.NotZero(t, met.of[what], what)
		}
	}
}

// TestWronglyPredictedNights are such nights with a rule of the language that is wrong.
func TestWronglyPredictedNights(t *testing.T) {
	var met tally
	t.Run("nights", func(t *testing.T) {
		eachOf(t, (*count+1)/2, func(t *testing.T, seed uint64, dir string) {
			rng := rand.New(rand.NewPCG(seed, 13))
			set := maps.Clone(shipped(t))
			p := *set["tern"]
			p.Grammar.Lines = slices.Clone(p.Grammar.Lines)
			misRule(rng, &p.Grammar.Lines[rng.IntN(len(p.Grammar.Lines))])
			set["tern"] = &p
			if w := predictedNight(t, rng, set, true, dir); w != nil {
				met.add(w)
			}
		})
	})
	t.Log(met.of)
}

// misRule makes a rule of a language wrong.
func misRule(rng *rand.Rand, r *profile.LineRule) {
	switch rng.IntN(6) {
	case 0:
		r.Key = ""
	case 1:
		r.Key = "another"
	case 2:
		r.Away = "drop nothing"
	case 3:
		r.Needs = nil
	case 4:
		r.Away = ""
	case 5:
		r.Section, r.Fixed = !r.Section, false
	}
}

func predictedNight(t *testing.T, rng *rand.Rand, set profile.Set, misled bool, dir string) *world {
	g := &generator{rng: rng}
	var specs []sim.Spec
	for range 1 + rng.IntN(3) {
		spec := sim.Spec{Config: drawnTern(g)}
		if g.chance(0.3) {
			spec.Faults = append(spec.Faults, sim.Fault{Kind: pick(g, []string{sim.Rejects, sim.Drops, sim.DropsAfter, sim.Ignores, sim.Drifts, sim.LostUndo, sim.Balks}), Times: g.rng.IntN(3),
				Match: pick(g, []string{"^time source", "^log host", "^lan", "^title", "^port", "^label", "^drop", "^shut"})})
		}
		specs = append(specs, spec)
	}
	steps := drawnSteps(g)
	csv := "name,address,platform,site,role,pair,via,login\n"
	for i := range specs {
		csv += fmt.Sprintf("ald-quay-%d,192.0.2.%d,tern,ALD,quay,,,crew\n", i+1, 100+i)
	}
	if misled && refusedByPlan(t, set, csv, book(steps)(standardBook)) {
		return nil
	}
	w := simpleOf(t, set, dir, specs, nil, book(steps))
	defer w.sim.Close()
	w.mark, w.loose, w.misled = "", true, misled
	w.runQuiet()
	w.checkLaws()
	for _, d := range w.night.Devices {
		truth := w.sim.Device(d.Name)
		style := w.profiles["tern"].Style()
		switch d.State {
		case night.Kept:
			if d.Unknown != "" && misled { // what a wrong rule does not tell is said not to be known
				continue
			}
			assert.True(t, d.Predicted, d.Name)
			assert.Empty(t, d.Unknown)
			was := config.Parse(w.initial[d.Name], style)
			now := config.Parse(truth.Running(), style)
			if d.LeftSteps() == 0 {
				assert.Equal(t, d.WillDiffer, config.Compare(was, now).Lines(slices.Clone), d.Name)
			}
			assert.Equal(t, truth.Running(), truth.Saved())
		case night.Already:
			assert.Empty(t, d.WillDiffer)
			assert.Equal(t, w.initial[d.Name], truth.Running())
		}
	}
	if t.Failed() {
		t.Logf("%s\n%s", steps, w.story())
	}
	return w
}

// drawnTern is a configuration that a tern may have.
func drawnTern(g *generator) string {
	var b strings.Builder
	add := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	add("name {{.Name}}")
	sources := []string{"192.0.2.9", "192.0.2.10", "192.0.2.40", "192.0.2.41"}
	g.rng.Shuffle(len(sources), func(i, j int) { sources[i], sources[j] = sources[j], sources[i] })
	for i := range g.rng.IntN(4) {
		add("time source %s %s", sources[i], []string{"first", "second", "third", "fourth"}[i])
	}
	for _, h := range []string{"198.51.100.8", "198.51.100.9", "198.51.100.14"} {
		if g.chance(0.5) {
			add("log host %s", h)
		}
	}
	add("manage from any")
	add("login crew secret " + inConfig)
	for _, l := range []string{"10", "20", "310"} {
		add("lan %s", l)
		if g.chance(0.5) {
			add("  title %s", pick(g, []string{"office", "gates"}))
		}
	}
	add("port 1\n  trunk")
	for p := 2; p <= 4; p++ {
		add("port %d", p)
		if g.chance(0.5) {
			add("  label %q", pick(g, []string{"gate", "desk"}))
		}
		if l := pick(g, []string{"", "10", "20", "310"}); l != "" {
			add("  lan %s", l)
		}
		if g.chance(0.3) {
			add("  shut")
		}
	}
	return b.String()
}

// drawnSteps are steps of what is wanted and what is sent, half of the latter without
// undo lines.
func drawnSteps(g *generator) string {
	steps := []string{
		"want\n    | log host 198.51.100.14\n  no other  \"log host *\"",
		"want\n    | time source 192.0.2.40 first\n    | time source 192.0.2.41 second\n  no other  \"time source *\"",
		"want\n    | time source 192.0.2.41 first",
		"gone\n    | log host 198.51.100.9\n    | port 2\n    |   shut",
		"want\n    | lan 330\n    |   title gates\n    | port 3\n    |   lan 330\n    |   label \"gate\"",
		"no other  \"port * > label *\"",
		"for       p in ports where p.label == \"gate\"\n  want\n    | port <<p.port>>\n    |   lan 310\n  gone\n    | port <<p.port>>\n    |   shut",
		"send\n    | port 4\n    | label \"bell\"\n    | shut",
		"send\n    | lan 340\n    | title bells\n    | up\n    | port 2\n    | lan 340\n    | up\n  undo\n    | port 2\n    | drop lan\n    | up\n    | drop lan 340",
		"send\n    | log host 198.51.100.15\n  undo\n    | drop log host 198.51.100.15",
		"already   when config has \"port 4 > trunk\"\n  send\n    | port 4\n    | trunk",
	}
	g.rng.Shuffle(len(steps), func(i, j int) { steps[i], steps[j] = steps[j], steps[i] })
	var b strings.Builder
	for i, s := range steps[:1+g.rng.IntN(4)] {
		expect := ""
		if g.chance(0.1) {
			expect = "\n  expect    any(ports, .port == 99) within 2s"
		}
		fmt.Fprintf(&b, "step \"Step %d\"\n  %s%s\n\n", i+1, s, expect)
	}
	return b.String()
}

// A table that is to be as it was before the change is held against that; columns that do
// not count are left out of it.
func TestSameAsBeforeTheChange(t *testing.T) {
	label := "step \"Label\"\n  want\n    | port 2\n    |   label \"desk\"\n  expect    %s within 5s\n"
	for cond, c := range map[string]struct {
		end  night.State
		held string
	}{
		"same(neighbours) and same(ports, except: [label])": {night.Kept, ""},
		"same(ports)": {night.Reverted, "ports is not as before; gone: label , lan 10, port 2, state up; new: label desk, lan 10, port 2, state up"},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}}, book(fmt.Sprintf(label, cond)))
			defer w.sim.Close()
			w.mark = ""
			w.runQuiet()
			w.checkLaws()
			assert.Equal(t, c.end, w.night.Devices[0].State, w.night.Devices[0].Note)
			assert.Contains(t, strings.Join(w.holdsOf("ald-quay-1"), "\n"), c.held)
		})
	}
}

// Trying a profile puts its harmless line there and takes it away again, and tells where
// the rules are not those of the device; the device is left as it was.
func TestTheLanguageIsTried(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		not    string
	}{
		"right":   {nil, ""},
		"ignored": {[]sim.Fault{{Kind: sim.Ignores, Match: "^log host"}}, "what runs is not what was predicted: - log host 192.0.2.254"},
		"refused": {[]sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}, "refused"},
		"stays":   {[]sim.Fault{{Kind: sim.Rejects, Match: "^drop log host"}}, "the rollback timer is left pending"},
	} {
		t.Run(name, func(t *testing.T) {
			f, err := sim.New(sim.Scenario{Logins: map[string]string{"crew": password}, Operator: operator, Config: baseConfig, TimeSources: []string{"192.0.2.9"},
				Devices: []sim.Spec{{Name: "ald-9", Address: "192.0.2.99", Faults: c.faults}}})
			require.NoError(t, err)
			defer f.Close()
			w := &world{t: t, sim: f, dir: t.TempDir(), profiles: shipped(t)}
			was := f.Device("ald-9").Running()
			var found []string
			_, err = w.connector().Try(context.Background(), fleet.Device{Name: "ald-9", Address: "192.0.2.99", Platform: "tern", Login: "crew"}, true, func(f lines.Finding) {
				if f.Not != "" {
					found = append(found, f.Line+": "+f.Not)
				}
			})
			require.NoError(t, err)
			require.NoError(t, w.scripts.Close())
			if name == "stays" { // and its timer takes it away
				assert.False(t, f.Device("ald-9").Due().IsZero())
				assert.Contains(t, strings.Join(found, "\n"), c.not)
				return
			}
			assert.Equal(t, was, f.Device("ald-9").Running())
			assert.True(t, f.Device("ald-9").Due().IsZero(), "no timer is left on it")
			if c.not == "" {
				assert.Empty(t, found)
				return
			}
			assert.Contains(t, strings.Join(found, "\n"), c.not)
		})
	}
}

// Of a platform without a language nothing is predicted: in Ready that is said, and a
// device on which a step was left out is not called as predicted.
func TestNothingIsPredictedWithoutALanguage(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		set := maps.Clone(shipped(t))
		p := *set["tern"]
		p.Grammar = profile.Grammar{}
		set["tern"] = &p
		w := simpleOf(t, set, dir, []sim.Spec{{Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}}, nil, book("step \"Log\"\n  send\n    | log host 198.51.100.14\n  undo\n    | drop log host 198.51.100.14\n"))
		defer w.sim.Close()
		target, found, events := work.Rehearse(context.Background(), w.plan, w.plan.Targets()[0], work.Outside{Connector: w.connector(), Backups: w.backups})
		require.NoError(t, w.scripts.Close())
		assert.NotNil(t, target)
		assert.Empty(t, found.Blocked)
		events = slices.DeleteFunc(events, func(e night.Event) bool { return e.Kind != night.Prediction })
		require.Len(t, events, 1)
		assert.True(t, events[0].Unpredicted())
		assert.Contains(t, events[0].Note, "the profile of tern has no language")
		w.mark = ""
		w.run(context.Background(), always(t, night.SkipStep))
		w.checkLaws()
		d := w.night.Devices[0]
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Equal(t, `kept WITHOUT "Log"; kept and saved`, d.Note)
		assert.False(t, d.Predicted)
	})
}
