package screen

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
)

// asked is a hold of the run.
func asked(n int, offers ...run.Offer) run.Event {
	return run.Event{Kind: run.HoldOpened, At: began, Hold: n, Note: "the window opens at Wed 2 Dec 01:30 UTC", Offers: offers}
}

// Nothing that cannot be seen can be answered: in a window that is too small, keys do
// nothing at all.
func TestKeysDoNothingInAWindowThatIsTooSmall(t *testing.T) {
	n := run.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	m, rec := model(t, n, 50, 12)
	assert.Contains(t, text(m), "Keys do nothing until then.")
	press(m, "d", "down", "down", "enter", "enter", "a", "4", "enter", "enter", "ctrl+c", "enter")
	m.Update(tea.WindowSizeMsg{Width: 160, Height: 42})
	press(m, "enter")
	assert.Empty(t, rec.commands)
	assert.Equal(t, onTranscript, m.focus, "the last Enter alone was taken")
}

// What stands in a pane with little room scrolls: the choice under the cursor, and
// what Enter will do, are always in sight.
func TestTheChoiceIsAlwaysInSight(t *testing.T) {
	n := run.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	n.Holds[0].Evidence = strings.Split(strings.Repeat("said: something long enough to fill a line\n", 12), "\n")
	n.Holds[0].Offers = []run.Offer{{Choice: run.TryAgain, Takes: time.Minute, Fits: true}, {Choice: run.SkipStep, Fits: true}, {Choice: run.BackDevice, Fits: true},
		{Choice: run.LetFire, Fits: true}, {Choice: run.Extend, Fits: true}, {Choice: run.BackBatch, Touches: 3, Fits: true}, {Choice: run.BackAll, Touches: 7, Fits: true}}
	titles := []string{"Try again", "Skip the step", "Take this device back", "Wait for the timer", "Extend the timer", "Take the batch back", "Take everything back"}
	for _, size := range [][2]int{{160, 20}, {100, 20}, {60, 16}} {
		m, _ := model(t, n, size[0], size[1])
		press(m, "d")
		for i, title := range titles {
			if i > 0 {
				press(m, "down")
			}
			assert.Contains(t, text(m), fmt.Sprintf("▌ %d %s", i+1, title), "%v", size)
		}
		press(m, "enter")
		assert.Contains(t, text(m), "Enter again: 7 devices", "%v", size)
	}
}

// After Esc nothing stays chosen: neither a choice nor its first Enter.
func TestEscForgets(t *testing.T) {
	n := run.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	m, rec := model(t, n, 160, 42)
	press(m, "d", "down", "enter")
	require.Contains(t, text(m), "Enter again")
	press(m, "esc", "d")
	assert.Contains(t, text(m), "▌ 1 Try again")
	assert.NotContains(t, text(m), "Enter again")
	press(m, "down", "enter", "esc", "d", "down", "enter")
	assert.Empty(t, rec.commands, "the second Enter is wanted every time")
}

// What touches many devices, does not fit or goes against the window is never chosen
// before a person moves to it.
func TestNothingHarmfulIsPreselected(t *testing.T) {
	for name, first := range map[string]run.Offer{
		"many":    {Choice: run.GoOn, Touches: 21, Fits: true},
		"no room": {Choice: run.TryAgain, Touches: 1, Takes: time.Hour},
		"early":   {Choice: run.StartEarly, Touches: 1, Reason: true, Fits: true},
		"late":    {Choice: run.GoOnLate, Touches: 1, Reason: true, Fits: true},
		"give up": {Choice: run.Leave, Touches: 1, Fits: true},
	} {
		m, rec := model(t, run.Fold(planned(4, 4), asked(3, first, run.Offer{Choice: run.Stop})), 160, 42)
		press(m, "d")
		assert.Contains(t, text(m), "Nothing is chosen", name)
		press(m, "enter", "enter", "enter")
		assert.Empty(t, rec.commands, name)
		press(m, "1", "enter")
		assert.Empty(t, rec.commands, name)
		assert.Contains(t, text(m), "Enter again: ", name)
	}
	m, rec := model(t, run.Fold(planned(4, 4), asked(3, run.Offer{Choice: run.GoOn, Touches: 1, Fits: true}, run.Offer{Choice: run.Stop})), 160, 42)
	press(m, "d", "enter")
	assert.Len(t, rec.commands, 1, "going on with one device is no harm")
}

