package nights

import (
	"context"
	"maps"
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
	"metabasis/internal/report"
	"metabasis/internal/sim"
)

// lacking is the shipped profiles with a tern that has no timer, and whose profile
// is not told how to save, or how to read what is saved.
func lacking(t *testing.T, what ...string) profile.Set {
	t.Helper()
	set := maps.Clone(shipped(t))
	p := *set["tern"]
	p.Timer = profile.Timer{Kind: plan.NoTimer}
	for _, w := range what {
		switch w {
		case "save":
			p.Save = profile.Command{}
		case "saved":
			p.Config.Saved = profile.Command{}
		}
	}
	set["tern"] = &p
	return set
}

var untimed = edits("timer       4m", "timer       none", "  saved\n", "", "together  4", "together  1")

func untimedWorld(t *testing.T, set profile.Set, specs []sim.Spec, edit func(string) string) *world {
	t.Helper()
	w := simpleOf(t, set, t.TempDir(), specs, nil, func(s string) string { return edit(untimed(s)) })
	w.noTimer = true
	return w
}

func same(s string) string { return s }

// What is saved is said where it was read, and nowhere else.
func TestOnlySavedWhereItWasRead(t *testing.T) {
	for name, c := range map[string]struct {
		lacks    []string
		specs    []sim.Spec
		edit     func(string) string
		who      person
		end      night.State
		says     string
		runsIt   bool // the change runs in the end
		savedIt  bool // and is saved, in truth
		wasSaved int  // how often it was saved, in truth
	}{
		"kept":                           {nil, []sim.Spec{{}}, same, nil, night.Kept, "kept and saved", true, true, 1},
		"kept, unread":                   {[]string{"saved"}, []sim.Spec{{}}, same, nil, night.Kept, "not known to be saved: that cannot be read on tern", true, true, 1},
		"kept, unread and quiet":         {[]string{"saved"}, faults(sim.Fault{Kind: sim.QuietSave})[:1], same, nil, night.Kept, "not known to be saved: that cannot be read on tern", true, false, 0},
		"kept, neither":                  {[]string{"save", "saved"}, []sim.Spec{{}}, same, nil, night.Kept, "nothing was saved, and what is saved cannot be read on tern", true, false, 0},
		"kept, but nothing saves":        {[]string{"save"}, []sim.Spec{{}}, same, nil, night.Reverted, "equal to the backup", false, false, 0},
		"refused":                        {nil, faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"})[:1], same, nil, night.Reverted, "equal to the backup", false, false, 0},
		"refused, unread":                {[]string{"saved"}, faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"})[:1], same, nil, night.Reverted, "what runs is equal to the backup; nothing was saved, and what is saved cannot be read on tern", false, false, 0},
		"refused, neither":               {[]string{"save", "saved"}, faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"})[:1], same, nil, night.Reverted, "what runs is equal to the backup; nothing was saved, and what is saved cannot be read on tern", false, false, 0},
		"lost while saving, unread":      {[]string{"saved"}, faults(sim.Fault{Kind: sim.Drops, Match: "^keep", Times: 1})[:1], same, nil, night.Reverted, "what runs is equal to the backup, and was saved again; what is saved cannot be read on tern", false, false, 1},
		"save refused, unread":           {[]string{"saved"}, faults(sim.Fault{Kind: sim.NoSave})[:1], same, nil, night.Stranded, "could not be taken back: ", false, false, 0},
		"taken back after it was saved":  {nil, []sim.Spec{{}, {}}, planned, allBack, night.Reverted, "equal to the backup", false, false, 2},
		"taken back, unread":             {[]string{"saved"}, []sim.Spec{{}, {}}, planned, allBack, night.Reverted, "what runs is equal to the backup, and was saved again; what is saved cannot be read on tern", false, false, 2},
		"taken back, neither":            {[]string{"save", "saved"}, []sim.Spec{{}, {}}, planned, allBack, night.Reverted, "what runs is equal to the backup; nothing was saved, and what is saved cannot be read on tern", false, false, 0},
		"already":                        {nil, []sim.Spec{{Config: intendedConfig}}, same, nil, night.Already, "as intended already and saved; nothing was sent", true, true, 0},
		"already, unread":                {[]string{"saved"}, []sim.Spec{{Config: intendedConfig}}, same, nil, night.Already, "not known to be saved: that cannot be read on tern; as intended already, and nothing was sent", true, true, 0},
		"it runs already, but not saved": {nil, []sim.Spec{{Config: intendedConfig, Unsaved: "log host 192.0.2.77"}}, same, nil, night.Kept, "kept and saved: it ran already and was not saved", true, true, 1},
		"it runs, not saved, not proven": {nil, []sim.Spec{{Config: intendedConfig, Unsaved: "log host 192.0.2.77"}}, edits("expect    clock.source == \"192.0.2.40\"", "expect    clock.source == \"192.0.2.9\""), nil, night.Reverted, "equal to the backup; what was not saved before this night is still not saved", true, true, 0},
		"it runs, and is not left out":   {nil, []sim.Spec{{Config: intendedConfig, Unsaved: "log host 192.0.2.77"}}, edits("expect    clock.source == \"192.0.2.40\"", "expect    clock.source == \"192.0.2.9\"", "take back the device", "skip the step"), nil, night.Reverted, "equal to the backup; what was not saved before this night is still not saved", true, true, 0},
		"it had unsaved lines, kept":     {nil, []sim.Spec{{Unsaved: "log host 192.0.2.77"}}, same, nil, night.Kept, "kept and saved, with what was not saved before this night", true, true, 1},
		"it had unsaved lines, refused":  {nil, []sim.Spec{{Unsaved: "log host 192.0.2.77", Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^port 3"}}}}, same, nil, night.Reverted, "equal to the backup; what was not saved before this night is still not saved", false, false, 0},
		"it had unsaved lines, all back": {nil, []sim.Spec{{Unsaved: "log host 192.0.2.77"}, {}}, planned, allBack, night.Reverted, "equal to the backup; what was not saved before this night is saved now", false, false, 2},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				w := untimedWorld(t, lacking(t, c.lacks...), c.specs, c.edit)
				w.run(context.Background(), c.who)
				d, dev := w.night.Get("ald-quay-1"), w.sim.Device("ald-quay-1")
				assert.Equal(t, c.end, d.State, d.Note)
				assert.Contains(t, d.Note, c.says)
				assert.Equal(t, c.runsIt, strings.Contains(dev.Running(), w.mark), "runs")
				assert.Equal(t, c.savedIt, strings.Contains(dev.Saved(), w.mark), "saved")
				unread := strings.Contains(d.Note, "cannot be read on tern")
				assert.Equal(t, unread, d.SavedUnread)
				assert.Equal(t, unread, strings.Contains(report.Summary(&w.night), "on 1 it cannot be read what is saved"), report.Summary(&w.night))
				assert.Equal(t, unread, strings.Contains(strings.Join(report.Needs(&w.night), "\n"), "what is saved cannot be read: ald-quay-1"))
				saves := 0
				for _, tr := range dev.Truth() {
					if tr.What == sim.Saved {
						saves++
					}
				}
				assert.Equal(t, c.wasSaved, saves, "times saved")
			})
		})
	}
}

// planned waits for a person behind every batch; allBack takes everything back then.
var planned = edits("together  1", "together  1\n  hold      after every batch")

func allBack(r *run.Run, e night.Event) {
	if e.Kind == night.HoldOpened {
		_ = r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: night.BackAll, By: "Ada", Reason: "a drill"})
	}
}

