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
// asks. While a night runs, it is not stopped by what can be ignored.
func TestStoppedAndGoneOn(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	env := append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...)
	x := startLine(t, "160x42", "bash --norc -i")
	x.see(`[#$]`)
	x.type_("exec 2>&1; " + programLine(t, env, "-C", one, "run", filepath.Join(one, "ten.runbook")))
	x.press("Enter")
	x.see("Ready. Nothing has been sent.")
	signal := func(name string) {
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
	signal("TSTP")
	x.see("not stopped: a night runs")
	x.press("C-c")
	x.see("a second time|Abort|abort")
	assert.NotContains(t, x.screen(), "reverting", "it asks first")
	signal("KILL")
	x.see("Killed")
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
