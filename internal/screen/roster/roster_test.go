package roster

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
)

// fixture is a view over six devices of three sites.
type fixture struct {
	*Model
	t       *testing.T
	events  chan []reach.Event
	reached []string
	saved   map[string]scope.Selection
	took    []string
	forGood bool
}

func newFixture(t *testing.T) *fixture {
	f := &fixture{t: t, events: make(chan []reach.Event, 8), saved: map[string]scope.Selection{}}
	src := Source{Title: "/quays", Tables: []string{"clock", "version"}, LeftOut: []scope.LeftOut{{Device: "ops-1", Why: "role is desk, wanted quay"}}}
	for i := range 6 {
		d := fleet.Device{Name: fmt.Sprintf("quay-%d", i), Site: []string{"ALD", "BRM", "CLD"}[i/2], Role: "quay", Platform: "tern", Address: fmt.Sprintf("192.0.2.%d", i)}
		src.Devices = append(src.Devices, Device{Device: d, Login: "crew", ClearText: i == 3})
	}
	src.Reach = func(names []string) <-chan []reach.Event {
		f.reached = names
		return f.events
	}
	src.Choose = func(c string) ([]string, error) {
		if c != "two" {
			return nil, errors.New("nothing is called that")
		}
		return []string{"quay-0", "quay-5"}, nil
	}
	src.Save = func(name string, s scope.Selection) error { f.saved[name] = s; return nil }
	src.Fingerprint = func(r *reach.Result) (string, bool) {
		return "SHA256:" + strings.Repeat("x", 43) + "  ssh-ed25519 of 192.0.2.1", r.Failure != nil && r.Failure.Stage == reach.HostKey
	}
	src.Accept = func(results []*reach.Result, forGood bool) error {
		f.forGood = forGood
		for _, r := range results {
			f.took = append(f.took, r.Device)
		}
		return nil
	}
	f.Model = New(src, "dark", reach.Board{})
	f.Update(tea.WindowSizeMsg{Width: 160, Height: 42})
	return f
}

// press sends keys by their names.
func (f *fixture) press(keys ...string) {
	for _, k := range keys {
		msg := tea.KeyPressMsg{Text: k}
		switch k {
		case "enter":
			msg = tea.KeyPressMsg{Code: tea.KeyEnter}
		case "esc":
			msg = tea.KeyPressMsg{Code: tea.KeyEscape}
		case "down":
			msg = tea.KeyPressMsg{Code: tea.KeyDown}
		case "space":
			msg = tea.KeyPressMsg{Code: tea.KeySpace, Text: " "}
		default:
			msg.Code = []rune(k)[0]
		}
		f.Update(msg)
	}
}

func (f *fixture) fold(events ...reach.Event) {
	for i := range events {
		events[i].At = time.Now()
	}
	f.Update(eventsMsg(events))
}

func (f *fixture) shown() string { return ansi.Strip(f.draw()) }

func failed(device string, s reach.Stage, cause string) reach.Event {
	return reach.Event{Device: device, Result: &reach.Result{Device: device, Failure: &reach.Failure{Stage: s, Cause: cause, Remedy: "do this"}}}
}

func ready(device string) reach.Event {
	return reach.Event{Device: device, Result: &reach.Result{Device: device, Host: device}}
}

func TestNothingIsReachedUnasked(t *testing.T) {
	f := newFixture(t)
	s := f.shown()
	assert.Contains(t, s, "Nothing has been connected to. 6 devices in scope, 1 left out.")
	assert.Contains(t, s, "ops-1: role is desk, wanted quay")
	assert.Contains(t, s, "g reach all")
	assert.Empty(t, f.reached)
	f.press("g")
	assert.Len(t, f.reached, 6)
	f.reached = nil
	f.press("g")
	assert.Empty(t, f.reached, "they are being reached already")
	assert.Contains(t, f.shown(), "devices are being reached already")
}

