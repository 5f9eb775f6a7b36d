package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A night is looked at from two screens, of which one decides; the wheel goes from one to the
// other by a word, and a screen that is closed gives it back.
func TestTwoScreensAndOneWheel(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "night")
	a := start(t, "160x42", nil, "demo", "--faults", "none", "--dir", dir)
	a.see("Ready. Nothing has been sent.")
	raw := filepath.Join(t.TempDir(), "raw")
	a.tmux("pipe-pane", "cat > "+raw)
	assert.Contains(t, attachFails(t, dir), "no night runs in this workspace")
	a.beginNow()
	s := a.see("the runbook holds after batch 1")
	assert.NotContains(t, s, "wheel", "who is alone is not told of it")

	b := start(t, "140x41", nil, "-C", dir, "attach")
	b.see("the runbook holds after batch 1")
	b.see("has the wheel; H takes it; 1 other looks; it ends with the screen it was begun on")
	a.see("you have the wheel; 1 other looks")
	b.press("d")
	b.see("Nothing is chosen")
	b.press("1")
	b.see("▌ 1 Go on")
	b.press("Enter")
	b.see("has the wheel, so nothing is decided from here; H takes it")
	b.press("H") // also while it is decided
	b.see("Take it\\?")
	b.press("Down", "Enter")
	b.see("◉ you have the wheel")
	a.see(`has the wheel; H takes it`)
	a.press("d")
	a.see("Nothing is chosen")
	a.press("1", "Enter")
	a.see("has the wheel, so nothing is decided from here")
	a.press("Escape")
	a.see("Enter transcript")

	assert.Contains(t, a.tmux("display-message", "-p", "#{pane_title}"), "◆ 1 held")
	assert.Equal(t, 1, bells(t, raw), "once a hold")

	b.see("▌ 1 Go on")
	b.press("Enter")
	b.see(`Enter again: \d+ devices`)
	b.press("Enter")
	a.see(`Batch 2 of 4 +4 devices +\d`)
	b.press("q")
	b.see("Nothing is taken back, and nothing is ended: the night runs in another process; it ends with the screen it was begun on")
	b.press("Down", "Enter")
	b.see(`\[code 0\]`)
	a.see("nobody has the wheel; H takes it")
	a.press("H")
	a.see("The night is over. 24 devices: 24 kept")
	a.press("q")
	a.see(`\[code 0\]`)
	assert.Contains(t, attachFails(t, dir), "no night runs in this workspace")
	report, err := exec.Command(binary, "-C", dir, "report", "1").Output()
	require.NoError(t, err)
	assert.Regexp(t, `\| metabasis \| \S+ \(pts/\d+\) has taken the wheel from \S+ \|`, string(report))
	assert.Regexp(t, `\| \S+ \(pts/\d+\) \| go on \|`, string(report), "who decided is who had the wheel")
}

// bells counts how often the bell was rung in what a terminal was sent; what ends a title is none.
func bells(t *testing.T, raw string) int {
	t.Helper()
	data, err := os.ReadFile(raw)
	require.NoError(t, err)
	return strings.Count(regexp.MustCompile("\x1b\\][^\x07\x1b]*(\x07|\x1b\\\\)").ReplaceAllString(string(data), ""), "\a")
}

// attachFails attaches where that cannot be, and returns what is said.
func attachFails(t *testing.T, dir string) string {
	t.Helper()
	out, err := exec.Command(binary, "-C", dir, "attach", "--headless").CombinedOutput()
	require.Error(t, err)
	return strings.TrimSpace(string(out))
}

// A process that is killed leaves its screens with what the journal has, and nobody says that
// the night runs.
func TestTheNightIsKilledUnderAScreen(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "night")
	a := start(t, "160x44", nil, "demo", "--faults", "none", "--dir", dir)
	a.begin()
	b := start(t, "140x40", nil, "-C", dir, "attach")
	b.see("has the wheel; H takes it")
	b.see(`Batch 2 of 4 +4 devices +\d in change`)
	out, err := exec.Command("pkill", "-9", "-f", "demo --faults none --dir "+dir).CombinedOutput()
	require.NoError(t, err, string(out))
	s := b.see("This night crashed: its journal ends at")
	assert.NotContains(t, s, "has the wheel")
	b.press("q")
	b.see(`night 1 was cut off(?s:.*)\[code 4\]`)
	said := attachFails(t, dir)
	assert.Contains(t, said, "no night runs in this workspace; night 1 was cut off, and nobody runs it")
}
