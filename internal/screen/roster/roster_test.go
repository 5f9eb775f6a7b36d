package roster

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"
	"pgregory.net/rapid"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/table"
	"metabasis/internal/screen"
	"metabasis/internal/screen/grid"
	"metabasis/internal/screen/screentest"
	"metabasis/internal/store"
)

// fixture is a view over six devices of three sites.
type fixture struct {
	*screentest.Screen
	v     *View
	t     *testing.T
	over  chan struct{} // ends reaching
	asked chan []string // what was asked to be reached
	saved map[string]scope.Selection
	took  []string
	left  []string // not tried
	table string
}

func newFixture(t *testing.T) *fixture {
	f := &fixture{t: t, over: make(chan struct{}), asked: make(chan []string, 9), saved: map[string]scope.Selection{}}
	src := Source{Title: "/quays", Tables: []string{"clock", "version"}, LeftOut: []scope.LeftOut{{Device: "ops-1", Why: "role is desk, wanted quay"}}}
	for i := range 6 {
		d := fleet.Device{Name: fmt.Sprintf("quay-%d", i), Site: []string{"ALD", "BRM", "CLD"}[i/2], Role: "quay", Platform: "tern", Address: fmt.Sprintf("192.0.2.%d", i)}
		src.Devices = append(src.Devices, Device{Device: d, Login: "crew", ClearText: i == 3})
	}
	src.Reach = func(ctx context.Context, names []string, _ func(reach.Event)) []string {
		f.asked <- names
		select {
		case <-f.over:
		case <-ctx.Done():
		}
		return f.left
	}
	src.Where = func(c string) (names, told []string, err error) {
		if c != "two" {
			return nil, nil, errors.New("nothing is called that")
		}
		return []string{"quay-0", "quay-5"}, nil, nil
	}
	src.Save = func(name string, s scope.Selection) (string, error) {
		f.saved[name] = s
		return "saved: @" + name, nil
	}
	src.Accept = func(_ context.Context, results []*reach.Result) (names []string, err error) {
		for _, r := range results {
			names = append(names, r.Device)
		}
		f.took = names
		return names, nil
	}
	src.Table = func(name string, devices []string) (grid.Source, error) {
		f.table = name
		return grid.Source{Table: &table.Table{Name: name}, Read: func(context.Context, func(int)) *table.Table { return &table.Table{Name: name} }}, nil
	}
	f.v = New(src)
	f.Screen = screentest.Open(t, 160, 42, f.v)
	return f
}

// reached is what was asked to be reached last, since it was asked for; nil when nothing
// was.
func (f *fixture) reached() (last []string) {
	for range 10 { // it is begun behind
		select {
		case last = <-f.asked:
		default:
			f.Send(nil)
		}
	}
	return last
}

func (f *fixture) fold(events ...reach.Event) {
	for i := range events {
		events[i].At = time.Now()
	}
	f.v.board = f.v.board.Fold(events...)
	f.Send(nil)
}

// end ends reaching.
func (f *fixture) end() {
	f.over <- struct{}{}
	for f.v.busy {
		f.Send(nil)
	}
}

func failed(device string, s reach.Stage, cause string) reach.Event {
	return reach.Event{Device: device, Result: &reach.Result{Device: device, Failure: &reach.Failure{Stage: s, Cause: cause, Remedy: "do this"}}}
}

// newKey is a device that showed its key for the first time.
func newKey(t testing.TB, device string) reach.Event {
	key, _, _, _, err := ssh.ParseAuthorizedKey([]byte("ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIHVnnOlnGoCIo5UZvvhpw2vmtSvBvJhjjVYR6bBG0Bqk"))
	require.NoError(t, err)
	e := failed(device, reach.HostKey, "new")
	e.Result.Failure.Err = &store.NewKey{Host: device, Key: key}
	return e
}

func ready(device string) reach.Event {
	return reach.Event{Device: device, Result: &reach.Result{Device: device, Host: device}}
}

func TestNothingIsReachedUnasked(t *testing.T) {
	f := newFixture(t)
	s := f.Text()
	assert.Contains(t, s, "This view has connected to nothing yet. 6 devices in scope, 1 left out.")
	assert.Contains(t, s, "ops-1: role is desk, wanted quay")
	assert.Contains(t, s, "r reach all")
	assert.Equal(t, 6, strings.Count(s, "not tried"))
	assert.NotContains(t, s, "waiting", "for nothing")
	f.Press("g", "G", "enter", "space")
	assert.Empty(t, f.reached())
	f.Press("r")
	assert.Len(t, f.reached(), 6)
	assert.Equal(t, 6, strings.Count(f.Text(), "waiting"))
	assert.NotContains(t, f.Text(), "reach all", "they are being reached already")
	f.Press("r")
	assert.Empty(t, f.reached())
}

