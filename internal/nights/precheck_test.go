package nights

import (
	"fmt"
	"maps"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/sim"
)

// with puts lines into the precheck section of the standard runbook.
func with(lines ...string) func(string) string {
	return func(book string) string {
		return strings.Replace(book, "precheck\n", "precheck\n  "+strings.Join(lines, "\n  ")+"\n", 1)
	}
}

// pairFleet makes a world of two partners.
func pairFleet(t testing.TB, devices []sim.Spec, edit func(string) string) *world {
	t.Helper()
	csv := "name,address,platform,site,role,pair,login\n"
	for i := range devices {
		devices[i].Address = fmt.Sprintf("192.0.2.%d", 100+i)
		csv += fmt.Sprintf("%s,%s,tern,ALD,%s,%s,crew\n", devices[i].Name, devices[i].Address, []string{"quay", "other", "other"}[i], []string{"gates", "gates standby", ""}[i])
	}
	return newWorld(t, sim.Scenario{Boot: 15 * time.Second, Settle: 8 * time.Second, Devices: devices}, csv, edit(standardBook), t.TempDir())
}

func TestPrechecks(t *testing.T) {
	for name, c := range map[string]struct {
		line string
		spec sim.Spec
		want string // why it is blocked; "" is kept
	}{
		"version fits":       {"version 4.1, 4.2", sim.Spec{}, ""},
		"version is another": {"version 4.3", sim.Spec{}, "version: it runs 4.2, wanted 4.3"},
		"alone":              {"alone", sim.Spec{}, ""},
		"not alone":          {"alone", sim.Spec{Editing: "ada"}, "alone: somebody else is changing its configuration: ada"},
		"no pair":            {"pair healthy", sim.Spec{}, ""},
		"own check holds":    {`check "Storage" where storage.free > 1 and config has "lan 10 > title office"`, sim.Spec{}, ""},
		"own check does not": {`check "Port 3" where all(ports, .port != 3 or .state == "shut")`, sim.Spec{}, "Port 3: "},
		"wanted and got":     {`check "Source" where clock.source == "192.0.2.40"`, sim.Spec{}, "Source: clock.source is 192.0.2.9, wanted 192.0.2.40"},
		"of the fleet":       {`check "Site" where site == "ALD"`, sim.Spec{}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{c.spec}, with(c.line))
				defer w.sim.Close()
				w.runQuiet()
				d := w.night.Devices[0]
				if c.want == "" {
					assert.Equal(t, night.Kept, d.State, d.Note)
					return
				}
				assert.Equal(t, night.Blocked, d.State)
				assert.Contains(t, d.Note, c.want)
			})
		})
	}
}

// Every precheck is looked at and its result kept, whichever fails first.
func TestEveryPrecheckIsKept(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{ClockOff: 2 * time.Minute, FreeMB: 3, Unsaved: "log host 192.0.2.77"}}, with("version 9.9", "alone"))
		defer w.sim.Close()
		w.runQuiet()
		d := w.night.Devices[0]
		got := map[string]bool{}
		for _, c := range d.Checks {
			got[c.Name] = c.OK
		}
		assert.Equal(t, map[string]bool{"reachable": true, "identity": true, "version": false, "alone": true, "clock": false, "storage": false, "saved": false}, got)
		for _, part := range []string{"version: ", "clock: ", "storage: ", "saved: "} {
			assert.Contains(t, d.Note, part)
		}
	})
}

func TestAPairIsHealthyWhenThePartnerAnswers(t *testing.T) {
	for _, c := range []struct {
		faults []sim.Fault
		want   string // "" is kept
	}{
		{nil, ""},
		{[]sim.Fault{{Kind: sim.Refuses}}, "pair: its partner ald-quay-2 cannot be reached: answers on the network but refuses port 22"},
		{[]sim.Fault{{Kind: sim.Exchanged, With: "ald-quay-9"}}, "pair: what answers is not its partner ald-quay-2: "},
	} {
		synctest.Test(t, func(t *testing.T) {
			w := pairFleet(t, []sim.Spec{{Name: "ald-quay-1"}, {Name: "ald-quay-2", Faults: c.faults}, {Name: "ald-quay-9"}}, with("pair healthy"))
			defer w.sim.Close()
			w.runQuiet()
			require.Len(t, w.night.Devices, 1, "the partner is out of scope")
			d := w.night.Devices[0]
			if c.want == "" {
				assert.Equal(t, night.Kept, d.State, d.Note)
				return
			}
			assert.Equal(t, night.Blocked, d.State)
			assert.Contains(t, d.Note, c.want)
		})
	}
}

