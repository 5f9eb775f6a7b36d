package attach

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
)

// stage is a night that is served, with a journal of what has happened.
type stage struct {
	t      *testing.T
	dir    string
	server *Server

	mu      sync.Mutex
	journal []night.Event
	did     []night.Command
	took    []string
	typed   []string // logins that were typed anew
	worked  *worked  // the device that is worked by hand
}

func newStage(t *testing.T) *stage { return stageFor(t, Who) }

func stageFor(t *testing.T, who func(net.Conn) (string, error)) *stage {
	s := &stage{t: t, dir: t.TempDir()}
	l, err := Listen(t.Context(), s.dir)
	require.NoError(t, err)
	s.server = Serve(context.Background(), l, Served{
		Hello: Hello{Version: "1.0", Night: 21, Title: "Quays", By: "ada", PID: 4711},
		Do: func(c night.Command) error {
			s.mu.Lock()
			defer s.mu.Unlock()
			if c.Hold == 99 {
				return errors.New("hold 99 is not open any more")
			}
			s.did = append(s.did, c)
			return nil
		},
		Took: func(who, from string) {
			s.mu.Lock()
			defer s.mu.Unlock()
			s.took = append(s.took, who[strings.Index(who, "("):]+from)
		},
		Lines: func(device string) []string { return []string{"log host of " + device} },
		Login: func(ctx context.Context, device string) error { return s.login(ctx, device) },
		Console: func(_ context.Context, device string, columns, rows int) (Session, error) {
			return s.console(device, columns, rows)
		},
		Who: who,
	})
	t.Cleanup(s.server.Close)
	return s
}

// happen has so many events happen.
func (s *stage) happen(n int) {
	s.mu.Lock()
	first := int64(len(s.journal)) + 1
	var events []night.Event
	for i := range n {
		events = append(events, night.Event{Seq: first + int64(i), Kind: night.Doing, Device: "quay", Note: fmt.Sprint(first + int64(i))})
	}
	s.journal = append(s.journal, events...)
	s.mu.Unlock()
	s.server.Put(events...)
}

// book is the journal, as a viewer has it that has read so far.
type book struct {
	of   *stage
	last int64
	err  error
}

func (b book) Last(context.Context, Hello) (int64, error) { return b.last, nil }

func (b book) After(_ context.Context, after int64) ([]night.Event, error) {
	b.of.mu.Lock()
	defer b.of.mu.Unlock()
	return b.of.journal[after:], b.err
}

func (s *stage) attach(from string, after int64) *Client {
	s.t.Helper()
	return s.attachWith(from, book{s, after, nil})
}

func (s *stage) attachWith(from string, b book) *Client {
	s.t.Helper()
	c, err := Connect(s.t.Context(), s.dir)
	require.NoError(s.t, err)
	k, err := Dial(s.t.Context(), c, Viewer{Hello: Hello{Version: "1.0", From: from}}, b)
	require.NoError(s.t, err)
	s.t.Cleanup(func() { _ = k.Close() })
	return k
}

// all takes events until so many came, and tells whether each came once and in order.
func all(t *testing.T, k *Client, after int64, n int) {
	t.Helper()
	got := 0
	for got < n {
		events, more := k.Next(t.Context())
		require.True(t, more, "after %d of %d: %v", got, n, k.Err())
		for _, e := range events {
			got++
			require.Equal(t, after+int64(got), e.Seq, "each event comes once, and in order")
		}
	}
}

// until waits for a wheel that fits.
func until(t *testing.T, k *Client, fits func(Wheel) bool) {
	t.Helper()
	for w := k.Wheel(); !fits(w); {
		turned, more := k.Turned(t.Context())
		require.True(t, more, "%v", k.Err())
		w = turned[len(turned)-1]
	}
}

