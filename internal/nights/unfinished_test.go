package nights

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// logOnly wants one line, which is the one that devices of these tests run and have not saved.
const logOnly = "step \"Log collector\"\n  want\n    | log host 198.51.100.14\n"

// What an earlier night of ours left unsaved on a device, when it was cut off, is proven and
// saved by the same runbook, without a timer: it would bring back what was before. What is
// anybody else's blocks, and it is said what that night has to do with it.
func TestWhatANightThatWasCutOffLeftUnsaved(t *testing.T) {
	const others = "log host 192.0.2.77"
	ours := func(w *world) *work.Unfinished {
		dev := w.sim.Device("ald-quay-1")
		return &work.Unfinished{ID: 7, Night: "night 7", Was: "soaking", Had: dev.Saved(), WouldHave: strings.ReplaceAll(dev.Running(), inConfig, "▒▒▒▒")}
	}
	for name, c := range map[string]struct {
		unsaved, book string
		left          func(w *world) *work.Unfinished
		state         night.State
		note          string
	}{
		"ours":               {"log host 198.51.100.14", logOnly, ours, night.Kept, "kept and saved: it ran already and was not saved"},
		"ours, another book": {"log host 198.51.100.14", strings.Replace(logOnly, ".14", ".15", 1), ours, night.Blocked, "they are what night 7 left, which was cut off: run its runbook again, which proves and saves them, or take them back with metabasis restore --before 7"},
		"not just ours": {others, logOnly, func(w *world) *work.Unfinished {
			u := ours(w)
			u.WouldHave = strings.Replace(u.WouldHave, others+"\n", "log host 198.51.100.14\n", 1)
			return u
		}, night.Blocked, "night 7 was soaking there when it was cut off, and they are not just what it was to leave"},
		"its backup is gone": {"log host 198.51.100.14", logOnly, func(w *world) *work.Unfinished { u := ours(w); u.Had = ""; return u }, night.Blocked, "not just what it was to leave"},
		"nobody's":           {"log host 198.51.100.14", logOnly, func(*world) *work.Unfinished { return nil }, night.Blocked, "it has unsaved changes: + log host 198.51.100.14"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Unsaved: c.unsaved}}, book(c.book))
				defer w.sim.Close()
				w.unfinished = func(string) *work.Unfinished { return c.left(w) }
				w.run(context.Background(), nil)
				d, dev := w.night.Get("ald-quay-1"), w.sim.Device("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				assert.Equal(t, c.state == night.Kept, dev.Running() == dev.Saved())
				for _, tr := range dev.Truth() {
					assert.NotEqual(t, sim.Armed, tr.What, "law 2: it is not armed")
					assert.NotEqual(t, sim.Received, tr.What, "nothing is sent")
				}
			})
		})
	}
}

// What is unsaved is taken back where what is saved is what it is taken back to: a timer that
// fires leads there, too.
func TestUnsavedChangesAreTakenBack(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		now := baseConfig
		text := asPrinted(t, "tern", "ald-quay-1", now)
		w := restoring(t, shipped(t), dir, "tern", []sim.Spec{{Config: now, Unsaved: "log host 192.0.2.77"}},
			map[string]runbook.Was{"ald-quay-1": {Name: "x.cfg", Text: text}})
		defer w.sim.Close()
		before := w.sim.Device("ald-quay-1").Saved()
		w.run(context.Background(), nil)
		d, dev := w.night.Get("ald-quay-1"), w.sim.Device("ald-quay-1")
		assert.Equal(t, night.Kept, d.State, d.Note)
		assert.Equal(t, "kept and saved; as predicted", d.Note, "nothing that was unsaved is left")
		assert.Equal(t, before, dev.Running())
		assert.Equal(t, before, dev.Saved())
	})
}

// A device that has all the lines and does not show what is expected of it is not as
// intended: nothing is sent, it is proven as after a change, and held where it does not come
// true.
func TestLinesAloneAreNotAsIntended(t *testing.T) {
	for name, c := range map[string]struct {
		edit  func(string) string
		state night.State
		note  string
	}{
		"it shows": {nil, night.Already, "as intended already and saved; nothing was sent"},
		"it never shows": {func(s string) string {
			return strings.Replace(s, `expect    clock.source == "192.0.2.40"`, `expect    clock.source == "192.0.2.9"`, 1)
		}, night.Reverted, "nothing was sent: it is as it was, with the change, and what is expected of it does not hold"},
	} {
		t.Run(name, func(t *testing.T) {
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := simpleIn(t, dir, []sim.Spec{{Config: intendedConfig}}, c.edit)
				defer w.sim.Close()
				found, _ := w.rehearse()
				assert.Equal(t, c.state == night.Already, found[0].Already, "a rehearsal says the same")
				assert.Equal(t, c.state != night.Already, strings.Contains(strings.Join(found[0].Notices, "\n"), "all of it is there already, and what is expected of it does not hold: clock.source"))
				w.runQuiet()
				d, dev := w.night.Get("ald-quay-1"), w.sim.Device("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				for _, tr := range dev.Truth() {
					assert.NotEqual(t, sim.Received, tr.What, "nothing is sent")
				}
				if c.state == night.Reverted {
					assert.NotEqual(t, night.AllKept, w.night.Outcome())
					assert.NotEmpty(t, w.holdsOf("ald-quay-1"))
				}
			})
		})
	}
}
