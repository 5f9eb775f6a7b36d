package nights

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/config"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

const restoreBook = "step \"Back\"\n  restore   \"2026-11-20 03:00:00\"\n"

// asPrinted is what a device of a platform prints that has a configuration.
func asPrinted(t testing.TB, platform, device, text string) string {
	f, err := sim.New(sim.Scenario{Config: text, Devices: []sim.Spec{{Name: device, Address: "192.0.2.1", Platform: platform}}})
	require.NoError(t, err)
	defer f.Close()
	text = f.Device(device).Running()
	switch platform {
	case "osier":
		return sim.Braces(text)
	case "skerry":
		return sim.Paths(text)
	}
	return text
}

// wordless are profiles of which one platform has no language: nobody knows what lines do
// on it, and a backup is put back whole.
func wordless(t testing.TB, platform string) profile.Set {
	set := maps.Clone(shipped(t))
	p := *set[platform]
	p.Grammar = profile.Grammar{}
	set[platform] = &p
	return set
}

// restoring is a world in which devices of one platform get back what they had.
func restoring(t testing.TB, set profile.Set, dir, platform string, specs []sim.Spec, was map[string]runbook.Was) *world {
	for i := range specs {
		specs[i].Platform = platform
	}
	w := simplePast(t, set, dir, specs, nil, func(b string) string {
		b = book(restoreBook)(b)
		if set[platform].Traits().Timer == "none" {
			b = strings.Replace(b, "\ntimer       4m\n", "\ntimer none\n", 1)
		}
		return b
	}, func(_ runbook.Restore, device string) (runbook.Was, error) {
		if one, ok := was[device]; ok {
			return one, nil
		}
		return runbook.Was{}, &runbook.NoPast{Why: "no backup of it is as old as that"}
	})
	w.mark, w.loose = "", true
	w.noTimer = set[platform].Traits().Timer == "none"
	return w
}

// isAgain holds a device that is kept against what it was to get back: what runs on it and
// what is saved.
func (w *world) isAgain(d *night.Device, was string) {
	w.t.Helper()
	dev, style := w.sim.Device(d.Name), w.styleOf(d.Name)
	goal := config.Parse(was, style)
	for what, text := range map[string]string{"runs": dev.Running(), "is saved": dev.Saved()} {
		now := config.Parse(w.backupOf(d.Name, text), style)
		assert.Empty(w.t, config.Compare(goal, now).Lines(func(l []string) []string { return l }), "what %s on %s, %s", what, d.Name, d.State)
	}
}

// restorable are the ways in which platforms get back what they had.
func restorable(t testing.TB) map[string]struct {
	set      profile.Set
	platform string
	whole    bool
} {
	return map[string]struct {
		set      profile.Set
		platform string
		whole    bool
	}{
		"tern":                     {shipped(t), "tern", false},
		"tern without a language":  {wordless(t, "tern"), "tern", true},
		"osier":                    {shipped(t), "osier", false},
		"osier without a language": {wordless(t, "osier"), "osier", true},
		"osier, whole":             {wholes(t, shipped(t)), "osier", false},
		"osier, one apply":         {once(t), "osier", false},
		"skerry over NETCONF":      {shipped(t), "skerry", false},
		"skerry over RESTCONF":     {overREST(t), "skerry", true},
	}
}

// Whatever happened since: after a restore, what runs and what is saved equal the backup
// that was chosen, on every kind of platform. A second night has nothing to do.
func TestRestoreOnEveryPlatform(t *testing.T) {
	for name, c := range restorable(t) {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				was := map[string]runbook.Was{}
				var specs []sim.Spec
				g := &generator{rng: rand.New(rand.NewPCG(5, 0))}
				for i := range 4 {
					name := fmt.Sprintf("ald-quay-%d", i+1)
					text := asPrinted(t, c.platform, name, drawnTern(g))
					if i < 3 { // of the last there is no backup
						was[name] = runbook.Was{Name: "2026-11-20T015900Z.cfg", At: time.Now(), Text: text}
					}
					specs = append(specs, sim.Spec{Config: drawnTern(g), Once: strings.HasSuffix(name, "one apply")})
				}
				w := restoring(t, c.set, dir, c.platform, specs, was)
				defer w.sim.Close()
				assert.Equal(t, "ald-quay-4", w.plan.LeftOut[0].Device)
				assert.Contains(t, w.plan.LeftOut[0].Why, "no backup of it")
				w.runQuiet()
				if w.noTimer {
					w.everyNightEnds()
				} else {
					w.checkLaws()
				}
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
					assert.Contains(t, d.Note, "as predicted")
					assert.True(t, d.Predicted)
					w.isAgain(d, was[d.Name].Text)
					restored := w.intents(d.Name, night.ToRestore)
					assert.Equal(t, c.whole, len(restored) > 0, "%s: %v", d.Name, restored)
				}
				w.night = night.Night{}
				w.runQuiet()
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Already, d.State, "%s: %s", d.Name, d.Note)
				}
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}