func TestWhoLooksSeesWhatHappens(t *testing.T) {
	s := newStage(t)
	s.happen(10)
	a := s.attach("pts/3", 0)
	assert.Equal(t, Hello{Protocol: Protocol, Version: "1.0", Night: 21, Title: "Quays", By: "ada", PID: 4711, Seq: 10}, a.Night)
	b := s.attach("pts/7", 8) // it has read the journal so far
	s.happen(5000)
	all(t, a, 0, 5010)
	all(t, b, 8, 5002)
	lines, err := a.Lines("ald-quay-1")
	require.NoError(t, err)
	assert.Equal(t, []string{"log host of ald-quay-1"}, lines)

	s.server.Close()
	_, more := a.Next(t.Context())
	assert.False(t, more)
	require.NoError(t, a.Err(), "the night is over")
	_, more = b.Next(t.Context())
	assert.False(t, more)
	require.NoError(t, b.Err())
	_, err = Connect(t.Context(), s.dir)
	require.ErrorIs(t, err, fs.ErrNotExist)
}

func TestOneHasTheWheel(t *testing.T) {
	s := newStage(t)
	a, b := s.attach("pts/3", 0), s.attach("pts/7", 0)
	until(t, a, func(w Wheel) bool { return len(w.Viewers) == 2 })
	assert.Empty(t, a.Wheel().Has, "nobody has it by being there")
	require.EqualError(t, a.Do(night.Command{Choice: night.GoOn, Hold: 1}), "nobody has the wheel: take it first")
	assert.Empty(t, s.server.Has())

	require.NoError(t, b.Do(night.Command{Choice: night.Remark, Reason: "the light in hut 3 is out"}), "a note decides nothing")
	s.mu.Lock()
	require.Len(t, s.did, 1)
	assert.Contains(t, s.did[0].By, "(pts/7)")
	s.did = nil
	s.mu.Unlock()

	require.NoError(t, a.Take())
	until(t, a, func(w Wheel) bool { return w.Mine })
	until(t, b, func(w Wheel) bool { return strings.HasSuffix(w.Has, " (pts/3)") && !w.Mine })
	assert.NotEmpty(t, s.server.Has())
	require.NoError(t, a.Do(night.Command{Choice: night.TryAgain, Hold: 4, By: "somebody else"}))
	require.ErrorContains(t, b.Do(night.Command{Choice: night.BackAll}), "(pts/3) has the wheel")
	require.EqualError(t, a.Do(night.Command{Choice: night.TryAgain, Hold: 99}), "hold 99 is not open any more")
	s.mu.Lock()
	require.Len(t, s.did, 1)
	assert.Equal(t, a.Wheel().Has, s.did[0].By, "who it is the system tells, not the viewer")
	s.mu.Unlock()

	require.NoError(t, b.Take(), "whoever wants it says so")
	until(t, a, func(w Wheel) bool { return !w.Mine })
	require.ErrorContains(t, a.Do(night.Command{Choice: night.BackAll}), "(pts/7) has the wheel")
	require.NoError(t, b.Take(), "who has it has it")
	require.ErrorContains(t, a.Do(night.Command{Choice: night.BackAll}), "(pts/7) has the wheel")
	s.mu.Lock()
	require.Len(t, s.took, 2, "it is told each time that it is another's")
	assert.Equal(t, "(pts/3)", s.took[0])
	assert.Contains(t, s.took[1], "(pts/7)")
	assert.Contains(t, s.took[1], "(pts/3)")
	s.mu.Unlock()
	require.NoError(t, b.Close())
	until(t, a, func(w Wheel) bool { return w.Has == "" && len(w.Viewers) == 1 })
	assert.Empty(t, s.server.Has(), "who goes away gives it back")
}

// A viewer that stands still holds nothing up, and has everything once it looks again.
func TestWhoStandsStillHoldsNothingUp(t *testing.T) {
	s := newStage(t)
	c, err := Connect(t.Context(), s.dir)
	require.NoError(t, err)
	in := newReader(c)
	_, err = in.next() // and from then on it reads nothing
	require.NoError(t, err)
	zero := int64(0)
	require.NoError(t, write(c, Message{Hello: &Hello{Protocol: Protocol, From: "stopped"}, After: &zero}))
	b := s.attach("pts/7", 0)
	began := time.Now()
	const n = 2 * atHand
	for range 64 {
		s.happen(n / 64)
	}
	all(t, b, 0, n)
	assert.Less(t, time.Since(began), 20*time.Second)
	s.server.mu.Lock()
	assert.LessOrEqual(t, len(s.server.events), atHand+atHand/4, "what is kept at hand is bounded")
	s.server.mu.Unlock()

	last, gap := int64(0), false // it looks again
	for last < n {
		m, err := in.next()
		require.NoError(t, err)
		for _, e := range m.Events {
			require.Equal(t, last+1, e.Seq)
			last = e.Seq
		}
		if m.Gap > 0 {
			gap, last = true, m.Gap // as it stands in the journal
			require.NoError(t, write(c, Message{After: &last}))
		}
	}
	assert.True(t, gap, "what it missed stands in the journal")
	require.NoError(t, c.Close())
}

