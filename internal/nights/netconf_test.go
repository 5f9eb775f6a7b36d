package nights

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
)

// treeBook changes devices whose configuration is a tree of data.
const treeBook = `step "Time sources"
  on skerry
   send
    | set /skerry:core/clock/source[rank='1']/address = 192.0.2.40
    | set /skerry:core/clock/source[rank='2']/address = 192.0.2.9
    | set /skerry:core/clock/source[rank='3']/address = 192.0.2.10
   undo
    | delete /skerry:core/clock/source[rank='3']
    | set /skerry:core/clock/source[rank='1']/address = 192.0.2.9
    | set /skerry:core/clock/source[rank='2']/address = 192.0.2.10
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Log collector"
  on skerry
   send
    | set /skerry:core/report[.='198.51.100.14']
   undo
    | delete /skerry:core/report[.='198.51.100.14']

step "Gates"
  on skerry
   send
    | <core xmlns="https://skerry.example/yang/skerry">
    |   <lan><number>310</number><title>gates</title></lan>
    | </core>
    | set /ietf-interfaces:interfaces/interface[name='port3']/skerry:carries = 310
   undo
    | delete /ietf-interfaces:interfaces/interface[name='port3']/skerry:carries
    | delete /skerry:core/lan[number='310']
`

// allBook has the steps of all platforms.
var allBook = func() string {
	steps := func(book string) []string { return strings.SplitAfter(book, "\"\n")[1:] }
	out := mixedBook
	for i, s := range steps(treeBook) {
		s, _, _ = strings.Cut(s, "\nstep")
		s, _, _ = strings.Cut(s, "  expect")
		mark := []string{"  expect ", "\nstep \"Gates\"", ""}[i]
		if mark == "" {
			out += s
		} else {
			out = strings.Replace(out, mark, s+mark, 1)
		}
	}
	return out
}()

// skerries are devices that speak NETCONF.
func skerries(specs ...sim.Spec) []sim.Spec {
	for i := range specs {
		specs[i].Platform = "skerry"
	}
	return specs
}

func TestANetconfNight(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, skerries(sim.Spec{}, sim.Spec{}, sim.Spec{Faults: []sim.Fault{{Kind: sim.OldFraming}, {Kind: sim.Notifies}}}), book(treeBook))
		defer w.sim.Close()
		w.runQuiet()
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, "%s: %s", d.Name, d.Note)
			assert.Contains(t, d.Note, "kept and saved")
			assert.Len(t, w.intents(d.Name, night.ToApply), 3)
			assert.False(t, w.sim.Device(d.Name).Locked(), d.Name)
		}
		if t.Failed() {
			t.Log(w.story())
		}
	})
}

