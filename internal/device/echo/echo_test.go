package echo

import (
	"context"
	"errors"
	"net"
	"net/netip"
	"os"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/net/icmp"
	"golang.org/x/net/ipv4"
)

func TestAPortAnswersOrNot(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	r, err := Reach(t.Context(), address)
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{r.Sent, r.Answered})
	assert.Positive(t, r.Took)
	require.NoError(t, l.Close())
	r, err = Reach(t.Context(), address)
	require.NoError(t, err, "that nothing answers was found out")
	assert.Equal(t, []int{1, 0}, []int{r.Sent, r.Answered})

	_, err = Reach(t.Context(), "no-such-name.invalid:22")
	require.ErrorContains(t, err, "the name of no-such-name.invalid")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Reach(ctx, address)
	require.ErrorIs(t, err, context.Canceled)
}

// What this machine may do differs; what it says of it must not be wrong.
func TestAnAddressAnswersOrNot(t *testing.T) {
	r, err := Reach(t.Context(), "127.0.0.1")
	if errors.Is(err, ErrNotAllowed) {
		assert.Zero(t, r.Sent)
		return
	}
	require.NoError(t, err)
	assert.Equal(t, []int{requests, requests}, []int{r.Sent, r.Answered})
	assert.Less(t, r.Took, time.Second)

	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = Reach(ctx, "127.0.0.1")
	require.ErrorIs(t, err, context.Canceled)
	_, err = Reach(t.Context(), "no-such-name.invalid")
	require.ErrorContains(t, err, "the name of no-such-name.invalid")
}

// Two that ask one address at once each get their own answers.
func TestManyAskAtOnce(t *testing.T) {
	if _, err := Reach(t.Context(), "127.0.0.1"); errors.Is(err, ErrNotAllowed) {
		t.Skip(err)
	}
	results := make(chan int)
	for range 8 {
		go func() {
			r, _ := Reach(t.Context(), "127.0.0.1")
			results <- r.Answered
		}()
	}
	for range 8 {
		assert.Equal(t, requests, <-results)
	}
}

// wire is a socket on whose other end somebody does with each request what a test says.
type wire struct {
	answer func(seq int, m icmp.Message) [][]byte
	from   netip.Addr
	by     time.Time
	came   chan []byte
	fail   error
}

func (w *wire) SetReadDeadline(t time.Time) error { w.by = t; return nil }

func (w *wire) WriteTo(data []byte, _ net.Addr) (int, error) {
	if w.fail != nil {
		return 0, w.fail
	}
	m, err := icmp.ParseMessage(1, data)
	if err != nil {
		return 0, err
	}
	for _, back := range w.answer(m.Body.(*icmp.Echo).Seq, *m) {
		w.came <- back
	}
	return len(data), nil
}

func (w *wire) ReadFrom(buf []byte) (int, net.Addr, error) {
	select {
	case data := <-w.came:
		time.Sleep(7 * time.Millisecond) // in virtual time
		return copy(buf, data), &net.IPAddr{IP: w.from.AsSlice()}, nil
	case <-time.After(time.Until(w.by)):
		return 0, nil, os.ErrDeadlineExceeded
	}
}

// Only what answers a request of ours counts, and once.
func TestWhatCountsAsAnAnswer(t *testing.T) {
	ip := netip.MustParseAddr("198.51.100.14")
	back := func(t *testing.T, m icmp.Message, edit func(*icmp.Message, *icmp.Echo)) []byte {
		body := *m.Body.(*icmp.Echo)
		m.Type, m.Body = ipv4.ICMPTypeEchoReply, &body
		if edit != nil {
			edit(&m, &body)
		}
		data, err := m.Marshal(nil)
		require.NoError(t, err)
		return data
	}
	for name, c := range map[string]struct {
		answer   func(t *testing.T, seq int, m icmp.Message) [][]byte
		answered int
		from     string
	}{
		"all":  {func(t *testing.T, _ int, m icmp.Message) [][]byte { return [][]byte{back(t, m, nil)} }, 3, ""},
		"none": {func(*testing.T, int, icmp.Message) [][]byte { return nil }, 0, ""},
		"the first is lost": {func(t *testing.T, seq int, m icmp.Message) [][]byte {
			if seq == 0 {
				return nil
			}
			return [][]byte{back(t, m, nil)}
		}, 2, ""},
		"each twice": {func(t *testing.T, _ int, m icmp.Message) [][]byte { return [][]byte{back(t, m, nil), back(t, m, nil)} }, 3, ""},
		"of another's": {func(t *testing.T, _ int, m icmp.Message) [][]byte {
			return [][]byte{back(t, m, func(_ *icmp.Message, e *icmp.Echo) { e.ID++ })}
		}, 0, ""},
		"another text": {func(t *testing.T, _ int, m icmp.Message) [][]byte {
			return [][]byte{back(t, m, func(_ *icmp.Message, e *icmp.Echo) { e.Data = []byte("hello") })}
		}, 0, ""},
		"never asked": {func(t *testing.T, _ int, m icmp.Message) [][]byte {
			return [][]byte{back(t, m, func(_ *icmp.Message, e *icmp.Echo) { e.Seq = 77 })}
		}, 0, ""},
		"no answer, a complaint": {func(t *testing.T, _ int, m icmp.Message) [][]byte {
			return [][]byte{back(t, m, func(m *icmp.Message, _ *icmp.Echo) {
				m.Type, m.Body = ipv4.ICMPTypeDestinationUnreachable, &icmp.DstUnreach{Data: make([]byte, 28)}
			})}
		}, 0, ""},
		"rubbish":               {func(*testing.T, int, icmp.Message) [][]byte { return [][]byte{{0}, nil} }, 0, ""},
		"somebody else answers": {func(t *testing.T, _ int, m icmp.Message) [][]byte { return [][]byte{back(t, m, nil)} }, 0, "198.51.100.99"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				from := ip
				if c.from != "" {
					from = netip.MustParseAddr(c.from)
				}
				w := &wire{from: from, came: make(chan []byte, 9), answer: func(seq int, m icmp.Message) [][]byte { return c.answer(t, seq, m) }}
				began := time.Now()
				r, err := ask(w, ip, true)
				require.NoError(t, err)
				assert.Equal(t, []int{requests, c.answered}, []int{r.Sent, r.Answered})
				if c.answered > 0 {
					assert.Equal(t, 7*time.Millisecond, r.Took)
				}
				assert.LessOrEqual(t, time.Since(began), requests*apart+patience)
			})
		})
	}
	w := &wire{fail: syscall.ENETUNREACH}
	r, err := ask(w, ip, true)
	require.NoError(t, err, "that no way leads there was found out")
	assert.Equal(t, []int{requests, 0}, []int{r.Sent, r.Answered})
	w.fail = syscall.ENOBUFS
	_, err = ask(w, ip, true)
	require.ErrorContains(t, err, "asking 198.51.100.14")
}
