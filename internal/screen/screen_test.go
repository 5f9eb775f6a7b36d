package screen

import (
	"errors"
	"fmt"
	"io/fs"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/screen/ink"
)

var began = time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)

// planned is a night of some devices in batches of that size.
func planned(devices, batch int) run.Night {
	o := &run.Outline{Title: "Move the quays to the new clocks", Change: "MSF-2291", Window: plan.Window{Open: began, Close: began.Add(3 * time.Hour), Reserve: 20 * time.Minute}}
	for i := range devices {
		if i%batch == 0 {
			o.Batches = append(o.Batches, nil)
		}
		last := len(o.Batches) - 1
		o.Batches[last] = append(o.Batches[last], run.OutlineDevice{Name: fmt.Sprintf("ald-quay-%d", i+1), Site: "ALD", Platform: "tern", Steps: []string{"Time sources", "Log collector"}})
	}
	return run.Fold(run.Night{}, run.Event{Kind: run.Planned, At: began, Outline: o})
}

type recorder struct{ commands []run.Command }

func model(t testing.TB, n run.Night, w, h int) (*Model, *recorder) {
	t.Helper()
	rec := &recorder{}
	m := New(Source{Night: n, Do: func(c run.Command) error { rec.commands = append(rec.commands, c); return nil },
		Transcript: func(d string) ([]string, error) {
			if d == "ald-quay-2" {
				return nil, fs.ErrNotExist
			}
			return []string{"01:30:00.000 > [x look] tell clock", "01:30:00.100 < time"}, nil
		}, By: "Ada"}, "dark")
	m.started = true
	m.now = began.Add(10 * time.Minute)
	m.Update(tea.WindowSizeMsg{Width: w, Height: h})
	return m, rec
}

func text(m *Model) string { m.dirty = true; return ansi.Strip(m.View().Content) }

func press(m *Model, keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k, Code: []rune(k)[0]}
		switch k {
		case "enter":
			msg = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "esc":
			msg = tea.KeyPressMsg{Code: tea.KeyEscape}
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		case "ctrl+c":
			msg = tea.KeyPressMsg{Code: 'c', Mod: tea.ModCtrl}
		}
		m.Update(msg)
	}
}

func held(device string, n int) []run.Event {
	return []run.Event{
		{Kind: run.Moved, At: began, Device: device, State: run.Held, Note: "line 1 was refused"},
		{Kind: run.HoldOpened, At: began, Device: device, Hold: n, Note: "line 1 was refused", Lines: []string{"said: no"},
			Offers: []run.Offer{{Choice: run.TryAgain, Takes: time.Minute, Fits: true}, {Choice: run.BackAll, Touches: 7, Takes: time.Hour * 9}}},
	}
}

// A device that is reached in clear text is marked in its line, and in its
// batch's where the batch is folded to cells.
func TestClearTextIsMarked(t *testing.T) {
	n := planned(4, 2)
	n.Devices[1].ClearText = true
	m, _ := model(t, n, 160, 42)
	assert.Regexp(t, `ald-quay-2 .*clear text`, text(m))
	press(m, "f")
	s := text(m)
	assert.NotContains(t, s, "ald-quay-2")
	assert.Equal(t, 1, strings.Count(s, "in clear text"))
	assert.Regexp(t, `Batch 1 of 2   2 devices   1 in clear text`, s)
}

// Whatever the size, a frame fills the screen exactly.
func TestFramesFitTheScreen(t *testing.T) {
	n := run.Fold(planned(24, 8), held("ald-quay-3", 1)...)
	for _, size := range [][2]int{{160, 42}, {100, 30}, {80, 24}, {60, 16}, {59, 16}, {20, 5}, {300, 90}} {
		for _, keys := range [][]string{nil, {"f"}, {"d"}, {"a"}, {"enter"}, {"n"}} {
			m, _ := model(t, n, size[0], size[1])
			press(m, keys...)
			lines := strings.Split(text(m), "\n")
			assert.Len(t, lines, size[1], "%v %v", size, keys)
			for _, l := range lines {
				assert.LessOrEqual(t, ansi.StringWidth(l), size[0], "%v %v: %q", size, keys, l)
			}
		}
	}
}

