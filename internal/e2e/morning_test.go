package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// In the morning, from the keyboard alone: a night is played again, what it changed is
// compared, two devices are compared, its report is read; and one device is taken back to
// a date by somebody who wrote nothing.
func TestTheMorningAfter(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	claims := t.TempDir()
	run := headless(t, claims, one, "run", filepath.Join(one, "ten.runbook"), "--headless")
	_ = run.Wait()
	require.Contains(t, run.out.String(), "10 devices: 10 kept")
	report, err := filepath.Glob(filepath.Join(one, "transcripts", "*", "night-1", "report.md"))
	require.NoError(t, err)
	require.Len(t, report, 1, "a night writes its report by itself")

	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + claims}, loginEnv...)
	x := start(t, "160x42", env, "-C", one)
	x.see("Nights of")
	x.press("G", "Enter")
	x.see("The night is over")
	x.press("P") // it runs from its beginning
	x.see(`Played again \d\d:\d\d:\d\d  event \d+ of \d+  runs`)
	x.press("P")
	x.see(`event \d+ of \d+  stands`)
	for range 3 {
		x.press("<")
	}
	x.see(`event 1 of \d+  stands`)
	x.press(".", ".", ".")
	s := x.see(`event 4 of \d+  stands`) // and not while it runs: that is over in a second or two
	assert.Contains(t, s, "waiting", "as it was then")
	assert.NotRegexp(t, `ald-quay-1 +● kept`, s)
	x.press(">", ">", ">", ">", ">", ">")
	s = x.see(`ald-quay-1 +● kept`)
	assert.Contains(t, s, "transcript")
	x.press("q") // as it ended
	x.see("The night is over")
	assert.NotContains(t, x.screen(), "Played again")

	x.press("C")
	x.see(`10 devices: 10 different; all of it was predicted`)
	s = x.see(`10 devices +- time source 192.0.2.9 first`)
	assert.Contains(t, s, "As predicted")
	x.press("Enter", "Enter")
	x.see(`\+ log host 198.51.100.14`)
	x.press("v")
	x.see(`\+ \d lines +side by side`) // the keys name the next manner, too
	x.press("v")
	x.see(`(?s)as lines.*\+log host 198.51.100.14`)
	x.press("q", "q", "q")
	x.press("D")
	x.see("All went as intended: of 10 devices, 10 kept")
	x.press("q", "q")

	// The shelf: two devices against each other.
	x.see("Nights of")
	x.press("/")
	x.type_("take devices back")
	x.press("Enter", "Enter")
	x.see(`The shelf +20 backups of 10 devices`)
	x.press("m", "m", "C")
	s = x.see(`\+ name ald-quay-2`)
	assert.Regexp(t, `- name ald-quay-1`, s)
	x.press("q", "x", "g")

	// One device back to what it was before the night.
	x.press("T")
	x.see("Take 1 device back to what was")
	x.press("G", "Enter")
	x.see("Ready. Nothing has been sent.")
	x.press("p")
	x.see(`\d lines? will differ|1 line will differ`)
	x.press("B", "Enter")
	x.see("The night is over. 1 device: 1 kept")
	x.press("d", "q", "q", "q", "q", "q")
	x.see(`\[code 0\]`)

	out, err := exec.Command(binary, "-C", one, "compare", "ald-quay-1@night 1", "ald-quay-1@newest").CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "The configurations are equal.")
	_, err = os.Stat(filepath.Join(one, "metabasis.db"))
	require.NoError(t, err)
}