// A precheck that cannot be read does not hold; a waiver for the platform passes it.
func TestWhatCannotBeReadDoesNotHold(t *testing.T) {
	for _, waived := range []bool{false, true} {
		synctest.Test(t, func(t *testing.T) {
			w := untimedWorld(t, lacking(t, "saved"), []sim.Spec{{}, {}}, edits("precheck\n", "precheck\n  saved\n"))
			all := strings.Join(w.plan.Warnings, "\n")
			assert.Contains(t, all, "tern: what is saved cannot be read on 2 devices")
			assert.Contains(t, all, `--waive "saved on tern: REASON"`)
			if waived {
				waiver, err := plan.ParseWaiver("saved on tern: its profile cannot read it", "Ada")
				require.NoError(t, err)
				require.NoError(t, w.plan.Waive([]plan.Waiver{waiver}))
			}
			w.runQuiet()
			d := w.night.Get("ald-quay-1")
			if !waived {
				assert.Equal(t, night.Blocked, d.State)
				assert.Contains(t, d.Note, "saved: what is saved cannot be read on tern")
				return
			}
			assert.Equal(t, night.Kept, d.State)
			for _, check := range d.Checks {
				if check.Name == "saved" {
					assert.False(t, check.OK)
					assert.Equal(t, "its profile cannot read it", check.Waived)
				}
			}
		})
	}
}

// A device that is slow to let one in is looked for as long as it takes.
func TestSlowIsNotDead(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		set := maps.Clone(shipped(t))
		p := *set["tern"]
		p.Connect.Prompt = 30 * time.Second
		set["tern"] = &p
		w := simpleOf(t, set, t.TempDir(), faults(sim.Fault{Kind: sim.SlowLogin, By: 13 * time.Second}, sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}), nil, same)
		w.runQuiet()
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, "equal to the backup", d.Note, "its timer did not have to fire for it")
		w.checkLaws()
	})
}

// An undo line that is refused is told, although the configuration is as it was.
func TestARefusedUndoIsTold(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.Rejects, Match: "^drop log host"}), nil)
		w.runQuiet()
		d := w.night.Get("ald-quay-1")
		assert.Equal(t, night.Reverted, d.State, d.Note)
		assert.Equal(t, "equal to the backup; 1 undo line was refused", d.Note)
		w.checkLaws()
	})
}
