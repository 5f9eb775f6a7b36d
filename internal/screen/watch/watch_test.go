package watch

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/screentest"
)

var began = time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)

// planned is a night of some devices in batches of that size.
func planned(devices, batch int) night.Night {
	o := &night.Outline{Title: "Move the quays to the new clocks", Change: "MSF-2291", Window: plan.Window{Open: began, Close: began.Add(3 * time.Hour), Reserve: 20 * time.Minute}}
	for i := range devices {
		if i%batch == 0 {
			o.Batches = append(o.Batches, nil)
		}
		last := len(o.Batches) - 1
		o.Batches[last] = append(o.Batches[last], night.OutlineDevice{Name: fmt.Sprintf("ald-quay-%d", i+1), Site: "ALD", Platform: "tern", Steps: []string{"Time sources", "Log collector"}})
	}
	return night.Fold(night.Night{}, night.Event{Kind: night.Planned, At: began, Outline: o})
}

// shown is a night on a screen.
type shown struct {
	*screentest.Screen
	n        *Live
	commands []night.Command
}

func options() screen.Options {
	return screen.Options{Clock: func() time.Time { return began.Add(10 * time.Minute) }}
}

// running shows a night that runs, over the view of a workspace.
func running(t testing.TB, told night.Night, cells, rows int) *shown {
	t.Helper()
	s := &shown{}
	s.n = New(Source{Night: told, Run: fakeRun{do: func(c night.Command) error { s.commands = append(s.commands, c); return nil }},
		Said: fakeSaid{transcript: func(d string) ([]string, error) {
			if d == "ald-quay-2" {
				return nil, fs.ErrNotExist
			}
			return []string{"01:30:00.000 > [x look] tell clock", "01:30:00.100 < time"}, nil
		}}})
	s.n.started = true
	s.Screen = screentest.New(t, cells, rows, options(), func(h *screen.Host) {
		h.Stand(s.n)
		h.Open(s.n.View())
	})
	return s
}

// happen has the night go on.
func (s *shown) happen(events ...night.Event) {
	s.n.take(events)
	s.Send(nil)
}

func held(device string, n int) []night.Event {
	return []night.Event{
		{Kind: night.Moved, At: began, Device: device, State: night.Held, Note: "line 1 was refused"},
		{Kind: night.HoldOpened, At: began, Device: device, Hold: n, Note: "line 1 was refused", Lines: []string{"said: no"},
			Offers: []night.Offer{{Choice: night.TryAgain, Takes: time.Minute, Fits: true}, {Choice: night.BackAll, Touches: 7, Takes: time.Hour * 9}}},
	}
}

// A device that is reached in clear text is marked in its line, and in its
// batch's where the batch is folded to cells.
func TestClearTextIsMarked(t *testing.T) {
	n := planned(4, 2)
	n.Devices[1].ClearText = true
	s := running(t, n, 160, 42)
	assert.Regexp(t, `ald-quay-2 .*clear text`, s.Text())
	s.Press("f")
	text := s.Text()
	assert.NotContains(t, text, "ald-quay-2")
	assert.Equal(t, 1, strings.Count(text, "in clear text"))
	assert.Regexp(t, `Batch 1 of 2   2 devices   1 in clear text`, text)
}

// Whatever the size, a frame fills the screen exactly.
func TestFramesFitTheScreen(t *testing.T) {
	n := night.Fold(planned(24, 8), held("ald-quay-3", 1)...)
	for _, size := range [][2]int{{160, 42}, {100, 30}, {80, 24}, {60, 16}, {59, 16}, {20, 5}, {300, 90}} {
		for _, keys := range []string{"", "f", "d", "a", "?", "!", "/"} {
			s := running(t, n, size[0], size[1])
			s.Press(keys)
			lines := s.Lines()
			assert.Len(t, lines, size[1], "%v %v", size, keys)
			for _, l := range lines {
				assert.LessOrEqual(t, ansi.StringWidth(l), size[0], "%v %v: %q", size, keys, l)
			}
		}
	}
}

