package attach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/person"
)

// login has a login typed anew, by the person who wanted that.
func (s *stage) login(ctx context.Context, device string) error {
	answers, err := s.server.Ask(ctx, person.Form{Title: "Login of " + device, Questions: []person.Question{{Text: "password", Secret: true}}})
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.typed = append(s.typed, device+" "+answers[0])
	return nil
}

// answers is a person who answers all with the same, and keeps what was asked.
type answers struct {
	mu     sync.Mutex
	asked  []string
	gone   int // that were withdrawn
	answer string
	wait   chan struct{} // answers once it is closed
}

func (a *answers) Ask(ctx context.Context, f person.Form) ([]string, error) {
	a.mu.Lock()
	a.asked = append(a.asked, strings.Join(append([]string{f.Title}, f.Lines...), "; "))
	a.mu.Unlock()
	if a.wait != nil {
		select {
		case <-a.wait:
		case <-ctx.Done():
			a.mu.Lock()
			a.gone++
			a.mu.Unlock()
			return nil, ctx.Err()
		}
	}
	if a.answer == "" {
		return nil, person.ErrLeft
	}
	return []string{a.answer}, nil
}

func (a *answers) were() (asked []string, gone int) {
	a.mu.Lock()
	defer a.mu.Unlock()
	return a.asked, a.gone
}

func (s *stage) attachAs(from string, p person.Person) *Client {
	s.t.Helper()
	c, err := Connect(s.t.Context(), s.dir)
	require.NoError(s.t, err)
	k, err := Dial(s.t.Context(), c, Viewer{Hello: Hello{Version: "1.0", From: from}, Person: p}, book{s, 0, nil})
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = k.Close() })
	return k
}

var code = person.Form{Title: "A code", Questions: []person.Question{{Text: "code of gate", Check: func(v string) error {
	if v != "123456" {
		return errors.New("a code has six digits")
	}
	return nil
}}}}

// What the night has to ask is asked of whoever has the wheel: of nobody before, and of another one
// once that takes it.
func TestWhoHasTheWheelIsAsked(t *testing.T) {
	s := newStage(t)
	one, two := &answers{wait: make(chan struct{})}, &answers{answer: "123456"}
	a, b := s.attachAs("pts/3", one), s.attachAs("pts/4", two)
	got := make(chan error, 1)
	go func() {
		words, err := s.server.Ask(t.Context(), code)
		if err == nil && words[0] != "123456" {
			err = fmt.Errorf("got %q", words)
		}
		got <- err
	}()
	until(t, b, func(w Wheel) bool { return len(w.Viewers) == 2 })
	asked, _ := one.were()
	assert.Empty(t, asked, "nobody has the wheel")
	require.NoError(t, a.Take())
	require.Eventually(t, func() bool { asked, _ := one.were(); return len(asked) == 1 }, time.Minute, time.Millisecond)
	asked, _ = two.were()
	assert.Empty(t, asked)
	require.NoError(t, b.Take())
	require.NoError(t, <-got)
	require.Eventually(t, func() bool { _, gone := one.were(); return gone == 1 }, time.Minute, time.Millisecond, "it is withdrawn where it was asked")
}

// What cannot be is asked again with the reason, and not for ever; who gives no answer is not asked
// again.
func TestAnAnswerThatCannotBe(t *testing.T) {
	s := newStage(t)
	p := &answers{answer: "12"}
	k := s.attachAs("pts/3", p)
	require.NoError(t, k.Take())
	_, err := s.server.Ask(t.Context(), code)
	require.ErrorContains(t, err, "six digits")
	asked, _ := p.were()
	assert.Equal(t, []string{"A code", "A code; a code has six digits", "A code; a code has six digits"}, asked)
	p.mu.Lock()
	p.answer = ""
	p.mu.Unlock()
	_, err = s.server.Ask(t.Context(), code)
	require.ErrorIs(t, err, person.ErrLeft)
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = s.server.Ask(ctx, code)
	require.ErrorIs(t, err, context.Canceled)
	require.NoError(t, k.Close())
	over := make(chan error, 1)
	go func() { _, err := s.server.Ask(t.Context(), code); over <- err }()
	s.server.Close()
	require.Error(t, <-over, "the night is over")
}

// A login is typed anew by whoever has the wheel, who is asked for it at once.
func TestALoginIsTypedAnew(t *testing.T) {
	s := newStage(t)
	p := &answers{answer: "lamp"}
	k, other := s.attachAs("pts/3", p), s.attachAs("pts/4", &answers{answer: "no"})
	require.ErrorContains(t, k.Login(t.Context(), "quay"), "nobody has the wheel")
	require.NoError(t, k.Take())
	require.NoError(t, k.Login(t.Context(), "quay"))
	assert.Equal(t, []string{"quay lamp"}, s.typed)
	require.ErrorContains(t, other.Login(t.Context(), "quay"), "has the wheel")
	p.answer = ""
	require.ErrorContains(t, k.Login(t.Context(), "quay"), person.ErrLeft.Error())
}

