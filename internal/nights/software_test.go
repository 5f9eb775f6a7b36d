package nights

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
	"metabasis/internal/sim"
)

// softwareBook is a night in which devices are given other software, and nothing else.
const softwareBook = `runbook "New software"
  window    now for 3h
  reserve   10m

scope
  role == "quay"

record      neighbours

timer       4m

step "New software"
  software  "5.0"
  back      within 6m

finish
  compare   neighbours: no loss within 1m

unattended  take back the device
`

// stock is the software that there is for the quays: 5.0 is reached over 4.8 only. Each image adds those lines
// by itself.
func stock(adds map[string]string) (c software.Catalogue, files map[string][]byte) {
	c, files = software.Catalogue{}, map[string][]byte{}
	for _, platform := range []string{"tern", "osier"} {
		for _, i := range []software.Image{{Version: "4.8", From: []string{"4.2", "4.8*"}}, {Version: "5.0", From: []string{"4.8"}}, {Version: "5.1", Never: "it loses its ports"}} {
			i.File = fmt.Sprintf("%s-%s.img", platform, i.Version)
			data := sim.Image(platform, i.Version, 1<<20, strings.Fields(adds[platform+" "+i.Version])...)
			if add := adds[platform+" "+i.Version]; add != "" {
				data = sim.Image(platform, i.Version, 1<<20, add)
			}
			sum := sha256.Sum256(data)
			i.SHA256, i.Size = hex.EncodeToString(sum[:]), int64(len(data))
			c[platform], files[i.File] = append(c[platform], i), data
		}
	}
	return c, files
}

// softwareNight is a night of that runbook, in which the images are on every device already.
func softwareNight(t *testing.T, edit func(string) string, adds map[string]string, specs ...sim.Spec) *world {
	t.Helper()
	return softwareNightIn(t, t.TempDir(), edit, adds, specs...)
}

// softwareNightIn is softwareNight in a directory that was made outside of a bubble.
func softwareNightIn(t *testing.T, dir string, edit func(string) string, adds map[string]string, specs ...sim.Spec) *world {
	t.Helper()
	c, files := stock(adds)
	w := simpleOf(t, shipped(t).Stocked(c), dir, specs, nil, func(string) string { return edit(softwareBook) })
	w.mark, w.loose = "", true
	for _, d := range w.sim.Devices() {
		for name, data := range files {
			d.Store("/"+name, data)
		}
	}
	return w
}

// whats is what a device went through of some kinds of things, in order.
func (w *world) whats(device string, kinds ...sim.What) (out []string) {
	for _, tr := range w.sim.Device(device).Truth() {
		if slices.Contains(kinds, tr.What) {
			out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s", tr.What, tr.Line)))
		}
	}
	return out
}

// A device is brought to what is wanted over what leads there, each with a restart; what it starts with next
// is set before, and what is on trial is kept once it is proven.
func TestADeviceIsGivenOtherSoftware(t *testing.T) {
	for platform, want := range map[string][]string{
		"tern":  {"installed 4.8", "next 4.8", "told restart", "started 4.8", "kept 4.8", "installed 5.0", "next 5.0", "told restart", "started 5.0", "kept 5.0"},
		"osier": {"installed 4.8", "next 4.8", "told restart", "started 4.8", "installed 5.0", "next 5.0", "told restart", "started 5.0"},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := softwareNight(t, same, nil, sim.Spec{Platform: platform}, sim.Spec{Platform: platform, Version: "4.8"}, sim.Spec{Platform: platform, Version: "5.0"})
			defer w.sim.Close()
			w.runQuiet()
			w.checkLaws()
			kinds := []sim.What{sim.Installed, sim.NextSet, sim.Told, sim.Started, sim.KeptImage, sim.FellBack}
			first, second, third := w.night.Devices[0], w.night.Devices[1], w.night.Devices[2]
			assert.Equal(t, night.Kept, first.State, first.Note)
			assert.Contains(t, first.Note, "runs 5.0, before 4.2")
			assert.Equal(t, want, w.whats(first.Name, kinds...), platform)
			assert.Equal(t, night.Kept, second.State, second.Note)
			assert.Equal(t, want[len(want)/2:], w.whats(second.Name, kinds...), "one hop is left")
			assert.Equal(t, night.Already, third.State, third.Note)
			assert.Empty(t, w.whats(third.Name, kinds...))
			for _, d := range w.night.Devices {
				assert.Equal(t, "5.0", w.sim.Device(d.Name).Runs())
				assert.Equal(t, "5.0", w.sim.Device(d.Name).StartsWith())
			}
			assert.Contains(t, w.states(first.Name), night.Absent)
			assert.NotContains(t, w.states(first.Name), night.Dark)
			time.Sleep(20 * time.Minute)
			assert.Equal(t, "5.0", w.sim.Device(first.Name).Runs(), "it stays")
			require.NotEmpty(t, first.Deeds)
		})
	}
}

