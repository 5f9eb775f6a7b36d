package nights

import (
	"context"
	"fmt"
	"math/rand/v2"
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

// deedsBook is a night that is half lines and half not.
const deedsBook = `runbook "Count anew"
  window    now for 2h
  reserve   10m

scope
  role == "quay"

timer       4m

step "Before"
  look
    | tell counts

step "Log collector"
  want
    | log host 198.51.100.14

step "Count anew"
  do
    | recount ports
  answers   "Counted anew*"
  answers not "Fault*"
  takes     at most 20s
  expect    all(counts, .frames < 50000) within 10s

step "Settle"
  wait      10s

step "Neighbours"
  wait      until len(neighbours) >= 0 within 30s

step "After"
  look
    | tell counts

unattended  take back the device
`

// deedsNight is a night of that runbook.
func deedsNight(t *testing.T, edit func(string) string, specs ...sim.Spec) *world {
	t.Helper()
	return simple(t, specs, func(string) string { return edit(deedsBook) })
}

// did counts how often a device did something, as it knows itself.
func (w *world) did(device string) (n int) {
	for _, tr := range w.sim.Device(device).Truth() {
		if tr.What == sim.Done {
			n++
		}
	}
	return n
}

func TestANightThatIsMoreThanLines(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, same, sim.Spec{}, sim.Spec{})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.runQuiet()
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, d.Note)
			assert.True(t, d.Predicted)
			assert.Equal(t, 1, w.did(d.Name))
			require.Len(t, d.Deeds, 3)
			assert.Equal(t, "tell counts", d.Deeds[0].Command)
			assert.Contains(t, d.Deeds[0].Got[1], "100001")
			assert.Equal(t, []string{"Counted anew."}, d.Deeds[1].Got)
			assert.NotContains(t, d.Deeds[2].Got[1], "100001")
			assert.Nil(t, d.Deeds[0].Compared, "there is nothing before the first look")
			require.NotNil(t, d.Deeds[2].Compared, "the same command prints a table, twice")
			assert.Equal(t, "counts", d.Deeds[2].Compared.Table)
			assert.Contains(t, d.Deeds[2].Compared.Changes[0], "counts: port 1: frames is 100, was 100001")
			for _, m := range d.Marks {
				assert.Equal(t, night.StepDone, m)
			}
		}
	})
}

// A rehearsal looks, and does nothing.
func TestARehearsalDoesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, same, sim.Spec{}, sim.Spec{Faults: []sim.Fault{{Kind: sim.Balks, Match: "^tell counts"}}})
		defer w.sim.Close()
		found, events := w.rehearse()
		for _, d := range w.plan.Targets() {
			assert.Zero(t, w.did(d.Device.Name))
		}
		looked := 0
		for _, e := range events {
			assert.NotEqual(t, night.Done, e.Kind)
			if e.Kind == night.Looked {
				looked++
			}
		}
		assert.Equal(t, 2, looked, "what one device shows before, and what it shows after")
		assert.False(t, found[0].Already)
		assert.Equal(t, plan.DoStep, found[0].Steps[2].Kind)
		assert.Equal(t, []string{"recount ports"}, found[0].Steps[2].Commands)
		assert.Contains(t, fmt.Sprint(found[1].Notices), `"tell counts" of step "Before": refused`)
	})
}

