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

// exchanging is a workspace of two pairs and one more, with the images on them, and a runbook that gives them
// new software.
func exchanging(t *testing.T) (ws string) {
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
images:
  - {platform: osier, version: "4.8", from: ["4.2"]}
  - {platform: osier, version: "5.0", from: ["4.8"]}
  - {platform: tern, version: "5.0", from: ["4.2"]}
devices:
  - {name: ald-dist-1, site: ALD, platform: osier, version: "4.8", pair: ald}
  - {name: ald-dist-2, site: ALD, platform: osier, version: "4.8", pair: ald}
  - {name: brm-dist-1, site: BRM, platform: osier, version: "4.8", pair: brm, faults: [{kind: boots the old, times: 1}]}
  - {name: brm-dist-2, site: BRM, platform: osier, version: "4.8", pair: brm}
  - {name: crw-quay-1, site: CRW}
`), 0o600))
	simulate(t, ws, "--scenario", scenario)
	require.NoError(t, os.WriteFile(filepath.Join(ws, "new.runbook"), []byte(`runbook "New software"
  window    now for 40m
  reserve   5m

scope
  true

batches
  sizes     3, 2
  pairs     apart

timer       4m

step "New software"
  software  "5.0"
  back      within 2m
`), 0o600))
	for _, image := range []string{"osier-5.0.img", "tern-5.0.img"} {
		platform, _, _ := strings.Cut(image, "-")
		carry := exec.Command(binary, "-C", ws, "carry", filepath.Join(ws, image), "to", `platform == "`+platform+`"`)
		carry.Env = append(os.Environ(), crewEnv()...)
		out, err := carry.CombinedOutput()
		require.NoError(t, err, string(out))
	}
	return ws
}

// Pairs are given new software on the screen: absent with a clock, one after the other; a start that fails is
// held, and done again for a reason; and the report says what runs now.
func TestPairsAreGivenNewSoftwareOnTheScreen(t *testing.T) {
	t.Parallel()
	ws := exchanging(t)
	x := start(t, "150x41", crewEnv(), "-C", ws, "run", "new.runbook")
	s := x.see("Ready. Nothing has been sent")
	assert.Contains(t, s, `step "New software" has 5 devices run 5.0`)
	x.beginNow()
	x.see(`ald-dist-1 +◐ absent .*restarts with 5.0`)
	s = x.see(`brm-dist-1 is held: "New software": it was to start with 5.0, and runs 4.8`)
	assert.NotContains(t, s, "dark")
	x.press("d")
	s = x.see("Decide: brm-dist-1")
	assert.Contains(t, s, "sends nothing; reads its software")
	assert.Contains(t, s, "does it once more (starting 5.0)")
	assert.NotContains(t, s, "Leave out")
	assert.NotContains(t, s, "confirms")
	x.press("2")
	x.see("▌ 2 Do it again")
	x.press("Enter")
	x.see("Enter again: 1 device")
	x.press("Enter")
	x.see("(?i)why|reason")
	x.type_("it may have been cold")
	x.press("Enter")
	x.see("The night is over. 5 devices: 5 kept")
	x.press("q")
	x.see(`\[code 0\]`)
	report, err := exec.Command(binary, "-C", ws, "report", "1").Output()
	require.NoError(t, err)
	assert.Contains(t, string(report), "runs 5.0, before 4.8: 4 devices, ald-dist-1, brm-dist-1, ald-dist-2, brm-dist-2")
	assert.Contains(t, string(report), "runs 5.0, before 4.2: 1 device, crw-quay-1")
	assert.Contains(t, string(report), "it may have been cold")
}