// What is marked by hand, by range and by condition is what is meant.
func TestMarking(t *testing.T) {
	f := newFixture(t)
	f.Press("m") // quay-0, and down
	f.Press("down", "down", "M")
	assert.Equal(t, []string{"quay-0", "quay-1", "quay-2", "quay-3"}, f.v.markedNames())
	f.Press("x", "=", "two", "enter")
	assert.Equal(t, []string{"quay-0", "quay-5"}, f.v.markedNames())
	assert.Contains(t, f.Text(), "2 devices marked, 2 in all")
	f.Press("s", "pair", "enter")
	assert.Equal(t, map[string]scope.Selection{"pair": {Devices: []string{"quay-0", "quay-5"}}}, f.saved)
	f.Press("r")
	assert.Equal(t, []string{"quay-0", "quay-5"}, f.reached())
	f.Press("=", "x", "enter")
	assert.Contains(t, f.Text(), "nothing is called that")
	assert.Contains(t, f.Text(), "mark where x", "the line stays, to be mended")
	f.Press("esc", "x", "s")
	assert.NotContains(t, f.Text(), "save")
}

// While devices are being reached, no line moves; when that is over they are
// grouped by their outcome, the failed first.
func TestNothingJumps(t *testing.T) {
	f := newFixture(t)
	f.Press("o", "o", "o", "r")
	place := func(device string) int {
		for i, l := range f.Lines() {
			if strings.Contains(l[:min(len(l), 30)], device) {
				return i
			}
		}
		return -1
	}
	before := place("quay-4")
	f.fold(ready("quay-0"), failed("quay-4", reach.Port, "refuses port 22"), reach.Event{Device: "quay-1", Stage: reach.Login})
	assert.Equal(t, before, place("quay-4"))
	assert.Contains(t, f.Text(), "Reaching: 2 of 6 done.")
	for _, d := range []string{"quay-1", "quay-2", "quay-3", "quay-5"} {
		f.fold(ready(d))
	}
	f.end()
	s := f.Text()
	assert.Less(t, place("quay-4"), place("quay-0"))
	assert.Contains(t, s, "▲ 1 of 6 devices not reached. 1 at the port: refuses port 22")
	f.Press("!")
	s = f.Text()
	for _, want := range []string{"▲ not reached: port", "why        refuses port 22", "do         do this"} {
		assert.Contains(t, s, want)
	}
}

// New keys are asked about by a key of their own; then those devices are reached again.
func TestNewHostKeys(t *testing.T) {
	f := newFixture(t)
	f.Press("r")
	f.fold(newKey(t, "quay-1"), failed("quay-2", reach.Port, "refuses"), ready("quay-0"))
	f.end()
	assert.Contains(t, f.Text(), "◆ 1 host key shown for the first time: K shows and accepts them. ▲ 1 not reached.")
	assert.Empty(t, f.took, "not before it is asked")
	f.Press("K")
	f.See("Reaching:")
	assert.Equal(t, []string{"quay-1"}, f.took)
	assert.Equal(t, []string{"quay-1"}, f.reached())
}

// The view says the same in every size; clear text is marked in all.
func TestSizes(t *testing.T) {
	f := newFixture(t)
	f.Press("r")
	f.fold(failed("quay-4", reach.Login, "login crew is denied"), ready("quay-3"))
	f.end()
	for _, size := range [][2]int{{160, 42}, {132, 30}, {100, 30}, {60, 16}} {
		f.Resize(size[0], size[1])
		lines := f.Lines()
		require.Len(t, lines, size[1])
		for _, l := range lines {
			assert.LessOrEqual(t, ansi.StringWidth(l), size[0])
		}
		assert.Contains(t, f.Text(), "▲ login", size)
		assert.Contains(t, f.Text(), "clear text", size)
	}
	f.Resize(59, 16)
	assert.Contains(t, f.Text(), "This window is too small")
}