// Every state shows its word, its shape and no other state's shape.
func TestEveryStateHasAWordAndAShape(t *testing.T) {
	shapes := map[string]run.State{}
	for _, s := range []run.State{run.Waiting, run.Checking, run.Recording, run.Armed, run.Changing, run.Verifying, run.Soaking, run.Held,
		run.Reverting, run.Dark, run.Kept, run.Already, run.Blocked, run.Skipped, run.Reverted, run.Stranded} {
		sign := ink.SignOf(s)
		require.NotEmpty(t, sign.Shape, s)
		assert.Empty(t, shapes[sign.Shape], "%s and %s share a shape", s, shapes[sign.Shape])
		shapes[sign.Shape] = s
		m, _ := model(t, run.Fold(planned(1, 1), run.Event{Kind: run.Moved, At: began, Device: "ald-quay-1", State: s}), 160, 42)
		assert.Regexp(t, `ald-quay-1 +`+regexp.QuoteMeta(sign.Shape+" "+string(s)), text(m))
	}
}

func TestDecisionsNeedTheirKeys(t *testing.T) {
	n := run.Fold(planned(4, 4), held("ald-quay-3", 7)...)
	m, rec := model(t, n, 160, 42)
	assert.Contains(t, text(m), "ald-quay-3 is held: line 1 was refused")
	press(m, "enter", "esc") // a transcript, not a decision
	assert.Empty(t, rec.commands)
	press(m, "d", "enter")
	assert.Equal(t, []run.Command{{Choice: run.TryAgain, Hold: 7, By: "Ada"}}, rec.commands)

	m, rec = model(t, n, 160, 42)
	press(m, "d", "down", "enter")
	assert.Empty(t, rec.commands, "what touches more than one device wants a second Enter")
	assert.Contains(t, text(m), "Enter again: 7 devices")
	assert.Contains(t, text(m), "does not fit the window")
	press(m, "enter")
	assert.Equal(t, []run.Command{{Choice: run.BackAll, Hold: 7, By: "Ada"}}, rec.commands)
}

// A key meant for one hold never answers another that came in its place.
func TestAKeyNeverAnswersAnotherHold(t *testing.T) {
	m, rec := model(t, run.Fold(planned(4, 4), held("ald-quay-3", 7)...), 160, 42)
	press(m, "d")
	m.take(append([]run.Event{{Kind: run.HoldClosed, Device: "ald-quay-3", Hold: 7}}, held("ald-quay-4", 8)...))
	press(m, "enter")
	assert.Empty(t, rec.commands)
	assert.Contains(t, text(m), "that hold is over")
}

func TestCtrlCNeverJustEndsANightThatRuns(t *testing.T) {
	m, rec := model(t, run.Fold(planned(4, 4), run.Event{Kind: run.Moved, At: began, Device: "ald-quay-1", State: run.Changing}), 160, 42)
	press(m, "ctrl+c")
	assert.Contains(t, text(m), "an abort starts no new device")
	assert.Empty(t, rec.commands)
	press(m, "q")
	press(m, "q")
	assert.Contains(t, text(m), "the night is running")
	press(m, "ctrl+c", "enter")
	assert.Equal(t, []run.Command{{Choice: run.BackDevice, By: "Ada"}}, rec.commands)
}

// Letting go is two keys away from an abort, and from a transcript.
func TestTheSecondAbortIsAboutLettingGo(t *testing.T) {
	n := run.Fold(planned(4, 4), run.Event{Kind: run.Moved, At: began, Device: "ald-quay-1", State: run.Changing}, run.Event{Kind: run.Aborted, Choice: run.BackDevice})
	m, rec := model(t, n, 160, 42)
	press(m, "enter", "a")
	assert.Contains(t, text(m), "The run is aborted already")
	press(m, "esc", "a", "down", "down", "down")
	assert.Contains(t, text(m), "▌ 4 Let go of everything")
	press(m, "enter")
	assert.Empty(t, rec.commands)
	press(m, "enter")
	assert.Equal(t, []run.Command{{Choice: run.Release, By: "Ada"}}, rec.commands)
}

