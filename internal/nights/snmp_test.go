package nights

import (
	"context"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// signBook changes passenger signs.
const signBook = `step "Time sources"
  send
    | set sign.clock = 192.0.2.40
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Night"
  want
    | sign.brightness = 30
    | sign.night = 1
    | sign.text[3] = No ferries before 05:00
  expect    any(texts, .line == 3 and .text == "No ferries before 05:00") within 5s
`

// bitterns are devices that speak SNMP.
func bitterns(specs ...sim.Spec) []sim.Spec {
	for i := range specs {
		specs[i].Platform = "bittern"
	}
	return specs
}

// signNight is a world of signs; the way back is what was read before.
func signNight(t testing.TB, set profile.Set, dir string, specs []sim.Spec) *world {
	w := simpleOf(t, set, dir, specs, nil, func(string) string {
		b := book(signBook)(standardBook)
		return strings.NewReplacer("\ntimer       4m\n", "\ntimer none\n", "  saved\n", "").Replace(b)
	})
	w.noTimer, w.loose = true, true
	return w
}

// v2c are the shipped profiles, with signs that are spoken to in clear text.
func v2c(t testing.TB) profile.Set {
	set := shipped(t)
	p := *set["bittern"]
	p.Snmp.Version = "2c"
	set["bittern"] = &p
	return set
}

func TestANightOfSigns(t *testing.T) {
	for name, set := range map[string]profile.Set{"version 3": shipped(t), "version 2c": v2c(t)} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := signNight(t, set, dir, bitterns(sim.Spec{}, sim.Spec{}, sim.Spec{V3Only: name == "version 3"}))
				defer w.sim.Close()
				w.runQuiet()
				w.signLaws()
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
					assert.Contains(t, w.sim.Device(d.Name).Saved(), "sign.night = 1\n")
				}
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}

// signLaws are the laws of devices that have no way back of their own.
func (w *world) signLaws() {
	w.t.Helper()
	w.everyNightEnds()
	w.replayAgrees()
	for _, d := range w.night.Devices {
		done, backed := w.backups.done[d.Name]
		for _, tr := range w.sim.Device(d.Name).Truth() {
			if tr.What == sim.Changed {
				assert.True(w.t, backed && !done.After(tr.At), "law 1: %q took effect on %s before its backup", tr.Line, d.Name)
			}
		}
		now := w.sim.Device(d.Name).Running()
		switch d.State {
		case night.Reverted, night.Blocked, night.Skipped:
			assert.Equal(w.t, w.initial[d.Name], now, "law 5: %s is %s: %s", d.Name, d.State, d.Note)
		case night.Kept:
			assert.Contains(w.t, now, "sign.night = 1\n", "law 4: %s", d.Name)
			assert.Contains(w.t, now, "sign.clock = 192.0.2.40\n", "law 4: %s", d.Name)
			assert.Contains(w.t, now, "sign.text[3] = No ferries before 05:00\n", "law 4: %s", d.Name)
		}
		if backed {
			assert.Equal(w.t, w.initial[d.Name], w.backups.text[d.Name], "the backup of %s", d.Name)
		}
	}
	w.lawAbort()
	w.lawSecretsAndData()
}

// Signs that are switched off say nothing, and refuse nobody: the login is tried on all the
// others, over SNMP and over SSH.
func TestSilenceOverSNMPIsNoRefusal(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		specs := bitterns(make([]sim.Spec, 5)...)
		for i := range 4 {
			specs[i].Faults = []sim.Fault{{Kind: sim.Mute}}
		}
		w := simpleOf(t, v2c(t), dir, append(specs, sim.Spec{}, sim.Spec{}), nil, func(string) string {
			b := book("step \"Lamps\"\n  on bittern\n    want\n      | sign.brightness = 30\n  on tern\n    want\n      | log host 198.51.100.14\n")(standardBook)
			return strings.NewReplacer("\ntimer       4m\n", "\ntimer 4m\ntimer none on bittern\n", "  saved\n", "", "  storage   at least 20 MB\n", "", "sizes     1, 4", "sizes     4, 8").Replace(b)
		})
		defer w.sim.Close()
		w.noTimer, w.loose = true, true
		w.run(context.Background(), nil)
		for i, d := range w.night.Devices {
			if i < 4 {
				assert.Equal(t, night.Blocked, d.State, d.Note)
				assert.Contains(t, d.Note, "no answer in")
				continue
			}
			assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
		}
	})
}

