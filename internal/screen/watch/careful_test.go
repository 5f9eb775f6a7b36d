package watch

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
)

// asked is a hold of the run.
func asked(n int, offers ...night.Offer) night.Event {
	return night.Event{Kind: night.HoldOpened, At: began, Hold: n, Note: "the window opens at Wed 2 Dec 01:30 UTC", Offers: offers}
}

// Nothing that cannot be seen can be answered: in a window that is too small, keys do
// nothing at all.
func TestKeysDoNothingInAWindowThatIsTooSmall(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), held("ald-quay-3", 7)...), 50, 12)
	assert.Contains(t, s.Text(), "Keys do nothing until then.")
	assert.Contains(t, s.Text(), "ald-quay-3 is held", "what needs a person is said all the same")
	s.Press("d", "down", "down", "enter", "enter", "a", "4", "enter", "enter", "ctrl+c", "enter")
	s.Click(3, 3)
	s.Resize(160, 42)
	s.Press("enter")
	assert.Empty(t, s.commands)
	assert.Contains(t, s.Text(), "Transcript of ald-quay-1", "the last Enter alone was taken")
}

// What stands in a pane with little room scrolls: the choice under the cursor, and
// what Enter will do, are always in sight.
func TestTheChoiceIsAlwaysInSight(t *testing.T) {
	n := night.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	n.Holds[0].Evidence = strings.Split(strings.Repeat("said: something long enough to fill a line\n", 12), "\n")
	n.Holds[0].Offers = []night.Offer{{Choice: night.TryAgain, Takes: time.Minute, Fits: true}, {Choice: night.SkipStep, Fits: true}, {Choice: night.BackDevice, Fits: true},
		{Choice: night.LetFire, Fits: true}, {Choice: night.Extend, Fits: true}, {Choice: night.BackBatch, Touches: 3, Fits: true}, {Choice: night.BackAll, Touches: 7, Fits: true}}
	titles := []string{"Try again", "Skip the step", "Take this device back", "Wait for the timer", "Extend the timer", "Take the batch back", "Take everything back"}
	for _, size := range [][2]int{{160, 20}, {100, 20}, {60, 16}} {
		s := running(t, n, size[0], size[1])
		s.Press("d")
		for i, title := range titles {
			if i > 0 {
				s.Press("down")
			}
			assert.Contains(t, s.Text(), fmt.Sprintf("▌ %d %s", i+1, title), "%v", size)
		}
		s.Press("enter")
		assert.Contains(t, s.Text(), "Enter again: 7 devices", "%v", size)
	}
}

// After Esc nothing stays chosen: neither a choice nor its first Enter. Pressing d
// again begins anew, too.
func TestEscForgets(t *testing.T) {
	for _, away := range [][]string{{"esc", "d"}, {"q", "d"}, {"d"}, {"a", "esc", "d"}, {"?", "q", "esc", "d"}} {
		s := running(t, night.Fold(planned(4, 4), held("ald-quay-3", 7)...), 160, 42)
		s.Press("d", "down", "enter")
		require.Contains(t, s.Text(), "Enter again")
		s.Press(away...)
		assert.Contains(t, s.Text(), "▌ 1 Try again", away)
		assert.NotContains(t, s.Text(), "Enter again")
		s.Press("down", "enter")
		s.Press(away...)
		s.Press("down", "enter")
		assert.Empty(t, s.commands, "the second Enter is wanted every time")
	}
}

// What touches many devices, does not fit or goes against the window is never chosen
// before a person moves to it.
func TestNothingHarmfulIsPreselected(t *testing.T) {
	for name, first := range map[string]night.Offer{
		"many":    {Choice: night.GoOn, Touches: 21, Fits: true},
		"no room": {Choice: night.TryAgain, Touches: 1, Takes: time.Hour},
		"early":   {Choice: night.StartEarly, Touches: 1, Reason: true, Fits: true},
		"late":    {Choice: night.GoOnLate, Touches: 1, Reason: true, Fits: true},
		"give up": {Choice: night.Leave, Touches: 1, Fits: true},
	} {
		s := running(t, night.Fold(planned(4, 4), asked(3, first, night.Offer{Choice: night.Stop})), 160, 42)
		s.Press("d")
		assert.Contains(t, s.Text(), "Nothing is chosen", name)
		s.Press("enter", "enter", "enter")
		assert.Empty(t, s.commands, name)
		s.Press("1", "enter")
		assert.Empty(t, s.commands, name)
		assert.Contains(t, s.Text(), "Enter again: ", name)
	}
	s := running(t, night.Fold(planned(4, 4), asked(3, night.Offer{Choice: night.GoOn, Touches: 1, Fits: true}, night.Offer{Choice: night.Stop})), 160, 42)
	s.Press("d", "enter")
	assert.Len(t, s.commands, 1, "going on with one device is no harm")
}

