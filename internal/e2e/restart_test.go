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

// restarting is a workspace with a runbook that restarts devices and then changes them.
func restarting(t *testing.T, devices string) (ws string) {
	t.Helper()
	ws = troubled(t, devices)
	text, err := os.ReadFile(filepath.Join(ws, "night.runbook"))
	require.NoError(t, err)
	head, rest, _ := strings.Cut(string(text), "step \"Log collector\"")
	text = []byte(head + "step \"A new start\"\n  restart\n  back      within 3m\n\nstep \"Log collector\"" + rest + "\nunattended  take back the device\n")
	require.NoError(t, os.WriteFile(filepath.Join(ws, "night.runbook"), text, 0o600))
	return ws
}

// Devices that are restarted are seen to be absent, with a clock, and not dark; one that says yes and
// stays up is held, and its choices say that it tells by itself.
func TestDevicesAreRestartedOnTheScreen(t *testing.T) {
	t.Parallel()
	ws := restarting(t, "  - {name: ald-quay-1, site: ALD, faults: [{kind: slow boot, by: 4s}]}\n  - {name: ald-quay-2, site: ALD, faults: [{kind: ignores, match: \"^restart$\", times: 1}]}\n")
	x := start(t, "150x41", crewEnv(), "-C", ws, "run", "night.runbook")
	x.beginNow()
	s := x.see(`ald-quay-1 +◐ absent`)
	assert.Contains(t, s, "restarts")
	assert.Regexp(t, ` away +\S* +0:\d\d `, s)
	assert.NotContains(t, s, "dark")
	x.see("ald-quay-2 is held: it was told to restart, and did not")
	x.press("d")
	s = x.see("Decide: ald-quay-2")
	assert.Contains(t, s, "sends nothing; looks for how long")
	assert.NotContains(t, s, "It is done")
	x.press("2")
	x.see("▌ 2 Do it again")
	x.press("Enter")
	x.see("Enter again: 1 device")
	x.press("Enter")
	x.see("(?i)why|reason")
	x.type_("it did not")
	x.press("Enter")
	x.see("The night is over. 2 devices: 2 kept")
	x.press("q")
	x.see(`\[code 0\]`)
	report, err := exec.Command(binary, "-C", ws, "report", "1").Output()
	require.NoError(t, err)
	assert.Regexp(t, `it was away for some \d+s, and has been up for \d+s`, string(report))
}

// The process of the night is killed while a device restarts; the night is gone on with, and the device
// is not told a second time.
func TestANightIsKilledWhileADeviceRestarts(t *testing.T) {
	t.Parallel()
	ws := restarting(t, "  - {name: ald-quay-1, site: ALD, faults: [{kind: slow boot, by: 5s}]}\n")
	x := start(t, "150x41", crewEnv(), "-C", ws, "run", "night.runbook")
	x.beginNow()
	x.see(`ald-quay-1 +◐ absent`)
	out, err := exec.Command("pkill", "-9", "-f", "--", "--door=3 -C "+ws+" run").CombinedOutput()
	require.NoError(t, err, string(out))
	x.see("the process of the night does not answer")
	look := exec.Command(binary, "-C", ws, "resume", "--go-on", "--headless")
	look.Env = append(os.Environ(), crewEnv()...)
	said, err := look.CombinedOutput()
	require.NoError(t, err, string(said))
	assert.Contains(t, string(said), "it was restarted after night 1 had told it to")
	assert.Regexp(t, `1 device: 1 kept`, string(said))
	assert.NotContains(t, string(said), "sent, and taken: restart")
}