func TestMessagesDoNotHideWhatNeedsAPerson(t *testing.T) {
	m, _ := model(t, run.Fold(planned(4, 4), held("ald-quay-3", 7)...), 160, 42)
	press(m, "q")
	assert.Contains(t, text(m), "the night is running")
	assert.Contains(t, text(m), "ald-quay-3 is held")
	press(m, "down", "enter")
	assert.Contains(t, text(m), "nothing was said to ald-quay-2 yet")
	m.src.Transcript = func(string) ([]string, error) { return nil, errors.New("disk gone") }
	press(m, "enter")
	assert.Contains(t, text(m), "disk gone")
	m.Update(tickMsg(time.Now().Add(time.Minute)))
	assert.NotContains(t, text(m), "disk gone")
}

// Nothing is ever shown as planned for the past, however long a hold takes.
func TestThePlanMovesOnWhileARunWaits(t *testing.T) {
	n := planned(8, 4)
	n = run.Fold(n, run.Event{Kind: run.Forecast, At: began, Slots: []plan.Slot{
		{Start: began, End: began.Add(5 * time.Minute), TurnBack: began.Add(time.Hour)},
		{Start: began.Add(5 * time.Minute), End: began.Add(10 * time.Minute), TurnBack: began.Add(2 * time.Hour)}}, Due: began.Add(10 * time.Minute), Late: began.Add(12 * time.Minute)},
		run.Event{Kind: run.BatchBegan, At: began, Batch: 1})
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
	n = run.Fold(run.Night{}, run.Event{Kind: run.Planned, At: began, Outline: n.Outline}, run.Event{Kind: run.BatchBegan, Batch: 1},
		run.Event{Kind: run.Forecast, Slots: []plan.Slot{{Start: began, End: began.Add(time.Minute)}}, Due: began.Add(time.Minute), Late: began.Add(2 * time.Minute)},
		run.Event{Kind: run.TimerSeen, Device: "ald-quay-1", Due: began.Add(10 * time.Minute), For: 10 * time.Minute},
		run.Event{Kind: run.Moved, Device: "ald-quay-1", State: run.Dark})
	_, likely, _ := n.Schedule(began.Add(30 * time.Second))
	assert.Equal(t, began.Add(10*time.Minute+20*time.Second), likely)
}

// Text on its ground has a contrast of at least 4.5 to 1 (WCAG 2.1, 1.4.3).
func TestContrast(t *testing.T) {
	for _, theme := range []*ink.Theme{&ink.Dark, &ink.Light} {
		for _, i := range []ink.Ink{ink.Foam, ink.Dim, ink.Lamp, ink.Buoy, ink.Port, ink.Tide, ink.Heather} {
			for _, ground := range []struct {
				name string
				l    float64
			}{{"ground", luminance(theme.Ground)}, {"cursor", luminance(theme.Marked())}} {
				a, b := luminance(theme.Color(i)), ground.l
				if a < b {
					a, b = b, a
				}
				assert.GreaterOrEqual(t, (a+0.05)/(b+0.05), 4.5, "%s: ink %d on the %s", theme.Name, i, ground.name)
			}
		}
	}
}

// BenchmarkKeyToFrame presses a key with a thousand devices in view, every
// other one of them changing, and draws the frame.
func BenchmarkKeyToFrame(b *testing.B) {
	for _, view := range []string{"cells", "lines"} {
		b.Run(view, func(b *testing.B) {
			n := planned(1000, 250)
			for i, d := range n.Devices {
				if i%2 == 0 {
					n = run.Fold(n, run.Event{Kind: run.Moved, At: began, Device: d.Name, State: run.Changing, Note: "Time sources"})
				}
			}
			m, _ := model(b, n, 160, 42)
			m.list.Folded = view == "cells"
			var times []time.Duration
			for b.Loop() {
				start := time.Now()
				press(m, "down")
				if m.list.Cursor > 900 {
					m.list.Cursor = 0
				}
				_ = m.View().Content
				times = append(times, time.Since(start))
			}
			slices.Sort(times)
			b.ReportMetric(float64(times[len(times)*99/100].Microseconds())/1000, "p99-ms")
		})
	}
}
