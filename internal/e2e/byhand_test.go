package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// troubled is a workspace over simulated switches with these faults, and a runbook of two steps.
func troubled(t *testing.T, devices string) (ws string) {
	t.Helper()
	dir := t.TempDir()
	ws = filepath.Join(dir, "ws")
	scenario := filepath.Join(dir, "scenario.yaml")
	require.NoError(t, os.WriteFile(scenario, []byte(`boot: 3s
logins: {crew: harbour-lamp}
operator: deep-fathom
config: |
  name {{.Name}}
  log host 198.51.100.9
  manage from any
  lan 10
    title office
devices:
`+devices), 0o600))
	simulate(t, ws, "--scenario", scenario)
	require.NoError(t, os.WriteFile(filepath.Join(ws, "night.runbook"), []byte(`runbook "The new log collector"
  window    now for 40m
  reserve   5m

scope
  platform == "tern"

batches
  sizes     100%
  together  8
  stop      never

precheck
  saved

timer       4m

step "Log collector"
  send
    | log host 198.51.100.14
  undo
    | drop log host 198.51.100.14

step "Ticket gates"
  want
    | lan 310
    |   title gates
`), 0o600))
	return ws
}

// The same failure on three devices is one decision: other lines are edited once for all of them,
// what they would do is shown before any is sent, and the report has who did that and why.
func TestOneDecisionAndOtherLines(t *testing.T) {
	t.Parallel()
	refuses := `faults: [{kind: rejects, match: "^log host 198.51.100.14$"}]`
	ws := troubled(t, "  - {name: ald-quay-1, site: ALD, "+refuses+"}\n  - {name: ald-quay-2, site: ALD, "+refuses+"}\n  - {name: brm-quay-1, site: BRM, "+refuses+"}\n")
	x := start(t, "140x41", crewEnv(), "-C", ws, "run", "night.runbook")
	x.beginNow()
	x.see("and 2 more")
	x.press("d")
	x.see("Decide: 3 devices, held for the same")
	x.press("6")
	x.see("▌ 6 Send other lines")
	x.press("Enter")
	x.see("Enter again: 3 devices")
	x.press("Enter")
	x.see(`Other lines for \S+ and 2 more`)
	x.press("s")
	x.see("these are the lines of the runbook")
	x.press("Enter", "BSpace", "5", "Enter")
	x.see(`◧ log host 198.51.100.15`)
	x.press("s")
	x.see("Reason:")
	x.press("wrong", "Space", "address", "Enter")
	x.see("and 2 more(.*\n)+.*computed: \\+ log host 198.51.100.15")
	x.press("d")
	s := x.see("computed: \\+ log host 198.51.100.15")
	assert.Contains(t, s, ": wrong address")
	x.press("1")
	x.see("sends  log host 198.51.100.15")
	x.press("Enter")
	x.see("Enter again: 3 devices")
	x.press("Enter")
	x.see("The night is over. 3 devices: 3 kept")
	x.press("q")
	x.see(`\[code 0\]`)
	report, err := exec.Command(binary, "-C", ws, "report", "1").Output()
	require.NoError(t, err)
	assert.Equal(t, 3, strings.Count(string(report), `other lines for "Log collector" by`))
	assert.Contains(t, string(report), "wrong address")
}

// A device that is held is worked by hand at its console, with its way back counted down; a line that
// is never sent wants a reason; what was done is shown, and adopted.
func TestADeviceIsWorkedByHandFromDecide(t *testing.T) {
	t.Parallel()
	ws := troubled(t, `  - {name: ald-quay-1, site: ALD, faults: [{kind: rejects, match: "^log host 198.51.100.14$"}]}`+"\n")
	x := start(t, "140x41", crewEnv(), "-C", ws, "run", "night.runbook")
	x.beginNow()
	x.see("ald-quay-1 is held")
	x.press("d")
	x.see("▌ 1 Try again")
	x.press("7")
	x.see("▌ 7 Work it by hand")
	x.press("Enter")
	x.see(`restarts at \S+, in \d:\d\d · console of ald-quay-1 over SSH`)
	x.see(`\[ald-quay-1 look\]`)
	x.press("work", "Enter")
	x.see("Ctrl-P sends the secret operator")
	x.press("C-p")
	x.see(`\[ald-quay-1 work\]`)
	x.press("restart", "Space", "now", "Enter")
	x.see("restart now: its profile never has that sent. NOT SENT YET. Why all the same")
	x.press("Escape")
	x.see("restarts at")
	x.press("BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace", "BSpace")
	x.press("edit", "Enter")
	x.see(`\[ald-quay-1 edit\]`)
	x.press("log", "Space", "host", "Space", "198.51.100.77", "Enter")
	x.see(`77\n\[ald-quay-1 edit\]`)
	x.press("C-g")
	x.see(`ald-quay-1 is held: worked by hand by .*: 1 line is different`)
	x.press("d")
	s := x.see("Adopt what was done by hand")
	assert.Contains(t, s, "+ log host 198.51.100.77")
	x.press("1", "Enter")
	x.see("Reason:")
	x.press("seen", "Enter")
	x.see("The night is over. 1 device: 1 kept")
	x.press("q")
	x.see(`\[code 0\]`)
	report, err := exec.Command(binary, "-C", ws, "report", "1").Output()
	require.NoError(t, err)
	assert.Regexp(t, `worked by hand by .*Different after it`, string(report))
	assert.Contains(t, string(report), "+ log host 198.51.100.77")
}