// lawSoftware is law 20: nothing is installed whose checksum was not told right before; what a device starts
// with next is read right before each restart, and is what the night wants; and what is said of its end is so.
func (w *world) lawSoftware(t *plan.Target, d *night.Device, truth []sim.Truth) {
	i, does := t.Upgrades()
	if !does {
		return
	}
	dev, was := w.sim.Device(d.Name), cmp.Or(w.specs[d.Name].Version, "4.2")
	weighed, listed := false, ""
	for _, tr := range truth {
		switch tr.What {
		case sim.Weighed:
			weighed = true
		case sim.Installed:
			assert.True(w.t, weighed, "law 20: %s installed %s unweighed", d.Name, tr.Line)
			weighed = false
		case sim.NextSet, sim.Restarted:
			listed = ""
		case sim.Listed:
			listed = tr.Line
		case sim.Told:
			assert.NotEmpty(w.t, listed, "law 20: %s was told to restart, and nobody had read what it starts with", d.Name)
		}
	}
	did, intended := 0, 0
	for _, tr := range truth {
		if slices.Contains([]sim.What{sim.Installed, sim.NextSet, sim.KeptImage, sim.Told}, tr.What) && !tr.At.Before(w.started) {
			did++
			intended = 0
			for _, e := range w.journal.Events {
				intended += asOne(e.Kind == night.Intent && e.Device == d.Name && e.What == night.ToExchange && !e.At.After(tr.At))
			}
			assert.GreaterOrEqual(w.t, intended, did, "law 11: %s: %s %s was not intended", d.Name, tr.What, tr.Line)
		}
	}
	for command, what := range map[string]sim.What{"take image": sim.Installed, "image add": sim.Installed, "restart": sim.Restarted} {
		said := 0
		for _, g := range d.Deeds {
			said += asOne(g.OK && strings.HasPrefix(g.Command, command))
		}
		assert.LessOrEqual(w.t, said, w.count(d.Name, what), "%s: more is called done of %q than was", d.Name, command)
	}
	wanted := t.Steps[i].Upgrade.Wanted
	switch d.State {
	case night.Kept:
		if d.LeftSteps() == 0 {
			assert.Equal(w.t, wanted, dev.Runs(), "%s is kept: %s", d.Name, d.Note)
			assert.Equal(w.t, wanted, dev.StartsWith(), "%s is kept: %s", d.Name, d.Note)
		}
	case night.Already:
		assert.Equal(w.t, wanted, dev.Runs(), "%s is as intended: %s", d.Name, d.Note)
	case night.Reverted, night.Blocked, night.Skipped:
		assert.Equal(w.t, was, dev.Runs(), "%s is %s: %s", d.Name, d.State, d.Note)
		assert.Equal(w.t, was, dev.StartsWith(), "%s is %s: %s", d.Name, d.State, d.Note)
	}
}