// However a command goes wrong, it is given once, and nobody says that it was done, or not,
// without having read it.
func TestACommandThatGoesWrong(t *testing.T) {
	const expects = "  expect    all(counts, .frames < 50000) within 10s\n"
	for name, c := range map[string]struct {
		fault  sim.Fault
		edit   func(string) string
		choose night.Choice // at the first hold; then the device is taken back
		held   string
		state  night.State
		note   string
		did    int
	}{
		"refused": {sim.Fault{Kind: sim.Balks, Match: "^recount", Times: 1}, same, night.BackDevice,
			`whether "recount ports" was done is not known: it was refused: Fault: not now.`, night.Reverted, `whether "Count anew" was done is not known, and it cannot be undone`, 0},
		"lost in it, and done": {sim.Fault{Kind: sim.DropsAfter, Match: "^recount", Times: 1}, same, night.TryAgain,
			"contact was lost and is back", night.Kept, "kept", 1},
		"lost in it, not done": {sim.Fault{Kind: sim.Drops, Match: "^recount", Times: 1}, same, night.TryAgain,
			"contact was lost and is back", night.Reverted, "whether", 0},
		"lost in it, nothing tells": {sim.Fault{Kind: sim.DropsAfter, Match: "^recount", Times: 1}, edits(expects, ""), night.ItIsDone,
			"contact was lost and is back", night.Kept, "kept", 1},
		"lost in it, given again": {sim.Fault{Kind: sim.Drops, Match: "^recount", Times: 1}, same, night.DoAgain,
			"contact was lost and is back", night.Kept, "kept", 1},
		"says yes and means no": {sim.Fault{Kind: sim.Ignores, Match: "^recount"}, same, night.BackDevice,
			`expectation of "Count anew" not met`, night.Reverted, `"Count anew" was done, which cannot be undone`, 0},
		"hangs": {sim.Fault{Kind: sim.Hangs, Match: "^recount", Times: 1}, same, night.BackDevice,
			"contact was lost and is back", night.Reverted, "whether", 0},
		"cuts off": {sim.Fault{Kind: sim.Restarts, Match: "^recount", Times: 1}, same, night.BackDevice,
			"", night.Reverted, "", 0},
		"something else comes back": {sim.Fault{Kind: sim.Garbage, Match: "^nothing"}, edits(`"Counted anew*"`, `"Counted from one*"`), night.BackDevice,
			`nothing like "Counted from one*" came back`, night.Reverted, "whether", 1},
		"what must not comes back": {sim.Fault{Kind: sim.Garbage, Match: "^nothing"}, edits(`"Fault*"`, `"*anew."`), night.SkipStep,
			`"Counted anew." came back, which must not`, night.Kept, `WITHOUT "Count anew"`, 1},
		"repeatable, and lost": {sim.Fault{Kind: sim.DropsAfter, Match: "^recount", Times: 1}, edits("  takes     at most 20s\n", "  repeatable\n"), night.TryAgain,
			"contact was lost and is back", night.Kept, "kept", 2},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{c.fault}}}, func(string) string { return c.edit(deedsBook) })
				defer w.sim.Close()
				w.mark, w.loose = "", true
				w.run(t.Context(), answering(t, c.choose, night.BackDevice))
				w.checkLaws()
				d := w.night.Devices[0]
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				assert.Equal(t, c.did, w.did(d.Name))
				if c.held != "" {
					require.NotEmpty(t, w.holdsOf(d.Name))
					assert.Contains(t, fmt.Sprint(w.holdsOf(d.Name)), c.held)
				}
			})
		})
	}
}

// answering chooses first at the first hold of a device, then the other.
func answering(t *testing.T, first, then night.Choice) person {
	asked := map[string]int{}
	return func(r *run.Run, e night.Event) {
		if e.Kind != night.HoldOpened || e.Aside() {
			return
		}
		choice := then
		if asked[e.Device] == 0 {
			choice = first
		}
		asked[e.Device]++
		assert.NoError(t, r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: choice, By: "Ada", Reason: "a drill"}))
	}
}

// Nobody is there: a command in doubt is never given again, and what is done by hand is not
// confirmed by anybody.
func TestDeedsWithNobodyThere(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		edit  func(string) string
		state night.State
		did   int
	}{
		"in doubt":  {sim.Fault{Kind: sim.Drops, Match: "^recount", Times: 1}, edits("unattended  take back", "unattended  try again twice, then take back"), night.Reverted, 0},
		"it shows":  {sim.Fault{Kind: sim.DropsAfter, Match: "^recount", Times: 1}, edits("unattended  take back", "unattended  try again once, then take back"), night.Kept, 1},
		"by hand":   {sim.Fault{Kind: sim.Garbage, Match: "^nothing"}, edits("step \"Settle\"\n  wait      10s\n", "step \"Settle\" by hand\n  tell      \"Open one turnstile.\"\n"), night.Reverted, 1},
		"skipped":   {sim.Fault{Kind: sim.Balks, Match: "^recount", Times: 1}, edits("unattended  take back the device", "unattended  skip the step"), night.Kept, 0},
		"unsettled": {sim.Fault{Kind: sim.Garbage, Match: "^nothing"}, edits("len(neighbours) >= 0 within 30s", "len(neighbours) >= 99 within 30s"), night.Reverted, 1},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Faults: []sim.Fault{c.fault}}}, func(string) string { return c.edit(deedsBook) })
				defer w.sim.Close()
				w.mark, w.loose = "", true
				w.runQuiet()
				w.checkLaws()
				assert.Equal(t, c.state, w.night.Devices[0].State, w.night.Devices[0].Note)
				assert.Equal(t, c.did, w.did(w.night.Devices[0].Name))
			})
		})
	}
}