// What is marked by hand, by range and by condition is what is meant.
func TestMarking(t *testing.T) {
	f := newFixture(t)
	f.press("space") // quay-0, and down
	f.press("down", "down", "v")
	assert.Equal(t, []string{"quay-0", "quay-1", "quay-2", "quay-3"}, f.markedNames())
	f.press("x", "/", "t", "w", "o", "enter")
	assert.Equal(t, []string{"quay-0", "quay-5"}, f.markedNames())
	assert.Contains(t, f.shown(), "2 devices marked, 2 in all")
	f.press("s", "p", "a", "i", "r", "enter")
	assert.Equal(t, map[string]scope.Selection{"pair": {Devices: []string{"quay-0", "quay-5"}}}, f.saved)
	f.press("g")
	assert.Equal(t, []string{"quay-0", "quay-5"}, f.reached)
	f.press("/", "x", "enter")
	assert.Contains(t, f.shown(), "nothing is called that")
	f.press("x")
	f.press("s", "n", "enter")
	assert.Contains(t, f.shown(), "no device is marked")
}

// While devices are being reached, no line moves; when that is over they are
// grouped by their outcome, the failed first.
func TestNothingJumps(t *testing.T) {
	f := newFixture(t)
	f.press("o", "o", "o", "g")
	place := func(device string) int {
		for i, l := range strings.Split(f.shown(), "\n") {
			if strings.Contains(l[:min(len(l), 30)], device) {
				return i
			}
		}
		return -1
	}
	before := place("quay-4")
	f.fold(ready("quay-0"), failed("quay-4", reach.Port, "refuses port 22"), reach.Event{Device: "quay-1", Stage: reach.Login})
	assert.Equal(t, before, place("quay-4"))
	assert.Contains(t, f.shown(), "Reaching: 2 of 6 done.")
	for _, d := range []string{"quay-1", "quay-2", "quay-3", "quay-5"} {
		f.fold(ready(d))
	}
	f.Update(overMsg{})
	s := f.shown()
	assert.Less(t, place("quay-4"), place("quay-0"))
	assert.Contains(t, s, "▲ 1 of 6 devices not reached. 1 at the port: refuses port 22")
	f.press("n")
	s = f.shown()
	for _, want := range []string{"▲ not reached: port", "why        refuses port 22", "do         do this"} {
		assert.Contains(t, s, want)
	}
}

// New keys are shown whole, and accepting them takes two keys; then those
// devices are reached again.
func TestNewHostKeys(t *testing.T) {
	f := newFixture(t)
	f.press("g")
	f.fold(failed("quay-1", reach.HostKey, "new"), failed("quay-2", reach.Port, "refuses"), ready("quay-0"))
	f.Update(overMsg{})
	assert.Contains(t, f.shown(), "◆ 1 host key shown for the first time: K shows and accepts them. ▲ 1 not reached.")
	f.press("m")
	assert.Empty(t, f.took, "not before it is asked")
	f.press("K")
	assert.Contains(t, f.shown(), "SHA256:"+strings.Repeat("x", 43)+"  ssh-ed25519 of 192.0.2.1  quay-1")
	f.press("esc")
	assert.Empty(t, f.took)
	f.press("K", "1")
	assert.Equal(t, []string{"quay-1"}, f.took)
	assert.False(t, f.forGood)
	assert.Equal(t, []string{"quay-1"}, f.reached)
}