// What goes wrong with new software is held, with why, and taken back to what the device ran before; or it is
// blocked before anything is done.
func TestSoftwareThatGoesWrong(t *testing.T) {
	for name, c := range map[string]struct {
		platform string
		faults   []sim.Fault
		adds     map[string]string
		edit     func(w *world)
		state    night.State
		restarts int
		why      string // of the first hold; "" for none
		note     string
	}{
		"the image is not on it": {edit: func(w *world) { w.remove("/tern-4.8.img") }, state: night.Blocked,
			note: "image: /tern-4.8.img is not on it .*metabasis carry tern-4.8.img to ald-quay-1"},
		"the image is another": {edit: func(w *world) { w.sim.Device("ald-quay-1").Store("/tern-5.0.img", sim.Image("tern", "5.0", 99)) }, state: night.Blocked,
			note: "image: /tern-5.0.img is another file than that of version 5.0"},
		"no room":                        {faults: []sim.Fault{{Kind: sim.NoRoom}}, state: night.Reverted, why: `"take image /tern-4.8.img" was refused`},
		"says installed and is not":      {faults: []sim.Fault{{Kind: sim.Ignores, Match: "^take image"}}, state: night.Reverted, why: "it was told to install 4.8, and does not have it"},
		"says next and means no":         {faults: []sim.Fault{{Kind: sim.Ignores, Match: "^next image"}}, state: night.Reverted, why: "it was told to start with 4.8 next, and says 4.2"},
		"starts the old one":             {faults: []sim.Fault{{Kind: sim.BootsOld}}, state: night.Reverted, restarts: 1, why: "it was to start with 4.8, and runs 4.2"},
		"starts the old one, osier":      {platform: "osier", faults: []sim.Fault{{Kind: sim.BootsOld}}, state: night.Reverted, restarts: 1, why: "it was to start with 4.8, and runs 4.2"},
		"cannot start the new one":       {faults: []sim.Fault{{Kind: sim.Rescue, Times: 1}}, state: night.Reverted, restarts: 2, why: "it was to start with 4.8, and runs none of what is installed"},
		"does not come back":             {faults: []sim.Fault{{Kind: sim.NeverBack}}, state: night.Stranded, restarts: 1, note: "not back by .*its software: runs 4.2, starts 4.8 next"},
		"comes back late":                {faults: []sim.Fault{{Kind: sim.SlowBoot, By: 4 * time.Minute}}, state: night.Kept, restarts: 2},
		"comes back without its lines":   {faults: []sim.Fault{{Kind: sim.Bare, Times: 1}}, state: night.Reverted, restarts: 2, why: "has changed the configuration by itself"},
		"rewrites what it may not":       {adds: map[string]string{"tern 5.0": "log host 198.51.100.77"}, state: night.Reverted, restarts: 3, why: "has changed the configuration by itself"},
		"refuses to be kept":             {faults: []sim.Fault{{Kind: sim.Balks, Match: "^keep image"}}, state: night.Reverted, restarts: 2, why: `"keep image" was refused`},
		"says kept and is not":           {faults: []sim.Fault{{Kind: sim.Ignores, Match: "^keep image"}}, state: night.Reverted, restarts: 2, why: "it was told to keep 4.8, and did not"},
		"ignores the restart":            {faults: []sim.Fault{{Kind: sim.Ignores, Match: "^restart$"}}, state: night.Reverted, why: "it was told to restart, and did not"},
		"refuses the restart":            {faults: []sim.Fault{{Kind: sim.Balks, Match: "^restart$"}}, state: night.Reverted, why: "the restart was refused"},
		"contact is lost as it installs": {faults: []sim.Fault{{Kind: sim.DropsAfter, Match: "^take image", Times: 1}}, state: night.Reverted, why: "contact was lost and is back"},
		"restarts by itself":             {faults: []sim.Fault{{Kind: sim.Restarts, Match: "^next image", Times: 1}}, state: night.Reverted, restarts: 1, why: "contact was lost and is back"},
		"something else is next":         {edit: func(w *world) { w.sim.Device("ald-quay-1").SetNextForTest("4.1") }, state: night.Blocked, note: "it runs 4.2 and would start with 4.1"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := softwareNight(t, same, c.adds, sim.Spec{Platform: cmp.Or(c.platform, "tern"), Faults: c.faults})
				defer w.sim.Close()
				if c.edit != nil {
					c.edit(w)
				}
				w.runQuiet()
				if c.note == "" || c.state != night.Blocked {
					w.checkLaws()
				}
				d := w.night.Devices[0]
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Equal(t, c.restarts, w.count(d.Name, sim.Restarted))
				assert.Regexp(t, c.note, d.Note)
				holds := w.holdsOf(d.Name)
				if c.why == "" {
					assert.Empty(t, holds)
				} else if assert.NotEmpty(t, holds) {
					assert.Contains(t, holds[0], c.why)
				}
			})
		})
	}
}

// remove takes a file off every device.
func (w *world) remove(file string) {
	for _, d := range w.sim.Devices() {
		d.Remove(file)
	}
}