// Each fault of a device that speaks NETCONF, alone on one device, ends as a person would
// expect, and its neighbour is not touched by it.
func TestEachFaultOverNETCONF(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state night.State
		note  string
	}{
		"no fault at all":          {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, night.Kept, "kept and saved"},
		"slow":                     {sim.Fault{Kind: sim.Slow, By: 2 * time.Second}, night.Kept, "kept and saved"},
		"rejects an edit":          {sim.Fault{Kind: sim.Rejects, Match: "^set /skerry:core/report"}, night.Reverted, "equal to the backup"},
		"ignores an edit":          {sim.Fault{Kind: sim.Ignores, Match: "^set /skerry:core/clock/source.rank='1'"}, night.Reverted, "equal to the backup"},
		"sound, and not committed": {sim.Fault{Kind: sim.RefusesApply, After: 1}, night.Reverted, "equal to the backup"},
		"never committed":          {sim.Fault{Kind: sim.RefusesApply}, night.Reverted, "equal to the backup"},
		"committed in words only":  {sim.Fault{Kind: sim.QuietApply, After: 1}, night.Reverted, "equal to the backup"},
		"not on trial":             {sim.Fault{Kind: sim.QuietTimer, Times: 1}, night.Reverted, "equal to the backup"},
		"hangs in an edit":         {sim.Fault{Kind: sim.Hangs, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"drops in an edit":         {sim.Fault{Kind: sim.Drops, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"drops before the commit":  {sim.Fault{Kind: sim.Drops, Match: "^commit", Times: 1}, night.Reverted, "equal to the backup"},
		"killed in the commit":     {sim.Fault{Kind: sim.DropsAfter, Match: "^commit", Times: 1}, night.Reverted, "equal to the backup"},
		"confirm lost on the way":  {sim.Fault{Kind: sim.Drops, Match: "^confirm", Times: 1}, night.Reverted, "equal to the backup"},
		"answer to confirm lost":   {sim.Fault{Kind: sim.DropsAfter, Match: "^confirm", Times: 1}, night.Reverted, "equal to the backup"},
		"confirmed in words only":  {sim.Fault{Kind: sim.StuckTimer}, night.Reverted, "equal to the backup"},
		"confirmed late":           {sim.Fault{Kind: sim.LateDisarm, By: 3 * time.Second}, night.Kept, "kept and saved"},
		"cannot be saved":          {sim.Fault{Kind: sim.NoSave}, night.Reverted, "equal to the backup"},
		"saved in words only":      {sim.Fault{Kind: sim.QuietSave, Times: 1}, night.Reverted, "equal to the backup"},
		"cuts itself off":          {sim.Fault{Kind: sim.CutsOff, Match: "carries"}, night.Reverted, "equal to the backup"},
		"somebody joins":           {sim.Fault{Kind: sim.Joined, Match: "^get /system"}, night.Reverted, "equal to the backup"},
		"restarts by itself":       {sim.Fault{Kind: sim.Restarts, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"somebody confirms it":     {sim.Fault{Kind: sim.OtherTimer, Match: "^get /state/clock", After: 2, Times: 1}, night.Reverted, "equal to the backup"},
		"drifts":                   {sim.Fault{Kind: sim.Drifts, Match: "^confirm", Times: 1}, night.Reverted, "equal to the backup"},
		"noise for a reply":        {sim.Fault{Kind: sim.Garbage, Match: "^set /skerry:core/report", Times: 1}, night.Reverted, "equal to the backup"},
		"notifies":                 {sim.Fault{Kind: sim.Notifies}, night.Kept, "kept and saved"},
		"half a backup arrives":    {sim.Fault{Kind: sim.HalfLoad}, night.Kept, "kept and saved"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, skerries(sim.Spec{Faults: []sim.Fault{c.fault}}, sim.Spec{}), book(treeBook))
				defer w.sim.Close()
				w.run(context.Background(), nil)
				w.endsAs(c.state, c.note)
				assert.False(t, w.sim.Device("ald-quay-1").Locked())
			})
		})
	}
}

// backupOf is what a device would print of what a tern prints.
func (w *world) backupOf(device, text string) string {
	switch w.sim.Device(device).Platform() {
	case "osier":
		return sim.Braces(text)
	case "skerry":
		return sim.Paths(text)
	}
	return strings.TrimSpace(text) + "\n"
}

// Wherever in its night a device is lost, or says no, it ends as the laws have it: with
// nothing of ours in its candidate, no lock and no commit that nobody confirms.
func TestNetconfCutOffAtEveryPoint(t *testing.T) {
	for i, kind := range []string{sim.Drops, sim.DropsAfter, sim.Hangs, sim.Balks, sim.Restarts} {
		t.Run(kind, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			for _, k := range points(60, i) {
				synctest.Test(t, func(t *testing.T) {
					w := simpleIn(t, filepath.Join(dir, fmt.Sprint(k)), skerries(sim.Spec{Faults: []sim.Fault{{Kind: kind, Times: 1, After: k}}}), book(treeBook))
					defer w.sim.Close()
					w.runQuiet()
					w.checkLaws()
					d, dev := w.night.Devices[0], w.sim.Devices()[0]
					assert.Contains(t, []night.State{night.Kept, night.Reverted, night.Blocked}, d.State, "at %d: %s", k, d.Note)
					assert.Zero(t, dev.Due(), "at %d: %s", k, d.Note)
					assert.False(t, dev.Locked(), "at %d: %s", k, d.Note)
					if t.Failed() {
						t.Log(w.story())
					}
				})
			}
		})
	}
}

