package e2e

import (
	"bufio"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// simulate starts the simulated fleet with a workspace over it.
func simulate(t *testing.T, ws string, flags ...string) {
	t.Helper()
	simulated := exec.Command(binary, append([]string{"sim", "--write", ws}, flags...)...)
	out, err := simulated.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, simulated.Start())
	t.Cleanup(func() { _ = simulated.Process.Signal(os.Interrupt); _ = simulated.Wait() })
	for lines := bufio.NewScanner(out); lines.Scan(); {
		if strings.Contains(lines.Text(), "Ctrl-C ends it.") {
			return
		}
	}
	require.FailNow(t, "the simulator did not start")
}

var loginEnv = []string{"METABASIS_CREW_PASSWORD=harbour-lamp", "METABASIS_CREW_OPERATOR=deep-fathom",
	"METABASIS_GATES_PASSWORD=tide-table", "METABASIS_GATES_MASTER=slow-turnstile"}

// The evening before, on the screen: keys are seen for the first time, devices
// are reached, marked and saved, a table is read, and one is worked by hand.
func TestTheFleetView(t *testing.T) {
	t.Parallel()
	ws := filepath.Join(t.TempDir(), "ws")
	simulate(t, ws, "--faults", "many")
	x := start(t, "160x42", loginEnv, "-C", ws, "reach", `role != "desk"`)
	s := x.see("This view has connected to nothing yet. 27 devices in scope, 2 left out")
	assert.Regexp(t, `ald-gate-1 plover clear text`, s)
	assert.Contains(t, s, "ops-desk-1, ops-desk-2: role is desk, wanted != desk")

	x.press("r")
	s = x.see(`◆ 23 host keys shown for the first time: K shows and accepts them`)
	assert.Regexp(t, `ald-quay-1 .* ◆ new host key`, s)
	x.press("K")
	s = x.see("Compare them with")
	assert.Regexp(t, `SHA256:[A-Za-z0-9+/]{43}  ssh-ed25519 of \[127\.0\.0\.1\]:\d+  ald-quay-1`, s)
	x.press("Down", "Down", "Enter")
	s = x.see("▲ 2 of 27 devices not reached")
	assert.Contains(t, s, "answers on the network but refuses port")
	x.press("!")
	s = x.see("▲ not reached: port")
	assert.Contains(t, s, "SSH may not be enabled on it, or its host")

	x.press("o", "o", "o")
	x.see("by outcome")
	x.press("=")
	for _, k := range []string{"s", "i", "t", "e", "Space", "=", "=", "Space", `"`, "B", "R", "M", `"`} {
		x.press(k)
	}
	x.press("Enter")
	x.see("6 devices marked, 6 in all")
	x.press("s", "b", "r", "i", "m", "Enter")
	x.see("saved: @brim means brm-quay-1")
	saved, err := os.ReadFile(filepath.Join(ws, "selections.yaml"))
	require.NoError(t, err)
	assert.Contains(t, string(saved), "brim:")
	x.press("x", "t", "v", "e", "r", "s", "i", "o", "n", "Enter")
	s = x.see("1 row is unlike most")
	assert.Contains(t, s, "▲ 2 of 27 devices not read")
	assert.Regexp(t, `◆ cld-gate-1 clear text +1\.7`, s)
	x.press("&", "G", "-", "0", "1", "Enter")
	x.see(`only rows with "G-01"`)
	x.press("s")
	x.see(`written to \S+version-\S+\.csv: 2 of 25 rows`)
	x.press("c")
	x.see("Open it")
	x.press("Enter") // no: what is preselected opens nothing
	x.see("rows with .G-01")
	x.press("c")
	x.see("Open it")
	x.press("Down", "Enter")
	x.see("console of ald-gate-1 over Telnet, CLEAR TEXT · what you type")
	x.press("C-g")
	x.see("rows with .G-01")
	x.press("q")
	x.see("25 ready|not reached")

	x.press("/")
	x.type_("ald-quay-1")
	x.press("Enter", "c")
	x.see("Open it")
	x.press("Down", "Enter")
	x.see("console of .* what you type reaches it at once")
	x.see(`\[\S+ look\]`)
	x.press("t", "e", "l", "l", "Space", "c", "l", "o", "c", "k", "Enter")
	x.see("settled")
	x.press("C-g")
	x.see("▲ 2 of 27 devices not reached")
	x.press("Enter")
	x.see("console closed")
	x.press("q")
	x.see("! failed")
	x.press("q")
	x.see(`\[code 0\]`)
}