// A night that is cut off at any event of an exchange is gone on with, or taken back, and what is said of the
// device then is so.
func TestSoftwareThatIsCutOff(t *testing.T) {
	for _, platform := range []string{"tern", "osier"} {
		total := 0
		synctest.Test(t, func(t *testing.T) {
			w := softwareNight(t, same, nil, sim.Spec{Platform: platform})
			defer w.sim.Close()
			w.runQuiet()
			total = len(w.seen)
		})
		require.Greater(t, total, 30)
		for at := 1 + int(*firstSeed%3); at < total; at += 3 { // another third with another seed
			for _, back := range []bool{false, true} {
				t.Run(fmt.Sprintf("%s, event %d, back %t", platform, at, back), func(t *testing.T) {
					synctest.Test(t, func(t *testing.T) {
						w := softwareNight(t, same, nil, sim.Spec{Platform: platform})
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
						w.lawsOfSoftware()
						d := w.night.Devices[0]
						assert.Equal(t, w.initial[d.Name], w.sim.Device(d.Name).Running(), d.Note)
						if back && then.Devices[0].Begun() {
							assert.Equal(t, night.Reverted, d.State, d.Note)
							return
						}
						if at := then.Devices[0].Intent; at.What == night.ToExchange && at.Command == "restart" && d.State == night.Stranded {
							assert.Contains(t, d.Note, "on that can be told", "it may yet restart")
							return
						}
						assert.Contains(t, []night.State{night.Kept, night.Already}, d.State, "%s %s", d.Note, w.holdsOf(d.Name))
						assert.Equal(t, "5.0", w.sim.Device(d.Name).Runs())
					})
				})
			}
		}
	}
}

// What new software may change by itself is that in the night, too, which goes on with one that was cut off behind
// it, wherever that was; taken back, nothing of it is left.
func TestWhatNewSoftwareMayChangeIsNoStrangers(t *testing.T) {
	setup := func(t *testing.T) *world {
		return softwareNight(t, func(b string) string {
			b = strings.Replace(b, "  back ", "  may change \"log host *\"\n  back ", 1)
			return strings.Replace(b, "finish\n", "step \"Log collector\"\n  want\n    | log host 198.51.100.14\n\nfinish\n", 1)
		}, map[string]string{"tern 4.8": "log host 198.51.100.76", "tern 5.0": "log host 198.51.100.77"}, sim.Spec{})
	}
	total := 0
	synctest.Test(t, func(t *testing.T) {
		w := setup(t)
		defer w.sim.Close()
		w.runQuiet()
		total = len(w.seen)
		assert.Contains(t, w.night.Devices[0].Note, "1 line changed by the new software", w.holdsOf("ald-quay-1"))
	})
	for at := total / 3; at < total; at++ {
		for _, back := range []bool{false, true} {
			t.Run(fmt.Sprintf("event %d, back %t", at, back), func(t *testing.T) {
				synctest.Test(t, func(t *testing.T) {
					w := setup(t)
					defer w.sim.Close()
					n := 0
					journal := w.cut(func(night.Event) bool { n++; return n == at })
					then := night.Fold(night.Night{}, journal...)
					if then.Devices[0].Over {
						return
					}
					time.Sleep(time.Second)
					w.goOn(journal, back)
					w.runQuiet()
					w.lawsOfSoftware()
					d, dev := w.night.Devices[0], w.sim.Device("ald-quay-1")
					if in := then.Devices[0].Intent; in.What == night.ToExchange && in.Command == "restart" && d.State == night.Stranded {
						assert.Contains(t, d.Note, "on that can be told", "it may yet restart")
						return
					}
					if back {
						assert.Equal(t, night.Reverted, d.State, d.Note)
						assert.Equal(t, w.initial[d.Name], dev.Running())
						assert.Equal(t, w.initial[d.Name], dev.Saved())
						return
					}
					assert.Equal(t, night.Kept, d.State, "%s %s", d.Note, w.holdsOf(d.Name))
					assert.Equal(t, "5.0 5.0", dev.Runs()+" "+dev.StartsWith())
					assert.Contains(t, dev.Running(), "log host 198.51.100.77")
					assert.NotContains(t, dev.Running(), "log host 198.51.100.76", "the next restart brought back what was saved")
					assert.Contains(t, dev.Running(), "log host 198.51.100.14")
					assert.Equal(t, dev.Running(), dev.Saved())
					assert.Contains(t, d.Note, "1 line changed by the new software")
				})
			})
		}
	}
}