// An abort never has a choice made before a person makes it, the first time nor the
// second.
func TestAnAbortHasNothingPreselected(t *testing.T) {
	moved := []run.Event{{Kind: run.Moved, At: began, Device: "ald-quay-1", State: run.Changing}, {Kind: run.Moved, At: began, Device: "ald-quay-2", State: run.Changing}}
	for _, more := range [][]run.Event{nil, {{Kind: run.Aborted, Choice: run.Finish}}} {
		m, rec := model(t, run.Fold(planned(4, 4), append(moved, more...)...), 160, 42)
		press(m, "a", "enter", "enter", "a", "a", "enter", "enter")
		assert.Empty(t, rec.commands)
		press(m, "1", "enter", "enter")
		assert.Equal(t, []run.Command{{Choice: run.BackDevice, By: "Ada"}}, rec.commands)
	}
}

// A question that the end of the night answers is closed.
func TestTheEndClosesTheAbort(t *testing.T) {
	m, rec := model(t, run.Fold(planned(4, 4), run.Event{Kind: run.Moved, At: began, Device: "ald-quay-1", State: run.Changing}), 160, 42)
	press(m, "a")
	m.take([]run.Event{{Kind: run.Ended, At: began.Add(time.Minute)}})
	assert.Contains(t, text(m), "the night was over before it was aborted")
	press(m, "1", "enter")
	assert.Empty(t, rec.commands)
}

// Starting early takes a second Enter and a reason, which is typed and passed on.
func TestStartingEarlyNeedsAReason(t *testing.T) {
	m, rec := model(t, run.Fold(planned(4, 4), asked(3, run.Offer{Choice: run.StartEarly, Touches: 4, Reason: true, Fits: true}, run.Offer{Choice: run.Stop})), 160, 42)
	press(m, "d", "1", "enter", "enter")
	assert.Contains(t, text(m), "Reason:")
	press(m, "enter", "enter")
	assert.Empty(t, rec.commands, "no reason, no start")
	press(m, "q", "d", "a", "esc")
	assert.Empty(t, rec.commands)
	press(m, "d", "1", "enter", "enter")
	press(m, strings.Split("the  quay is empty: a d q 1", "")...)
	assert.Contains(t, text(m), "the  quay is empty: a d q 1")
	press(m, "enter")
	assert.Equal(t, []run.Command{{Hold: 3, Choice: run.StartEarly, By: "Ada", Reason: "the  quay is empty: a d q 1"}}, rec.commands)
}

func TestTryAgainSaysWhetherItSends(t *testing.T) {
	n := run.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	m, _ := model(t, n, 160, 42)
	press(m, "d")
	assert.Contains(t, text(m), "send the same step once more from its first line")
	n.Holds[0].Offers[0].Looks = true
	m, _ = model(t, n, 160, 42)
	press(m, "d")
	assert.Contains(t, text(m), "look once more; nothing is sent")
}

func TestFindingADevice(t *testing.T) {
	m, _ := model(t, planned(24, 8), 160, 42)
	press(m, "/")
	press(m, strings.Split("QUAY-2", "")...)
	assert.Equal(t, "ald-quay-2", m.list.Device(&m.night).Name)
	press(m, "down")
	assert.Equal(t, "ald-quay-20", m.list.Device(&m.night).Name)
	press(m, "9")
	assert.Contains(t, text(m), "no device has QUAY-29 in its name")
	press(m, "esc")
	assert.Equal(t, "ald-quay-1", m.list.Device(&m.night).Name, "Esc goes back")
	press(m, "/", "1", "7", "enter", "down")
	assert.Equal(t, "ald-quay-18", m.list.Device(&m.night).Name, "Enter stays there")
}