// Every state shows its word, its shape and no other state's shape.
func TestEveryStateHasAWordAndAShape(t *testing.T) {
	shapes := map[string]night.State{}
	for _, state := range []night.State{night.Waiting, night.Checking, night.Recording, night.Armed, night.Changing, night.Verifying, night.Soaking, night.Held,
		night.Reverting, night.Dark, night.Kept, night.Already, night.Blocked, night.Skipped, night.Reverted, night.Stranded} {
		sign := ink.SignOf(state)
		require.NotEmpty(t, sign.Shape, state)
		assert.Empty(t, shapes[sign.Shape], "%s and %s share a shape", state, shapes[sign.Shape])
		shapes[sign.Shape] = state
		s := running(t, night.Fold(planned(1, 1), night.Event{Kind: night.Moved, At: began, Device: "ald-quay-1", State: state}), 160, 42)
		s.See(`ald-quay-1 +` + regexp.QuoteMeta(sign.Shape+" "+string(state)))
	}
}

func TestDecisionsNeedTheirKeys(t *testing.T) {
	n := night.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	s := running(t, n, 160, 42)
	assert.Contains(t, s.Text(), "ald-quay-3 is held: line 1 was refused")
	s.Press("enter", "esc") // a transcript, not a decision
	assert.Empty(t, s.commands)
	s.Press("d", "enter")
	assert.Equal(t, []night.Command{{Choice: night.TryAgain, Hold: 7}}, s.commands)

	s = running(t, n, 160, 42)
	s.Press("d", "down", "enter")
	assert.Empty(t, s.commands, "what touches more than one device wants a second Enter")
	assert.Contains(t, s.Text(), "Enter again: 7 devices")
	assert.Contains(t, s.Text(), "does not fit the window")
	s.Press("enter")
	assert.Equal(t, []night.Command{{Choice: night.BackAll, Hold: 7}}, s.commands)
}

// A key meant for one hold never answers another that came in its place.
func TestAKeyNeverAnswersAnotherHold(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), held("ald-quay-3", 7)...), 160, 42)
	s.Press("d")
	s.happen(append([]night.Event{{Kind: night.HoldClosed, Device: "ald-quay-3", Hold: 7}}, held("ald-quay-4", 8)...)...)
	assert.Contains(t, s.Text(), "that hold is over")
	s.Press("enter", "enter")
	assert.Empty(t, s.commands)
}

func changing(devices ...string) (out []night.Event) {
	for _, d := range devices {
		out = append(out, night.Event{Kind: night.Moved, At: began, Device: d, State: night.Changing})
	}
	return out
}

// Neither Ctrl-C nor q just ends a night that runs: the one asks what an abort means,
// the other what leaving means.
func TestNothingJustEndsANightThatRuns(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), changing("ald-quay-1")...), 160, 42)
	s.Press("ctrl+c")
	assert.Contains(t, s.Text(), "an abort starts no new device")
	assert.Empty(t, s.commands)
	s.Press("q", "q")
	text := s.See("Leaving aborts it")
	assert.Contains(t, text, "1 device now")
	s.Press("enter")
	assert.False(t, s.Quit, "the first answer stays")
	s.Press("q", "esc", "q")
	s.See("Leaving aborts it")
	s.Press("down", "enter")
	s.Send(nil)
	assert.True(t, s.Quit)
	s = running(t, night.Fold(planned(4, 4), changing("ald-quay-1")...), 160, 42)
	s.Press("ctrl+c", "enter")
	assert.Equal(t, []night.Command{{Choice: night.BackDevice}}, s.commands)
}

// Letting go is two keys away from an abort, and from a transcript.
func TestTheSecondAbortIsAboutLettingGo(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), append(changing("ald-quay-1"), night.Event{Kind: night.Aborted, Choice: night.BackDevice})...), 160, 42)
	s.Press("enter", "a")
	assert.Contains(t, s.Text(), "The run is aborted already")
	s.Press("esc", "a", "down", "down", "down")
	assert.Contains(t, s.Text(), "▌ 4 Let go of everything")
	s.Press("enter")
	assert.Empty(t, s.commands)
	s.Press("enter")
	assert.Equal(t, []night.Command{{Choice: night.Release}}, s.commands)
}

func TestMessagesDoNotHideWhatNeedsAPerson(t *testing.T) {
	s := running(t, night.Fold(planned(4, 4), held("ald-quay-3", 7)...), 160, 42)
	s.Press("down", "enter")
	assert.Contains(t, s.Text(), "nothing was said to ald-quay-2 yet")
	assert.Contains(t, s.Text(), "ald-quay-3 is held")
	s.n.src.Said = fakeSaid{transcript: func(string) ([]string, error) { return nil, errors.New("disk gone") }}
	s.Press("enter")
	assert.Contains(t, s.Text(), "disk gone")
}