// lawsOfSoftware holds law 20 for every device.
func (w *world) lawsOfSoftware() {
	for _, t := range w.plan.Targets() {
		w.lawSoftware(t, w.night.Get(t.Device.Name), w.sim.Device(t.Device.Name).Truth())
	}
}

// Nights of other software are drawn: platforms, what they run, pairs, what images change by themselves, faults,
// what is changed behind them, and the event at which the night is cut off, to be gone on with or taken back.
func TestDrawnSoftware(t *testing.T) {
	var met tally
	t.Run("nights", func(t *testing.T) {
		eachOf(t, (*count+1)/2, func(t *testing.T, seed uint64, dir string) {
			g := &generator{rng: rand.New(rand.NewPCG(seed, 28))}
			var specs []sim.Spec
			pair := g.chance(0.4)
			n := 1 + g.rng.IntN(3)
			pair = pair && n > 1
			for i := range n {
				spec := sim.Spec{Platform: pick(g, []string{"tern", "osier"}), Version: pick(g, []string{"4.2", "4.2", "4.8", "5.0"})}
				if pair && i < 2 {
					spec.Pair = "ald-gates"
				}
				for g.chance(0.4) {
					spec.Faults = append(spec.Faults, g.softwareFault())
				}
				specs = append(specs, spec)
			}
			// Nothing goes wrong by itself: no faults, and no pair of two platforms, of which one cannot hand over to the other.
			fair := !slices.ContainsFunc(specs, func(s sim.Spec) bool { return len(s.Faults) > 0 }) && (!pair || specs[0].Platform == specs[1].Platform)
			calm := fair
			adds := map[string]string{}
			if g.chance(0.3) {
				calm = false
				adds["tern 5.0"], adds["osier 4.8"] = "log host 198.51.100.77", "member porter word lantern"
			}
			w := softwareNightIn(t, dir, func(b string) string {
				if g.chance(0.5) {
					calm = fair
					b = strings.Replace(b, "  back ", "  may change \"log host *\", \"member *\"\n  back ", 1)
				}
				if g.chance(0.4) {
					b = strings.Replace(b, "finish\n", "step \"Log collector\"\n  on tern\n    want\n      | log host 198.51.100.14\n"+
						"  on osier\n    want\n      | report\n      |   to 198.51.100.14\n\nfinish\n", 1)
				}
				return b
			}, adds, specs...)
			defer w.sim.Close()
			if g.chance(0.2) {
				calm = false
				w.sim.Devices()[0].Store(fmt.Sprintf("/%s-5.0.img", w.sim.Devices()[0].Platform()), sim.Image("tern", "5.0", 10+g.rng.IntN(99)))
			}
			over := map[string]bool{} // by the first night, which a night that is gone on with leaves out
			if g.chance(0.5) {
				at, n := 5+g.rng.IntN(160), 0
				journal := w.cut(func(night.Event) bool { n++; return n == at })
				for then, i := night.Fold(night.Night{}, journal...), 0; i < len(then.Devices); i++ {
					over[then.Devices[i].Name] = then.Devices[i].Over
				}
				time.Sleep(time.Duration(1+g.rng.IntN(900)) * time.Second) // a night begins behind what the one before did
				back := g.chance(0.5)
				calm = calm && !back
				w.goOn(journal, back)
				w.runQuiet()
				w.endsInTruth()
			} else {
				w.runQuiet()
				w.checkLaws()
			}
			met.add(w)
			for _, target := range w.plan.Targets() {
				d, dev := w.night.Get(target.Device.Name), w.sim.Device(target.Device.Name)
				if over[d.Name] {
					continue
				}
				w.lawSoftware(target, d, dev.Truth())
				if calm && !strings.Contains(d.Note, "on that can be told") && !strings.Contains(d.Note, "stand in its candidate") { // both say what to do
					assert.Contains(t, []night.State{night.Kept, night.Already}, d.State, "%s: nothing went wrong: %s %s", d.Name, d.Note, w.holdsOf(d.Name))
				}
				if d.State == night.Reverted {
					assert.Equal(t, w.initial[d.Name], dev.Running(), "%s: %s", d.Name, d.Note)
				}
				if d.State == night.Kept {
					assert.Equal(t, dev.Running(), dev.Saved(), "%s: %s", d.Name, d.Note)
				}
			}
			if pair {
				w.neverBothAway("ald-quay-1", "ald-quay-2")
				w.neverAtWork("ald-quay-1", "ald-quay-2")
			}
		})
	})
	for _, s := range []night.State{night.Kept, night.Reverted, night.Stranded, night.Blocked} {
		assert.True(t, *count < 50 || met.of[string(s)] > 0, "no night ended with a device %s: %v", s, met.of)
	}
}