// What is done by hand is told, confirmed by a person, and looked at all the same.
func TestByHand(t *testing.T) {
	hand := edits("step \"Settle\"\n  wait      10s\n", "step \"Settle\" by hand\n  tell      \"Ask the desk at <<site>> to open one turnstile.\"\n  expect    len(neighbours) >= 0 within 5s\n")
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, hand, sim.Spec{})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.run(t.Context(), answering(t, night.ItIsDone, night.BackDevice))
		w.checkLaws()
		d := w.night.Devices[0]
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Contains(t, fmt.Sprint(w.holdsOf(d.Name)), "turnstile")
		closed := 0
		for _, e := range w.journal.Events {
			if e.Kind == night.HoldClosed && e.Choice == night.ItIsDone {
				assert.Equal(t, "Ada", e.By)
				closed++
			}
		}
		assert.Equal(t, 1, closed)
	})
}

// What follows a step is done where that sent something tonight, and nowhere else; the second
// run finds nothing to do.
func TestWhatFollows(t *testing.T) {
	follows := edits("step \"Count anew\"\n", "step \"Count anew\"\n  follows   \"Log collector\"\n")
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, follows, sim.Spec{}, sim.Spec{Config: baseConfig + "log host 198.51.100.14\n"})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.runQuiet()
		w.checkLaws()
		assert.Equal(t, night.Kept, w.night.Devices[0].State, w.night.Devices[0].Note)
		assert.Equal(t, 1, w.did(w.night.Devices[0].Name))
		assert.Equal(t, night.Already, w.night.Devices[1].State, w.night.Devices[1].Note)
		assert.Zero(t, w.did(w.night.Devices[1].Name))
	})
}

// A night that only looks arms nothing, saves nothing and changes nothing.
func TestANightThatOnlyLooks(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, func(string) string {
			return "runbook \"Look\"\n  window    now for 1h\n\nscope\n  role == \"quay\"\n\nstep \"Look\"\n  look in work\n    | tell ports\n    | tell neighbours\n  expect    len(ports) > 0 within 5s\n"
		}, sim.Spec{}, sim.Spec{Unsaved: "log host 198.51.100.77"})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.runQuiet()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Already, d.State, d.Note)
			assert.Len(t, d.Deeds, 2)
			assert.False(t, d.Timed)
			for _, tr := range w.sim.Device(d.Name).Truth() {
				assert.NotContains(t, []sim.What{sim.Armed, sim.Received}, tr.What)
				assert.False(t, tr.What == sim.Saved && tr.At.After(w.started), "somebody's unsaved change was saved")
			}
		}
	})
}

// What was shown is saved, and nothing else: a device that runs another configuration by then is
// left as it is.
func TestOnlyWhatWasShownIsSaved(t *testing.T) {
	const book = "runbook \"Save\"\n  window    none\n\nscope\n  role == \"quay\"\n\nstep \"Save\"\n  save\n\nunattended  take back the device\n"
	synctest.Test(t, func(t *testing.T) {
		unsaved := sim.Spec{Unsaved: "log host 198.51.100.77"}
		w := simple(t, []sim.Spec{unsaved, unsaved, unsaved}, func(string) string { return book })
		defer w.sim.Close()
		w.mark, w.loose = "", true
		found, _ := w.rehearse()
		w.sealed = func(device string) (work.Sealed, bool) {
			for i, f := range found {
				if f.Device == device && i < 2 {
					s := work.Sealed{Configuration: f.Fingerprint, Steps: f.Steps}
					if i == 1 { // somebody has entered another line since
						s.Configuration = "of another configuration"
					}
					return s, true
				}
			}
			return work.Sealed{}, false // it was not there to be shown
		}
		w.runQuiet()
		w.checkLaws()
		states := map[night.State]int{}
		for _, d := range w.night.Devices {
			states[d.State]++
			saved := w.sim.Device(d.Name).Saved() == w.sim.Device(d.Name).Running()
			assert.Equal(t, d.State == night.Kept, saved, "%s: %s", d.Name, d.Note)
		}
		assert.Equal(t, map[night.State]int{night.Kept: 1, night.Blocked: 2}, states)
		assert.Contains(t, w.night.Devices[1].Note, "as shown: what runs on it is not what was shown")
	})
}

