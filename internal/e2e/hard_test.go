package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// type_ types text.
func (x *terminal) type_(text string) {
	x.t.Helper()
	x.tmux("send-keys", "-l", text)
}

// Keys in a window that is too small to show anything answer nothing.
func TestKeysInASmallWindowAnswerNothing(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo")
	x.begin()
	x.see(`brm-quay-4 +◆ held`)
	x.tmux("resize-window", "-x", "50", "-y", "12")
	x.see("Keys do nothing until then.")
	x.press("d", "Down", "Down", "Down", "Down", "Down", "Down", "Enter", "Enter", "a", "3", "Enter", "Enter", "C-c", "3", "Enter", "Enter")
	// Still too small, drawn anew: what was pressed before that has arrived by then, or it would
	// meet the large window.
	x.tmux("resize-window", "-x", "30", "-y", "12")
	x.see(`(?m)^ *This window is too small:.{0,6}$`)
	x.tmux("resize-window", "-x", "160", "-y", "42")
	s := x.see(`brm-quay-4 +◆ held`)
	assert.NotContains(t, s, "reverting")
	assert.NotContains(t, s, "borted")
	// After Esc nothing stays chosen, and what touches many needs its second Enter anew.
	x.decide("brm-quay-4", "Take everything back and stop")
	x.press("Enter")
	x.see(`Enter again: \d+ devices`)
	x.press("Escape")
	x.see("! next in need")
	x.press("d")
	s = x.see("▌ 1 Try again")
	assert.NotContains(t, s, "Enter again")
	x.press("Escape")
	x.see("! next in need")
	x.press("a")
	s = x.see("What becomes of those in change")
	assert.NotRegexp(t, `▌ \d`, s, "an abort has nothing chosen")
	x.press("Enter", "Enter")
	x.see("Nothing is chosen")
	x.press("Escape")
	x.see("! next in need")
	assert.NotContains(t, x.screen(), "borted by")
}

// farWindow is a runbook whose window opens in half a day.
func farWindow() string {
	open := time.Now().Add(12 * time.Hour)
	return strings.Replace(tenBook, "window    now for 10m", "window    "+open.Format("15:04")+" for 1h", 1)
}

// A night is not started before its window by two hasty keys: that takes a choice, a
// second Enter and a reason, which is in the journal.
func TestStartingBeforeTheWindow(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	require.NoError(t, os.WriteFile(filepath.Join(one, "ten.runbook"), []byte(farWindow()), 0o600))
	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + t.TempDir()}, loginEnv...)
	x := start(t, "160x42", env, "-C", one, "run", filepath.Join(one, "ten.runbook"))
	s := x.see("opens in 11 h 5")
	assert.Regexp(t, `window +\w+ \d+ \w+ 20\d\d \d\d:\d\d to (\w+ \d+ \w+ )?\d\d:\d\d \w+`, s)
	assert.Contains(t, s, "stop        after 2 failures, the usual number")
	x.press("B")
	x.see("Enter begins the night")
	x.press("Enter")
	x.see("The run is held: the window opens at")
	x.press("d", "Enter", "Enter", "Enter")
	x.see("Nothing is chosen")
	x.press("1", "Enter")
	x.see("Enter again: before the window, 10 devices")
	x.press("Enter")
	x.see("Reason: ")
	x.press("Enter")
	x.see("Reason: .* for the journal")
	x.type_("the desk said so")
	x.see("Reason: the desk said so")
	x.press("Enter")
	x.see(`ald-quay-\d +\S checking|ald-quay-\d +\S changing|recording`)
	x.see("The night is over")
	x.press("q")
	x.see(`\[code 0\]`)
	assert.Contains(t, databaseText(t, one), "the desk said so")
}

func databaseText(t *testing.T, ws string) string {
	t.Helper()
	var all strings.Builder
	paths, err := filepath.Glob(filepath.Join(ws, "metabasis.db*"))
	require.NoError(t, err)
	for _, p := range paths {
		b, err := os.ReadFile(p)
		require.NoError(t, err)
		all.Write(b)
		info, err := os.Stat(p)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), p)
	}
	return all.String()
}

// A terminal that closes in mid-night takes back what is in change and writes the end, where the night
// ends with its screen.
func TestATerminalThatCloses(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + t.TempDir()}, loginEnv...)
	x := start(t, "160x42", env, "-C", one, "run", "--here", filepath.Join(one, "ten.runbook"))
	x.see("Ready. Nothing has been sent.")
	x.press("B", "Enter")
	x.see(`ald-quay-1 +\S soaking`)
	x.tmux("kill-server")
	var said string
	require.Eventually(t, func() bool {
		out, _ := exec.Command(binary, "-C", one, "journal", "check").CombinedOutput()
		said = string(out)
		return strings.Contains(said, "whole") && !strings.Contains(said, "it runs now")
	}, patience, 100*time.Millisecond, said)
	assert.Regexp(t, `10 devices: (\d kept, )?8 skipped, \d reverted`, said)
	assert.NotContains(t, said, "crashed")
	assert.NotContains(t, said, "dark")
	assert.Contains(t, databaseText(t, one), "hangup")
}