// Nothing is ever shown as planned for the past, however long a hold takes.
func TestThePlanMovesOnWhileARunWaits(t *testing.T) {
	n := planned(8, 4)
	n = night.Fold(n, night.Event{Kind: night.Forecast, At: began, Slots: []plan.Slot{
		{Start: began, End: began.Add(5 * time.Minute), TurnBack: began.Add(time.Hour)},
		{Start: began.Add(5 * time.Minute), End: began.Add(10 * time.Minute), TurnBack: began.Add(2 * time.Hour)}}, Due: began.Add(10 * time.Minute), Late: began.Add(12 * time.Minute)},
		night.Event{Kind: night.BatchBegan, At: began, Batch: 1})
	now := began.Add(30 * time.Minute)
	slots, likely, late := n.Schedule(now)
	assert.Equal(t, now, slots[1].Start)
	assert.Equal(t, now.Add(5*time.Minute), likely)
	assert.Equal(t, now.Add(7*time.Minute), late)
	assert.Equal(t, began.Add(2*time.Hour), slots[1].TurnBack, "turn-back times do not move")
}

// The forecast waits for the devices that wait for their timers.
func TestTheForecastWaitsForTimers(t *testing.T) {
	n := planned(4, 4)
	n.Outline.Batches[0][0].Boot = 20 * time.Second
	n = night.Fold(night.Night{}, night.Event{Kind: night.Planned, At: began, Outline: n.Outline}, night.Event{Kind: night.BatchBegan, Batch: 1},
		night.Event{Kind: night.Forecast, Slots: []plan.Slot{{Start: began, End: began.Add(time.Minute)}}, Due: began.Add(time.Minute), Late: began.Add(2 * time.Minute)},
		night.Event{Kind: night.TimerSeen, Device: "ald-quay-1", Due: began.Add(10 * time.Minute), For: 10 * time.Minute},
		night.Event{Kind: night.Moved, Device: "ald-quay-1", State: night.Dark})
	_, likely, _ := n.Schedule(began.Add(30 * time.Second))
	assert.Equal(t, began.Add(10*time.Minute+20*time.Second), likely)
}

// A night whose journal ends before it does says that it crashed, and its clocks
// stand still; Esc leaves it.
func TestACrashedNight(t *testing.T) {
	night := night.Fold(planned(4, 4), night.Event{Kind: night.Began, At: began}, night.Event{Kind: night.Moved, At: began.Add(time.Minute), Device: "ald-quay-1", State: night.Changing},
		night.Event{Kind: night.TimerSeen, At: began.Add(2 * time.Minute), Device: "ald-quay-1", Due: began.Add(6 * time.Minute), For: 5 * time.Minute})
	n := New(Source{Night: night})
	s := screentest.New(t, 160, 42, screen.Options{Clock: time.Now}, func(h *screen.Host) { h.Open(n.View()) })
	text := s.Text()
	assert.Contains(t, text, "This night crashed: its journal ends at "+night.Last.Local().Format("Mon 2 Jan 15:04:05"))
	assert.Contains(t, text, "the night was cut off: it was", "of the device under the cursor")
	assert.NotContains(t, text, "must start by", "nothing is planned any more")
	assert.Contains(t, text, "stands still at Wed 2 Dec 01:32:00")
	assert.NotContains(t, text, "finish")
	assert.Regexp(t, `ald-quay-1 +◧ changing.* 4:00 +1:00`, text)
	n.src.Elsewhere = "ada (process 4711)"
	s.Press("down")
	assert.Contains(t, s.Text(), "This night runs in another process: ada (process 4711)")
	s.Press("esc")
	assert.True(t, s.Quit)
}

// BenchmarkKeyToFrame presses a key with five thousand devices in view, every
// other one of them changing, and draws the frame.
func BenchmarkKeyToFrame(b *testing.B) {
	told := planned(5000, 250)
	var events []night.Event
	for i, d := range told.Devices {
		if i%2 == 0 {
			events = append(events, night.Event{Kind: night.Moved, At: began, Device: d.Name, State: night.Changing, Note: "Time sources"})
		}
	}
	told = night.Fold(told, events...)
	for _, folded := range []bool{true, false} {
		b.Run(map[bool]string{true: "cells", false: "lines"}[folded], func(b *testing.B) {
			n := New(Source{Night: told, Run: fakeRun{}})
			n.started, n.view.folded = true, folded
			app := screen.New(options())
			screentest.Bench(b, app, func(h *screen.Host) { h.Stand(n); h.Open(n.View()) }, func(i int) {
				n.take(events[i%2000 : i%2000+20]) // and twenty of them move meanwhile
			})
		})
	}
}
