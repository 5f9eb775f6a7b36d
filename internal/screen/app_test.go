package screen_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/person"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/screentest"
)

// plain is a view of a test.
type plain struct {
	name   string
	host   *screen.Host
	rows   func() []ink.Row
	keys   func() []screen.Key
	closed chan struct{}
}

func (v *plain) Name() string          { return v.name }
func (v *plain) Opened(h *screen.Host) { v.host = h }
func (v *plain) Closed() error         { close(v.closed); return nil }
func (v *plain) Click(int, int)        {}
func (v *plain) Wheel(int)             {}
func (v *plain) Rows(screen.Frame) []ink.Row {
	if v.rows != nil {
		return v.rows()
	}
	return []ink.Row{ink.T(ink.Foam, "this is "+v.name)}
}
func (v *plain) Keys() []screen.Key {
	if v.keys != nil {
		return v.keys()
	}
	return nil
}

func newPlain(name string) *plain { return &plain{name: name, closed: make(chan struct{})} }

// night stands on top, waits for a decision, and runs.
type night struct {
	view    *plain
	running bool
	waits   bool
	broken  bool
	decided int
	aborted int
}

func (n *night) Head(screen.Frame) []ink.Row {
	if n.broken {
		panic("no strip")
	}
	return []ink.Row{ink.T(ink.Foam, "strip of the night"), ink.T(ink.Foam, "going well")}
}
func (n *night) Title() string     { return "a night" }
func (n *night) View() screen.View { return n.view }
func (n *night) Leads() string     { return "decide" }
func (n *night) Waits() bool       { return n.waits }
func (n *night) Running() bool     { return n.running }
func (n *night) EndsHere() bool    { return true }
func (n *night) Decide()           { n.decided++ }
func (n *night) Abort()            { n.aborted++ }
func (n *night) Plain() []string   { return []string{"The night goes on."} }
func (n *night) Leaving() person.Form {
	return person.Form{Title: "The night runs", Questions: []person.Question{{Text: "Leave?", Choices: []person.Choice{{Word: "stay"}, {Word: "leave"}}}}}
}

// Views lie on a stack: what is opened is left again, its work ends with it, and
// leaving the last one leaves the application.
func TestTheStack(t *testing.T) {
	one, two := newPlain("one"), newPlain("two")
	s := screentest.Open(t, 100, 30, one)
	ended := make(chan error, 1)
	one.host.Open(two)
	two.host.Go(func(ctx context.Context) { <-ctx.Done(); ended <- ctx.Err() })
	assert.Contains(t, s.Text(), "this is two")
	assert.Contains(t, s.Text(), "q back")
	s.Press("q")
	assert.Equal(t, context.Canceled, <-ended)
	<-two.closed
	assert.Contains(t, s.Text(), "this is one")
	assert.Contains(t, s.Text(), "q leave")
	two.host.Open(newPlain("late"))
	assert.Contains(t, s.Text(), "this is one", "what is opened by a view that was left does not come up")
	s.Press("esc")
	assert.True(t, s.Quit)
}

// Work that the person waits for is given up with Esc; what it comes to does not get
// in the way of what is looked at meanwhile.
func TestWork(t *testing.T) {
	one, result := newPlain("one"), newPlain("result")
	s := screentest.Open(t, 100, 30, one)
	var got error
	work := func() (chan error, *bool) {
		over, done := make(chan error), false
		one.host.Work("Counting gulls", func(ctx context.Context) error {
			select {
			case err := <-over:
				return err
			case <-ctx.Done():
				return ctx.Err()
			}
		}, func(err error) { got, done = err, true; one.host.Open(result) })
		return over, &done
	}
	work()
	assert.Contains(t, s.Text(), "Counting gulls")
	assert.Contains(t, s.Text(), "q give up")
	s.Press("esc")
	s.See("this is result")
	assert.ErrorIs(t, got, context.Canceled)
	s.Press("q")

	n := &night{view: newPlain("the night"), running: true, waits: true}
	one.host.Stand(n)
	over, done := work()
	s.Press("d")
	assert.Contains(t, s.Text(), "this is the night")
	over <- nil
	for !*done {
		s.Send(nil)
	}
	assert.Contains(t, s.Text(), "this is the night", "it came up below")
	s.Press("q")
	assert.Contains(t, s.Text(), "this is result")
	one.host.Work("Failing", func(context.Context) error { panic("a gull") }, func(err error) { got = err })
	s.See("this is one|this is result")
	var failed *screen.Failed
	for !errors.As(got, &failed) {
		s.Send(nil)
	}
	assert.Contains(t, failed.What, "a gull (screen/app_test.go:")
}