// Restores are drawn, with faults: a device that is kept has what it was to get back, one
// that is taken back has what it had, and every law holds.
func TestDrawnRestores(t *testing.T) {
	var met tally
	kinds := restorable(t)
	names := []string{"tern", "tern without a language", "osier", "osier without a language", "osier, whole", "skerry over NETCONF"}
	t.Run("nights", func(t *testing.T) {
		eachOf(t, (*count+1)/2, func(t *testing.T, seed uint64, dir string) {
			g := &generator{rng: rand.New(rand.NewPCG(seed, 17))}
			c := kinds[names[seed%uint64(len(names))]]
			was := map[string]runbook.Was{}
			var specs []sim.Spec
			for i := range 1 + g.rng.IntN(3) {
				device := fmt.Sprintf("ald-quay-%d", i+1)
				spec := sim.Spec{Config: drawnTern(g)}
				text := asPrinted(t, c.platform, device, drawnTern(g))
				was[device] = runbook.Was{Name: "x.cfg", At: time.Now(), Text: text}
				if g.chance(0.4) {
					spec.Faults = append(spec.Faults, sim.Fault{Kind: pick(g, []string{sim.Rejects, sim.Drops, sim.DropsAfter, sim.Ignores, sim.Drifts, sim.HalfLoad, sim.Hangs, sim.Refusing, sim.QuietSave}),
						Times: g.rng.IntN(3), After: g.rng.IntN(3), Match: "^(time|log|lan|title|port|label|drop|shut|load|commit|set|delete|cut|source|carries|to) ?"})
				}
				specs = append(specs, spec)
			}
			w := restoring(t, maps.Clone(c.set), filepath.Join(dir, "w"), c.platform, specs, was)
			defer w.sim.Close()
			w.runQuiet()
			w.checkLaws()
			for _, d := range w.night.Devices {
				if d.State == night.Kept {
					w.isAgain(d, was[d.Name].Text)
				}
			}
			met.add(w)
			if t.Failed() {
				t.Log(w.story())
			}
		})
	})
	t.Log(met.of)
}

// Wherever a device is lost, or says no, while it gets a whole backup back, or the lines
// that lead to it: it ends with what it was to get, or with what it had, and never between.
func TestRestoresCutOffAtEveryPoint(t *testing.T) {
	for _, name := range []string{"tern", "tern without a language", "osier without a language", "skerry over RESTCONF"} {
		c := restorable(t)[name]
		for _, kind := range []string{sim.Drops, sim.DropsAfter, sim.Hangs, sim.Balks} {
			t.Run(name+" "+kind, func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				g := &generator{rng: rand.New(rand.NewPCG(3, 0))}
				now, text := drawnTern(g), asPrinted(t, c.platform, "ald-quay-1", drawnTern(g))
				for _, k := range points(40, len(name)) {
					synctest.Test(t, func(t *testing.T) {
						was := map[string]runbook.Was{"ald-quay-1": {Name: "x.cfg", At: time.Now(), Text: text}}
						w := restoring(t, maps.Clone(c.set), filepath.Join(dir, fmt.Sprint(k)), c.platform,
							[]sim.Spec{{Config: now, Faults: []sim.Fault{{Kind: kind, Times: 1, After: k}}}}, was)
						defer w.sim.Close()
						w.runQuiet()
						if w.noTimer {
							w.everyNightEnds()
						} else {
							w.checkLaws()
						}
						d := w.night.Devices[0]
						switch d.State {
						case night.Kept, night.Already:
							w.isAgain(d, text)
						case night.Reverted, night.Blocked, night.Skipped:
							w.isAgain(d, w.backupOf(d.Name, w.initial[d.Name]))
						}
						if t.Failed() {
							t.Log(k, w.story())
						}
					})
					if t.Failed() {
						return
					}
				}
			})
		}
	}
}

