package attach

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

// A device is worked by hand over a connection of its own. The night's process opens it as for a
// screen of its own: logged in to as it knows how to, recorded as it records.

// Console is what is said of a device that is worked by hand, in either direction.
type Console struct {
	// Device opens it, in a window of Columns by Rows. Those alone say that the window is another.
	Device  string `json:"device,omitempty"`
	Columns int    `json:"columns,omitempty"`
	Rows    int    `json:"rows,omitempty"`
	// Opened says that it is open.
	Opened bool `json:"opened,omitempty"`
	// Bytes are what is typed, or printed.
	Bytes []byte `json:"bytes,omitempty"`
	// Offer is the secret that can be given now; "" is none any more. Give gives it.
	Offer *string `json:"offer,omitempty"`
	Give  bool    `json:"give,omitempty"`
	// Note is written into the record.
	Note string `json:"note,omitempty"`
	// Unrecorded says why not all is recorded.
	Unrecorded string `json:"unrecorded,omitempty"`
	// Over ends it; Error says why, where that was not wanted.
	Over  bool   `json:"over,omitempty"`
	Error string `json:"error,omitempty"`
}

// Session is a device that is worked by hand.
type Session interface {
	io.ReadWriteCloser
	// Resize tells that the window has another size.
	Resize(columns, rows int) error
	// Offer names the secret that the device asks for and that is known; "" for none. Give sends it.
	Offer() string
	Give() error
	// Recorded is nil as long as what is said is kept, and says why it is not.
	Recorded() error
	// Note writes something into the record.
	Note(text string) error
}

// offers is how often it is looked whether a secret is asked for.
const offers = 200 * time.Millisecond

// console serves a device that is worked by hand.
func (s *Server) console(ctx context.Context, c net.Conn, in *reader, open *Console) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var writing sync.Mutex
	say := func(m Console) error {
		writing.Lock()
		defer writing.Unlock()
		return write(c, Message{Console: &m})
	}
	if s.night.Console == nil {
		_ = say(Console{Over: true, Error: "no device of this night can be worked by hand"})
		return
	}
	typed := make(chan *Console)
	go func() { // also while it is opened: who has gone does not wait for it
		defer cancel()
		defer close(typed)
		for {
			m, err := in.next()
			if err != nil || m.Console == nil || m.Console.Over {
				return
			}
			select {
			case typed <- m.Console:
			case <-ctx.Done():
				return
			}
		}
	}()
	session, err := s.night.Console(ctx, open.Device, open.Columns, open.Rows)
	if err == nil {
		if err = session.Recorded(); err != nil {
			_ = session.Close()
		}
	}
	if err != nil {
		_ = say(Console{Over: true, Error: err.Error()})
		return
	}
	_ = say(Console{Opened: true})
	var printing sync.WaitGroup
	printing.Go(func() { defer c.Close(); prints(ctx, session, say) })
	for m := range typed {
		switch {
		case m.Give:
			_ = session.Give()
		case m.Note != "":
			_ = session.Note(m.Note) // what is not kept is told with the rest
		case m.Columns > 0:
			_ = session.Resize(m.Columns, m.Rows)
		default:
			_, _ = session.Write(m.Bytes)
		}
	}
	_ = session.Close()
	printing.Wait()
}

// prints says what a device prints, to its end.
func prints(ctx context.Context, session Session, say func(Console) error) {
	over := make(chan struct{})
	var offering sync.WaitGroup
	offering.Go(func() {
		last := ""
		for {
			select {
			case <-time.After(offers):
			case <-over:
				return
			}
			if now := session.Offer(); now != last {
				last = now
				_ = say(Console{Offer: &now})
			}
		}
	})
	end := Console{Over: true}
	for buf := make([]byte, 4096); ; {
		n, err := session.Read(buf)
		if n > 0 && say(Console{Bytes: buf[:n]}) != nil {
			break
		}
		if err != nil {
			if !errors.Is(err, io.EOF) && ctx.Err() == nil {
				end.Error = err.Error()
			}
			break
		}
	}
	close(over)
	offering.Wait()
	if err := session.Recorded(); err != nil {
		end.Unrecorded = err.Error()
	}
	_ = say(end)
}

// Remote is a device that is worked by hand through the night's process.
type Remote struct {
	conn    net.Conn
	writing sync.Mutex
	rest    []byte // printed, and not read yet; of the reader alone
	in      *reader

	mu         sync.Mutex
	offer      string
	unrecorded string
}

// Work opens a device of the night behind a connection, to be worked by hand in a window of that
// size.
func Work(ctx context.Context, c net.Conn, me Hello, device string, columns, rows int) (*Remote, error) {
	me.Protocol = Protocol
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	r := &Remote{conn: c, in: newReader(c)}
	m, err := r.in.next()
	if err == nil && m.Hello != nil {
		if err = write(c, Message{Hello: &me, Console: &Console{Device: device, Columns: columns, Rows: rows}}); err == nil {
			m, err = r.in.next()
		}
	}
	switch {
	case err != nil && ctx.Err() != nil:
		err = ctx.Err()
	case err != nil:
		err = ErrGone
	case m.Refused != "":
		err = &Refused{m.Refused}
	case m.Console == nil || !m.Console.Opened:
		err = errors.New("it cannot be worked by hand")
		if m.Console != nil && m.Console.Error != "" {
			err = errors.New(m.Console.Error)
		}
	}
	if err != nil || !stop() {
		_ = c.Close()
		return nil, errors.Join(err, ctx.Err())
	}
	_ = c.SetDeadline(time.Time{})
	return r, nil
}

// Read implements [io.Reader].
func (r *Remote) Read(b []byte) (int, error) {
	for len(r.rest) == 0 {
		m, err := r.in.next()
		if err != nil {
			return 0, ErrGone
		}
		if m.Console == nil {
			continue
		}
		r.mu.Lock()
		if m.Console.Offer != nil {
			r.offer = *m.Console.Offer
		}
		if m.Console.Unrecorded != "" {
			r.unrecorded = m.Console.Unrecorded
		}
		r.mu.Unlock()
		switch r.rest = m.Console.Bytes; {
		case !m.Console.Over:
		case m.Console.Error != "":
			return 0, errors.New(m.Console.Error)
		default:
			return 0, io.EOF
		}
	}
	n := copy(b, r.rest)
	r.rest = r.rest[n:]
	return n, nil
}

func (r *Remote) say(m Console) error {
	r.writing.Lock()
	defer r.writing.Unlock()
	if write(r.conn, Message{Console: &m}) != nil {
		return ErrGone
	}
	return nil
}

// Write implements [io.Writer].
func (r *Remote) Write(b []byte) (int, error) {
	if err := r.say(Console{Bytes: b}); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Resize implements [Session].
func (r *Remote) Resize(columns, rows int) error { return r.say(Console{Columns: columns, Rows: rows}) }

// Give implements [Session].
func (r *Remote) Give() error { return r.say(Console{Give: true}) }

// Note implements [Session].
func (r *Remote) Note(text string) error { return r.say(Console{Note: text}) }

// Offer implements [Session].
func (r *Remote) Offer() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.offer
}

// Recorded implements [Session].
func (r *Remote) Recorded() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.unrecorded == "" {
		return nil
	}
	return errors.New(r.unrecorded)
}

// closing is how long the device has to be left properly, and the record to be ended.
const closing = 10 * time.Second

// Close ends it, once what the device still prints was read by whoever reads.
func (r *Remote) Close() error {
	err := r.say(Console{Over: true})
	_ = r.conn.SetReadDeadline(time.Now().Add(closing))
	return err
}