func TestAGapIsReadFromTheJournal(t *testing.T) {
	s := newStage(t)
	s.happen(atHand + atHand/2)
	k := s.attach("pts/3", 0)
	all(t, k, 0, atHand+atHand/2)

	broken := s.attachWith("pts/4", book{s, 0, errors.New("disk I/O error")})
	for more := true; more; _, more = broken.Next(t.Context()) {
	}
	require.ErrorContains(t, broken.Err(), "cannot be read from the journal: disk I/O error")
}

func TestWhoIsNotLetIn(t *testing.T) {
	s := newStage(t)
	for name, c := range map[string]struct {
		said []string
		want string
	}{
		"another version": {[]string{`{"hello":{"protocol":9},"after":0}`}, "speaks version 3 of the protocol, and not 9: attach with that Metabasis"},
		"no hello":        {[]string{`{"do":{"n":1,"command":{"choice":"take back everything"}}}`}, "says first who it is"},
	} {
		conn, err := Connect(t.Context(), s.dir)
		require.NoError(t, err)
		in := newReader(conn)
		_, err = in.next()
		require.NoError(t, err)
		for _, l := range c.said {
			_, err = fmt.Fprintln(conn, l)
			require.NoError(t, err)
		}
		m, err := in.next()
		require.NoError(t, err, name)
		assert.Contains(t, m.Refused, c.want, name)
		_, err = in.next()
		require.Error(t, err, name)
		_ = conn.Close()
	}
	s.mu.Lock()
	assert.Empty(t, s.did)
	s.mu.Unlock()

	// Of what is no message nothing is made, and it hurts nobody else.
	conn, err := Connect(t.Context(), s.dir)
	require.NoError(t, err)
	_, err = fmt.Fprintln(conn, `not json`)
	require.NoError(t, err)
	k := s.attach("pts/3", 0)
	s.happen(3)
	all(t, k, 0, 3)

	other := stageFor(t, func(net.Conn) (string, error) {
		return "", errors.New("only the user who runs the night can attach to it")
	})
	conn, err = Connect(t.Context(), other.dir)
	require.NoError(t, err)
	_, err = Dial(t.Context(), conn, Viewer{Hello: Hello{}}, book{other, 0, nil})
	require.EqualError(t, err, "only the user who runs the night can attach to it")
}

func TestANightOfAnotherVersionIsRefused(t *testing.T) {
	here, there := net.Pipe()
	go func() {
		_ = write(there, Message{Hello: &Hello{Protocol: 7, Version: "9.1"}})
	}()
	_, err := Dial(t.Context(), here, Viewer{Hello: Hello{Version: "1.0"}}, book{})
	require.ErrorContains(t, err, "run by Metabasis 9.1, which speaks version 7 of the protocol, and this one, 1.0, version 3: attach with that Metabasis")
	here, there = net.Pipe()
	go func() { _, _ = there.Write([]byte("220 mail.example ready\n")) }()
	_, err = Dial(t.Context(), here, Viewer{Hello: Hello{}}, book{})
	require.ErrorContains(t, err, "no message")
	here, _ = net.Pipe()
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	_, err = Dial(ctx, here, Viewer{Hello: Hello{}}, book{})
	require.ErrorIs(t, err, os.ErrDeadlineExceeded)
}

