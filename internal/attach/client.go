package attach

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/person"
	"metabasis/internal/stream"
)

// Client is a night that runs in another process, as one that looks at it has it.
type Client struct {
	// Night is what its process said of it.
	Night Hello

	conn    net.Conn
	journal Journal
	events  *stream.Stream[night.Event]
	turns   *stream.Stream[Wheel] // who has the wheel, each time that it is another
	person  person.Person         // answers what is asked; nil is nobody
	seen    func(events ...night.Event)
	writing sync.Mutex

	mu      sync.Mutex
	last    int64 // the newest event that was handed out
	wheel   Wheel
	asks    map[int64]context.CancelFunc // withdraws what is asked of the person
	logins  map[int64]context.Context    // that are typed anew
	waits   map[int64]chan Message
	n       int64
	over    bool  // the night is
	ended   error // why nothing more comes; nil as long as something does
	closing bool
	gone    context.CancelFunc // ends what is read for it
}

// Journal is what stands in the journal of the night that is attached to.
type Journal interface {
	// Last reads which event of a night is the last that the viewer has.
	Last(ctx context.Context, night Hello) (int64, error)
	// After reads the events behind one, which the night's process has no more of at hand.
	After(ctx context.Context, last int64) ([]night.Event, error)
}

// Viewer is one that looks.
type Viewer struct {
	Hello
	// Person answers what the night's process asks of whoever has the wheel; nil is nobody.
	Person person.Person
	// Seen is told each event, in order, before it is handed out; nil is told nothing.
	Seen func(events ...night.Event)
}

// Dial attaches to the night behind a connection. Me says who looks. The error is a [Refused]
// where the night does not let itself be looked at so.
func Dial(ctx context.Context, c net.Conn, me Viewer, journal Journal) (*Client, error) {
	me.Protocol = Protocol
	stop := context.AfterFunc(ctx, func() { _ = c.SetDeadline(time.Now()) })
	defer stop()
	_ = c.SetDeadline(time.Now().Add(patience))
	in := newReader(c)
	m, err := in.next()
	if err == nil && m.Refused != "" {
		err = &Refused{m.Refused}
	}
	if err == nil && m.Hello == nil {
		err = errors.New("what answers is no night")
	}
	if err == nil && m.Hello.Protocol != Protocol {
		err = &Refused{fmt.Sprintf("this night is run by Metabasis %s, which speaks version %d of the protocol, and this one, %s, version %d: attach with that Metabasis",
			m.Hello.Version, m.Hello.Protocol, me.Version, Protocol)}
	}
	_ = c.SetDeadline(time.Time{})
	after := int64(0)
	if err == nil {
		after, err = journal.Last(ctx, *m.Hello)
	}
	if err == nil {
		err = write(c, Message{Hello: &me.Hello, After: &after})
	}
	if err != nil {
		_ = c.Close()
		return nil, err
	}
	k := &Client{Night: *m.Hello, conn: c, journal: journal, last: after, waits: map[int64]chan Message{},
		events: stream.New[night.Event](), turns: stream.New[Wheel](),
		asks: map[int64]context.CancelFunc{}, logins: map[int64]context.Context{}, person: me.Person, seen: me.Seen}
	live, gone := context.WithCancel(context.WithoutCancel(ctx))
	k.gone = gone
	go k.hear(live, in)
	go k.beat(live)
	return k, nil
}

// Refused is a night that does not let itself be looked at so.
type Refused struct{ Why string }

func (e *Refused) Error() string { return e.Why }

// ErrGone says that the night's process is gone, or has no more to do with this viewer.
var ErrGone = errors.New("the process of the night does not answer any more: it was ended, or has crashed; the journal tells how far it came")

// beat says that somebody is there, until nothing more comes.
func (k *Client) beat(ctx context.Context) {
	for {
		select {
		case <-time.After(beats):
		case <-ctx.Done():
			return
		}
		if k.send(Message{Here: true}) != nil {
			return
		}
	}
}

// hear takes what the night says, until nothing more comes.
func (k *Client) hear(ctx context.Context, in *reader) {
	defer k.gone()
	for {
		m, err := in.next()
		if err == nil && m.Refused != "" {
			err = &Refused{m.Refused}
		}
		if err == nil && m.Gap > 0 {
			err = k.fill(ctx)
			m = Message{}
		}
		k.mu.Lock()
		switch {
		case err != nil:
			k.end(err)
		case m.Over:
			k.over = true
			k.end(io.EOF)
		case len(m.Events) > 0:
			k.take(m.Events)
		case m.Wheel != nil:
			k.wheel = *m.Wheel
			k.turns.Put(k.wheel)
		case m.Ask != nil:
			k.ask(ctx, m.Ask)
		case m.Done != nil:
			k.reply(m.Done.N, m)
		case m.Lines != nil:
			k.reply(m.Lines.N, m)
		}
		ended := k.ended != nil
		k.mu.Unlock()
		if ended {
			_ = k.conn.Close()
			return
		}
	}
}

