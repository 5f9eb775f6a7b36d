package e2e

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHappyNight(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo", "--faults", "none")
	s := x.see("Ready. Nothing has been sent.")
	assert.Contains(t, s, "24 in 4 batches: 1, 4, 12, 7")
	assert.Contains(t, s, "ops-desk-1, ops-desk-2: role is desk, wanted")
	assert.Contains(t, s, "Batch 4 of 4")
	x.press("q") // nothing runs yet: this leaves
	x.see(`\[code 0\]`)

	x = start(t, "160x43", nil, "demo", "--faults", "none")
	x.begin()
	s = x.see("Going well")
	assert.Regexp(t, `next batch must start within \d+ m`, s)
	x.press("q")
	x.see("Leaving aborts it")
	x.press("Escape")
	s = x.see("The night is over. 24 devices: 24 kept")
	assert.NotContains(t, s, "held")
	x.press("q")
	x.see(`24 devices: 24 kept\s+The demo.s journal, report, backups and transcripts are in (.|\s)*\[code 0\]`)
}

func TestHoldsAndDecisions(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo")
	x.begin()
	s := x.see(`brm-quay-4 is held: line 1 of "Log collector" was refused`)
	assert.Contains(t, s, "! next in need")
	x.decide("brm-quay-4", "Try again")
	s = x.screen()
	for _, want := range []string{"sent: log host 198.51.100.14", `said: Refused: unknown word "log"`, "restarts at ", "Skip the step",
		"Wait for the timer", "Take the batch back", "Take everything back and stop"} {
		assert.Contains(t, s, want)
	}
	x.press("Enter") // try again: it is refused again
	x.decide("brm-quay-4", "Take this device back")
	x.press("Enter")
	x.see(`brm-quay-4 +◁ reverted +\S+ equal to the backup`)
	x.decide("cld-quay-2", "Extend the timer")
	x.press("Enter")
	x.decide("cld-quay-2", "Skip the step")
	x.press("Enter")
	x.see(`cld-quay-2 +● kept`)
	x.see(`drf-quay-3 +▽ dark`)
	x.see(`drf-quay-3 +◁ reverted +\S+ came back with its saved`)
	x.see(`The night is over. 24 devices: 22 kept, 2 reverted; left out: 1 step`)
	x.press("q")
	x.see(`\[code 3\]`)
}

func TestTakeBatchBack(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo")
	x.begin()
	// Somebody who works a device by hand learns that something is held.
	x.press("c")
	x.see("What you type goes to .*, until Ctrl-G")
	x.press("Down", "Enter")
	x.see("console of .* over SSH")
	x.see(`◆ brm-quay-4 is held\s+Ctrl-G leaves`)
	x.press("C-g")
	x.decide("brm-quay-4", "Take the batch back")
	x.press("Enter")
	x.see(`Enter again: \d+ devices`)
	x.press("Enter")
	x.see("batch 3 was taken back")
	s := x.screen()
	assert.Regexp(t, `brm-quay-2 +◁ reverted`, s)
	assert.Regexp(t, `ald-quay-2 +● kept`, s, "an earlier batch stays")
	x.press("d")
	x.see("Nothing is chosen")
	x.press("2")
	x.see("▌ 2 Stop here")
	x.press("Enter")
	x.see("The night is over")
	x.press("q")
	x.see(`\[code 3\]`)
}

func TestTakeEverythingBack(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo")
	x.begin()
	x.decide("brm-quay-4", "Take everything back and stop")
	x.press("Enter")
	x.see(`Enter again: \d+ devices`)
	x.press("Enter")
	s := x.see("The night is over")
	assert.NotContains(t, s, "● kept")
	assert.Regexp(t, `ald-quay-3 +◁ reverted`, s)
	x.press("q")
	x.see(`\[code 3\]`)
}

func TestAbort(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo", "--faults", "none")
	x.begin()
	x.see(`ald-quay-2 +\S changing`)
	x.press("C-c") // never just ends a night that runs
	x.see("What becomes of those in change")
	x.press("Escape")
	x.see("! next in need")
	x.press("a")
	x.see("Nothing is chosen")
	x.press("1")
	x.see("▌ 1 Take back those in change")
	x.press("Enter")
	x.see(`Enter again: \d+ device`)
	x.press("Enter")
	s := x.see("The night is over")
	assert.Regexp(t, `ald-quay-3 +● kept`, s)
	assert.Regexp(t, `brm-quay-2 +▫ skipped`, s)
	assert.Regexp(t, `\d reverted`, s)
	x.press("q")
	x.see(`\[code 130\]`)
}