// A waiver lets one device pass one precheck, and stands in the journal with
// its reason.
func TestWaivers(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{ClockOff: 2 * time.Minute}, {ClockOff: 2 * time.Minute}}, nil)
		defer w.sim.Close()
		waiver, err := plan.ParseWaiver("clock on ald-quay-1: its battery is dead", "ada")
		require.NoError(t, err)
		require.NoError(t, w.plan.Waive([]plan.Waiver{waiver}))
		w.runQuiet()
		assert.Equal(t, night.Kept, w.night.Get("ald-quay-1").State)
		assert.Equal(t, night.Blocked, w.night.Get("ald-quay-2").State)
		found := 0
		for _, e := range w.journal.Events {
			if e.Waived != "" {
				found++
				assert.Equal(t, "ald-quay-1 clock its battery is dead ada", strings.Join([]string{e.Device, e.What, e.Waived, e.By}, " "))
				assert.False(t, e.OK, "a waived check is not one that holds")
			}
		}
		assert.Equal(t, 1, found)
		assert.Contains(t, w.journalText(), `"waivers":[{"check":"clock","device":"ald-quay-1","reason":"its battery is dead","by":"ada"}]`)

		for text, want := range map[string]string{
			"reachable on ald-quay-1: x y z": "cannot be waived",
			"saved on ald-quay-1: x y z":     "cannot be waived",
			"clock on ald-quay-9: x y z":     "not in scope",
			"clocks on ald-quay-1: x y z":    "write: clock",
			"alone on ald-quay-1: x y z":     "no precheck",
		} {
			waiver, err := plan.ParseWaiver(text, "ada")
			require.NoError(t, err)
			assert.ErrorContains(t, w.plan.Waive([]plan.Waiver{waiver}), want, text)
		}
		for text, want := range map[string]string{"clock ald-quay-1: why": "write CHECK on DEVICE: REASON", "clock on ald-quay-1": "write CHECK on DEVICE: REASON",
			"": "write CHECK on DEVICE: REASON", "clock on ald-quay-1: ": "says nothing", "clock on ald-quay-1: x": "says nothing"} {
			_, err := plan.ParseWaiver(text, "ada")
			assert.ErrorContains(t, err, want, text)
		}
		waiver, err = plan.ParseWaiver("gates: all up on ald-quay-1: one is being mended: see MSF-2290", "ada")
		require.NoError(t, err)
		assert.Equal(t, plan.Waiver{Check: "gates: all up", Device: "ald-quay-1", Reason: "one is being mended: see MSF-2290", By: "ada"}, waiver)
	})
}

func TestAPrecheckSwitchedOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{ClockOff: 2 * time.Minute}}, func(book string) string { return strings.Replace(book, "clock     within 30s", "clock     off", 1) })
		defer w.sim.Close()
		w.runQuiet()
		assert.Equal(t, night.Kept, w.night.Devices[0].State)
		assert.Contains(t, w.plan.Warnings, "precheck clock is switched off")
	})
}

// A platform whose profile does not read what a precheck looks at: the plan says so, and where
// that is waived for the platform its devices pass, with the reason in the journal.
func TestAPrecheckThatAProfileCannotLookAt(t *testing.T) {
	set, dir := maps.Clone(shipped(t)), t.TempDir()
	p := *set["tern"]
	p.Readers = maps.Clone(p.Readers)
	delete(p.Readers, "storage")
	set["tern"] = &p
	synctest.Test(t, func(t *testing.T) {
		w := simpleOf(t, set, dir, []sim.Spec{{}}, nil, nil)
		defer w.sim.Close()
		assert.ErrorContains(t, w.plan.Readable(), "the profile of tern does not read the table storage")
		waiver, err := plan.ParseWaiver("storage on tern: it cannot show it", "Ada")
		require.NoError(t, err)
		require.NoError(t, w.plan.Waive([]plan.Waiver{waiver}))
		require.NoError(t, w.plan.Readable())
		w.runQuiet()
		d := w.night.Devices[0]
		assert.Equal(t, night.Kept, d.State, d.Note)
		for _, c := range d.Checks {
			if c.Name == "storage" {
				assert.False(t, c.OK)
				assert.Equal(t, "it cannot show it", c.Waived)
			}
		}
	})
}
