// Package pipe is a connection in memory, with room on the way. [net.Pipe] has none: where both
// ends write first, as in SSH, neither would ever read. It waits on nothing but itself and time,
// so it works in virtual time (testing/synctest), too.
//
//	client, server := pipe.New(64 << 10)
package pipe

import (
	"io"
	"net"
	"os"
	"sync"
	"time"
)

// New makes both ends of a connection that holds so many bytes each way. They are as
// [net.Conn] has it: an end that is closed is read to its last byte by the other, and what
// waits in either ends then.
func New(size int) (a, b net.Conn) {
	there, back := newWay(size), newWay(size)
	return &end{in: back, out: there}, &end{in: there, out: back}
}

// end is one end of a connection.
type end struct{ in, out *way }

func (e *end) Read(b []byte) (int, error)  { return e.in.take(b) }
func (e *end) Write(b []byte) (int, error) { return e.out.put(b) }

func (e *end) Close() error {
	e.out.change(func(w *way) { w.ended = true })
	e.in.change(func(w *way) { w.deaf, w.held = true, nil })
	return nil
}

func (e *end) LocalAddr() net.Addr  { return addr{} }
func (e *end) RemoteAddr() net.Addr { return addr{} }

func (e *end) SetDeadline(t time.Time) error {
	e.in.reading.until(t, e.in)
	e.out.writing.until(t, e.out)
	return nil
}

func (e *end) SetReadDeadline(t time.Time) error  { e.in.reading.until(t, e.in); return nil }
func (e *end) SetWriteDeadline(t time.Time) error { e.out.writing.until(t, e.out); return nil }

// addr is where an end is: in memory.
type addr struct{}

func (addr) Network() string { return "pipe" }
func (addr) String() string  { return "pipe" }

// way is one direction.
type way struct {
	mu      sync.Mutex
	changed sync.Cond
	held    []byte // was written and not read yet
	size    int
	ended   bool // the writing end is closed
	deaf    bool // the reading end is closed
	reading limit
	writing limit
}

func newWay(size int) *way {
	w := &way{size: size}
	w.changed.L = &w.mu
	return w
}

// change changes something, and wakes whoever waits for that.
func (w *way) change(do func(*way)) {
	w.mu.Lock()
	defer w.mu.Unlock()
	do(w)
	w.changed.Broadcast()
}

func (w *way) take(b []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for {
		switch {
		case w.deaf:
			return 0, io.ErrClosedPipe
		case w.reading.passed:
			return 0, os.ErrDeadlineExceeded
		case len(w.held) > 0:
			n := copy(b, w.held)
			w.held = w.held[:copy(w.held, w.held[n:])]
			w.changed.Broadcast()
			return n, nil
		case w.ended:
			return 0, io.EOF
		case len(b) == 0:
			return 0, nil
		}
		w.changed.Wait()
	}
}

func (w *way) put(b []byte) (n int, err error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for {
		switch room := w.size - len(w.held); {
		case w.ended || w.deaf:
			return n, io.ErrClosedPipe
		case w.writing.passed:
			return n, os.ErrDeadlineExceeded
		case len(b) == 0:
			return n, nil
		case room > 0:
			k := min(room, len(b))
			w.held = append(w.held, b[:k]...)
			n, b = n+k, b[k:]
			w.changed.Broadcast()
			continue
		}
		w.changed.Wait()
	}
}

// limit is until when one may wait. The lock of its way guards it.
type limit struct {
	passed bool
	timer  *time.Timer
}

// until sets the limit; the zero time is none.
func (l *limit) until(t time.Time, w *way) {
	w.change(func(*way) {
		if l.timer != nil {
			l.timer.Stop()
		}
		l.timer, l.passed = nil, false
		if t.IsZero() {
			return
		}
		if left := time.Until(t); left > 0 {
			var own *time.Timer
			own = time.AfterFunc(left, func() {
				w.change(func(*way) { l.passed = l.passed || l.timer == own })
			})
			l.timer = own
		} else {
			l.passed = true
		}
	})
}
