package nights

import (
	"fmt"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/sim"
)

const saveBook = "runbook \"Save\"\n  window    none\n\nscope\n  role == \"quay\"\n\nstep \"Save\"\n  save\n\nunattended  take back the device\n"

// saves counts how often a device was saved in the night, and whether what runs is saved.
func (w *world) saves(device string) (n int, saved bool) {
	d := w.sim.Device(device)
	for _, tr := range d.Truth() {
		if tr.What == sim.Saved && !tr.At.Before(w.started) {
			n++
		}
	}
	return n, w.asCompared(d.Running()) == w.asCompared(d.Saved())
}

// What is not saved is saved once it was proven to be what was seen, and what is said of it is
// so; a device that has nothing to save is not saved.
func TestSavingWhatIsNotSaved(t *testing.T) {
	const line = "log host 192.0.2.77"
	for name, c := range map[string]struct {
		spec  sim.Spec
		lacks []string
		state night.State
		note  string
		saves int
		saved bool
	}{
		"unsaved":             {sim.Spec{Unsaved: line}, nil, night.Kept, "kept and saved: it ran already and was not saved", 1, true},
		"saved":               {sim.Spec{}, nil, night.Already, "as intended already and saved", 0, true},
		"says yes":            {sim.Spec{Unsaved: line, Faults: []sim.Fault{{Kind: sim.QuietSave}}}, nil, night.Reverted, "still not saved", 0, false},
		"refuses":             {sim.Spec{Unsaved: line, Faults: []sim.Fault{{Kind: sim.NoSave}}}, nil, night.Reverted, "still not saved", 0, false},
		"lost":                {sim.Spec{Unsaved: line, Faults: []sim.Fault{{Kind: sim.DropsAfter, Match: "^keep", Times: 1}}}, nil, "", "", 1, true},
		"drifts":              {sim.Spec{Unsaved: line, Faults: []sim.Fault{{Kind: sim.Drifts, Match: "^tell saved", Times: 1, After: 2}}}, nil, "", "", 1, true},
		"cannot be read":      {sim.Spec{Unsaved: line}, []string{"saved"}, night.Kept, "not known to be saved", 1, true},
		"somebody is editing": {sim.Spec{Unsaved: line, Editing: "deckhand"}, nil, night.Kept, "kept and saved", 1, true},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleOf(t, lacking(t, c.lacks...), dir, []sim.Spec{c.spec}, nil, func(string) string { return saveBook })
				defer w.sim.Close()
				w.mark, w.loose, w.noTimer = "", true, true
				w.runQuiet()
				d := w.night.Devices[0]
				n, saved := w.saves(d.Name)
				if c.state != "" {
					assert.Equal(t, c.state, d.State, d.Note)
					assert.Contains(t, d.Note, c.note)
					assert.Equal(t, c.saves, n)
					assert.Equal(t, c.saved, saved)
				}
				if d.State == night.Kept && name != "cannot be read" {
					assert.True(t, saved, "it is called saved: %s", d.Note)
				}
			})
		})
	}
}

// Nothing is saved while something is on the clock that brings back what is saved (law 2).
func TestNothingIsSavedUnderATimer(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Unsaved: "log host 192.0.2.77"}}, func(string) string { return saveBook })
		defer w.sim.Close()
		w.noTimer = true
		w.sim.Device("ald-quay-1").ArmForTest(600)
		w.runQuiet()
		d := w.night.Devices[0]
		assert.Equal(t, night.Blocked, d.State)
		assert.Contains(t, d.Note, "it is not ours")
		n, _ := w.saves(d.Name)
		assert.Zero(t, n)
	})
}

// A rehearsal of it shows what is not saved, and whose it may be.
func TestWhatIsNotSavedIsShown(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{Unsaved: "log host 192.0.2.77"}, {}, {Unsaved: "log host 192.0.2.78", Editing: "deckhand"}}, func(string) string { return saveBook })
		defer w.sim.Close()
		w.noTimer = true
		found, _ := w.rehearse()
		assert.Equal(t, []string{"+ log host 192.0.2.77"}, found[0].NotSaved)
		assert.Contains(t, found[0].Whose, "no night of ours left it")
		assert.True(t, found[1].Already)
		assert.Contains(t, found[2].Whose, "deckhand")
		for _, d := range w.plan.Targets() {
			n, _ := w.saves(d.Device.Name)
			assert.Zero(t, n)
		}
	})
}

// What somebody else has not saved is not saved by a night that only looks or expects.
func TestALookSavesNothing(t *testing.T) {
	for i, step := range []string{"  expect    clock.settled within 5s\n", "  expect    clock.source == \"192.0.2.40\" within 5s\n", "  look\n    | tell clock\n"} {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Unsaved: "log host 192.0.2.77"}}, func(string) string {
					return "runbook \"Look\"\n  window    none\n\nscope\n  role == \"quay\"\n\nstep \"Look\"\n" + step + "\nunattended  take back the device\n"
				})
				defer w.sim.Close()
				w.noTimer = true
				w.runQuiet()
				n, saved := w.saves("ald-quay-1")
				assert.Zero(t, n, w.night.Devices[0].Note)
				assert.False(t, saved)
			})
		})
	}
}

// Without a timer, unsaved changes may be let pass: by the runbook, or by a waiver; what is kept
// then says that they were saved, too.
func TestUnsavedChangesThatArePassed(t *testing.T) {
	for name, waiver := range map[string]string{"saved off": "", "waived": "saved on ald-quay-1: it is known"} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				edit := same
				if waiver == "" {
					edit = edits("  storage   at", "  saved     off\n  storage   at")
				}
				w := untimedWorld(t, shipped(t), []sim.Spec{{Unsaved: "log host 192.0.2.77"}}, edit)
				defer w.sim.Close()
				if waiver != "" {
					parsed, err := plan.ParseWaiver(waiver, "Ada")
					require.NoError(t, err)
					require.NoError(t, w.plan.Waive([]plan.Waiver{parsed}))
				}
				w.runQuiet()
				d := w.night.Devices[0]
				assert.Equal(t, night.Kept, d.State, d.Note)
				assert.Contains(t, d.Note, "with what was not saved before this night")
			})
		})
	}
}
