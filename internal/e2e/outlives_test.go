package e2e

import (
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// ten opens a night of ten devices on a screen, which is ready to begin.
func ten(t *testing.T, flags ...string) (x *terminal, dir string) {
	t.Helper()
	dir, _ = tenDevices(t)
	env := append([]string{"METABASIS_HOST_KEYS=remember"}, loginEnv...)
	args := append([]string{"-C", dir, "run", filepath.Join(dir, "ten.runbook")}, flags...)
	x = start(t, "160x42", env, args...)
	x.see("Ready. Nothing has been sent.")
	return x, dir
}

// A night goes on when the terminal is closed on which it was begun, and is attached to from
// another, which ends as the night does.
func TestTheTerminalIsClosed(t *testing.T) {
	t.Parallel()
	a, dir := ten(t)
	a.beginNow()
	s := a.see(`◉ you have the wheel; it runs without a screen, and goes on when you leave`)
	assert.Contains(t, s, "Ten quays")
	a.see(`ald-quay-1 +\S (changing|verifying|soaking)`)
	require.NoError(t, exec.Command("tmux", "-L", a.socket, "kill-server").Run())

	b := start(t, "140x41", nil, "-C", dir, "attach")
	b.see("nobody has the wheel; H takes it")
	s = b.see("The night is over. 10 devices: 10 kept")
	assert.NotContains(t, s, "the screen")
	b.press("q")
	b.see(`10 devices: 10 kept`)
	b.see(`\[code 0\]`)
}

// Who leaves a night is told that it goes on, and how it is looked at again.
func TestTheNightIsLeft(t *testing.T) {
	t.Parallel()
	a, dir := ten(t)
	a.beginNow()
	a.see(`◉ you have the wheel`)
	a.press("q")
	a.see("Nothing is taken back, and nothing is ended")
	a.press("Down", "Enter")
	s := a.see(`\[code 0\]`)
	assert.Regexp(t, `Night 1, Ten quays, goes on in process \d+`, s)
	assert.Contains(t, s, "attach")
	p := headless(t, t.TempDir(), dir, "attach", "--headless")
	assert.Equal(t, 0, p.code(), &p.out)
	assert.Regexp(t, `10 devices: 10 kept`, p.out.String())
}

// A night that runs in a process of its own is worked as one of this process: a device by hand, and
// a login typed anew.
func TestANightBehindIsWorkedByHand(t *testing.T) {
	t.Parallel()
	a, dir := ten(t)
	a.beginNow()
	a.see(`◉ you have the wheel`)
	a.press("c")
	a.see("What you type goes to ald-quay-1, until Ctrl-G")
	a.press("Down", "Enter")
	a.see("console of ald-quay-1 over SSH")
	a.see(`Ctrl-G leaves`)
	a.type_("tell clock")
	a.press("Enter")
	a.see("192.0.2")
	a.press("C-g")
	a.see(`◉ you have the wheel`)
	a.press("L")
	a.see("Login crew, typed anew")
	a.press("Enter")
	a.type_("harbour-lamp")
	a.press("Enter", "Enter")
	a.see("the login of ald-quay-1 was typed anew|The night is over")
	a.see("The night is over. 10 devices: 10 kept")
	a.press("q")
	a.see(`\[code 0\]`)
	report, err := exec.Command(binary, "-C", dir, "report", "1").Output()
	require.NoError(t, err)
	assert.Regexp(t, `\| metabasis \| \S+ \(pts/\d+\) has taken the wheel \|`, string(report))
}

// A night is made smaller and slower while it runs.
func TestANightIsMadeSmallerAndSlower(t *testing.T) {
	t.Parallel()
	a, dir := ten(t)
	a.beginNow()
	a.see(`◉ you have the wheel`)
	a.press("G", "U")
	a.see("leave out ald-quay-10, because:")
	a.press("Enter")
	a.see("write a reason that says something")
	a.type_("its crew is not there")
	a.press("Enter")
	a.see(`ald-quay-10 +\S skipped +left out by`)
	a.press("-")
	a.see("4 at most, as the runbook says")
	a.type_("9")
	a.press("Enter")
	a.see("a night is made slower, and not faster than that")
	a.press("C-u")
	a.type_("3")
	a.press("Enter")
	a.see(`notes: 3 in change at once from now on; it was 4`)
	a.see("The night is over. 10 devices: 9 kept, 1 skipped")
	a.press("q")
	a.see(`\[code 2\]`)
	report, err := exec.Command(binary, "-C", dir, "report", "1").Output()
	require.NoError(t, err)
	assert.Contains(t, string(report), "its crew is not there")
}

// With --here a night ends with its screen.
func TestTheNightEndsHere(t *testing.T) {
	t.Parallel()
	a, dir := ten(t, "--here")
	a.beginNow()
	a.see(`ald-quay-2 +\S (changing|verifying|soaking)`)
	a.press("q")
	a.see("Leaving aborts it")
	require.NoError(t, exec.Command("tmux", "-L", a.socket, "kill-server").Run())
	p := headless(t, t.TempDir(), dir, "attach", "--headless")
	assert.NotEqual(t, 0, p.code(), &p.out)
	assert.Regexp(t, `10 devices: .*reverted`, p.out.String())
}