// neverBothAway holds that none of a pair was told to restart while the other was away.
func (w *world) neverBothAway(a, b string) {
	for _, one := range [][2]string{{a, b}, {b, a}} {
		for _, told := range w.sim.Device(one[0]).Truth() {
			if told.What != sim.Told {
				continue
			}
			up := true
			for _, tr := range w.sim.Device(one[1]).Truth() {
				if tr.At.After(told.At) {
					break
				}
				if tr.What == sim.Restarted {
					up = false
				}
				up = up || tr.What == sim.Up
			}
			assert.True(w.t, up, "%s was told to restart at %s while %s was away", one[0], told.At, one[1])
		}
	}
}

// neverAtWork holds that no osier of a pair was told to restart while it did the work of both, but where one
// took that by itself.
func (w *world) neverAtWork(names ...string) {
	for _, n := range names {
		for _, f := range w.specs[n].Faults {
			if f.Kind == sim.Restarts || f.Kind == sim.TakesBack {
				return
			}
		}
	}
	for _, n := range names {
		if w.specs[n].Platform == "osier" && w.specs[names[0]].Platform == w.specs[names[1]].Platform {
			assert.Zero(w.t, w.count(n, sim.AtWork), "%s was restarted at work", n)
		}
	}
}

// Of a pair the one that does the work hands it over before it is restarted, and both of them say so; one that
// cannot is held, and not restarted.
func TestAPairHandsOver(t *testing.T) {
	for name, c := range map[string]struct {
		first, second []sim.Fault
		why           string
		restarts      [2]int
	}{
		"well":                       {restarts: [2]int{2, 2}},
		"the other does not take it": {second: []sim.Fault{{Kind: sim.StaysStandby}}, why: "its pair was to be handed over to ald-quay-2, which was refused"},
		"says yes and means no":      {first: []sim.Fault{{Kind: sim.Ignores, Match: "^hand over"}}, why: "it still does the work of both"},
		"takes it back by itself":    {first: []sim.Fault{{Kind: sim.TakesBack}}, restarts: [2]int{2, 2}},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := softwareNight(t, same, nil, sim.Spec{Platform: "osier", Pair: "ald-gates", Faults: c.first},
					sim.Spec{Platform: "osier", Pair: "ald-gates", Faults: c.second})
				defer w.sim.Close()
				require.True(t, w.sim.Active("ald-quay-1"))
				w.runQuiet()
				w.checkLaws()
				w.neverBothAway("ald-quay-1", "ald-quay-2")
				for i, n := range []string{"ald-quay-1", "ald-quay-2"} {
					assert.Equal(t, c.restarts[i], w.count(n, sim.Told), n)
					assert.Zero(t, w.count(n, sim.AtWork), "%s was restarted at work", n)
					if c.why == "" {
						assert.Equal(t, "5.0", w.sim.Device(n).Runs(), w.night.Get(n).Note)
					}
				}
				assert.Empty(t, w.sim.Outages("ald-gates"))
				if c.why != "" { // and the other is left as it is, since its partner was taken back
					require.NotEmpty(t, w.holdsOf("ald-quay-1"))
					assert.Contains(t, w.holdsOf("ald-quay-1")[0], c.why)
					assert.Equal(t, night.Reverted, w.night.Get("ald-quay-1").State)
				}
			})
		})
	}
}

// softwareFault is something that may go wrong with other software.
func (g *generator) softwareFault() sim.Fault {
	f := sim.Fault{Kind: pick(g, []string{sim.SlowBoot, sim.Ignores, sim.Balks, sim.NeverBack, sim.Spoils, sim.Drops, sim.Hangs, sim.Restarts, sim.DropsAfter, sim.Slow,
		sim.NoRoom, sim.BootsOld, sim.Rescue, sim.Bare}),
		Match: pick(g, []string{"^restart$", "uptime$", "images$", "image "}), Times: g.rng.IntN(3), After: g.rng.IntN(2)}
	switch f.Kind {
	case sim.SlowBoot:
		f.By, f.Match = time.Duration(g.rng.IntN(600))*time.Second, ""
	case sim.NoRoom, sim.BootsOld, sim.Rescue, sim.Bare, sim.Spoils, sim.NeverBack:
		f.Match = ""
	case sim.Ignores:
		f.Match = pick(g, []string{"^restart$", "image "})
	case sim.Slow:
		f.By, f.Match = time.Duration(g.rng.IntN(9))*time.Second, ""
	}
	return f
}

