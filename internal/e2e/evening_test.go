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

// askingBook is the runbook of ten quays with a value that nobody has given yet.
func askingBook() string {
	book := strings.Replace(tenBook, "\nscope\n", "\nask\n  log_host  address  \"Log collector\"\n  fast      switch   \"Soak left out\"  = no\n\nscope\n", 1)
	return book + "\nstep \"Collector\"\n  want\n    | log host <<log_host>>\n"
}

// The whole evening: the form, the rehearsal, a device's lines, the seal, and the night
// that does what was sealed; and the next one, which leaves a device alone that somebody
// has changed meanwhile.
func TestAnEveningAndItsNight(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	file := filepath.Join(one, "ten.runbook")
	require.NoError(t, os.WriteFile(file, []byte(askingBook()), 0o600))
	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + t.TempDir()}, loginEnv...)
	seal := filepath.Join(one, "tonight.seal")
	run := func(args ...string) string {
		c := exec.Command(binary, append([]string{"-C", one}, args...)...)
		c.Env = append(os.Environ(), env...)
		out, _ := c.CombinedOutput()
		return string(out)
	}

	x := start(t, "160x42", env, "-C", one, "run", file)
	s := x.see("Log collector")
	assert.Contains(t, s, `log_host, address; in Collector`, "what it is, and where it stands")
	x.type_("198.51.100.300")
	x.press("Enter")
	x.see("is not an IP address")
	x.press("BSpace", "BSpace", "BSpace")
	x.type_("77")
	x.press("Enter")
	s = x.see(`Soak left out`)
	assert.Regexp(t, `fast, yes or no`, s)
	x.press("Enter") // as it stands there
	s = x.see("Ready. Nothing has been sent.")
	assert.Contains(t, s, "not yet: p goes through the night without")
	assert.Regexp(t, `finish +after .* likely`, s)
	x.press("p")
	s = x.see(`10 devices: 10 ready`)
	assert.Regexp(t, `all hold on 10 devices of 10`, s)
	x.press("Enter")
	s = x.see(`\| log host 198.51.100.77`)
	assert.Contains(t, s, "Nothing of this has been sent.")
	x.press("v")
	x.see(`\+ log host 198.51.100.77`)
	x.press("q", "q")
	x.see(`\[code 0\]`)
	assert.Contains(t, run("rehearse", "--show", "0"), "10 devices: 10 ready")
	assert.Contains(t, run("plan", file, "--answer", "log_host=198.51.100.78", "--seal", seal), `log_host was "198.51.100.77" when it was rehearsed`)
	assert.Contains(t, run("plan", file, "--answer", "log_host=198.51.100.77", "--seal", seal), "SHA-256")

	// Somebody changes a device after it was sealed.
	meddle := "runbook \"Meddle\"\n  window    none\n\nscope\n  name == \"ald-quay-9\"\n\ntimer       1m\n\nstep \"x\"\n  want\n    | log host 203.0.113.9\n\nunattended  take back the device\n"
	require.NoError(t, os.WriteFile(filepath.Join(one, "meddle.runbook"), []byte(meddle), 0o600))
	assert.Contains(t, run("run", "--headless", filepath.Join(one, "meddle.runbook")), "1 kept")

	y := start(t, "160x42", env, "-C", one, "run", file, "--answer", "log_host=198.51.100.77", "--sealed", seal)
	s = y.see("Ready. Nothing has been sent.")
	assert.Regexp(t, `sealed +by \S+ on `, s)
	y.press("B", "Enter")
	y.see("The night is over")
	s = y.see("ald-quay-9 +. blocked")
	assert.Regexp(t, "9 kept", s)
	y.press("q")
	assert.Contains(t, run("run", "--headless", file, "--answer", "log_host=198.51.100.79", "--sealed", seal), "value log_host: sealed 198.51.100.77, now 198.51.100.79")
}