// A click chooses an answer; it never gives it.
func TestAClickOnlyChooses(t *testing.T) {
	for _, size := range [][2]int{{160, 42}, {100, 30}} {
		s := running(t, night.Fold(planned(4, 4), held("ald-quay-3", 7)...), size[0], size[1])
		s.Press("d")
		for y, l := range s.Lines() {
			if i := strings.Index(l, "2 Take everything back"); i >= 0 {
				for range 3 {
					s.Click(len([]rune(l[:i])), y)
				}
			}
		}
		assert.Contains(t, s.Text(), "▌ 2 Take everything back", size)
		assert.NotContains(t, s.Text(), "Enter again")
		assert.Empty(t, s.commands)
	}
	s := running(t, planned(24, 8), 160, 42)
	for y, l := range s.Lines() {
		if strings.Contains(l, "ald-quay-12 ") {
			s.Click(4, y)
		}
	}
	assert.Equal(t, "ald-quay-12", s.n.view.Device().Name)
	s.Wheel(false)
	assert.Equal(t, "ald-quay-15", s.n.view.Device().Name)
	s.Press("f")
	s.Wheel(true)
	for y, l := range s.Lines() {
		if strings.Contains(l, "Batch 3 of 3") {
			s.Click(2+2*4, y+1)
		}
	}
	assert.Equal(t, "ald-quay-21", s.n.view.Device().Name)
}

// An abort never has a choice made before a person makes it, the first time nor the
// second.
func TestAnAbortHasNothingPreselected(t *testing.T) {
	moved := changing("ald-quay-1", "ald-quay-2")
	for _, more := range [][]night.Event{nil, {{Kind: night.Aborted, Choice: night.Finish}}} {
		s := running(t, night.Fold(planned(4, 4), append(moved, more...)...), 160, 42)
		s.Press("a", "enter", "enter", "a", "a", "enter", "enter")
		assert.Empty(t, s.commands)
		s.Press("1", "enter", "enter")
		assert.Equal(t, []night.Command{{Choice: night.BackDevice}}, s.commands)
	}
}

// A question that the end of the night answers is closed.
func TestTheEndClosesTheAbort(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), changing("ald-quay-1")...), 160, 42)
	s.Press("a")
	s.happen(night.Event{Kind: night.Ended, At: began.Add(time.Minute)})
	assert.Contains(t, s.Text(), "the night was over before it was aborted")
	s.Press("1", "enter")
	assert.Empty(t, s.commands)
}

// Starting early takes a second Enter and a reason, which is typed and passed on.
func TestStartingEarlyNeedsAReason(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), asked(3, night.Offer{Choice: night.StartEarly, Touches: 4, Reason: true, Fits: true}, night.Offer{Choice: night.Stop})), 160, 42)
	s.Press("d", "1", "enter", "enter")
	assert.Contains(t, s.Text(), "Reason:")
	s.Press("enter", "enter")
	assert.Empty(t, s.commands, "no reason, no start")
	s.Press("q", "d", "a", "esc")
	assert.Empty(t, s.commands)
	s.Press("enter") // the confirmation was taken back
	assert.Contains(t, s.Text(), "Enter again")
	s.Press("enter", "the  quay is empty: a d q 1")
	assert.Contains(t, s.Text(), "the  quay is empty: a d q 1")
	s.Press("enter")
	assert.Equal(t, []night.Command{{Hold: 3, Choice: night.StartEarly, Reason: "the  quay is empty: a d q 1"}}, s.commands)
}

// A reason that is typed for a hold that closes meanwhile answers nothing.
func TestAReasonForAHoldThatCloses(t *testing.T) {
	early := night.Offer{Choice: night.StartEarly, Touches: 4, Reason: true, Fits: true}
	s := running(t, night.Fold(planned(4, 4), asked(3, early)), 160, 42)
	s.Press("d", "1", "enter", "enter", "the quay")
	s.happen(night.Event{Kind: night.HoldClosed, Hold: 3}, asked(4, early))
	assert.NotContains(t, s.Text(), "Reason:")
	s.Press("enter")
	assert.Empty(t, s.commands)
}

func TestTryAgainSaysWhetherItSends(t *testing.T) {
	n := night.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	s := running(t, n, 160, 42)
	s.Press("d")
	assert.Contains(t, s.Text(), "send the same step once more from its first line")
	n.Holds[0].Offers[0].Does = "looks once more at the clock and sends none of its lines; then cancels its timer and saves"
	s = running(t, n, 160, 42)
	s.Press("d")
	assert.Contains(t, s.Text(), "looks once more at the clock and sends none of its")
}

