package nights

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/sim"
)

// gatesBook changes gate controllers over Telnet, which have no rollback timer.
const gatesBook = `runbook "Gates close sooner"
  window    now for 3h
  reserve   20m

scope
  role == "gate"

batches
  sizes     1, 4
  together  4

precheck
  reachable
  clock     within 30s
  saved

timer       none

step "Open time"
  already   when config has "gate 2 open 4 s"
  send
    | set gate 2 open 4 s
  undo
    | set gate 2 open 8 s
  expect    any(gates, .gate == 2 and .open == 4) within 30s

step "Report"
  already   when config has "report host 198.51.100.14"
  send
    | set report host 198.51.100.14
  undo
    | set report host 198.51.100.9

finish
  soak      30s

unattended  take back the device
`

// gateHouse makes a world of gate controllers.
func gateHouse(t testing.TB, devices []sim.Spec) *world {
	t.Helper()
	return gatesOf(t, devices, t.TempDir(), func(b string) string { return b })
}

// gatesOf is gateHouse in a directory, with the runbook edited.
func gatesOf(t testing.TB, devices []sim.Spec, dir string, edit func(string) string) *world {
	t.Helper()
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,login\n")
	for i := range devices {
		d := &devices[i]
		d.Name, d.Platform, d.Address = fmt.Sprintf("ald-gate-%d", i+1), "plover", fmt.Sprintf("192.0.2.%d", 100+i)
		fmt.Fprintf(&csv, "%s,%s,plover,ALD,gate,gates\n", d.Name, d.Address)
	}
	w := newWorld(t, sim.Scenario{Boot: 15 * time.Second, Latency: 50 * time.Millisecond, Devices: devices}, csv.String(), edit(gatesBook), dir)
	w.mark, w.noTimer = "report host 198.51.100.14", true
	return w
}

// TestANightOverTelnet changes gate controllers that take one session at a time
// and keep one that was not ended properly, whatever goes wrong with one of them.
func TestANightOverTelnet(t *testing.T) {
	for name, c := range map[string]struct {
		fault sim.Fault
		state night.State
		note  string
	}{
		"no fault":        {sim.Fault{Kind: sim.Slow, Match: "^nothing$"}, night.Kept, "kept and saved"},
		"refuses":         {sim.Fault{Kind: sim.Refuses}, night.Blocked, "refuses port 23"},
		"bad password":    {sim.Fault{Kind: sim.BadPassword}, night.Blocked, "login is denied"},
		"bad master":      {sim.Fault{Kind: sim.NoOperator}, night.Blocked, "entering mode master: refused"},
		"hangs early":     {sim.Fault{Kind: sim.Hangs, Match: "^list clock"}, night.Blocked, "no prompt in 15s"},
		"rejects a line":  {sim.Fault{Kind: sim.Rejects, Match: "^set report"}, night.Reverted, "equal to the backup"},
		"drops mid-line":  {sim.Fault{Kind: sim.Drops, Match: "^set report", Times: 1}, night.Reverted, "equal to the backup"},
		"hangs at a line": {sim.Fault{Kind: sim.Hangs, Match: "^set report", Times: 1}, night.Reverted, "equal to the backup"},
		"garbage":         {sim.Fault{Kind: sim.Garbage, Match: "^set report"}, night.Kept, "kept and saved"},
		"slow":            {sim.Fault{Kind: sim.Slow, By: 2 * time.Second}, night.Kept, "kept and saved"},
		"restarts":        {sim.Fault{Kind: sim.Restarts, Match: "^set report", Times: 1}, night.Reverted, "equal to the backup"},
		"no save":         {sim.Fault{Kind: sim.NoSave}, night.Reverted, "equal to the backup"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := gateHouse(t, []sim.Spec{{Faults: []sim.Fault{c.fault}}, {}, {}})
				defer w.sim.Close()
				w.runQuiet()
				d := w.night.Get("ald-gate-1")
				assert.Equal(t, c.state, d.State, d.Note)
				assert.Contains(t, d.Note, c.note)
				others := night.Kept
				if strings.Contains(w.journalText(), `"kind":"lost"`) {
					others = night.Skipped // contact was lost with a device that has no timer: nobody is there to be asked
				}
				assert.Equal(t, others, w.night.Get("ald-gate-2").State)
				assert.Equal(t, others, w.night.Get("ald-gate-3").State)
				w.checkLaws()
			})
		})
	}
}

// TestRandomNightsOverTelnet lets anything go wrong on the lines of gate
// controllers, as the seed has it; the laws hold.
func TestRandomNightsOverTelnet(t *testing.T) {
	kinds := []string{sim.Rejects, sim.Drops, sim.Hangs, sim.Garbage, sim.Slow, sim.Restarts, sim.NoSave, sim.NoOperator, sim.BadPassword, sim.Refuses}
	lines := []string{"", "^set gate", "^set report", "^list settings", "^list stored", "^list gates", "^list clock", "^store", "^master", "^plain"}
	for i := range max(uint64(*count)/8, 8) {
		seed := *firstSeed + i
		t.Run(fmt.Sprintf("seed=%d", seed), func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				rng := rand.New(rand.NewPCG(seed, 5))
				devices := make([]sim.Spec, 5)
				for i := range devices {
					for range rng.IntN(3) {
						devices[i].Faults = append(devices[i].Faults, sim.Fault{Kind: kinds[rng.IntN(len(kinds))], Match: lines[rng.IntN(len(lines))],
							Times: rng.IntN(3), By: time.Duration(rng.IntN(5)) * time.Second})
					}
				}
				w := gateHouse(t, devices)
				defer w.sim.Close()
				w.runQuiet()
				w.checkLaws()
				for _, d := range devices {
					t.Logf("%s %+v: %s, %s", d.Name, d.Faults, w.night.Get(d.Name).State, w.night.Get(d.Name).Note)
				}
			})
		})
	}
}