// ready is a night that has not begun.
func ready(t *testing.T, w, h, warnings int) *Model {
	t.Helper()
	n := planned(24, 8)
	n.Outline.Values = []plan.Value{{Name: "clock_a", Value: "192.0.2.40", Usual: true}, {Name: "key", Value: plan.Hidden}}
	n.Outline.Budget = 2
	for i := range warnings {
		n.Outline.Warnings = append(n.Outline.Warnings, fmt.Sprintf("warning number %d of many", i+1))
	}
	m, _ := model(t, n, w, h)
	m.started = false
	m.src.Start = func() (<-chan []run.Event, error) { return nil, errors.New("this workspace is taken by ben") }
	m.src.Lines = func(d string) []string {
		return []string{"Step 1 of 2: Time sources", "    | time source 192.0.2.40 first"}
	}
	return m
}

func TestReadyShowsWhatWillBeDone(t *testing.T) {
	for _, size := range [][2]int{{160, 42}, {100, 30}} {
		m := ready(t, size[0], size[1], 0)
		s := text(m)
		for _, want := range []string{"Wed 2 Dec 2026 01:30 to 04:30 UTC, 3h", "clock_a = 192.0.2.40, the runbook's own", "key = ▒▒▒▒", "after 2 failures, as the runbook does not say"} {
			assert.Contains(t, s, want, size)
		}
		assert.Contains(t, s, "ald-quay-1", "the list stands beside or below")
		m = ready(t, size[0], size[1], 60)
		s = text(m)
		assert.Contains(t, s, "warning number 1 of many", "what warns comes first")
		assert.Contains(t, s, "↓")
		assert.NotContains(t, s, "as the runbook does not say")
		press(m, "tab", "end")
		s = text(m)
		assert.Contains(t, s, "Enter on a device shows the lines", "the pane scrolls to its end")
		assert.Contains(t, s, "as the runbook does not say")
		assert.NotContains(t, s, "warning number 1 of many")
		press(m, "home", "esc", "down", "enter")
		s = text(m)
		assert.Contains(t, s, "What will be sent to ald-quay-2")
		assert.Contains(t, s, "| time source 192.0.2.40 first")
		press(m, "esc")
		assert.Contains(t, text(m), "Ready. Nothing has been sent.")
		press(m, "g")
		assert.Contains(t, text(m), "Enter begins the night", "it is in sight, however long the pane")
	}
}

// A run that cannot begin says why, and can be begun again.
func TestABeginningThatFails(t *testing.T) {
	m := ready(t, 160, 42, 2)
	press(m, "g")
	_, cmd := m.Update(tea.KeyPressMsg{Code: tea.KeyEnter})
	assert.Contains(t, text(m), "Beginning:")
	press(m, "g", "enter")
	assert.Equal(t, onTranscript, m.focus, "it is not begun twice")
	press(m, "esc")
	m.Update(cmd())
	assert.Contains(t, text(m), "this workspace is taken by ben")
	assert.Contains(t, text(m), "Ready. Nothing has been sent.")
	assert.False(t, m.running())
	press(m, "g")
	assert.Equal(t, onBegin, m.focus)
}

// A night whose journal ends before it does says that it crashed, and its clocks
// stand still; Esc leaves it.
func TestACrashedNight(t *testing.T) {
	n := run.Fold(planned(4, 4), run.Event{Kind: run.Began, At: began}, run.Event{Kind: run.Moved, At: began.Add(time.Minute), Device: "ald-quay-1", State: run.Changing},
		run.Event{Kind: run.TimerSeen, At: began.Add(2 * time.Minute), Device: "ald-quay-1", Due: began.Add(6 * time.Minute), For: 5 * time.Minute})
	m := New(Source{Night: n}, "dark")
	m.Update(tea.WindowSizeMsg{Width: 160, Height: 42})
	for range 3 {
		m.Update(tickMsg(time.Now()))
		s := text(m)
		assert.Contains(t, s, "This night crashed: its journal ends at "+n.Last.Local().Format("Mon 2 Jan 15:04:05"))
		assert.Contains(t, s, "stands still at Wed 2 Dec 01:32:00")
		assert.NotContains(t, s, "finish")
		assert.Regexp(t, `ald-quay-1 +◧ changing.* 4:00 +1:00`, s)
	}
	_, cmd := m.Update(tea.KeyPressMsg{Code: tea.KeyEscape})
	require.NotNil(t, cmd)
	assert.Equal(t, tea.QuitMsg{}, cmd())
	m.src.Elsewhere = "ada (process 4711)"
	assert.Contains(t, text(m), "This night runs in another process: ada (process 4711)")
}