// The view says the same in every size, down to one where it says that it is
// too small; clear text is marked in all.
func TestSizes(t *testing.T) {
	f := newFixture(t)
	f.press("g")
	f.fold(failed("quay-4", reach.Login, "login crew is denied"), ready("quay-3"))
	f.Update(overMsg{})
	for _, size := range [][2]int{{160, 42}, {132, 30}, {100, 30}, {60, 16}} {
		f.Update(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		s := f.draw()
		lines := strings.Split(s, "\n")
		require.Len(t, lines, size[1])
		for _, l := range lines {
			assert.LessOrEqual(t, ansi.StringWidth(l), size[0])
		}
		assert.Contains(t, ansi.Strip(s), "▲ login", size)
		assert.Contains(t, ansi.Strip(s), "clear text", size)
	}
	f.Update(tea.WindowSizeMsg{Width: 59, Height: 16})
	assert.Contains(t, f.shown(), "This window is too small")
}

// A device that calls itself otherwise may be the wrong one.
func TestAnotherName(t *testing.T) {
	f := newFixture(t)
	f.press("g")
	for i := range 6 {
		e := ready(fmt.Sprintf("quay-%d", i))
		if i == 2 {
			e.Result.Host = "gate-9"
		}
		if i == 3 {
			e.Result.Host = "QUAY-3.example"
		}
		f.fold(e)
	}
	f.Update(overMsg{})
	s := f.shown()
	assert.Contains(t, s, "◆ 1 device answers under another name. 6 of 6 ready.")
	assert.Contains(t, s, "◆ calls itself gate-9")
	assert.NotContains(t, s, "QUAY-3")
}

func TestATableIsAskedFor(t *testing.T) {
	f := newFixture(t)
	f.press("r", "c", "l", "o", "u", "d", "enter")
	assert.Contains(t, f.shown(), `there is no table "cloud"; there are clock, version`)
	f.press("r", "c", "l", "o", "c", "k", "enter")
	assert.Equal(t, "clock", f.table)
}

// BenchmarkKeyToFrame measures from a key to the finished frame with 5,000
// devices, a tenth of them failed, while results come in.
// Those that failed are reached again by a key of their own; new host keys are
// accepted first.
func TestTheFailedAreReachedAgain(t *testing.T) {
	f := newFixture(t)
	f.press("G")
	assert.Nil(t, f.reached, "none has failed")
	f.fold(ready("quay-0"), failed("quay-1", reach.HostKey, "new"), failed("quay-4", reach.Port, "refuses"), failed("quay-5", reach.Login, "denied"))
	assert.Contains(t, f.shown(), "G failed again")
	f.press("G")
	assert.Equal(t, []string{"quay-4", "quay-5"}, f.reached)
}

// The bar is full whatever is counted, and nothing that is there is left out.
func TestApportion(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		counts := rapid.SliceOfN(rapid.OneOf(rapid.Just(0), rapid.IntRange(0, 3), rapid.IntRange(0, 5000)), 5, 5).Draw(t, "counts")
		cells := rapid.IntRange(5, 300).Draw(t, "cells")
		got, sum, total := apportion(counts, cells), 0, 0
		for i, n := range got {
			assert.GreaterOrEqual(t, n, min(counts[i], 1))
			assert.True(t, counts[i] > 0 || n == 0)
			sum += n
			total += counts[i]
		}
		if total > 0 {
			assert.Equal(t, cells, sum)
		}
	})
}

func BenchmarkKeyToFrame(b *testing.B) {
	src := Source{Title: "/quays", Fingerprint: func(r *reach.Result) (string, bool) {
		return "", r.Failure != nil && errors.Is(r.Failure.Err, errNoKey)
	}}
	for i := range 5000 {
		d := fleet.Device{Name: fmt.Sprintf("quay-%04d", i), Site: fmt.Sprintf("S%02d", i%40), Platform: "tern"}
		src.Devices = append(src.Devices, Device{Device: d})
	}
	m := New(src, "dark", reach.Board{})
	m.Update(tea.WindowSizeMsg{Width: 160, Height: 42})
	var events []reach.Event
	for i, d := range src.Devices {
		e := ready(d.Name)
		if i%10 == 0 {
			e = failed(d.Name, reach.Port, "refuses port 22")
		}
		events = append(events, e)
	}
	m.Update(eventsMsg(events))
	for i := 0; b.Loop(); i++ {
		m.Update(eventsMsg(events[i%5000 : i%5000+1]))
		m.Update(tea.KeyPressMsg{Code: tea.KeyDown})
		_ = m.View()
	}
}

var errNoKey = errors.New("no key")