func TestLetGo(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo", "--faults", "none")
	x.begin()
	x.see(`ald-quay-2 +\S changing`)
	x.press("a")
	x.see("Let go of everything")
	x.press("4", "Enter")
	x.see(`Enter again: \d+ devices`)
	x.press("Enter")
	x.see(`let go; restarts at`)
	x.see("The night is over")
	x.press("q")
	x.see(`\[code 4\]`)
}

func TestTranscriptAndSearch(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", nil, "demo", "--faults", "none")
	x.begin()
	x.press("Enter")
	x.see("Transcript of ald-quay-3   lines")
	x.press("/")
	x.see("find ")
	x.press("r", "e", "s", "t", "a", "r", "t", "Enter")
	s := x.see(`▌\d\d:\d\d:\d\d.*restart`)
	assert.Regexp(t, `\d+ lines with restart`, s)
	first := markedLine(s)
	x.press("n")
	require.Eventually(t, func() bool { l := markedLine(x.screen()); return l != "" && l != first }, patience, 50e6)
	assert.NotContains(t, x.screen(), "harbour-lamp", "secrets are masked")
	x.press("Home")
	x.see("Marrow Sound|connecting to|tern 4.2")
	x.press("Escape")
	x.see("Batch 1 of 4")
}

func markedLine(screen string) string {
	for _, l := range strings.Split(screen, "\n") {
		if strings.HasPrefix(l, "▌") {
			return l
		}
	}
	return ""
}

func TestSmallAndResized(t *testing.T) {
	t.Parallel()
	x := start(t, "100x30", nil, "demo")
	s := x.see("Ready. Nothing has been sent.")
	assert.Contains(t, s, "B begin")
	assert.Contains(t, s, "ald-quay-3", "the list stands below")
	x.begin()
	x.decide("brm-quay-4", "Take this device back")
	assert.Contains(t, x.screen(), "sent: log host 198.51.100.14")
	x.press("Escape")
	x.see(`Enter transcript`)
	x.see(`↓ \d+ more`)
	x.press("f")
	x.see(`Batch 4 of 4[^\n]*\n +◦ ◦ ◦ ◦ ◦ ◦ ◦`)
	x.press("f")
	x.tmux("resize-window", "-x", "50", "-y", "12")
	x.see("too small: make it at least 60")
	x.tmux("resize-window", "-x", "160", "-y", "42")
	s = x.see("Batch 4 of 4")
	for _, l := range strings.Split(s, "\n") {
		assert.LessOrEqual(t, len([]rune(l)), 160)
	}
	x.see(`brm-quay-4 +◆ held`)
}

func TestNoColour(t *testing.T) {
	t.Parallel()
	x := start(t, "160x42", []string{"NO_COLOR=1"}, "demo", "--faults", "none")
	x.see("Ready. Nothing has been sent.")
	out := x.tmux("capture-pane", "-p", "-e")
	assert.NotRegexp(t, `\x1b\[[0-9;]*[34]8;`, out, "no colour where none is wanted")
	assert.Regexp(t, `ald-quay-3 +◦ waiting`, x.screen())
}

// A finished night opens again from the workspace alone.
func TestWorkspaceOpensAPastNight(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	x := start(t, "160x42", nil, "demo", "--headless", "--faults", "none", "--dir", dir)
	x.see(`24 devices: 24 kept`)
	x = start(t, "160x41", nil, "-C", dir)
	x.see("Nights of")
	x.see("quays.runbook +● fits +Move the quays to the new clocks")
	x.press("End", "Enter")
	s := x.see("The night is over. 24 devices: 24 kept")
	assert.Contains(t, s, "backup")
	x.press("Enter")
	x.see("Transcript of ald-quay-3")
	x.press("Escape")
	x.see("! next in need")
	x.press("q")
	x.see("Nights of")
	x.press("q")
	x.see(`\[code 0\]`)
}