// A secret is asked for on the screen, and not shown on it; what has waited in front
// asks at once, anything else waits until it is opened.
func TestSecretsAreAskedForOnTheScreen(t *testing.T) {
	one := newPlain("one")
	pressed := 0
	one.keys = func() []screen.Key { return []screen.Key{screen.On(keys.Fold, "fold", func() { pressed++ })} }
	s := screentest.Open(t, 100, 30, one)
	ask := func(ctx context.Context) (string, error) {
		return person.AskOne(ctx, s.App(), "A secret is wanted", person.Question{Text: "password of login crew", Secret: true,
			Check: func(v string) error {
				if len(v) < 4 {
					return errors.New("that is too short")
				}
				return nil
			}})
	}
	var answer string
	one.host.Work("Getting ready", func(ctx context.Context) (err error) { answer, err = ask(ctx); return err }, func(error) {})
	s.See("password of login crew")
	s.Press("sea", "enter")
	s.See("that is too short")
	s.Press(" q?d-7")
	assert.NotContains(t, s.Text(), "sea")
	s.Press("enter")
	s.See("this is one")
	assert.Equal(t, "sea q?d-7", answer)

	answers := make(chan string, 2)
	errs := make(chan error, 2)
	behind := func(ctx context.Context) {
		go func() { a, err := ask(ctx); answers <- a; errs <- err }()
	}
	behind(context.Background())
	s.See("◆ A answers: password of login crew")
	s.Press("f", "1", "2", "3", "4", "enter")
	assert.Equal(t, 1, pressed, "keys go where they went before")
	s.Press("A", "tide", "enter")
	assert.Equal(t, "tide", <-answers)
	require.NoError(t, <-errs)

	behind(context.Background())
	s.See("A answers")
	s.Press("A", "tide", "esc")
	assert.Empty(t, <-answers)
	assert.ErrorIs(t, <-errs, person.ErrLeft)

	ctx, cancel := context.WithCancel(context.Background())
	behind(ctx)
	s.See("A answers")
	s.Press("A", "tide")
	cancel()
	s.See("that is not asked any more")
	assert.ErrorIs(t, func() error { <-answers; return <-errs }(), context.Canceled)
	s.Press("enter")
	assert.Contains(t, s.Text(), "this is one")
}

// What is typed ahead goes to the field it is meant for, however fast it comes.
func TestTypingAhead(t *testing.T) {
	one := newPlain("one")
	s := screentest.Open(t, 100, 30, one)
	var got []string
	one.host.Ask(person.Form{Title: "Both", Questions: []person.Question{
		{Text: "name", Check: func(v string) error {
			if v == "" {
				return errors.New("a name is wanted")
			}
			return nil
		}}, {Text: "way", Choices: []person.Choice{{Word: "north"}, {Word: "south"}}}, {Text: "secret", Secret: true}}}, func(a []string) { got = a })
	type_ := func(text string) {
		for _, r := range text { // with nothing done between
			s.App().Update(tea.KeyPressMsg{Text: string(r), Code: r})
		}
	}
	enter := func() { s.App().Update(tea.KeyPressMsg{Code: tea.KeyEnter}) }
	_ = s.Text()
	enter()
	type_("ada")
	enter()
	s.App().Update(tea.KeyPressMsg{Code: tea.KeyDown})
	enter()
	type_("gull")
	s.App().Update(tea.KeyPressMsg{Code: tea.KeyTab, Mod: tea.ModShift})
	s.App().Update(tea.KeyPressMsg{Code: tea.KeyUp})
	enter()
	s.App().Update(tea.KeyPressMsg{Code: tea.KeyTab})
	type_("s")
	enter()
	assert.Equal(t, []string{"ada", "north", "gulls"}, got)
	enter()
	assert.Contains(t, s.Text(), "this is one")
}

// What is pasted goes where something is typed, and nowhere else.
func TestPasting(t *testing.T) {
	one := newPlain("one")
	var got string
	one.keys = func() []screen.Key {
		return []screen.Key{screen.On(keys.Find, "find", func() {
			one.host.Type(screen.Line{Label: "find", Done: func(text string) error {
				if got = text; text == "wrong" {
					return errors.New("there is no such thing")
				}
				return nil
			}})
		})}
	}
	s := screentest.Open(t, 100, 30, one)
	s.Send(tea.PasteMsg{Content: "q\nq\n"})
	assert.False(t, s.Quit)
	s.Press("/")
	s.Send(tea.PasteMsg{Content: "gull\x1b[31m\nq"})
	s.Press("enter")
	assert.Equal(t, "gull q", strings.Join(strings.Fields(strings.ReplaceAll(got, "[31m", "")), " "))
	s.Press("/")
	s.Send(tea.PasteMsg{Content: "harbour-lamp\r\n"})
	s.Press("enter")
	assert.Equal(t, "harbour-lamp", got, "the end of the line is no part of it")
	s.Press("/", "wrong", "enter")
	assert.Contains(t, s.Text(), "there is no such thing")
	assert.Contains(t, s.Text(), "wrong", "what was typed is not lost")
	s.Press("backspace", "enter")
	assert.Equal(t, "wron", got)
}