// Each fault of a device that speaks SNMP ends as a person would expect.
func TestEachFaultOverSNMP(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state night.State
		note  string
	}{
		"no fault at all":        {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, night.Kept, "as predicted"},
		"refuses a set":          {sim.Fault{Kind: sim.Rejects, Match: "sign.night"}, night.Reverted, "equal to the backup"},
		"carries out half of it": {sim.Fault{Kind: sim.HalfSet, Match: "sign.night", Times: 1}, night.Reverted, "equal to the backup"},
		"says yes, means no":     {sim.Fault{Kind: sim.Ignores, Match: "sign.brightness = 30"}, night.Reverted, "equal to the backup"},
		"an answer is lost":      {sim.Fault{Kind: sim.Drops, Match: "sign.night", Times: 1}, night.Kept, "as predicted"},
		"the set's answer is":    {sim.Fault{Kind: sim.DropsAfter, Match: "^set.*sign.night", Times: 1}, night.Kept, "as predicted"},
		"never answers again":    {sim.Fault{Kind: sim.CutsOff, Match: "sign.night"}, night.Stranded, ""},
		"restarts by itself":     {sim.Fault{Kind: sim.Restarts, Match: "^set.*sign.night", Times: 1}, night.Reverted, "equal to the backup"},
		"cannot be stored":       {sim.Fault{Kind: sim.NoSave}, night.Stranded, "which saves"},
		"wrong password":         {sim.Fault{Kind: sim.BadPassword}, night.Blocked, "out of reach|login is denied"},
		"out of reach":           {sim.Fault{Kind: sim.Mute}, night.Blocked, ""},
		"slow":                   {sim.Fault{Kind: sim.Slow, By: time.Second}, night.Kept, "as predicted"},
		"never settles":          {sim.Fault{Kind: sim.NeverSettles}, night.Reverted, "equal to the backup"},
		"drifts":                 {sim.Fault{Kind: sim.Drifts, Match: "sign.steady", After: 3, Times: 1}, night.Reverted, "equal to the backup"},
	} {
		for version, set := range map[string]profile.Set{"3": shipped(t), "2c": v2c(t)} {
			if version == "3" && c.state != night.Blocked && c.state != night.Stranded { // its keys take their time
				continue
			}
			t.Run(name+", version "+version, func(t *testing.T) {
				dir := t.TempDir()
				synctest.Test(t, func(t *testing.T) {
					w := signNight(t, set, filepath.Join(dir, "w"), bitterns(sim.Spec{Faults: []sim.Fault{c.fault}}, sim.Spec{}))
					defer w.sim.Close()
					w.run(context.Background(), nil)
					w.signLaws()
					d := w.night.Get("ald-quay-1")
					assert.Equal(t, c.state, d.State, d.Note)
					one, other, _ := strings.Cut(c.note, "|")
					assert.True(t, strings.Contains(d.Note, one) || other != "" && strings.Contains(d.Note, other), d.Note)
					if t.Failed() {
						t.Log(w.story())
					}
				})
			})
		}
	}
}

// Any object can be asked by its number, too; one that is not there says nothing, and one that is
// no number is refused before anything is sent.
func TestObjectsByNumber(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := signNight(t, shipped(t), dir, bitterns(sim.Spec{}))
		defer w.sim.Close()
		s, err := w.connector().Connect(t.Context(), w.plan.Targets()[0])
		require.NoError(t, err)
		defer s.Close()
		look := s.(driver.Looker)
		got, err := look.Look(t.Context(), "", "get 1.3.6.1.2.1.1.5.0")
		require.NoError(t, err)
		assert.Equal(t, []string{"1.3.6.1.2.1.1.5.0 = ald-quay-1"}, got)
		got, err = look.Look(t.Context(), "", "get .1.3.6.1.4.1.32473.99.0")
		require.NoError(t, err)
		assert.Empty(t, got)
		_, err = look.Look(t.Context(), "", "get sign.nothing")
		assert.ErrorContains(t, err, "one of the objects of its profile, or a number")
		_, err = look.Look(t.Context(), "", "set 1.3.6.1.2.1.1.5.0 = x")
		assert.Error(t, err)
	})
}