// A process that was killed leaves its socket, which the next night takes away; who looked is told.
func TestTheProcessOfTheNightIsGone(t *testing.T) {
	dir := t.TempDir()
	l, err := Listen(t.Context(), dir)
	require.NoError(t, err)
	go func() {
		c, err := l.Accept()
		if err != nil {
			return
		}
		_ = write(c, Message{Hello: &Hello{Protocol: Protocol, Night: 21}})
		_, _ = newReader(c).next()
		_ = c.Close() // without a word
	}()
	c, err := Connect(t.Context(), dir)
	require.NoError(t, err)
	k, err := Dial(t.Context(), c, Viewer{Hello: Hello{}}, book{})
	require.NoError(t, err)
	_, more := k.Next(t.Context())
	assert.False(t, more)
	require.ErrorIs(t, k.Err(), ErrGone)
	require.ErrorIs(t, k.Do(night.Command{Choice: night.GoOn}), ErrGone)
	_, turned := k.Turned(t.Context())
	assert.False(t, turned)

	require.NoError(t, l.(*ownListener).Listener.Close()) // and the file stays
	_, err = Connect(t.Context(), dir)
	require.ErrorIs(t, err, syscall.ECONNREFUSED)
	l, err = Listen(t.Context(), dir)
	require.NoError(t, err, "what a killed process left is taken away")
	require.NoError(t, l.Close())
}

func TestOnlyItsOwnerCanConnect(t *testing.T) {
	deep := filepath.Join(t.TempDir(), strings.Repeat("a-long-name/", 14))
	for _, dir := range []string{t.TempDir(), deep} {
		require.NoError(t, os.MkdirAll(dir, 0o755))
		l, err := Listen(t.Context(), dir)
		require.NoError(t, err, "however deep the workspace lies")
		info, err := os.Stat(filepath.Join(dir, SocketName))
		require.NoError(t, err)
		assert.Equal(t, fs.FileMode(0o600), info.Mode().Perm())
		c, err := Connect(t.Context(), dir)
		require.NoError(t, err)
		there, err := l.Accept()
		require.NoError(t, err)
		who, err := Who(there)
		require.NoError(t, err)
		assert.NotEmpty(t, who)
		require.NoError(t, errors.Join(c.Close(), there.Close(), l.Close()))
		_, err = os.Stat(filepath.Join(dir, SocketName))
		require.ErrorIs(t, err, fs.ErrNotExist)
	}
}

func TestWhatAViewerSaysOfItselfIsItsOwnIdea(t *testing.T) {
	assert.Equal(t, "ada", label("ada", ""))
	assert.Equal(t, "ada (pts/3)", label("ada", "pts/3"))
	assert.Equal(t, "ada (pts/3[2J ben)", label("ada", "pts/3)\x1b[2J (ben"))
	assert.Less(t, len(label("ada", strings.Repeat("x", 1000))), 60)
}

func FuzzMessages(f *testing.F) {
	f.Add([]byte(`{"hello":{"protocol":2},"after":0}` + "\n" + `{"do":{"n":1,"command":{"choice":"go on"}}}` + "\n"))
	f.Add([]byte(`{"events":[{"seq":1,"kind":"doing"}]}` + "\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		in := newReader(strings.NewReader(string(data)))
		for range 100 {
			if _, err := in.next(); err != nil {
				return
			}
		}
	})
}

// How long it takes until an event is with three that look.
func BenchmarkThreeViewers(b *testing.B) {
	dir := b.TempDir()
	l, err := Listen(b.Context(), dir)
	require.NoError(b, err)
	s := Serve(b.Context(), l, Served{Hello: Hello{Night: 21}, Who: Who})
	defer s.Close()
	var viewers []*Client
	for range 3 {
		c, err := Connect(b.Context(), dir)
		require.NoError(b, err)
		k, err := Dial(b.Context(), c, Viewer{Hello: Hello{}}, book{})
		require.NoError(b, err)
		defer k.Close()
		viewers = append(viewers, k)
	}
	seq := int64(0)
	for b.Loop() {
		seq++
		s.Put(night.Event{Seq: seq, Kind: night.Doing, Device: "ald-quay-1", Note: "reading its configuration"})
		for _, k := range viewers {
			if _, more := k.Next(b.Context()); !more {
				b.Fatal(k.Err())
			}
		}
	}
}
