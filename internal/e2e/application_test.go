package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A person goes from the workspace into a night, and while it runs to the fleet and a
// table; a hold leads them back. Everything is asked on the screen. The window changes
// its size at each, without colours.
func TestOneApplication(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	book := strings.Replace(tenBook, "  sizes     2, 8\n", "  sizes     2, 8\n  hold      after batch 1\n", 1)
	book = strings.Replace(book, "scope\n", "ask\n  collector  address  \"The log collector\"\n\nscope\n", 1)
	book = strings.Replace(book, "log host 198.51.100.14\"\n  send", "log host <<collector>>\"\n  send", 1)
	require.NoError(t, os.WriteFile(filepath.Join(one, "ten.runbook"), []byte(book), 0o600))
	env := []string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + t.TempDir(), "METABASIS_CREW_OPERATOR=deep-fathom", "NO_COLOR=1"}
	x := start(t, "80x24", env, "-C", one)
	size := func(cells, rows string) {
		x.tmux("resize-window", "-x", cells, "-y", rows)
	}
	s := x.see("ten.runbook +◌ asks|ten.runbook +● fits")
	assert.Regexp(t, `(?s)Fleet.*10 devices.*Runbooks.*no night in the journal`, s)
	x.press("Down", "Enter")
	x.see("◆ Values for Ten quays")
	x.type_("no address")
	x.press("Enter")
	x.see("▲ collector")
	size("200", "60")
	x.press("C-u")
	x.type_("198.51.100.14")
	x.press("Enter")
	x.see("password of login crew")
	x.type_("harbour-lamp")
	s = x.see(`\*{12}`)
	assert.NotContains(t, s, "harbour-lamp")
	x.press("Enter")
	s = x.see("Ready. Nothing has been sent.")
	assert.Contains(t, s, "collector = 198.51.100.14")
	x.press("W")
	x.see("Which precheck?")
	x.press("Enter")
	x.type_("ald-quay-9")
	x.press("Enter")
	x.type_("it is on the bench")
	x.press("Enter")
	x.see("warning +alone is waived on ald-quay-9: it is on the bench")
	x.press("B", "Enter")
	x.see(`ald-quay-1 +\S changing|ald-quay-1 +\S verifying|ald-quay-1 +\S soaking`)

	size("100", "30")
	x.press("q") // back to the workspace; the night goes on
	s = x.see(`Runs now`)
	assert.Contains(t, s, "Ten quays · MSF-3001", "its strip stays on top")
	x.press("/")
	x.type_("reach them")
	x.press("Enter", "Enter")
	x.see("This view has connected to nothing yet") // what was told once is not asked again
	x.press("r")
	x.see(`All 10 devices ready|ready, \d not tried`)
	size("160", "42")
	x.press("t")
	x.type_("clock")
	x.press("Enter")
	s = x.see("unlike most|Nothing unusual")
	assert.Contains(t, s, "Ten quays · MSF-3001")
	s = x.see("◆ The run is held: the runbook holds after batch 1")
	assert.Contains(t, s, "d decide", "a hold is seen from everywhere")
	assert.NotRegexp(t, `\x1b\[[0-9;]*[34]8;`, x.tmux("capture-pane", "-p", "-e"), "no colour where none is wanted")
	x.press("d")
	x.see("Nothing is chosen")
	size("80", "24")
	x.see("Nothing is chosen")
	x.press("1", "Enter")
	x.see(`Enter again: \d+ devices`)
	x.press("Enter")
	x.see(`Batch 2 of 2`)
	x.press("q")
	x.see("unlike most|Nothing unusual") // where it was
	x.press("?")
	x.see("a key means the same in every view")
	x.press("Escape")
	x.see("unlike most|Nothing unusual")
	x.see("The night is over. 10 devices: 10 kept")
	x.press("d")
	x.see("kept and saved")
	x.press("q") // its end was seen
	require.Eventually(t, func() bool { return !strings.Contains(x.screen(), "The night is over") }, patience, 50e6)
	x.press("q")
	x.see("reach all")
	x.press("q")
	s = x.see(`Nights of`)
	assert.Regexp(t, `● Ten quays · MSF-3\S+ +10 devices: 10 kept`, s)
	x.press("q")
	x.see(`10 devices: 10 kept\s+\[code 0\]`)

	// Nothing of what was typed as a secret is anywhere.
	log, err := os.ReadFile(filepath.Join(filepath.Dir(binary), "state", "metabasis", "metabasis.log"))
	require.NoError(t, err)
	assert.Regexp(t, regexp.MustCompile(`msg=night .*outcome=0`), string(log))
	assert.NotContains(t, string(log)+databaseText(t, one), "harbour-lamp")
}

// Leaving while a night runs that ends with its screen says what that means, and does it.
func TestLeavingWhileANightRuns(t *testing.T) {
	t.Parallel()
	one, _ := tenDevices(t)
	env := append([]string{"METABASIS_HOST_KEYS=remember", "METABASIS_CLAIMS=" + t.TempDir()}, loginEnv...)
	x := start(t, "160x42", env, "-C", one, "run", "--here", filepath.Join(one, "ten.runbook"))
	x.see("Ready. Nothing has been sent.")
	x.press("B", "Enter")
	x.see(`ald-quay-1 +\S soaking`)
	x.press("w")
	x.see("Runs now")
	x.press("q")
	x.see("a abort")
	x.press("q")
	s := x.see("Leaving aborts it")
	assert.Contains(t, s, "▌ stay", "staying is what a hasty Enter does")
	x.press("Enter")
	x.see(`ald-quay-\d +\S `)
	x.press("q")
	x.see("Leaving aborts it")
	x.press("Down", "Enter")
	s = x.see(`\[code (130|3)\]`)
	assert.Contains(t, s, "the screen is gone; what is in change is taken back, and this ends then")
	assert.Regexp(t, `10 devices: .*skipped`, s)
}

// A wheel scrolls, a click chooses, and neither does more.
func TestTheMouse(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo")
	x.see("Ready. Nothing has been sent.")
	mouse := func(button, column, row int) {
		x.type_(fmt.Sprintf("\x1b[<%d;%d;%dM", button, column, row))
	}
	mouse(0, 5, 13) // the row of a device in batch 2
	x.see(`▌ ald-quay-6`)
	mouse(65, 5, 13)
	x.see(`▌ brm-quay-4`)
	for range 4 {
		mouse(0, 5, 1)
		mouse(2, 5, 42)
	}
	x.begin()
	x.see(`brm-quay-4 is held`)
	x.press("d")
	s := x.see(`▌ 1 Try again`)
	for row, l := range strings.Split(s, "\n") {
		if i := strings.Index(l, "Take everything back and stop"); i >= 0 {
			mouse(0, len([]rune(l[:i])), row+1)
			mouse(0, len([]rune(l[:i])), row+1)
		}
	}
	s = x.see(`▌ \d+ Take everything back and stop`)
	assert.NotContains(t, s, "Enter again")
	x.press("Escape")
	x.see("! next in need")
	x = start(t, "160x41", []string{"METABASIS_MOUSE=no"}, "demo")
	x.see("Ready. Nothing has been sent.")
	assert.Equal(t, "0", strings.TrimSpace(x.tmux("display-message", "-p", "#{mouse_any_flag}")), "the mouse is the terminal's")
}
