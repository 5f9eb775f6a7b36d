package nights

import (
	"context"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// rehearse rehearses all devices of a world.
func (w *world) rehearse() (found []work.Rehearsed, events []night.Event) {
	for _, t := range w.plan.Targets() {
		_, got, told := work.Rehearse(context.Background(), w.plan, t, work.Outside{Connector: w.reached(), Backups: w.backups, Broke: w.broke})
		require.NoError(w.t, w.scripts.Close())
		found, events = append(found, got), append(events, told...)
	}
	return found, events
}

// A rehearsal is the night without the change: by what the devices themselves saw, nothing
// was typed, armed or saved; and what it found is what the night then does.
func TestARehearsalChangesNothing(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		specs := []sim.Spec{{}, {Config: intendedConfig}, {ClockOff: 5 * time.Minute}, {Faults: []sim.Fault{{Kind: sim.BadPassword}}}, {}}
		w := simpleIn(t, dir, specs, book(wantedBook))
		defer w.sim.Close()
		found, _ := w.rehearse()
		for _, d := range w.sim.Devices() {
			assert.Equal(t, w.initial[d.Name()], d.Running(), d.Name())
			for _, tr := range d.Truth() {
				assert.Contains(t, []sim.What{sim.Shown, sim.Denied}, tr.What, "%s: %q", d.Name(), tr.Line)
			}
		}
		w.runQuiet()
		for _, f := range found {
			d := w.night.Get(f.Device)
			assert.Equal(t, d.State == night.Blocked, f.Blocked != "", "%s: rehearsed %q, and is %s: %s", f.Device, f.Blocked, d.State, d.Note)
			assert.Equal(t, d.State == night.Already, f.Already, f.Device)
			if d.State == night.Kept {
				assert.Equal(t, d.Diff, f.Differs, "what it said will differ is what differs now")
				require.Len(t, f.Steps, len(d.Marks))
				for i, s := range f.Steps {
					assert.Equal(t, d.Marks[i] == night.StepAlready, s.Done)
					assert.Equal(t, s.Done, len(s.Send) == 0)
					assert.Equal(t, s.Done, len(s.Undo) == 0)
				}
				assert.NotEmpty(t, f.Backup)
				assert.Len(t, f.Fingerprint, 64)
			}
		}
		byName := map[string]work.Rehearsed{}
		for _, f := range found {
			byName[f.Device] = f
			for _, secret := range []string{password, operator, inConfig} {
				for _, l := range append(append(f.Differs, f.Notices...), f.Blocked, f.Unknown) {
					assert.NotContains(t, l, secret)
				}
			}
		}
		assert.Contains(t, byName["ald-quay-3"].Blocked, "clock: its clock is off by 5m")
		assert.NotEmpty(t, byName["ald-quay-3"].Differs, "what it would do is computed all the same")
		assert.Contains(t, byName["ald-quay-4"].Blocked, "not reachable")
		w.checkLaws()
	})
}

// What has changed on a device since the rehearsal is said before its first line.
func TestWhatChangedSinceTheRehearsal(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleIn(t, dir, []sim.Spec{{}, {}}, book(wantedBook))
		defer w.sim.Close()
		found, _ := w.rehearse()
		earlier := map[string]*work.Earlier{}
		for _, f := range found {
			earlier[f.Device] = &work.Earlier{At: time.Now(), Config: w.backups.text[f.Device], Differs: f.Differs}
			assert.NotEmpty(t, f.Neighbours, "who is at the other ends of its ports is kept")
		}
		was := earlier["ald-quay-1"]
		was.Config = strings.Replace(was.Config, "log host 198.51.100.9\n", "log host 198.51.100.77\n", 1)
		w.rehearsed = func(device string) *work.Earlier { return earlier[device] }
		time.Sleep(20 * time.Hour)
		w.runQuiet()
		d := w.night.Get("ald-quay-1")
		require.NotEmpty(t, d.Notices)
		assert.Contains(t, d.Notices[0], "it has changed since it was rehearsed")
		assert.Equal(t, []string{"- log host 198.51.100.77", "+ log host 198.51.100.9"}, d.Notices[1:])
		assert.Empty(t, w.night.Get("ald-quay-2").Notices)
		said, sent := -1, -1
		for i, e := range w.seen {
			switch {
			case e.Device != "ald-quay-1":
			case e.Kind == night.Prediction && strings.Contains(e.Note, "since it was rehearsed"):
				said = i
			case e.Kind == night.Sent && sent < 0:
				sent = i
			}
		}
		assert.True(t, said >= 0 && said < sent, "said before its first line")
		w.checkLaws()
	})
}

// What a night of ours has done of the change since is no news.
func TestWhatOurNightChangedSinceTheRehearsal(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		w := simpleIn(t, dir, []sim.Spec{{}}, book(wantedBook))
		defer w.sim.Close()
		found, _ := w.rehearse()
		first := w.backups.text["ald-quay-1"]
		w.runQuiet()
		require.Equal(t, night.Kept, w.night.Get("ald-quay-1").State)
		after := w.sim.Device("ald-quay-1").Running()
		for _, c := range []struct {
			name, config string
			differs      []string
			news         bool
		}{
			{"what was to differ does", first, found[0].Differs, false},
			{"more does", first + "log host 203.0.113.7\n", found[0].Differs, true},
			{"nothing was to differ", first, nil, true},
			{"nothing does", after, nil, false},
		} {
			w.rehearsed = func(string) *work.Earlier {
				return &work.Earlier{At: time.Now(), Config: c.config, Differs: c.differs}
			}
			w.night = night.Night{}
			w.runQuiet()
			assert.Equal(t, c.news, strings.Contains(strings.Join(w.night.Get("ald-quay-1").Notices, " "), "since it was rehearsed"), c.name)
		}
	})
}

// Lines that touch the way by which a device is managed are pointed out: those that its
// language knows, the port to the device it is reached through, its own address.
func TestLinesOnTheManagementPath(t *testing.T) {
	dir := t.TempDir()
	synctest.Test(t, func(t *testing.T) {
		specs := []sim.Spec{{}, {Uplink: "ald-quay-1"}}
		w := simpleIn(t, dir, specs, book("step \"Way\"\n  want\n    | port 1\n    |   lan 10\n    | log host 198.51.100.14\n    | manage from 192.0.2.1\n"))
		defer w.sim.Close()
		found, _ := w.rehearse()
		byName := map[string]work.Rehearsed{}
		for _, f := range found {
			byName[f.Device] = f
		}
		assert.Contains(t, byName["ald-quay-1"].Path, "manage from any")
		assert.NotContains(t, strings.Join(byName["ald-quay-1"].Path, "\n"), "log host")
		assert.NotContains(t, strings.Join(byName["ald-quay-1"].Path, "\n"), "port 1", "it is reached through no other")
		assert.Contains(t, strings.Join(byName["ald-quay-2"].Path, "\n"), "port 1 > lan 10", "its port to the device it is reached through")
		assert.Contains(t, strings.Join(byName["ald-quay-2"].Notices, "\n"), "a slip in them cuts it off")
	})
}