// points are places in a night of so many: every second, from another one on for each kind of
// fault; with -nights 200 and more, all of them.
func points(n, kind int) (out []int) {
	step := 2
	if *count >= 200 {
		step = 1
	}
	for k := kind % step; k < n; k += step {
		out = append(out, k)
	}
	return out
}

// spoilNetconf gives a device that speaks NETCONF a fault or two.
func (g *generator) spoilNetconf(spec *sim.Spec) {
	requests := []string{"^set /skerry:core/clock", "^set /skerry:core/report", "lan.number='310'", "carries", "^delete", "^get /state", "^get-config", "^get-config startup", "^commit$", "^confirm$", "^extend$", "^cancel", "^lock", "^unlock", "^discard", "^copy", "^validate", "^close"}
	kinds := []string{sim.Refuses, sim.BadPassword, sim.Hangs, sim.Drops, sim.DropsAfter, sim.Rejects, sim.Garbage, sim.Balks, sim.Slow, sim.Restarts, sim.NeverBack, sim.NoSave, sim.NeverSettles, sim.CutsOff,
		sim.QuietTimer, sim.StuckTimer, sim.LostUndo, sim.Refusing, sim.QuietSave, sim.LateDisarm, sim.Drifts, sim.HalfLoad, sim.OtherTimer, sim.Joined, sim.Ignores, sim.NeverFires, sim.RefusesApply, sim.OldFraming, sim.Notifies, sim.QuietApply}
	for range 1 + g.rng.IntN(3) {
		f := sim.Fault{Kind: pick(g, kinds), Times: g.rng.IntN(3)}
		switch f.Kind {
		case sim.Hangs, sim.Drops, sim.DropsAfter, sim.Rejects, sim.Garbage, sim.Balks, sim.Restarts, sim.CutsOff:
			f.Match = pick(g, requests)
		case sim.Ignores:
			f.Match = pick(g, []string{"^set /skerry:core/clock/source.rank='1'", "^set /skerry:core/report", "carries"})
		case sim.Slow:
			f.By = time.Duration(g.rng.IntN(4000)) * time.Millisecond
		case sim.LateDisarm:
			f.By = time.Duration(g.rng.IntN(15)) * time.Second
		case sim.Drifts:
			f.Match = pick(g, []string{"^confirm$", "^set /skerry:core/clock", "^commit$"})
		case sim.OtherTimer:
			f.Match, f.By = pick(g, []string{"^get-config running", "^get /state/clock", "^get /state/editor"}), time.Duration(g.rng.IntN(3))*time.Minute
		case sim.Joined:
			f.Match = pick(g, []string{"^get", "^commit$", "^lock"})
		case sim.RefusesApply:
			f.After = g.rng.IntN(3)
		}
		spec.Faults = append(spec.Faults, f)
	}
	if g.chance(0.1) {
		spec.Draft = "bosun"
	}
}

// wantedTree is the same as treeBook, of which nothing is typed: the lines are computed.
const wantedTree = `step "Time sources"
  want
    | /skerry:core/clock/source[rank='1']/address = 192.0.2.40
    | /skerry:core/clock/source[rank='2']/address = 192.0.2.9
    | /skerry:core/clock/source[rank='3']/address = 192.0.2.10
  expect    clock.source == "192.0.2.40" and clock.settled within 40s

step "Log collector"
  want
    | /skerry:core/report[.='198.51.100.14']

step "Gates"
  want
    | /skerry:core/lan[number='310']/title = gates
    | /ietf-interfaces:interfaces/interface[name='port3']/skerry:carries = 310
`