// What a device must reach from where it stands is looked at until it is so, and no longer; what
// it says then stands with the night, and nothing that was sent is kept where it is not so.
func TestWhatMustBeReachedFromThere(t *testing.T) {
	const book = `runbook "From there"
  window    now for 1h

scope
  role == "quay"

timer       4m

step "Renew"
  do
    | renew links
  asked     "Renew all links*" say "yes"

step "From there"
  look
    | probe 192.0.2.40
  answers   "4 of 4*" within 30s
  answers   not "Fault*"

unattended  take back the device
`
	for name, c := range map[string]struct {
		fault sim.Fault
		edit  func(string) string
		state night.State
		says  string
	}{
		"once it settles":   {sim.Fault{}, same, night.Kept, ""},
		"without a wait":    {sim.Fault{}, func(s string) string { return strings.Replace(s, " within 30s", "", 1) }, night.Reverted, `nothing like "4 of 4*" came back`},
		"never":             {sim.Fault{Kind: sim.Ignores, Match: "^probe"}, same, night.Reverted, `nothing like "4 of 4*" came back`},
		"refused":           {sim.Fault{Kind: sim.Balks, Match: "^probe"}, same, night.Reverted, "refused"},
		"what none may say": {sim.Fault{}, func(s string) string { return strings.Replace(s, `not "Fault*"`, `not "* 192.0.2.40*"`, 1) }, night.Reverted, "came back, which must not"},
		"nobody there":      {sim.Fault{}, func(s string) string { return strings.Replace(s, "192.0.2.40", "192.0.2.99", 1) }, night.Reverted, `nothing like "4 of 4*" came back`},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				spec := sim.Spec{}
				if c.fault.Kind != "" {
					spec.Faults = []sim.Fault{c.fault}
				}
				w := simple(t, []sim.Spec{spec}, func(string) string { return c.edit(book) })
				defer w.sim.Close()
				w.mark, w.loose = "", true
				w.runQuiet()
				w.checkLaws()
				d := w.night.Devices[0]
				assert.Equal(t, c.state, d.State, d.Note)
				held := ""
				for _, e := range w.seen {
					if e.Kind == night.HoldOpened {
						held += e.Note + strings.Join(e.Lines, " ")
					}
				}
				assert.Contains(t, held, c.says)
			})
		})
	}
}

// A release decides: when over what was read is settled on each device.
func TestTheReleaseDecides(t *testing.T) {
	book := func(string) string {
		return "runbook \"By release\"\n  window    now for 1h\n\nscope\n  role == \"quay\"\n\ntimer       4m\n\nstep \"Old\"\n  when      version.version == \"4.1\"\n  want\n    | log host 198.51.100.14\n\nstep \"New\"\n  when      version.version != \"4.1\"\n  want\n    | log host 198.51.100.15\n"
	}
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, book, sim.Spec{Version: "4.1"}, sim.Spec{Version: "4.3"})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.runQuiet()
		w.checkLaws()
		old, fresh := w.night.Devices[0], w.night.Devices[1]
		assert.Equal(t, []string{"log host 198.51.100.14"}, w.sentTo(old.Name, night.ToSend))
		assert.Equal(t, []string{"log host 198.51.100.15"}, w.sentTo(fresh.Name, night.ToSend))
		assert.Equal(t, []string{night.StepNot}, w.marks(old.Name, 2))
		assert.Equal(t, []string{night.StepNot}, w.marks(fresh.Name, 1))
		assert.True(t, old.Predicted)
	})
}

// A command that takes its time is waited for, and the timer outlasts it; one that asks first
// is answered.
func TestACommandThatTakesItsTime(t *testing.T) {
	edit := edits("    | recount ports\n  answers   \"Counted anew*\"\n", "    | renew links\n  asked     \"Renew all links*\" say \"yes\"\n  answers   \"Renewing*\"\n",
		"takes     at most 20s", "takes     at most 6m", "  expect    all(counts, .frames < 50000) within 10s\n", "")
	synctest.Test(t, func(t *testing.T) {
		w := deedsNight(t, edit, sim.Spec{Faults: []sim.Fault{{Kind: sim.Slow, Match: "^renew", By: 5 * time.Minute}}})
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.runQuiet()
		w.checkLaws()
		d := w.night.Devices[0]
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Equal(t, 1, w.did(d.Name))
	})
}