// What a night did is taken back days later; what others changed since stays, and where
// they changed the same, nothing is touched.
func TestTakingANightBack(t *testing.T) {
	before := "name {{.Name}}\ntime source 192.0.2.9 first\nlog host 198.51.100.9\nmanage from any\nlogin crew secret " + inConfig + "\nlan 10\n  title office\nport 1\n  trunk\nport 3\n  label \"gate\"\n"
	after := strings.NewReplacer("log host 198.51.100.9\n", "log host 198.51.100.9\nlog host 198.51.100.14\n", "  title office\n", "  title office\nlan 310\n  title gates\n", "\"gate\"\n", "\"gate\"\n  lan 310\n").Replace(before)
	for name, c := range map[string]struct {
		since func(string) string
		state night.State
		note  string
	}{
		"nothing happened since":  {func(s string) string { return s }, night.Kept, "as predicted"},
		"others did other things": {func(s string) string { return strings.Replace(s, "title office", "title crew", 1) }, night.Kept, "as predicted"},
		"others took it back":     {func(string) string { return before }, night.Already, "as intended already"},
		"others changed the same": {func(s string) string { return strings.Replace(s, "  lan 310\n", "  lan 10\n", 1) }, night.Blocked, "others have changed the same since: port 3 > lan 310: it was changed since: port 3 > lan 10"},
	} {
		for _, platform := range []string{"tern", "osier", "skerry"} {
			t.Run(name+" "+platform, func(t *testing.T) {
				dir := t.TempDir()
				synctest.Test(t, func(t *testing.T) {
					of := func(text string) string { return asPrinted(t, platform, "ald-quay-1", text) }
					was := map[string]runbook.Was{"ald-quay-1": {Name: "x.cfg", At: time.Now(), Text: of(before), Left: of(after)}}
					w := restoring(t, shipped(t), dir, platform, []sim.Spec{{Config: c.since(after)}}, was)
					defer w.sim.Close()
					w.runQuiet()
					w.checkLaws()
					d := w.night.Devices[0]
					assert.Equal(t, c.state, d.State, d.Note)
					if platform == "tern" || c.state != night.Blocked {
						assert.Contains(t, d.Note, c.note)
					}
					if d.State == night.Kept {
						w.isAgain(d, of(strings.Replace(before, "title office", map[bool]string{true: "title crew", false: "title office"}[strings.HasPrefix(name, "others")], 1)))
					}
					if t.Failed() {
						t.Log(w.story())
					}
				})
			})
		}
	}
}

// What another device had is not put back: its backup says whose it is. A person may waive
// that, for the device.
func TestABackupOfAnotherDeviceIsNotPutBack(t *testing.T) {
	for name, c := range map[string]struct {
		who    identity.Seen
		waived bool
		state  night.State
	}{
		"its own":            {identity.Seen{Name: "ald-quay-1", Serial: "T-100101"}, false, night.Kept},
		"nobody noted whose": {identity.Seen{}, false, night.Kept},
		"another's":          {identity.Seen{Name: "ald-quay-9", Serial: "T-100109"}, false, night.Blocked},
		"another's, waived":  {identity.Seen{Name: "ald-quay-9", Serial: "T-100109"}, true, night.Kept},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := shipped(t), t.TempDir()
			g := &generator{rng: rand.New(rand.NewPCG(3, 0))}
			now, text := drawnTern(g), asPrinted(t, "tern", "ald-quay-1", drawnTern(g))
			synctest.Test(t, func(t *testing.T) {
				w := restoring(t, set, dir, "tern", []sim.Spec{{Config: now}}, map[string]runbook.Was{"ald-quay-1": {Name: "x.cfg", At: time.Now(), Text: text, Who: c.who}})
				defer w.sim.Close()
				if c.waived {
					require.NoError(t, w.plan.Waive([]plan.Waiver{{Check: plan.IdentityCheck, Device: "ald-quay-1", Reason: "its board was exchanged", By: "Ada"}}))
				}
				w.runQuiet()
				d := w.night.Devices[0]
				assert.Equal(t, c.state, d.State, d.Note)
				if c.state == night.Blocked {
					assert.Contains(t, d.Note, "identity: the backup x.cfg is of another device: ")
					assert.Empty(t, w.sentTo(d.Name, night.ToSend))
				} else {
					w.isAgain(d, text)
				}
			})
		})
	}
}
