package nights

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// restBook is the same as treeBook, without XML.
var restBook = strings.Replace(treeBook, `    | <core xmlns="https://skerry.example/yang/skerry">
    |   <lan><number>310</number><title>gates</title></lan>
    | </core>
`, "    | set /skerry:core/lan[number='310']/title = gates\n", 1)

// overREST are the shipped profiles, with skerries that are spoken to by RESTCONF.
func overREST(t testing.TB) profile.Set {
	set := shipped(t)
	p := *set["skerry-restconf"]
	p.Platform = "skerry"
	set["skerry"] = &p
	return set
}

func restNight(t testing.TB, set profile.Set, dir string, specs []sim.Spec, steps string) *world {
	w := simpleOf(t, set, dir, specs, nil, func(string) string {
		return strings.Replace(book(steps)(standardBook), "\ntimer       4m\n", "\ntimer none\n", 1)
	})
	w.noTimer, w.loose = true, true
	return w
}

// restLaws are the laws of devices that have no way back of their own, and store what they
// are sent.
func (w *world) restLaws() {
	w.t.Helper()
	w.everyNightEnds()
	w.replayAgrees()
	for _, d := range w.night.Devices {
		dev, style := w.sim.Device(d.Name), w.styleOf(d.Name)
		done, backed := w.backups.done[d.Name]
		drifted := false
		for _, tr := range dev.Truth() {
			drifted = drifted || tr.What == sim.Drifted
			if tr.What == sim.Changed {
				assert.True(w.t, backed && !done.After(tr.At), "law 1: %q took effect on %s before its backup", tr.Line, d.Name)
			}
		}
		same := func(text string) bool {
			return config.Equal(config.Parse(sim.Paths(text), style), config.Parse(sim.Paths(w.initial[d.Name]), style))
		}
		switch d.State {
		case night.Reverted, night.Blocked, night.Skipped:
			assert.True(w.t, same(dev.Running()) || drifted, "law 5: %s is %s and runs something else: %s", d.Name, d.State, d.Note)
			assert.True(w.t, same(dev.Saved()) || drifted, "law 5: %s is %s and has something else saved: %s", d.Name, d.State, d.Note)
		case night.Kept:
			for _, text := range []string{dev.Running(), dev.Saved()} {
				assert.Contains(w.t, text, "log host 198.51.100.14\n", "law 4: %s", d.Name)
				assert.Contains(w.t, text, "  lan 310\n", "law 4: %s", d.Name)
			}
		}
	}
	w.lawAbort()
	w.lawSecretsAndData()
}

func TestARESTCONFNight(t *testing.T) {
	for name, steps := range map[string]string{"typed": restBook, "wanted": wantedTree} {
		t.Run(name, func(t *testing.T) {
			set, dir := overREST(t), t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := restNight(t, set, dir, skerries(sim.Spec{}, sim.Spec{}, sim.Spec{}), steps)
				defer w.sim.Close()
				w.runQuiet()
				w.restLaws()
				for _, d := range w.night.Devices {
					assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
					assert.Contains(t, d.Note, "as predicted")
				}
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}

// Each fault of a device that speaks RESTCONF ends as a person would expect.
func TestEachFaultOverRESTCONF(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state night.State
		note  string
	}{
		"no fault at all":        {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, night.Kept, ""},
		"refuses a line":         {sim.Fault{Kind: sim.Rejects, Match: "^set /skerry:core/report"}, night.Reverted, "equal to the backup"},
		"ignores a line":         {sim.Fault{Kind: sim.Ignores, Match: "^set /skerry:core/clock/source.rank='1'"}, night.Reverted, "equal to the backup"},
		"hangs":                  {sim.Fault{Kind: sim.Hangs, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"drops":                  {sim.Fault{Kind: sim.Drops, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"an answer is lost":      {sim.Fault{Kind: sim.DropsAfter, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"somebody writes too":    {sim.Fault{Kind: sim.Drifts, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, ""},
		"somebody has it locked": {sim.Fault{Kind: sim.Joined, Match: "^get /skerry:state/storage"}, night.Reverted, "equal to the backup"},
		"another certificate":    {sim.Fault{Kind: sim.OtherKey}, night.Blocked, ""},
		"wrong password":         {sim.Fault{Kind: sim.BadPassword}, night.Blocked, "login is denied"},
		"a fault in words":       {sim.Fault{Kind: sim.Balks, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"noise":                  {sim.Fault{Kind: sim.Garbage, Match: "^get /skerry:state/clock", After: 1, Times: 1}, night.Reverted, "equal to the backup"},
		"cannot be stored":       {sim.Fault{Kind: sim.NoSave}, night.Reverted, "equal to the backup"},
		"cuts itself off":        {sim.Fault{Kind: sim.CutsOff, Match: "carries"}, night.Stranded, ""},
		"restarts":               {sim.Fault{Kind: sim.Restarts, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"slow":                   {sim.Fault{Kind: sim.Slow, By: 2 * time.Second}, night.Kept, ""},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := overREST(t), t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := restNight(t, set, filepath.Join(dir, "w"), skerries(sim.Spec{Faults: []sim.Fault{c.fault}}, sim.Spec{}), restBook)
				defer w.sim.Close()
				w.runQuiet()
				w.restLaws()
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}

// Wherever in its night a device is lost for once, or says no, that has no way back of its
// own, it is kept whole, or is as it was.
func TestNoTimerCutOffAtEveryPoint(t *testing.T) {
	for name, n := range map[string]func(t *testing.T, dir string, f sim.Fault) *world{
		"RESTCONF": func(t *testing.T, dir string, f sim.Fault) *world {
			return restNight(t, overREST(t), dir, skerries(sim.Spec{Faults: []sim.Fault{f}}), wantedTree)
		},
		"SNMP": func(t *testing.T, dir string, f sim.Fault) *world {
			return signNight(t, v2c(t), dir, bitterns(sim.Spec{Faults: []sim.Fault{f}}))
		},
	} {
		for i, kind := range []string{sim.Drops, sim.DropsAfter, sim.Hangs, sim.Balks, sim.Restarts} {
			t.Run(name+" "+kind, func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				for _, k := range points(36, i) {
					synctest.Test(t, func(t *testing.T) {
						w := n(t, filepath.Join(dir, fmt.Sprint(k)), sim.Fault{Kind: kind, Times: 1, After: k})
						defer w.sim.Close()
						w.runQuiet()
						if name == "SNMP" {
							w.signLaws()
						} else {
							w.restLaws()
						}
						d := w.night.Devices[0]
						assert.Contains(t, []night.State{night.Kept, night.Reverted, night.Blocked, night.Skipped}, d.State, "at %d: %s", k, d.Note)
						if t.Failed() {
							t.Log(w.story())
						}
					})
				}
			})
		}
	}
}