func TestFindingADevice(t *testing.T) {
	s := running(t, planned(24, 8), 160, 42)
	at := func() string { return s.n.view.Device().Name }
	s.Press("/", "QUAY-2")
	assert.Equal(t, "ald-quay-2", at())
	s.Press("down")
	assert.Equal(t, "ald-quay-20", at())
	s.Press("9")
	assert.Contains(t, s.Text(), "nothing here has QUAY-29")
	s.Press("esc")
	assert.Equal(t, "ald-quay-1", at(), "Esc goes back")
	s.Press("/", "1", "7", "enter", "down")
	assert.Equal(t, "ald-quay-18", at(), "Enter stays there")
	s.Press("n", "G", "g")
	assert.Equal(t, "ald-quay-1", at())
	s.Press("G")
	assert.Equal(t, "ald-quay-24", at())
}

// ready is a night that has not begun.
func ready(t *testing.T, cells, rows, warnings int) (*shown, chan error) {
	t.Helper()
	told := planned(24, 8)
	told.Outline.Values = []plan.Value{{Name: "clock_a", Value: "192.0.2.40", Usual: true}, {Name: "key", Value: plan.Hidden}}
	told.Outline.Budget = 2
	for i := range warnings {
		told.Outline.Warnings = append(told.Outline.Warnings, fmt.Sprintf("warning number %d of many", i+1))
	}
	answers := make(chan error)
	s := &shown{n: New(Source{Night: told, Warnings: []string{"the agent cannot be asked"},
		Run: fakeRun{begin: func(ctx context.Context) error {
			select {
			case err := <-answers:
				return err
			case <-ctx.Done():
				return ctx.Err()
			}
		}, next: func(ctx context.Context) ([]night.Event, bool) { <-ctx.Done(); return nil, false }},
		Plan: fakePlan{lines: []string{"Step 1 of 2: Time sources", "    | time source 192.0.2.40 first"}}})}
	s.Screen = screentest.New(t, cells, rows, options(), func(h *screen.Host) { h.Open(s.n.View()) })
	return s, answers
}

func TestReadyShowsWhatWillBeDone(t *testing.T) {
	for _, size := range [][2]int{{160, 42}, {100, 30}} {
		s, _ := ready(t, size[0], size[1], 0)
		text := s.Text()
		for _, want := range []string{"Wed 2 Dec 2026 01:30 to 04:30 UTC, 3h", "clock_a = 192.0.2.40, the runbook's own", "key = ▒▒▒▒", "after 2 failures, the usual number", "warning     the agent cannot be asked"} {
			assert.Contains(t, text, want, size)
		}
		assert.Contains(t, text, "ald-quay-1", "the list stands beside or below")
		s, _ = ready(t, size[0], size[1], 60)
		text = s.Text()
		assert.Contains(t, text, "warning number 1 of many", "what warns comes first")
		assert.Contains(t, text, "↓")
		assert.NotContains(t, text, "the usual number")
		s.Press("tab", "end")
		text = s.Text()
		assert.Contains(t, text, "Enter on a device shows the lines", "in full it scrolls to its end")
		assert.Contains(t, text, "the usual number")
		assert.NotContains(t, text, "warning number 1 of many")
		s.Press("esc", "down", "enter")
		text = s.Text()
		assert.Contains(t, text, "What will be sent to ald-quay-2")
		assert.Contains(t, text, "| time source 192.0.2.40 first")
		s.Press("esc")
		assert.Contains(t, s.Text(), "Ready. Nothing has been sent.")
		s.Press("B")
		assert.Contains(t, s.Text(), "Enter begins the night", "it is in sight, however long the pane")
		s.Press("esc")
		assert.NotContains(t, s.Text(), "Enter begins the night")
	}
}

// A run that cannot begin says why, and can be begun again; what has begun stands on
// top of every view.
func TestBeginning(t *testing.T) {
	s, answers := ready(t, 160, 42, 2)
	s.Press("g", "enter", "q", "G", "B", "x", "r", "enter")
	s.See("Beginning:")
	s.Press("q")
	s.See("Leaving aborts it") // hasty, while it begins
	s.Press("enter")
	s.Press("B", "enter")
	s.See("What will be sent")
	s.Press("esc")
	answers <- errors.New("this workspace is taken by ben")
	text := s.See("this workspace is taken by ben")
	assert.Contains(t, text, "Ready. Nothing has been sent.")
	assert.False(t, s.n.Running())
	s.Press("B", "enter")
	answers <- nil
	s.See("Going well|24 waiting")
	assert.True(t, s.n.Running())
	s.Press("?")
	text = s.See("all keys of this view")
	assert.Contains(t, text, "Move the quays to the new clocks", "its strip stays on top")
}

