package nights

import (
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/record"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// What is recorded is there from before and after; and a device on which something is lost
// by a change that says yes to everything is not kept.
func TestWhatIsRecordedIsHeldAgainst(t *testing.T) {
	for name, c := range map[string]struct {
		step, compare string
		faults        []sim.Fault
		state         night.State
		note, why     string
	}{
		"nothing is lost":       {"want\n    | port 3\n    |   label \"desk\"", "addresses, neighbours: no loss", nil, night.Kept, "as predicted", ""},
		"a label is no loss":    {"want\n    | port 3\n    |   label \"desk\"", "ports: no loss within 5s", nil, night.Kept, "as predicted", ""},
		"a label is a change":   {"want\n    | port 3\n    |   label \"desk\"", "ports: no change within 5s", nil, night.Reverted, "equal to the backup", "ports: port 3: label is desk, was gate"},
		"an address is lost":    {"want\n    | port 2\n    |   shut", "addresses: no loss within 5s", nil, night.Reverted, "equal to the backup", "is gone (port 2)"},
		"it cannot be compared": {"want\n    | port 3\n    |   label \"desk\"", "addresses: no loss within 5s", []sim.Fault{{Kind: sim.Garbage, Match: "^tell addresses", After: 1}}, night.Reverted, "equal to the backup", ""},
		"lost while comparing":  {"want\n    | port 3\n    |   label \"desk\"", "addresses: no loss within 5s", []sim.Fault{{Kind: sim.Drops, Match: "^tell addresses", After: 1, Times: 1}}, night.Reverted, "equal to the backup", ""},
		"cannot be recorded":    {"want\n    | port 3\n    |   label \"desk\"", "addresses: no loss within 5s", []sim.Fault{{Kind: sim.Garbage, Match: "^tell addresses"}}, night.Blocked, "recording addresses before the change", ""},
		"after is not read":     {"want\n    | port 3\n    |   label \"desk\"", "neighbours: no loss within 5s", []sim.Fault{{Kind: sim.Drops, Match: "^tell addresses", After: 1, Times: 1}}, night.Kept, "as predicted", ""},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{Faults: c.faults}, {}}, func(b string) string {
					b = book("step \"S\"\n  " + c.step + "\n")(b)
					b = strings.Replace(b, "\ntimer ", "\nrecord      ports, addresses, config\n\ntimer ", 1)
					return strings.Replace(b, "\nfinish\n", "\nfinish\n  compare   "+c.compare+"\n", 1)
				})
				defer w.sim.Close()
				w.mark = ""
				var mu sync.Mutex
				got := map[string]record.Device{}
				w.record = func(phase string, d record.Device) error {
					mu.Lock()
					defer mu.Unlock()
					got[phase+" "+d.Device] = d
					return nil
				}
				w.runQuiet()
				w.checkLaws()
				d := w.night.Get("ald-quay-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				if c.state == night.Blocked {
					found, _ := w.rehearse()
					assert.Contains(t, found[0].Blocked, c.note, "a rehearsal says so before")
					assert.Empty(t, found[1].Blocked)
				}
				if c.why != "" {
					assert.Contains(t, w.journalText(), strings.ReplaceAll(c.why, `"`, `\"`))
				}
				before, after := got["before ald-quay-1"], got["after ald-quay-1"]
				if c.state != night.Blocked {
					assert.Len(t, before.Tables["ports"], 12)
					assert.NotEmpty(t, before.Backup)
				}
				switch {
				case c.state != night.Kept:
					assert.Empty(t, after.Device, "of a device that was not kept there is no after")
				case name == "after is not read":
					assert.NotEmpty(t, after.Wrong["addresses"])
				default:
					assert.NotEmpty(t, after.Backup)
					assert.NotEqual(t, before.SHA256, after.SHA256)
					assert.Len(t, record.Tables(before, after, func(string) record.Manner { return record.Manner{Keys: []string{"port"}} }), 1, "the label")
				}
				if t.Failed() {
					t.Log(w.story())
				}
			})
		})
	}
}

// A record that cannot be written blocks before the change, and is no reason to take a
// device back after it.
func TestARecordThatCannotBeWritten(t *testing.T) {
	for _, phase := range []string{work.Before, work.After} {
		synctest.Test(t, func(t *testing.T) {
			w := simple(t, []sim.Spec{{}}, func(b string) string {
				return strings.Replace(b, "\ntimer ", "\nrecord      ports\n\ntimer ", 1)
			})
			defer w.sim.Close()
			w.record = func(p string, _ record.Device) error {
				if p == phase {
					return assert.AnError
				}
				return nil
			}
			w.runQuiet()
			w.checkLaws()
			d := w.night.Devices[0]
			if phase == work.Before {
				assert.Equal(t, night.Blocked, d.State)
				assert.Contains(t, d.Note, "its record cannot be kept")
				assert.False(t, d.Touched)
			} else {
				assert.Equal(t, night.Kept, d.State, d.Note)
				assert.Contains(t, strings.Join(d.Notices, "; "), "what was recorded after could not be kept")
			}
			assert.WithinDuration(t, time.Now(), w.night.Ended, time.Minute)
		})
	}
}

// A prediction that cannot be kept is told, and is no reason not to go on.
func TestAPredictionThatCannotBeKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {}}, func(b string) string { return b })
		defer w.sim.Close()
		w.predict = func(device, _ string) error {
			if device == "ald-quay-1" {
				return assert.AnError
			}
			return nil
		}
		w.runQuiet()
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, d.Note)
		}
		assert.Contains(t, strings.Join(w.night.Get("ald-quay-1").Notices, "; "), "what was predicted of it could not be kept: "+assert.AnError.Error())
		assert.Empty(t, w.night.Get("ald-quay-2").Notices)
		assert.Contains(t, w.predicted.text["ald-quay-2"], w.mark)
	})
}