// A night that was killed says so in the workspace view: when, and where each device
// was; its clocks stand still. What is opened from there goes back there.
func TestACrashedNightInTheWorkspaceView(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	claims := t.TempDir()
	p := headless(t, claims, one, "run", "--headless", filepath.Join(one, "ten.runbook"))
	p.says(t, `ald-quay-2 +soaking`)
	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + claims}, loginEnv...)
	x := start(t, "160x42", env, "-C", one)
	x.see(`Ten quays · MSF-3001 .* runs now: .*process \d+`)
	require.NoError(t, p.Process.Kill())
	_ = p.code()
	x.press("Home", "Enter")
	x.see(`This night crashed: its journal ends at`)
	s := x.see(`ald-quay-2 +\S soaking`)
	clock := regexp.MustCompile(`\d\d:\d\d:\d\d`).FindString(s)
	time.Sleep(1200 * time.Millisecond) // a clock that runs would have moved
	assert.Equal(t, clock, regexp.MustCompile(`\d\d:\d\d:\d\d`).FindString(x.screen()))
	x.press("Escape")
	x.see(`Ten quays · MSF-3001 .* crashed at \d\d:\d\d:\d\d, \d+ in change; then: 10 devices`)
	assert.Regexp(t, `(?s)Needs you.*crashed at.*Fleet`, x.screen(), "what needs a person comes first")
	x.press("/")
	x.type_("reach them")
	x.press("Enter", "Enter")
	x.see("10 devices in scope|This view has connected to nothing yet")
	x.press("q")
	x.see("Nights of|no night in the journal")
	x.press("Down", "Enter")
	x.see("Ready. Nothing has been sent.")
	x.press("Enter")
	s = x.see("What will be sent to ald-quay-1")
	assert.Contains(t, s, "| log host 198.51.100.14")
	assert.Contains(t, s, "expect clock.source")
	x.press("Escape")
	x.see("B begin")
	x.press("/")
	x.type_("quay-7")
	x.press("Enter")
	x.see(`▌ ?ald-quay-7`)
	x.press("Escape")
	x.see("Nights of|no night in the journal")
	x.press("q")
	x.see(`\[code 0\]`)
}

// Damaged nights are named, the rest opens, and a new night can always be run.
func TestADamagedJournal(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	claims := t.TempDir()
	book := filepath.Join(one, "ten.runbook")
	first := headless(t, claims, one, "run", "--headless", book)
	require.Equal(t, 0, first.code(), &first.out)
	second := headless(t, claims, one, "run", "--headless", book)
	require.Equal(t, 0, second.code(), &second.out)
	spoil(t, one, `UPDATE events SET body = '[{"seq":1,"at":3}]' WHERE night = 1 AND seq = 1`)

	check := headless(t, claims, one, "journal", "check")
	assert.Equal(t, 1, check.code())
	assert.Regexp(t, `night 2, .*: whole, `, check.out.String())
	assert.Regexp(t, `night 1, .*: DAMAGED: night 1 is damaged behind event 0`, check.out.String())
	x := start(t, "160x42", nil, "-C", one)
	x.see(`Ten quays .* 10 devices: 10 already`)
	x.press("End", "Enter")
	x.see(`night 1 is damaged behind event 0`)
	x.press("Up", "Enter")
	x.see("The night is over. 10 devices: 10 already")
	x.press("q")
	x.see("Nights of|no night in the journal")
	x.press("q")
	x.see(`\[code 0\]`)

	// The file itself is cut.
	db := filepath.Join(one, "metabasis.db")
	info, err := os.Stat(db)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(db, info.Size()/2))
	third := headless(t, claims, one, "run", "--headless", book)
	assert.Equal(t, 0, third.code(), &third.out)
	assert.Contains(t, third.out.String(), "warning: the journal was damaged")
	aside, err := filepath.Glob(db + ".damaged-*")
	require.NoError(t, err)
	assert.NotEmpty(t, aside)
	check = headless(t, claims, one, "journal", "check")
	assert.Equal(t, 0, check.code(), &check.out)
	assert.Contains(t, check.out.String(), "10 already")
	// And something that never was a journal.
	require.NoError(t, os.WriteFile(db, []byte(strings.Repeat("no journal ", 1000)), 0o600))
	fourth := headless(t, claims, one, "run", "--headless", book)
	assert.Equal(t, 0, fourth.code(), &fourth.out)
}

// A workspace that cannot be written can be read: its nights, its runbooks, its
// devices' scope.
func TestAReadOnlyWorkspace(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	p := headless(t, t.TempDir(), one, "run", "--headless", filepath.Join(one, "ten.runbook"))
	require.Equal(t, 0, p.code(), &p.out)
	ro := filepath.Join(t.TempDir(), "ro")
	readOnly(t, one, ro)
	for _, args := range [][]string{{"journal", "check"}, {"check", filepath.Join(ro, "ten.runbook")}, {"scope"}, {"settings"}} {
		out, err := exec.Command(binary, append([]string{"-C", ro}, args...)...).CombinedOutput()
		assert.NoError(t, err, "%v: %s", args, out)
	}
	reach := headless(t, t.TempDir(), ro, "reach", "--headless", "--host-keys", "strict", "ald-quay-1")
	assert.NotContains(t, reach.out.String(), "panic")
	_ = reach.code()
	x := start(t, "160x42", nil, "-C", ro)
	x.see(`Ten quays · MSF-3001 .* 10 devices: 10 kept`)
	x.press("End", "Enter")
	x.see("The night is over. 10 devices: 10 kept")
	x.press("Escape")
	x.see("Nights of|no night in the journal")
	x.press("q")
	x.see(`\[code 0\]`)
	run := headless(t, t.TempDir(), ro, "run", "--headless", filepath.Join(ro, "ten.runbook"))
	assert.Equal(t, 1, run.code())
	assert.Regexp(t, `read-only file system`, run.out.String(), "what keeps a night from running is said")
}