// A device is taken back to software that goes on trial again, which is kept then; and one that has no room for
// what its way needs is not begun with.
func TestTheOldSoftwareIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		to48 := func(b string) string { return strings.Replace(b, `software  "5.0"`, `software  "4.8"`, 1) }
		w := softwareNight(t, to48, map[string]string{"tern 5.0": "log host 198.51.100.77"}, sim.Spec{})
		defer w.sim.Close()
		w.runQuiet()
		require.Equal(t, night.Kept, w.night.Devices[0].State)
		w.next(softwareBook)
		w.runQuiet()
		d, dev := w.night.Devices[0], w.sim.Device("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, []string{"kept 4.8", "kept 4.8"}, w.whats(d.Name, sim.KeptImage))
		time.Sleep(time.Hour)
		assert.Equal(t, "4.8", dev.Runs())
		assert.Equal(t, "4.8", dev.StartsWith())
	})
	synctest.Test(t, func(t *testing.T) {
		w := softwareNight(t, same, nil, sim.Spec{FreeMB: 5})
		defer w.sim.Close()
		w.runQuiet()
		d := w.night.Devices[0]
		assert.Equal(t, night.Blocked, d.State)
		assert.Regexp(t, `space: \d MB free, at least 2 MB is wanted`, d.Note)
		assert.Empty(t, w.whats(d.Name, sim.Installed, sim.NextSet))
	})
}

// next plans another night over the same devices.
func (w *world) next(book string) {
	w.t.Helper()
	csv := "name,address,platform,site,role,login\n"
	for _, t := range w.plan.Targets() {
		d := t.Device
		csv += fmt.Sprintf("%s,%s,%s,%s,%s,%s\n", d.Name, d.Address, d.Platform, d.Site, d.Role, d.Login)
	}
	f, err := fleet.Read("fleet.csv", []byte(csv), w.profiles.Platforms())
	require.NoError(w.t, err)
	rb, err := runbook.Parse("next.runbook", []byte(book))
	require.NoError(w.t, err)
	require.NoError(w.t, rb.Compile(w.profiles.Schema(f)))
	w.plan, err = plan.Make(rb, f, nil, w.profiles.Traits(), time.Now())
	require.NoError(w.t, err)
	w.night, w.journal = night.Night{}, &recordingJournal{}
}

// A person keeps what new software has changed by itself: it goes on over the next version, with what is changed
// behind it computed from that. What a version on the way had changed is gone with the next, since a restart brings
// back what is saved: nothing is said of it then. And taken back, all of it is as it was.
func TestWhatNewSoftwareChangedIsKept(t *testing.T) {
	for _, c := range []struct {
		changes string
		back    bool
	}{{"4.8", false}, {"5.0", false}, {"5.0", true}} {
		synctest.Test(t, func(t *testing.T) {
			back := c.back
			w := softwareNight(t, func(b string) string {
				return strings.Replace(b, "finish\n", "step \"Log collector\"\n  want\n    | log host 198.51.100.14\n\nfinish\n", 1)
			}, map[string]string{"tern " + c.changes: "log host 198.51.100.77"}, sim.Spec{})
			defer w.sim.Close()
			asked := 0
			w.run(t.Context(), func(r *run.Run, e night.Event) {
				switch {
				case e.Kind == night.HoldOpened && asked == 0:
					asked++
					assert.Contains(t, e.Note, "has changed the configuration by itself")
					assert.Contains(t, strings.Join(e.Lines, "\n"), "there, and not predicted: log host 198.51.100.77")
					assert.Contains(t, strings.Join(e.Lines, "\n"), "it goes back by itself at some")
					for _, o := range e.Offers {
						assert.NotEqual(t, night.SkipStep, o.Choice, "other software is never passed over")
					}
					assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.Accept, By: "ada", Reason: "it is known"}))
				case e.Kind == night.HoldOpened:
					assert.NoError(t, r.Do(t.Context(), night.Command{Hold: e.Hold, Choice: night.BackDevice, By: "ada"}))
				case back && e.Kind == night.Intent && e.What == night.ToSend: // it may come too late, which is seen below
					_ = r.Do(t.Context(), night.Command{Choice: night.BackDevice, Device: e.Device, By: "ada"})
				}
			})
			d, dev := w.night.Devices[0], w.sim.Device("ald-quay-1")
			if back {
				if d.State == night.Kept { // the word came too late
					return
				}
				assert.Equal(t, night.Reverted, d.State, d.Note)
				assert.Equal(t, "4.2 4.2", dev.Runs()+" "+dev.StartsWith())
				assert.Equal(t, w.initial[d.Name], dev.Running())
				assert.Equal(t, w.initial[d.Name], dev.Saved())
				return
			}
			assert.Equal(t, night.Kept, d.State, d.Note)
			assert.Equal(t, "5.0 5.0", dev.Runs()+" "+dev.StartsWith())
			assert.Equal(t, c.changes == "5.0", strings.Contains(d.Note, "not as predicted"), d.Note)
			assert.Equal(t, c.changes == "5.0", strings.Contains(dev.Running(), "log host 198.51.100.77"))
			assert.Contains(t, dev.Running(), "log host 198.51.100.14")
			assert.Equal(t, dev.Running(), dev.Saved())
			assert.Equal(t, 1, asked)
		})
	}
}

