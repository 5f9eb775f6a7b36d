// Package screentest drives views in tests as the terminal would: keys are pressed,
// what they start runs, and the screen is waited for.
package screentest

import (
	"regexp"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/require"

	"metabasis/internal/screen"
)

// Screen is an application in a test.
type Screen struct {
	t      testing.TB
	app    *screen.App
	asleep atomic.Int64 // commands that have not begun
	msgs   chan tea.Msg
	stop   chan struct{}
	// Quit tells that the application was left.
	Quit bool
}

// New opens the application in a window of that size, with what begin opens.
func New(t testing.TB, cells, rows int, o screen.Options, begin func(h *screen.Host)) *Screen {
	t.Helper()
	if o.Theme == "" {
		o.Theme = "dark"
	}
	s := &Screen{t: t, app: screen.New(o), msgs: make(chan tea.Msg, 1024), stop: make(chan struct{})}
	t.Cleanup(func() { close(s.stop); s.app.Close() })
	s.run(s.app.Init())
	s.Resize(cells, rows)
	s.app.Begin(begin)
	s.idle()
	return s
}

// Open opens a view.
func Open(t testing.TB, cells, rows int, v screen.View) *Screen {
	t.Helper()
	return New(t, cells, rows, screen.Options{}, func(h *screen.Host) { h.Open(v) })
}

// App is the application.
func (s *Screen) App() *screen.App { return s.app }

// run runs a command as the program does.
func (s *Screen) run(cmd tea.Cmd) {
	if cmd == nil {
		return
	}
	s.asleep.Add(1)
	go func() {
		s.asleep.Add(-1)
		msg := cmd()
		if msg == nil {
			return
		}
		select {
		case s.msgs <- msg:
		case <-s.stop:
		}
	}()
}

func (s *Screen) take(msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.BatchMsg:
		for _, cmd := range msg {
			s.run(cmd)
		}
	case tea.QuitMsg:
		s.Quit = true
	default:
		_, cmd := s.app.Update(msg)
		s.run(cmd)
		_ = s.app.View() // every frame is drawn, as the program does
	}
}

// Send gives the application a message.
func (s *Screen) Send(msg tea.Msg) { s.take(msg); s.idle() }

// Resize changes the window's size.
func (s *Screen) Resize(cells, rows int) { s.take(tea.WindowSizeMsg{Width: cells, Height: rows}) }

// idle takes in what is there at once: what every command that was given had to say, but for
// those that wait for the clock.
func (s *Screen) idle() {
	for {
		select {
		case msg := <-s.msgs:
			s.take(msg)
		case <-time.After(5 * time.Millisecond):
			if s.asleep.Load() == 0 && !s.app.Posted() { // else the machine is busy, and they have not begun
				return
			}
		}
	}
}

// Press presses keys: a name such as enter, or a text of which every letter is one.
func (s *Screen) Press(keys ...string) {
	s.t.Helper()
	for _, k := range keys {
		if msg, ok := named()[k]; ok {
			s.Send(msg)
			continue
		}
		for _, r := range k {
			s.Send(tea.KeyPressMsg{Text: string(r), Code: r})
		}
	}
}

func named() map[string]tea.KeyPressMsg {
	return map[string]tea.KeyPressMsg{
		"enter": {Code: tea.KeyEnter}, "esc": {Code: tea.KeyEscape}, "up": {Code: tea.KeyUp}, "down": {Code: tea.KeyDown},
		"left": {Code: tea.KeyLeft}, "right": {Code: tea.KeyRight}, "home": {Code: tea.KeyHome}, "end": {Code: tea.KeyEnd},
		"pgup": {Code: tea.KeyPgUp}, "pgdown": {Code: tea.KeyPgDown}, "tab": {Code: tea.KeyTab}, "space": {Code: tea.KeySpace, Text: " "},
		"backspace": {Code: tea.KeyBackspace}, "ctrl+c": {Code: 'c', Mod: tea.ModCtrl}, "ctrl+d": {Code: 'd', Mod: tea.ModCtrl},
		"ctrl+u": {Code: 'u', Mod: tea.ModCtrl}, "shift+tab": {Code: tea.KeyTab, Mod: tea.ModShift},
	}
}

// Click clicks a cell; Wheel turns the wheel, up where rows are negative.
func (s *Screen) Click(x, y int) {
	s.Send(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
}

// Wheel turns the wheel.
func (s *Screen) Wheel(up bool) {
	b := tea.MouseWheelDown
	if up {
		b = tea.MouseWheelUp
	}
	s.Send(tea.MouseWheelMsg{Button: b})
}

// Text is the screen without its colours.
func (s *Screen) Text() string {
	s.app.Update(nil) // what a test has changed is drawn, too
	return ansi.Strip(s.app.View().Content)
}

// Lines are its lines.
func (s *Screen) Lines() []string { return strings.Split(s.Text(), "\n") }

// See waits until the screen shows what matches the pattern, and returns it.
func (s *Screen) See(pattern string) string {
	s.t.Helper()
	re := regexp.MustCompile(pattern)
	deadline := time.After(10 * time.Second)
	for {
		if text := s.Text(); re.MatchString(text) {
			return text
		}
		select {
		case msg := <-s.msgs:
			s.take(msg)
		case <-deadline:
			require.FailNow(s.t, "never seen: "+pattern, s.Text())
		}
	}
}

// Bench measures from a key to the finished frame in a window of 160 by 42; each, which
// may be nil, is called before every key.
func Bench(b *testing.B, app *screen.App, begin func(h *screen.Host), each func(i int)) {
	bench(b, app, begin, nil, nil, each)
}

// BenchKeys presses keys first, opens what then opens, and measures as [Bench] does,
// while what was begun goes on.
func BenchKeys(b *testing.B, app *screen.App, begin func(h *screen.Host), first []string, then func(h *screen.Host)) {
	bench(b, app, begin, first, then, nil)
}

func bench(b *testing.B, app *screen.App, begin func(h *screen.Host), first []string, then func(h *screen.Host), each func(i int)) {
	s := &Screen{t: b, app: app, msgs: make(chan tea.Msg, 1024), stop: make(chan struct{})}
	defer close(s.stop)
	defer app.Close()
	s.run(app.Init())
	s.Resize(160, 42)
	app.Begin(begin)
	s.idle()
	s.Press(first...)
	if then != nil {
		app.Begin(then)
	}
	for range 20 {
		s.idle()
	}
	keys := []tea.KeyPressMsg{{Code: tea.KeyDown}, {Code: tea.KeyPgDown}, {Code: tea.KeyUp}}
	var times []time.Duration
	for i := 0; b.Loop(); i++ {
		if each != nil {
			each(i)
		}
		select { // what has come in meanwhile is a frame of its own
		case msg := <-s.msgs:
			s.take(msg)
		case <-time.After(time.Millisecond):
		}
		start := time.Now()
		_, cmd := app.Update(keys[i%len(keys)])
		_ = app.View().Content
		times = append(times, time.Since(start))
		s.run(cmd)
	}
	slices.Sort(times)
	b.ReportMetric(float64(times[len(times)*99/100].Microseconds())/1000, "p99-ms")
}