// A view that fails has a plain page in its place, is told of in the log, takes no
// keys, and is left; the night goes on above it.
func TestAViewThatFailsIsLeft(t *testing.T) {
	var log bytes.Buffer
	one, two := newPlain("one"), newPlain("two")
	n := &night{view: newPlain("the night"), running: true}
	s := screentest.New(t, 100, 30, screen.Options{Log: slog.New(slog.NewTextHandler(&log, nil)), LogFile: "/tmp/metabasis.log"}, func(h *screen.Host) { h.Open(one) })
	one.host.Stand(n)
	one.host.Open(two)
	pressed := 0
	two.keys = func() []screen.Key {
		return []screen.Key{screen.On(keys.Open, "open", func() { pressed++; panic("the key") })}
	}
	broken := true
	two.rows = func() []ink.Row {
		if broken {
			panic("no such row")
		}
		return nil
	}
	_ = s.Text()
	s.Press("enter")
	text := s.Text()
	for _, want := range []string{"strip of the night", "this view cannot be drawn", "no such row (screen/app_test.go:", "/tmp/metabasis.log", "The night goes on.", "q leaves this view"} {
		assert.Contains(t, text, want)
	}
	assert.Zero(t, pressed, "nothing is answered unseen")
	assert.Equal(t, 1, strings.Count(log.String(), "no such row"), "once, not every frame")
	assert.Contains(t, log.String(), "stack=")
	broken = false
	s.Resize(160, 30)
	assert.NotContains(t, s.Text(), "mistake")
	s.Press("enter")
	assert.Contains(t, s.Text(), "Metabasis has made a mistake: the key (screen/app_test.go:")
	assert.Contains(t, s.Text(), "what led to it is in /tmp/metabasis.log")
	broken = true
	s.Press("q")
	assert.Contains(t, s.Text(), "this is one")
	n.broken = true
	assert.Contains(t, s.Lines()[0]+s.See("cannot be drawn: no strip"), "The night goes on.")
	s.Press("a")
	assert.Equal(t, 1, n.aborted)
}

// A night is always there: its strip on top of every view, one key to what waits in it,
// and leaving asks.
func TestANightIsAlwaysThere(t *testing.T) {
	one := newPlain("one")
	n := &night{view: newPlain("the night"), running: true}
	s := screentest.Open(t, 100, 30, one)
	one.host.Stand(n)
	s.Press("d")
	assert.Contains(t, s.Text(), "this is the night")
	s.Press("d")
	assert.Contains(t, s.Text(), "nothing waits for a decision")
	s.Press("q", "?")
	assert.Contains(t, s.Text(), "strip of the night")
	n.waits = true
	s.Press("d")
	assert.Contains(t, s.Text(), "this is the night")
	s.Press("q")
	assert.Contains(t, s.Text(), "Keys  of one", "back to where it was")
	// What was opened from the night is left when it comes up again; what was not stays,
	// and goes on.
	s.Press("esc", "d")
	page, other := newPlain("page of the night"), newPlain("other")
	n.view.host.Open(page)
	one.host.Root().Open(other)
	ended := false
	other.host.Go(func(ctx context.Context) { <-ctx.Done(); ended = true })
	s.Press("d")
	assert.Contains(t, s.Text(), "this is the night")
	<-page.closed
	assert.False(t, ended)
	s.Press("q")
	assert.Contains(t, s.Text(), "this is other")
	s.Press("q", "q")
	s.See("The night runs")
	s.Press("enter")
	assert.Contains(t, s.Text(), "this is one")
	assert.False(t, s.Quit)
	s.Press("ctrl+c")
	assert.Equal(t, 1, n.aborted)
	assert.False(t, s.Quit)
	s.Press("q", "q", "down", "enter")
	s.Send(nil)
	assert.True(t, s.Quit)
}

