package e2e

import (
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Stopped and brought back by a shell, keys are keys again: nothing is echoed, and Ctrl-C
// asks. A night that ends with its screen is not stopped by what can be ignored; one that does not
// goes on.
func TestStoppedAndGoneOn(t *testing.T) {
	t.Run("behind", func(t *testing.T) {
		t.Parallel()
		x, signal := stoppedAndGoneOn(t)
		signal("STOP")
		x.see(`\[1\]\+ +Stopped`)
		x.press("C-l")
		x.type_("clear; fg")
		x.press("Enter")
		x.see("The night is over. 10 devices: 10 kept")
		x.press("q")
		x.see("10 devices: 10 kept")
	})
	t.Run("here", func(t *testing.T) {
		t.Parallel()
		x, signal := stoppedAndGoneOn(t, "--here")
		signal("TSTP")
		x.see("not stopped: a night runs")
		x.press("C-c")
		x.see("a second time|Abort|abort")
		assert.NotContains(t, x.screen(), "reverting", "it asks first")
		signal("KILL")
		x.see("illed") // its first letter may stand at the end of the line above
	})
}

// stoppedAndGoneOn begins a night on a screen that was stopped before in all ways.
func stoppedAndGoneOn(t *testing.T, flags ...string) (x *terminal, signal func(name string)) {
	one, _ := tenDevices(t)
	env := append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...)
	x = startLine(t, "160x42", "bash --norc -i")
	x.see(`[#$]`)
	x.type_("exec 2>&1; " + programLine(t, env, append([]string{"-C", one, "run", filepath.Join(one, "ten.runbook")}, flags...)...))
	x.press("Enter")
	x.see("Ready. Nothing has been sent.")
	signal = func(name string) {
		pids, err := exec.Command("pgrep", "-f", binary+" -C "+one+" run").Output()
		require.NoError(t, err)
		for pid := range strings.FieldsSeq(string(pids)) {
			require.NoError(t, exec.Command("kill", "-"+name, pid).Run())
		}
	}
	for _, sig := range []string{"TSTP", "STOP"} {
		signal(sig)
		x.see(`\[1\]\+ +Stopped`)
		x.press("C-l")
		x.type_("clear; fg")
		x.press("Enter")
		x.see("Ready. Nothing has been sent.")
		x.press("?")
		x.see("Keys")
		x.press("q")
		x.see("Ready. Nothing has been sent.")
	}
	x.press("B", "Enter")
	x.see(`ald-quay-1 +\S (changing|verifying|soaking)`)
	return x, signal
}

// SIGQUIT takes back what is in change, as SIGTERM does: it does not end the night in its
// midst.
func TestQuitTakesBack(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	p := headless(t, t.TempDir(), one, "run", "--headless", filepath.Join(one, "ten.runbook"))
	p.says(t, `ald-quay-2 +soaking`)
	require.NoError(t, p.Process.Signal(syscall.SIGQUIT))
	assert.Equal(t, 130, p.code(), &p.out)
	assert.Regexp(t, `10 devices: .*reverted`, p.out.String())
	assert.NotContains(t, p.out.String(), "goroutine")
}