// A device that clears the screen and writes over its first line does not get at
// the console's bar.
func TestTheConsolesBarCannotBeWrittenOver(t *testing.T) {
	t.Parallel()
	ws, scenario := filepath.Join(t.TempDir(), "ws"), filepath.Join(t.TempDir(), "scenario.yaml")
	require.NoError(t, os.WriteFile(scenario, []byte(`
logins: {crew: harbour-lamp}
operator: deep-fathom
config: |
  name {{.Name}}
devices:
  - {name: ald-quay-1, site: ALD, faults: [{kind: garbage, match: '^tell clock'}]}
`), 0o600))
	simulate(t, ws, "--scenario", scenario)
	x := start(t, "120x30", append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...), "-C", ws, "console", "ald-quay-1")
	x.see(`look\]`)
	assert.Regexp(t, `^ console of ald-quay-1 over SSH .* Ctrl-G leaves`, x.screen())
	x.press("t", "e", "l", "l", "Space", "c", "l", "o", "c", "k", "Enter")
	x.see("ALL IS WELL")
	s := x.see(`(?m)^ console of ald-quay-1 over SSH .* Ctrl-G leaves`)
	assert.Contains(t, s, "\nALL IS WELL", "it went below the bar instead")
	x.press("C-g")
	x.see(`\[code 0\]`)
}

// A device that takes the connection and says nothing does not keep the person:
// Ctrl-G gives up at once, and what was typed meanwhile goes nowhere.
func TestAConsoleThatDoesNotOpenIsGivenUp(t *testing.T) {
	t.Parallel()
	ws, scenario := filepath.Join(t.TempDir(), "ws"), filepath.Join(t.TempDir(), "scenario.yaml")
	require.NoError(t, os.WriteFile(scenario, []byte(`
logins: {crew: harbour-lamp}
operator: deep-fathom
config: |
  name {{.Name}}
devices:
  - {name: ald-quay-1, site: ALD, faults: [{kind: mute}]}
`), 0o600))
	simulate(t, ws, "--scenario", scenario)
	x := start(t, "120x30", append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...), "-C", ws, "console", "ald-quay-1")
	x.see(`(?m)^ console of ald-quay-1 over SSH .* Ctrl-G gives up`)
	x.see("connecting …")
	x.press("x", "C-g")
	x.see(`\[code 0\]`)
}

// A login that asks for a code is answered by the person: on the terminal, and on the
// screen, where it waits until it is opened.
func TestACodeIsAskedFor(t *testing.T) {
	t.Parallel()
	ws, scenario := filepath.Join(t.TempDir(), "ws"), filepath.Join(t.TempDir(), "scenario.yaml")
	require.NoError(t, os.WriteFile(scenario, []byte(`
logins: {crew: harbour-lamp}
operator: deep-fathom
config: |
  name {{.Name}}
devices:
  - {name: ald-quay-1, site: ALD, code: "0421"}
`), 0o600))
	simulate(t, ws, "--scenario", scenario)
	env := append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...)
	x := start(t, "120x30", env, "-C", ws, "reach", "--headless")
	x.see(`ald-quay-1 asks "Code: ":`)
	x.press("0", "4", "2", "1", "Enter")
	s := x.see(`\[code 0\]`)
	assert.Contains(t, s, "1 of 1 device ready.")
	assert.NotContains(t, s, "0421")
	x = start(t, "160x42", env, "-C", ws, "reach")
	x.see("This view has connected to nothing yet")
	x.press("r")
	x.see(`◆ A answers: ald-quay-1 asks "Code: "`)
	x.press("A")
	x.see("A secret is wanted")
	x.press("0", "4", "2", "1")
	assert.NotContains(t, x.screen(), "0421")
	x.press("Enter")
	s = x.see("All 1 device ready")
	assert.NotContains(t, s, "0421")
	x.press("r")
	x.see("A answers")
	x.press("A", "Escape")
	s = x.see("1 of 1 device not reached")
	assert.Contains(t, s, `its login asks "Code: "`)
}

// What the screen shows can be told without colour, in a narrow window, and in
// one that is too small.
func TestTheFleetViewElsewhere(t *testing.T) {
	t.Parallel()
	ws := filepath.Join(t.TempDir(), "ws")
	simulate(t, ws, "--faults", "many")
	env := append([]string{"METABASIS_HOST_KEYS=remember", "NO_COLOR=1"}, loginEnv...)
	x := start(t, "100x30", env, "-C", ws, "reach")
	x.see("This view has connected to nothing yet")
	x.press("r")
	s := x.see("▲ 2 of 29 devices not reached")
	assert.Contains(t, s, "● ready")
	assert.NotContains(t, x.tmux("capture-pane", "-p", "-e"), "[38;2", "no colour")
	x.press("q")
	x.see(`\[code 0\]`)
	x = start(t, "50x12", env, "-C", ws, "reach")
	x.see("This window is too small")
}