// end ends what waits. The caller holds k.mu.
func (k *Client) end(err error) {
	k.ended = err
	for n, w := range k.waits {
		close(w)
		delete(k.waits, n)
	}
	k.events.Close()
	k.turns.Close()
	for n, cancel := range k.asks {
		cancel()
		delete(k.asks, n)
	}
}

// take takes in events, each once. The caller holds k.mu.
func (k *Client) take(events []night.Event) {
	for _, e := range events {
		if e.Seq > k.last {
			k.events.Put(e)
			k.last = e.Seq
			if k.seen != nil {
				k.seen(e)
			}
		}
	}
}

// fill reads from the journal what the process has no more of, and goes on from there.
func (k *Client) fill(ctx context.Context) error {
	k.mu.Lock()
	after := k.last
	k.mu.Unlock()
	events, err := k.journal.After(ctx, after)
	if err != nil {
		return fmt.Errorf("what happened meanwhile cannot be read from the journal: %w", err)
	}
	k.mu.Lock()
	k.take(events)
	last := k.last
	k.mu.Unlock()
	if last == after {
		return errors.New("what happened meanwhile does not stand in the journal")
	}
	return k.send(Message{After: &last})
}

func (k *Client) reply(n int64, m Message) {
	if w := k.waits[n]; w != nil {
		w <- m
		delete(k.waits, n)
	}
}

func (k *Client) send(m Message) error {
	k.writing.Lock()
	defer k.writing.Unlock()
	_ = k.conn.SetWriteDeadline(time.Now().Add(patience))
	if err := write(k.conn, m); err != nil {
		return ErrGone
	}
	return nil
}

// Next waits for what happens, and returns all there is. It is false when nothing more comes, or
// ctx ends; [Client.Err] says why.
func (k *Client) Next(ctx context.Context) ([]night.Event, bool) { return k.events.Next(ctx) }

// Err says why nothing more comes: nil is the end of the night, or that somebody closed it here.
func (k *Client) Err() error {
	k.mu.Lock()
	defer k.mu.Unlock()
	switch {
	case k.over, k.closing, k.ended == nil:
		return nil
	case errors.Is(k.ended, io.EOF), errors.Is(k.ended, net.ErrClosed):
		return ErrGone
	}
	var op *net.OpError
	if errors.As(k.ended, &op) {
		return ErrGone
	}
	return k.ended
}

// Wheel tells who decides, and who looks.
func (k *Client) Wheel() Wheel {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.wheel
}

// Turned waits until the wheel is another than before, or who looks, and returns who had it since,
// the newest last; it is false when nothing more comes.
func (k *Client) Turned(ctx context.Context) ([]Wheel, bool) { return k.turns.Next(ctx) }

// Take takes the wheel.
func (k *Client) Take() error { return k.send(Message{Wheel: &Wheel{Take: true}}) }

// Do passes on a decision. It returns once the night has it.
func (k *Client) Do(c night.Command) error {
	m, err := k.promptly(func(n int64) Message { return Message{Do: &Do{N: n, Command: c}} })
	if err == nil && m.Done.Error != "" {
		err = errors.New(m.Done.Error)
	}
	return err
}

// Lines tells what will be sent to a device.
func (k *Client) Lines(device string) ([]string, error) {
	m, err := k.promptly(func(n int64) Message { return Message{Lines: &Lines{N: n, Device: device}} })
	if err != nil {
		return nil, err
	}
	return m.Lines.Lines, nil
}

// promptly sends something that is answered at once, and waits for that.
func (k *Client) promptly(of func(n int64) Message) (Message, error) {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	return k.request(ctx, of)
}

// request sends something that is answered, and waits for that as long as ctx lives.
func (k *Client) request(ctx context.Context, of func(n int64) Message) (Message, error) {
	k.mu.Lock()
	if k.ended != nil {
		k.mu.Unlock()
		return Message{}, ErrGone
	}
	k.n++
	n, answer := k.n, make(chan Message, 1)
	k.waits[n] = answer
	k.mu.Unlock()
	if err := k.send(of(n)); err != nil {
		return Message{}, err
	}
	select {
	case m, ok := <-answer:
		if !ok {
			return m, ErrGone
		}
		return m, nil
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.Canceled) {
			return Message{}, ctx.Err()
		}
		return Message{}, errors.New("the process of the night does not answer: whether it has taken this is not known; what it does is seen here")
	}
}

// Close goes away. The night goes on.
func (k *Client) Close() error {
	k.mu.Lock()
	k.closing = true
	k.mu.Unlock()
	k.gone()
	return k.conn.Close()
}