// Software that is on trial goes back by itself while a person thinks: that is seen when it is looked at again, and
// nothing is done by itself.
func TestSoftwareGoesBackWhileItIsHeld(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := softwareNight(t, same, map[string]string{"tern 4.8": "log host 198.51.100.77"}, sim.Spec{})
		defer w.sim.Close()
		asked := 0
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind != night.HoldOpened {
				return
			}
			asked++
			c := night.Command{Hold: e.Hold, Choice: night.TryAgain, By: "ada"}
			if asked > 1 {
				c.Choice = night.BackDevice
			}
			go func() {
				if asked == 1 {
					time.Sleep(12 * time.Minute)
				}
				assert.NoError(t, r.Do(context.Background(), c))
			}()
		})
		d, dev := w.night.Devices[0], w.sim.Device("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, "4.2 4.2", dev.Runs()+" "+dev.StartsWith())
		assert.Equal(t, w.initial[d.Name], dev.Running())
		assert.GreaterOrEqual(t, asked, 1)
	})
}

// What did not do what it should is looked at again, which sends nothing, or done once more, for a reason.
func TestAMoveThatIsDecidedOn(t *testing.T) {
	for name, fault := range map[string]sim.Fault{
		"installed":  {Kind: sim.Ignores, Match: "^take image", Times: 1},
		"set next":   {Kind: sim.Ignores, Match: "^next image", Times: 1},
		"started":    {Kind: sim.BootsOld, Times: 1},
		"kept":       {Kind: sim.Ignores, Match: "^keep image", Times: 1},
		"restarted":  {Kind: sim.Ignores, Match: "^restart$", Times: 1},
		"in contact": {Kind: sim.DropsAfter, Match: "^take image", Times: 1},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := softwareNight(t, same, nil, sim.Spec{Faults: []sim.Fault{fault}})
				defer w.sim.Close()
				asked, sent := 0, 0
				w.run(t.Context(), func(r *run.Run, e night.Event) {
					if e.Kind != night.HoldOpened {
						return
					}
					asked++
					now := 0
					for _, one := range w.seen {
						now += asOne(one.Kind == night.Intent && one.What == night.ToExchange)
					}
					c := night.Command{Hold: e.Hold, Choice: night.TryAgain, By: "ada"}
					if asked == 2 && name != "in contact" {
						assert.Equal(t, sent, now, "a look sends nothing")
						c.Choice, c.Reason = night.DoAgain, "it did not"
					}
					sent = now
					assert.NoError(t, r.Do(t.Context(), c))
				})
				d, dev := w.night.Devices[0], w.sim.Device("ald-quay-1")
				assert.Equal(t, night.Kept, d.State, d.Note)
				assert.Equal(t, "5.0 5.0", dev.Runs()+" "+dev.StartsWith())
				assert.LessOrEqual(t, asked, 2)
				w.checkLaws()
			})
		})
	}
}