// ? lists every key that does something, and those that work everywhere.
func TestAllKeysOfAView(t *testing.T) {
	one := newPlain("one")
	one.keys = func() []screen.Key {
		return []screen.Key{screen.On(keys.Order, "by site", func() {}), screen.On(keys.Unmark, "", func() {})}
	}
	s := screentest.Open(t, 80, 24, one)
	assert.Contains(t, s.Text(), "o by site")
	assert.NotContains(t, s.Text(), "x ")
	s.Press("?")
	text := s.Text()
	assert.Regexp(t, `x +take all marks away`, text)
	assert.Regexp(t, `o +the next order or grouping +here: by site`, text)
	assert.Regexp(t, `q Esc +back`, text)
	s.Press("?", "q")
	assert.Contains(t, s.Text(), "this is one")
}

// listed is a view with a device under its cursor.
type listed struct {
	*plain
	here string
}

func (v *listed) DeviceHere() string { return v.here }

// All that is known of a device is one key away where one is under the cursor, and nowhere else.
func TestTheDeviceUnderTheCursor(t *testing.T) {
	one := &listed{newPlain("one"), "ald-quay-1"}
	s := screentest.Open(t, 80, 24, one)
	s.Press("I")
	assert.Contains(t, s.Text(), "this is one", "nothing tells of it")
	assert.NotContains(t, s.Text(), "I device")

	s.App().SetPage(func(h *screen.Host, device string) { h.Open(newPlain("all of " + device)) })
	s.Resize(81, 24)
	assert.Contains(t, s.Text(), "I device")
	s.Press("I")
	assert.Contains(t, s.Text(), "this is all of ald-quay-1")
	assert.NotContains(t, s.Text(), "I device")
	s.Press("I", "q")
	assert.Contains(t, s.Text(), "this is one")

	one.here = ""
	s.Press("I")
	assert.Contains(t, s.Text(), "this is one")
}

// A key means one thing.
func TestAKeyMeansOneThing(t *testing.T) {
	seen := map[string]string{}
	for _, g := range keys.All() {
		for _, b := range g.Keys {
			for _, k := range b.Keys() {
				assert.Empty(t, seen[k], "%s is %q and %q", k, seen[k], b.Help().Desc)
				seen[k] = b.Help().Desc
			}
		}
	}
}

// Whatever the size, a frame fills the screen exactly, in both themes, with a question
// open, too.
func TestEveryFrameFits(t *testing.T) {
	for _, theme := range []string{"dark", "light"} {
		for _, size := range [][2]int{{160, 42}, {80, 24}, {60, 16}, {59, 16}, {200, 60}} {
			one := newPlain("one")
			form := person.Form{Title: "Host keys", Questions: []person.Question{{Text: strings.Repeat("long ", 60), Hint: "hint", Check: func(string) error { return errors.New(strings.Repeat("wrong ", 60)) }}}}
			for i := range 40 {
				form.Lines = append(form.Lines, fmt.Sprintf("line %d %s", i, strings.Repeat("x", 200)))
			}
			s := screentest.New(t, size[0], size[1], screen.Options{Theme: theme}, func(h *screen.Host) {
				h.Open(one)
				one.host.Stand(&night{view: newPlain("the night")})
				one.host.Ask(form, func([]string) {})
			})
			s.Press("abc", "enter")
			lines := s.Lines()
			require.Len(t, lines, size[1])
			for _, l := range lines {
				assert.LessOrEqual(t, ansi.StringWidth(l), size[0])
			}
		}
	}
}

// A long message is said in full, and every frame fits all the same.
func TestALongMessageIsSaidInFull(t *testing.T) {
	one := newPlain("one")
	s := screentest.Open(t, 80, 24, one)
	one.host.Say("this workspace is taken by ada, " + strings.Repeat("for a long while ", 6) + "wait for its end with --wait")
	text := s.Text()
	assert.Regexp(t, `with\s+--wait`, text)
	assert.Contains(t, text, "this is one")
	assert.Len(t, s.Lines(), 24)
}

// What goes on behind other views is seen on the last line.
func TestProgressBehind(t *testing.T) {
	one, two := newPlain("one"), newPlain("two")
	s := screentest.Open(t, 100, 30, one)
	one.host.Progress("reaching", 3, 12)
	assert.NotContains(t, s.Text(), "reaching", "the view itself says so")
	one.host.Open(two)
	assert.Contains(t, s.Text(), "◔ reaching ━━╌╌╌╌╌╌ 3 of 12   ? keys   q back")
	one.host.Progress("", 0, 0)
	assert.NotContains(t, s.Text(), "reaching")
}

// Messages go away by themselves.
func TestMessagesGo(t *testing.T) {
	one := newPlain("one")
	s := screentest.Open(t, 100, 30, one)
	one.host.Say("done")
	assert.Contains(t, s.Text()+s.See("done"), "done")
	s.Press("x")
	assert.NotContains(t, s.Text(), "done")
}