// worked is a device that is worked by hand: it echoes.
type worked struct {
	device  string
	columns int
	out     *io.PipeReader
	in      *io.PipeWriter

	mu     sync.Mutex
	offer  string
	given  bool
	closed bool
	lost   error
	notes  []string
}

func (s *stage) console(device string, columns, _ int) (Session, error) {
	if device == "gone" {
		return nil, errors.New("gone does not answer")
	}
	w := &worked{device: device, columns: columns, offer: "operator"}
	w.out, w.in = io.Pipe()
	s.mu.Lock()
	defer s.mu.Unlock()
	s.worked = w
	return w, nil
}

func (w *worked) Read(b []byte) (int, error) { return w.out.Read(b) }
func (w *worked) Write(b []byte) (int, error) {
	_, err := w.in.Write([]byte(strings.ToUpper(string(b))))
	return len(b), err
}

func (w *worked) Close() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.closed = true
	return w.in.Close()
}

func (w *worked) Resize(columns, _ int) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.columns = columns
	return nil
}

func (w *worked) Offer() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.offer
}

func (w *worked) Give() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.given, w.offer = true, ""
	return nil
}

func (w *worked) Note(text string) error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.notes = append(w.notes, text)
	return nil
}

func (w *worked) Recorded() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.lost
}

// A device of the night is worked by hand from elsewhere as from its own screen.
func TestADeviceIsWorkedByHandFromElsewhere(t *testing.T) {
	s := newStage(t)
	work := func(device string) (*Remote, error) {
		c, err := Connect(t.Context(), s.dir)
		require.NoError(t, err)
		return Work(t.Context(), c, Hello{Version: "1.0"}, device, 80, 24)
	}
	_, err := work("gone")
	require.EqualError(t, err, "gone does not answer")
	r, err := work("quay")
	require.NoError(t, err)
	w := s.worked
	assert.Equal(t, "quay", w.device)
	_, err = r.Write([]byte("tell clock"))
	require.NoError(t, err)
	buf := make([]byte, 4)
	_, err = io.ReadFull(r, buf)
	require.NoError(t, err)
	assert.Equal(t, "TELL", string(buf))
	rest := make(chan string, 1)
	go func() { b, err := io.ReadAll(r); rest <- string(b) + text(err) }()
	require.Eventually(t, func() bool { return r.Offer() == "operator" }, time.Minute, time.Millisecond)
	require.NoError(t, r.Give())
	require.Eventually(t, func() bool { return r.Offer() == "" }, time.Minute, time.Millisecond)
	require.NoError(t, r.Resize(132, 40))
	require.NoError(t, r.Note("typed all the same: the desk wants it"))
	require.Eventually(t, func() bool {
		w.mu.Lock()
		defer w.mu.Unlock()
		return slices.Equal(w.notes, []string{"typed all the same: the desk wants it"})
	}, time.Minute, time.Millisecond)
	s.server.Close() // the night is over, and the device goes on to be worked
	_, err = r.Write([]byte("!"))
	require.NoError(t, err)
	w.mu.Lock()
	w.lost = errors.New("the disk is full")
	w.mu.Unlock()
	require.NoError(t, r.Close())
	assert.Equal(t, " CLOCK!", <-rest)
	require.EqualError(t, r.Recorded(), "the disk is full")
	s.server.Hands()
	assert.True(t, w.closed)
	assert.True(t, w.given)
	assert.Equal(t, 132, w.columns)
}

// A viewer that says nothing any more, since it was stopped, has the wheel no more: somebody else is
// asked, or the unattended line decides.
func TestWhoStandsStillHasTheWheelNoMore(t *testing.T) {
	s := newStage(t)
	c, err := Connect(t.Context(), s.dir)
	require.NoError(t, err)
	defer c.Close()
	after := int64(0)
	require.NoError(t, write(c, Message{Hello: &Hello{Protocol: Protocol, From: "pts/9"}, After: &after}))
	require.NoError(t, write(c, Message{Wheel: &Wheel{Take: true}}))
	k := s.attach("pts/3", 0)
	until(t, k, func(w Wheel) bool { return strings.Contains(w.Has, "pts/9") })
	s.server.mu.Lock()
	s.server.wheel.heard = time.Now().Add(-quiet)
	s.server.mu.Unlock()
	until(t, k, func(w Wheel) bool { return w.Has == "" })
	require.NoError(t, k.Take())
	until(t, k, func(w Wheel) bool { return w.Mine })
	mine := func() *viewer { s.server.mu.Lock(); defer s.server.mu.Unlock(); return s.server.wheel }()
	s.server.mu.Lock()
	mine.heard = time.Now().Add(-quiet / 2)
	s.server.mu.Unlock()
	require.Eventually(t, func() bool { // it says that it is there
		s.server.mu.Lock()
		defer s.server.mu.Unlock()
		return time.Since(mine.heard) < beats
	}, time.Minute, 10*time.Millisecond)
	assert.True(t, k.Wheel().Mine)
}