// What a night works on is not tried, and said.
func TestWhatANightWorksOnIsNotTried(t *testing.T) {
	f := newFixture(t)
	f.left = []string{"quay-1", "quay-2"}
	f.Press("r")
	f.fold(ready("quay-0"))
	f.end()
	assert.Contains(t, f.Text(), "not tried, the night works on them: quay-1, quay-2")
	assert.Contains(t, f.Text(), "● 1 ready, 5 not tried.")
}

// Another device than is meant is not ready. One that calls itself otherwise, as the fleet
// says, is shown with that name.
func TestAnotherName(t *testing.T) {
	f := newFixture(t)
	f.Press("r")
	for i := range 6 {
		e := ready(fmt.Sprintf("quay-%d", i))
		if i == 1 {
			e = failed("quay-1", reach.Identity, "it calls itself gate-1, and quay-1 is meant")
			e.Result.Seen.Serial = "T-7"
		}
		if i == 2 {
			e.Result.Host = "gate-9"
		}
		if i == 3 {
			e.Result.Host = "QUAY-3.example"
		}
		f.fold(e)
	}
	f.end()
	s := f.Text()
	assert.Contains(t, s, "▲ 1 device answers as another one than is meant. 5 of 6 ready.")
	assert.Contains(t, s, "▲ 1 not ready", "it was reached")
	assert.Contains(t, s, "▲ identity  it calls itself gate-1, and quay-1 is meant")
	assert.Contains(t, s, "calls itself gate-9")
	f.Press("!")
	s = f.Text()
	assert.Contains(t, s, "▲ another device answers")
	assert.NotContains(t, s, "T-7", "that is another device's")
	assert.NotContains(t, s, "QUAY-3")
}

func TestATableIsAskedFor(t *testing.T) {
	f := newFixture(t)
	f.Press("t", "cloud", "enter")
	assert.Contains(t, f.Text(), `there is no table "cloud"; there are clock, version`)
	f.Press("esc", "t", "clock", "enter")
	assert.Equal(t, "clock", f.table)
	f.See("Nothing was read")
	f.Press("q")
	assert.Contains(t, f.Text(), "This view has connected to nothing yet", "and back")
}

// Those that failed are reached again by a key of their own; new host keys are
// accepted first.
func TestTheFailedAreReachedAgain(t *testing.T) {
	f := newFixture(t)
	f.Press("R")
	assert.Nil(t, f.reached(), "none has failed")
	f.fold(ready("quay-0"), newKey(t, "quay-1"), failed("quay-4", reach.Port, "refuses"), failed("quay-5", reach.Login, "denied"))
	assert.Contains(t, f.Text(), "R failed again")
	f.Press("R")
	assert.Equal(t, []string{"quay-4", "quay-5"}, f.reached())
}

// Where a login was denied, what was typed is typed anew before it is tried again.
func TestADeniedLoginIsTypedAnew(t *testing.T) {
	f := newFixture(t)
	renewed := 0
	f.v.src.Renew = func(context.Context) error { renewed++; return nil }
	f.fold(failed("quay-4", reach.Port, "refuses"))
	f.Press("R")
	assert.Equal(t, []string{"quay-4"}, f.reached())
	assert.Zero(t, renewed)
	f.end()
	f.fold(failed("quay-5", reach.Login, "denied"))
	f.Press("R")
	f.See("Reaching")
	assert.Equal(t, 1, renewed)
	assert.Len(t, f.reached(), 2)
	f.end()
	f.v.src.Renew = func(context.Context) error { return errors.New("no answer was given") }
	f.Press("R")
	f.See("not reached again: no answer was given")
	assert.Nil(t, f.reached())
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

// BenchmarkKeyToFrame measures from a key to the finished frame with 5,000
// devices, a tenth of them failed, while results come in.
func BenchmarkKeyToFrame(b *testing.B) {
	src := Source{Title: "/quays"}
	for i := range 5000 {
		d := fleet.Device{Name: fmt.Sprintf("quay-%04d", i), Site: fmt.Sprintf("S%02d", i%40), Platform: "tern"}
		src.Devices = append(src.Devices, Device{Device: d})
	}
	v := New(src)
	var events []reach.Event
	for i, d := range src.Devices {
		e := ready(d.Name)
		if i%10 == 0 {
			e = failed(d.Name, reach.Port, "refuses port 22")
		}
		events = append(events, e)
	}
	v.board = v.board.Fold(events...)
	screentest.Bench(b, screen.New(screen.Options{Theme: "dark"}), func(h *screen.Host) { h.Open(v) }, func(i int) { v.board = v.board.Fold(events[i%5000]) })
}