// drawDeeds draws a runbook of steps of all kinds, in any order.
func (g *generator) drawDeeds() string {
	const look = "  look\n    | tell counts\n"
	do := func() string {
		s := "  do\n    | recount ports\n"
		if g.chance(0.3) {
			s += "    | renew links\n  asked     \"Renew all links*\" say \"yes\"\n"
		}
		if g.chance(0.5) {
			s += "  answers not \"Fault*\"\n"
		}
		if g.chance(0.3) {
			s += "  repeatable\n"
		}
		if g.chance(0.6) {
			s += "  expect    all(counts, .frames < 50000) within 10s\n"
		}
		return s
	}
	want := func() string {
		return "  want\n    | log host 198.51.100." + fmt.Sprint(14+g.rng.IntN(3)) + "\n"
	}
	kinds := []func() string{
		want, want, do, do,
		func() string { return look },
		func() string { return fmt.Sprintf("  wait      %ds\n", 1+g.rng.IntN(400)) },
		func() string {
			return pick(g, []string{"  wait      until len(neighbours) >= 0 within 30s\n", "  wait      until clock.settled within 30s\n"})
		},
		func() string { return "  by hand\n  tell      \"Open one turnstile.\"\n" },
	}
	b := fmt.Sprintf("runbook \"Deeds\"\n  window    now for %dm\n  reserve   10m\n\nscope\n  role == \"quay\"\n\nbatches\n  sizes     %s\n  stop      never\n\ntimer       %dm\n",
		30+g.rng.IntN(200), pick(g, []string{"1, 100%", "100%", "2"}), 1+g.rng.IntN(6))
	changed := ""
	for i := range 2 + g.rng.IntN(6) {
		body, head := pick(g, kinds)(), fmt.Sprintf("\nstep \"%d\"", i+1)
		if rest, hand := strings.CutPrefix(body, "  by hand\n"); hand {
			head, body = head+" by hand", rest
		} else if changed != "" && strings.HasPrefix(body, "  do") && g.chance(0.4) {
			body = "  follows   \"" + changed + "\"\n" + body
		}
		if strings.HasPrefix(body, "  want") {
			changed = fmt.Sprint(i + 1)
		}
		b += head + "\n" + body
	}
	return b + "\nunattended  " + pick(g, []string{"take back the device", "skip the step", "try again once, then take back the device"}) + "\n"
}

// TestNightsOfDeeds draws nights of steps of all kinds, with faults in each of them, people who
// choose anything, and plugs that are pulled: the laws hold.
func TestNightsOfDeeds(t *testing.T) {
	eachOf(t, *count/2, func(t *testing.T, seed uint64, dir string) {
		g := &generator{rng: rand.New(rand.NewPCG(seed, 25))}
		specs := make([]sim.Spec, 1+g.rng.IntN(3))
		for i := range specs {
			if !g.chance(0.7) {
				continue
			}
			for range 1 + g.rng.IntN(2) {
				f := sim.Fault{Kind: pick(g, []string{sim.Drops, sim.DropsAfter, sim.Hangs, sim.Balks, sim.Restarts, sim.Ignores, sim.Slow, sim.Garbage}),
					Match: pick(g, []string{"^recount", "^renew", "^tell counts", "^log host", "^tell restart"}), Times: 1 + g.rng.IntN(2), After: g.rng.IntN(2)}
				if f.Kind == sim.Slow {
					f.By = time.Duration(g.rng.IntN(60)) * time.Second
				}
				specs[i].Faults = append(specs[i].Faults, f)
			}
		}
		book := g.drawDeeds()
		w := simpleIn(t, dir, specs, func(string) string { return book })
		defer w.sim.Close()
		w.mark, w.loose = "", true
		w.runWith(g)
		w.checkLaws()
		if t.Failed() {
			t.Logf("seed %d\n%s\n%+v\n%s", seed, book, specs, w.story())
		}
	})
}