// A view above a night that fails is left, and the night goes on meanwhile: what happens
// is taken in, and a hold is decided on.
func TestAViewThatFailsAboveANight(t *testing.T) {
	s := running(t, planned(4, 4), 160, 42)
	s.Press("tab")
	s.n.src.Said = fakeSaid{tail: func(string, int) []string { panic("no such tail") }}
	assert.Contains(t, s.See("this view cannot be drawn"), "The night goes on.")
	s.happen(held("ald-quay-3", 7)...)
	text := s.See("ald-quay-3 is held")
	assert.Contains(t, text, "no such tail (watch/careful_test.go:")
	s.n.src.Said = nil
	s.Press("q", "d", "enter")
	assert.Equal(t, []night.Command{{Choice: night.TryAgain, Hold: 7}}, s.commands)
}

// Deciding from a view that was opened beside the night leaves it open, and its work
// goes on; a question is never open twice.
func TestDecidingLeavesOtherViewsOpen(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), held("ald-quay-3", 7)...), 160, 42)
	other := New(Source{Night: planned(2, 2)})
	s.n.view.host.Root().Open(other.View())
	s.Press("d")
	assert.Contains(t, s.Text(), "Decide: ald-quay-3")
	s.Press("d", "a", "d", "enter")
	assert.Equal(t, []night.Command{{Choice: night.TryAgain, Hold: 7}}, s.commands)
	s.Press("q")
	assert.Regexp(t, `2 devices in|ald-quay-2`, s.Text())
	assert.NotContains(t, s.Text(), "Decide: ")
	assert.False(t, other.view.host.Left())
}

// alike are holds for the same reason on several devices, each with other lines to be edited.
func alike(first int, devices ...string) (out []night.Event) {
	for i, d := range devices {
		e := held(d, first+i)
		e[1].Offers = []night.Offer{{Choice: night.TryAgain, Touches: 1, Takes: time.Minute, Fits: true},
			{Choice: night.OtherLines, Touches: 1, Takes: time.Minute, Fits: true, Reason: true, Sends: []string{"log host 192.0.2.9", "log level 3"}}}
		out = append(out, e...)
	}
	return out
}

// What was confirmed of two devices is not done to a third that came to them meanwhile, nor to fewer.
func TestADecisionIsConfirmedOfTheDevicesThatItIsDoneTo(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), alike(7, "ald-quay-1", "ald-quay-2")...), 160, 42)
	s.Press("d")
	assert.Contains(t, s.Text(), "Decide: 2 devices, held for the same")
	s.Press("1", "enter")
	assert.Contains(t, s.Text(), "Enter again: 2 devices")
	s.happen(alike(9, "ald-quay-3")...)
	s.Press("enter")
	assert.Empty(t, s.commands)
	assert.Contains(t, s.Text(), "Enter again: 3 devices")
	s.happen(night.Event{Kind: night.HoldClosed, Hold: 8})
	s.Press("enter")
	assert.Empty(t, s.commands)
	assert.Contains(t, s.Text(), "Enter again: 2 devices")
	s.Press("enter")
	assert.Equal(t, []night.Command{{Choice: night.TryAgain, Hold: 7, Also: []int{9}}}, s.commands)
}

// Lines that are edited for a hold that is over meanwhile are not sent, and that is said.
func TestOtherLinesForAHoldThatCloses(t *testing.T) {
	for _, when := range []string{"edited", "taken"} {
		s := running(t, night.Fold(planned(4, 4), alike(7, "ald-quay-1")...), 160, 42)
		s.Press("d", "2", "enter")
		assert.Contains(t, s.Text(), "Other lines for ald-quay-1")
		s.Press("down", "U")
		assert.Contains(t, s.Text(), "left out  log level 3")
		if when == "taken" {
			s.Press("s")
			assert.Contains(t, s.Text(), "Reason:")
			s.Press("of the desk")
		}
		s.happen(night.Event{Kind: night.HoldClosed, Hold: 7}, night.Is(night.Reverted, ""))
		assert.Contains(t, s.Text(), "that hold is over", when)
		if when == "edited" { // what was written is not lost, and goes nowhere
			assert.Contains(t, s.Text(), "That hold is over: these lines go nowhere any more.")
			s.Press("s")
			assert.Contains(t, s.Text(), "that hold is over: nothing was sent")
		}
		for _, gone := range []string{"Reason:", "Other lines for", "Decide:"} {
			assert.NotContains(t, s.Text(), gone, when)
		}
		s.Press("s", "enter", "enter")
		assert.Empty(t, s.commands, when)
	}
}