// What is wanted of a tree is computed, predicted, and taken back by lines that are computed.
func TestWhatIsWantedOverNETCONF(t *testing.T) {
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
		note   string
	}{
		"all is well":           {nil, night.Kept, "kept and saved; as predicted"},
		"an edit is ignored":    {[]sim.Fault{{Kind: sim.Ignores, Match: "carries"}}, night.Reverted, "equal to the backup"},
		"cannot be cancelled":   {[]sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.LostUndo}}, night.Reverted, "equal to the backup"},
		"nor put back by lines": {[]sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.LostUndo}, {Kind: sim.Rejects, Match: "^(delete|set) .*source.*192.0.2.10"}}, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, skerries(sim.Spec{Faults: c.faults}, sim.Spec{}), book(wantedTree))
				defer w.sim.Close()
				w.runQuiet()
				w.endsAs(c.state, c.note)
				if c.state == night.Kept {
					w.night = night.Night{}
					w.runQuiet()
					assert.Equal(t, night.Already, w.night.Get("ald-quay-1").State, w.night.Get("ald-quay-1").Note)
				}
			})
		})
	}
}

// What is not sound is not committed, and said where it is wrong; a candidate that somebody
// has locked, or left standing, is left alone.
func TestWhatIsNotCommitted(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		steps := strings.Replace(treeBook, "skerry:carries = 310", "skerry:carries = 999", 1)
		w := simple(t, skerries(sim.Spec{}, sim.Spec{Editing: "bosun"}, sim.Spec{Draft: "bosun"}), func(b string) string {
			return strings.Replace(book(steps)(b), "  saved\n", "  saved\n  alone off\n", 1)
		})
		defer w.sim.Close()
		w.runQuiet()
		w.checkLaws()
		unsound, locked, left := w.night.Get("ald-quay-1"), w.night.Get("ald-quay-2"), w.night.Get("ald-quay-3")
		assert.Equal(t, night.Reverted, unsound.State, unsound.Note)
		assert.Contains(t, w.journalText(), "there is no lan 999 (data-missing) at /if:interfaces/if:interface[if:name='port3']/sk:carries")
		assert.NotEqual(t, night.Kept, locked.State)
		assert.Equal(t, night.Blocked, left.State)
		assert.Contains(t, left.Note, "changes of somebody stand in its candidate")
		assert.True(t, w.sim.Device("ald-quay-3").Locked(), "what somebody left is left there")
		if t.Failed() {
			t.Log(w.story())
		}
	})
}

// A device without a candidate is edited as it runs, line by line, and has no way back of its
// own; one that offers less than its profile says is not worked.
func TestWithoutACandidate(t *testing.T) {
	running := func(t *testing.T) profile.Set {
		set := shipped(t)
		p := *set["skerry"]
		p.Netconf.Edit, p.Netconf.Left, p.Timer.Kind = profile.RunningDS, "", plan.NoTimer
		set["skerry"] = &p
		return set
	}
	for name, c := range map[string]struct {
		faults []sim.Fault
		state  night.State
		note   string
	}{
		"all is well":       {nil, night.Kept, "kept and saved; as predicted"},
		"an edit is wrong":  {[]sim.Fault{{Kind: sim.Rejects, Match: "carries"}}, night.Reverted, "equal to the backup"},
		"an edit is lost":   {[]sim.Fault{{Kind: sim.DropsAfter, Match: "report", Times: 1}}, night.Reverted, "equal to the backup"},
		"undone by no line": {[]sim.Fault{{Kind: sim.NeverSettles}, {Kind: sim.Rejects, Match: "^delete"}}, night.Reverted, "equal to the backup"},
		"cannot be saved":   {[]sim.Fault{{Kind: sim.NoSave}}, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			set, dir := running(t), t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := restNight(t, set, dir, skerries(sim.Spec{Writable: true, Faults: c.faults}, sim.Spec{}), wantedTree)
				defer w.sim.Close()
				w.runQuiet()
				w.restLaws()
				d, other := w.night.Get("ald-quay-1"), w.night.Get("ald-quay-2")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				if other.State != night.Skipped { // since the first one was lost for once
					assert.Equal(t, night.Blocked, other.State)
					assert.Contains(t, other.Note, "what runs on it cannot be edited")
				}
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}