// A console with a guard is a night of one device: backed up and armed first, worked, and taken back.
func TestAGuardedConsole(t *testing.T) {
	t.Parallel()
	ws := troubled(t, "  - {name: ald-quay-1, site: ALD}\n")
	x := start(t, "100x30", crewEnv(), "-C", ws, "console", "ald-quay-1", "--guard", "5m")
	x.beginNow()
	x.see("▌ 1 Work it by hand")
	x.press("Enter")
	x.see(`restarts at \S+, in [45]:\d\d · console of ald-quay-1`)
	x.see(`\[ald-quay-1 look\]`)
	x.press("work", "Enter")
	x.see("Ctrl-P sends the secret operator")
	x.press("C-p")
	x.see(`\[ald-quay-1 work\]`)
	x.press("edit", "Enter")
	x.see(`\[ald-quay-1 edit\]`)
	x.press("log", "Space", "host", "Space", "198.51.100.77", "Enter")
	x.see(`77\n\[ald-quay-1 edit\]`)
	x.press("C-g")
	x.see(`▌ 1 Adopt what was done by hand`)
	x.press("2")
	x.see(`▌ 2 Take this device back`)
	x.press("Enter")
	x.see("The night is over. 1 device: 1 reverted")
	x.press("q")
	x.see(`\[code 3\]`)
}

// Devices that go dark together are one question with what they have in common, drawn on the way
// there; what is left so is an errand for whoever drives there.
func TestTheDarkGroupAndTheErrand(t *testing.T) {
	t.Parallel()
	dark := `uplink: ald-quay-0, faults: [{kind: cuts off, match: "^log host"}, {kind: never back}]`
	ws := troubled(t, "  - {name: ald-quay-0, site: ALD}\n  - {name: ald-quay-1, site: ALD, "+dark+"}\n  - {name: ald-quay-2, site: ALD, "+dark+"}\n")
	fleet := filepath.Join(ws, "fleet.csv")
	data, err := os.ReadFile(fleet)
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(data)), "\n")
	for i, l := range lines {
		switch {
		case strings.HasPrefix(l, "name"):
			lines[i] += ",via"
		case strings.HasPrefix(l, "ald-quay-1"), strings.HasPrefix(l, "ald-quay-2"):
			lines[i] += ",ald-quay-0"
		case strings.HasPrefix(l, "ald"):
			lines[i] += ","
		}
	}
	require.NoError(t, os.WriteFile(fleet, []byte(strings.Join(lines, "\n")+"\n"), 0o600))
	x := start(t, "140x41", crewEnv(), "-C", ws, "run", "night.runbook")
	x.beginNow()
	x.see("no contact with 2 devices")
	x.press("d")
	s := x.see("all are reached through ald-quay-0")
	assert.Contains(t, s, "here ── ● ald-quay-0 ┬─ ▽ ald-quay-1\n")
	assert.Contains(t, s, "└─ ▽ ald-quay-2\n")
	assert.Regexp(t, `ald-quay-1 +dark 0:\d\d *\n.*restarts at \S+, in \d:\d\d; back by`, s)
	x.press("1")
	x.see("▌ 1 Leave them as they are")
	x.press("Enter")
	x.see("Enter again: 2 devices")
	x.press("Enter")
	x.see("The night is over. 3 devices: 1 kept, 2 dark")
	x.press("q")
	s = x.see(`\[code 4\]`)
	assert.Contains(t, s, "line by line, for whoever goes there: metabasis report 1 --errand")
	errand, err := exec.Command(binary, "-C", ws, "report", "1", "--errand").Output()
	require.NoError(t, err)
	assert.Contains(t, string(errand), "It is reached through ald-quay-0.")
	assert.Contains(t, string(errand), "127.0.0.1")
	written, err := filepath.Glob(filepath.Join(ws, "transcripts", "*", "*", "errand.*"))
	require.NoError(t, err)
	assert.Len(t, written, 2, "as text and as PDF, beside the report")
}

// What is in change is held after its step, seen as one decision, and goes on with one answer.
func TestWhatIsInChangeIsHeldFromTheScreen(t *testing.T) {
	t.Parallel()
	slow := `faults: [{kind: slow, by: 1s}]`
	ws := troubled(t, "  - {name: ald-quay-1, site: ALD, "+slow+"}\n  - {name: ald-quay-2, site: ALD, "+slow+"}\n")
	x := start(t, "140x41", crewEnv(), "-C", ws, "run", "night.runbook")
	x.beginNow()
	x.see("◧ changing") // the plan, too, speaks of changing something
	x.press("P")
	x.see("Let the night stand")
	x.press("Down")
	x.see("▌.*step")
	x.press("Enter")
	x.see(`held by .* after the step in flight +and 1 more`)
	x.press("d")
	x.see("Decide: 2 devices, held for the same")
	x.press("1", "Enter")
	x.see("Enter again: 2 devices")
	x.press("Enter")
	x.see("The night is over. 2 devices: 2 kept")
}

// crewEnv is the login of the simulated switches.
func crewEnv() []string { return append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...) }
