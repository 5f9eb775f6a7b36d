package attach

import (
	"context"
	"errors"
	"fmt"
	"net"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/night"
)

// Served is a night that can be attached to.
type Served struct {
	Hello
	// Do passes a decision on; By is set.
	Do func(night.Command) error
	// Took is told who has taken the wheel, and from whom; "" is nobody. nil is told nothing.
	Took func(who, from string)
	// Turned is told that somebody decides who did not, or nobody any more; it asks [Server.Has]. nil is
	// told nothing.
	Turned func()
	// Agent is offered the socket of the SSH agent of who has taken the wheel; nil is offered none.
	Agent func(at string)
	// Lines tells what will be sent to a device.
	Lines func(device string) []string
	// Login has the login of a device typed anew: it asks by [Server.Ask]. nil is that it cannot be.
	Login func(ctx context.Context, device string) error
	// Console opens a device to be worked by hand; nil is that none can be.
	Console func(ctx context.Context, device string, columns, rows int) (Session, error)
	// Who tells who is at the other end of a connection; the error refuses it.
	Who func(net.Conn) (string, error)
}

// atHand is how many of the newest events are kept for viewers; what is older stands in the
// journal.
const atHand = 1 << 16

// Server serves a night to those that look at it.
type Server struct {
	night Served
	at    net.Listener

	mu      sync.Mutex
	events  []night.Event // the newest ones, in order
	seq     int64         // of the newest
	viewers []*viewer     // in the order in which they came
	wheel   *viewer
	asked   []*asked // what waits for an answer
	asks    int64    // how many there were
	over    bool
	changed chan struct{} // closed when there is something new, and another one takes its place
	conns   sync.WaitGroup
	hands   sync.WaitGroup // of devices that are worked by hand
	closed  chan struct{}
}

// viewer is one that looks.
type viewer struct {
	who   string
	conn  net.Conn
	say   []Message // what is to be said to it beside events
	sent  int64     // the newest event that it was sent, or has from elsewhere
	heard time.Time // when it said something last
	gap   bool      // it was told of a gap, and has not said after what it goes on
	agent string    // the socket of its SSH agent
	own   *Local    // the screen of the night's own process; nil for one that is attached
}

// Serve begins to serve a night on a listener, until [Server.Close] or ctx ends.
func Serve(ctx context.Context, l net.Listener, of Served) *Server {
	of.Protocol = Protocol
	s := &Server{night: of, at: l, changed: make(chan struct{}), closed: make(chan struct{})}
	s.conns.Go(s.watch)
	s.conns.Go(func() {
		for {
			c, err := l.Accept()
			if errors.Is(err, net.ErrClosed) {
				return
			}
			if err != nil { // such as too many files: it may pass
				select {
				case <-s.closed:
					return
				case <-time.After(100 * time.Millisecond):
				}
				continue
			}
			s.conns.Go(func() { s.greet(ctx, c) })
		}
	})
	return s
}

// How often a viewer says that it is there, and how long it may say nothing and keep the wheel: one
// that was stopped, by a shell, decides nothing, and nobody would know.
const (
	beats = 2 * time.Second
	quiet = 15 * time.Second
)

// watch takes the wheel from a viewer that says nothing any more, until the night is over.
func (s *Server) watch() {
	for {
		select {
		case <-time.After(beats):
		case <-s.closed:
			return
		}
		s.mu.Lock()
		v := s.wheel
		silent := v != nil && v.own == nil && time.Since(v.heard) > quiet
		if silent {
			s.wheel = nil
			s.tellWheel()
			s.putAsks()
		}
		s.mu.Unlock()
		if silent {
			s.turned()
		}
	}
}

// Put passes on what has happened. It never waits for who looks.
func (s *Server) Put(events ...night.Event) {
	if len(events) == 0 {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.events = append(s.events, events...)
	if n := len(s.events) - atHand; n > atHand/4 { // rarely, since all of them move
		s.events = slices.Clone(s.events[n:])
	}
	s.seq = events[len(events)-1].Seq
	s.wake()
}

// wake tells all writers that there is something. The caller holds s.mu.
func (s *Server) wake() {
	close(s.changed)
	s.changed = make(chan struct{})
}

// Has is who has the wheel; "" is nobody.
func (s *Server) Has() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.wheel == nil {
		return ""
	}
	return s.wheel.who
}

// turned tells that it is another who has the wheel, or nobody. The caller does not hold s.mu.
func (s *Server) turned() {
	if s.night.Turned != nil {
		s.night.Turned()
	}
}

// lastWords is how long those that look have to take what is left, once the night is over.
const lastWords = 3 * time.Second

// Close says that the night is over, gives those that look a moment to take what is left, and
// ends. What stands still is left behind.
func (s *Server) Close() {
	s.mu.Lock()
	if s.over {
		s.mu.Unlock()
		return
	}
	s.over = true
	s.wake()
	s.mu.Unlock()
	close(s.closed)
	_ = s.at.Close()
	s.mu.Lock()
	for _, v := range s.viewers {
		if v.own != nil {
			v.own.turns.Close()
		}
	}
	s.mu.Unlock()
	done := make(chan struct{})
	go func() { s.conns.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(lastWords):
		s.mu.Lock()
		for _, v := range s.viewers {
			if v.own == nil {
				_ = v.conn.Close()
			}
		}
		s.mu.Unlock()
		<-done
	}
}

// greet finds out what somebody wants who has connected, and serves that to its end. A device that is
// worked by hand goes on to be when the night is over.
func (s *Server) greet(ctx context.Context, c net.Conn) {
	who, err := s.night.Who(c)
	if err != nil {
		_ = write(c, Message{Refused: err.Error()})
		_ = c.Close()
		return
	}
	s.mu.Lock()
	hello := s.night.Hello
	hello.Seq = s.seq
	s.mu.Unlock()
	in := newReader(c)
	_ = c.SetReadDeadline(time.Now().Add(readPatience))
	if write(c, Message{Hello: &hello}) != nil {
		_ = c.Close()
		return
	}
	first, err := in.next()
	if err != nil {
		_ = c.Close()
		return
	}
	_ = c.SetReadDeadline(time.Time{})
	switch why := s.refuses(first); {
	case why != "":
		_ = write(c, Message{Refused: why})
		_ = c.Close()
	case first.Console != nil:
		s.hands.Go(func() { defer c.Close(); s.console(ctx, c, in, first.Console) })
	default:
		defer c.Close()
		s.serve(ctx, in, &viewer{who: label(who, first.Hello.From), agent: first.Hello.Agent, conn: c, sent: *first.After, heard: time.Now()})
	}
}

// serve serves one that looks, to its end.
func (s *Server) serve(ctx context.Context, in *reader, v *viewer) {
	s.enter(v)
	ctx, left := context.WithCancel(ctx)
	var both sync.WaitGroup
	both.Go(func() { s.tell(ctx, v); _ = v.conn.Close() })
	s.hear(ctx, v, in)
	left()
	s.leave(v)
	both.Wait()
}

// Hands waits until no device is worked by hand any more, once the night is over.
func (s *Server) Hands() { s.hands.Wait() }

// refuses says why somebody cannot look; "" where it can.
func (s *Server) refuses(m Message) string {
	switch {
	case m.Hello == nil || m.After == nil && m.Console == nil:
		return "who looks says first who it is, and which event it has last"
	case m.Hello.Protocol != Protocol:
		return fmt.Sprintf("this night is run by Metabasis %s, which speaks version %d of the protocol, and not %d: attach with that Metabasis",
			s.night.Version, Protocol, m.Hello.Protocol)
	}
	return ""
}

func (s *Server) enter(v *viewer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.viewers = append(s.viewers, v)
	s.tellWheel()
}

func (s *Server) leave(v *viewer) {
	if s.remove(v) {
		s.turned()
	}
}

// remove removes one that has gone, and tells whether it had the wheel.
func (s *Server) remove(v *viewer) (had bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.viewers = slices.DeleteFunc(s.viewers, func(o *viewer) bool { return o == v })
	if had = s.wheel == v; had {
		s.wheel = nil
	}
	for _, a := range s.asked {
		if a.of == v {
			a.of = nil
		}
	}
	s.tellWheel()
	return had
}

// tellWheel tells all who has the wheel and who looks. The caller holds s.mu.
func (s *Server) tellWheel() {
	var names []string
	for _, v := range s.viewers {
		names = append(names, v.who)
	}
	has := ""
	if s.wheel != nil {
		has = s.wheel.who
	}
	for _, v := range s.viewers {
		w := Wheel{Has: has, Mine: v == s.wheel, Viewers: names}
		if v.own != nil {
			v.own.turn(w)
			continue
		}
		v.say = append(v.say, Message{Wheel: &w})
	}
	s.wake()
}

// hear takes what a viewer says, until it goes away.
func (s *Server) hear(ctx context.Context, v *viewer, in *reader) {
	var own sync.WaitGroup // what takes long, and is done for it meanwhile
	defer own.Wait()
	ctx, left := context.WithCancel(ctx)
	defer left()
	for {
		m, err := in.next()
		if err != nil {
			return
		}
		s.mu.Lock()
		v.heard = time.Now()
		s.mu.Unlock()
		switch {
		case m.After != nil:
			s.mu.Lock()
			v.sent, v.gap = max(v.sent, *m.After), false
			s.wake()
			s.mu.Unlock()
		case m.Wheel != nil && m.Wheel.Take:
			s.take(v)
		case m.Do != nil:
			s.answer(v, Message{Done: &Done{N: m.Do.N, Error: text(s.do(v, m.Do.Command))}})
		case m.Ask != nil:
			s.answered(v, m.Ask)
		case m.Login != nil:
			own.Go(func() { s.answer(v, Message{Done: &Done{N: m.Login.N, Error: text(s.login(ctx, v, m.Login))}}) })
		case m.Lines != nil:
			s.answer(v, Message{Lines: &Lines{N: m.Lines.N, Device: m.Lines.Device, Lines: s.night.Lines(m.Lines.Device)}})
		}
	}
}

// take gives the wheel to a viewer.
func (s *Server) take(v *viewer) {
	s.mu.Lock()
	from, had := "", s.wheel
	if had != nil {
		from = had.who
	}
	s.wheel = v
	s.tellWheel()
	s.putAsks()
	s.mu.Unlock()
	if s.night.Took != nil && had != v {
		s.night.Took(v.who, from)
	}
	s.turned()
	if s.night.Agent != nil && v.agent != "" {
		s.night.Agent(v.agent)
	}
}

// text is what an error says; "" for none.
func text(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// decides says why a viewer does not.
func (s *Server) decides(v *viewer) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.wheel == nil:
		return errors.New("nobody has the wheel: take it first")
	case s.wheel != v:
		return fmt.Errorf("%s has the wheel", s.wheel.who)
	}
	return nil
}

// do passes on a decision of a viewer that has the wheel.
func (s *Server) do(v *viewer, c night.Command) error {
	if c.Choice != night.Remark { // anybody who looks may write down what there is to be known
		if err := s.decides(v); err != nil {
			return err
		}
	}
	c.By = v.who
	return s.night.Do(c)
}

// login has the login of a device typed anew by a viewer that has the wheel.
func (s *Server) login(ctx context.Context, v *viewer, of *Login) error {
	if err := s.decides(v); err != nil {
		return err
	}
	if s.night.Login == nil {
		return errors.New("no login of this night can be typed anew")
	}
	return s.night.Login(context.WithValue(ctx, requested{}, &request{of.N, v}), of.Device)
}

func (s *Server) answer(v *viewer, m Message) {
	s.mu.Lock()
	defer s.mu.Unlock()
	v.say = append(v.say, m)
	s.wake()
}

// mostAtOnce is how many events go into one message.
const mostAtOnce = 2048

// tell says to a viewer what there is, until it goes away or the night is over.
func (s *Server) tell(ctx context.Context, v *viewer) {
	for {
		out, changed, over := s.next(v)
		for _, m := range out {
			if write(v.conn, m) != nil {
				return
			}
		}
		if over {
			_ = write(v.conn, Message{Over: true})
			return
		}
		if len(out) > 0 {
			continue
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return
		}
	}
}

// next takes what is to be said to a viewer. Over tells that all was said and nothing more comes.
func (s *Server) next(v *viewer) (out []Message, changed <-chan struct{}, over bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	out, v.say = v.say, nil
	changed = s.changed
	if v.gap {
		return out, changed, false
	}
	i, _ := slices.BinarySearchFunc(s.events, v.sent+1, func(e night.Event, seq int64) int { return int(e.Seq - seq) })
	switch some := s.events[i:min(len(s.events), i+mostAtOnce)]; {
	case v.sent >= s.seq:
		over = s.over && len(out) == 0
	case len(some) == 0 || some[0].Seq != v.sent+1: // they stand in the journal
		last := s.seq
		if len(some) > 0 {
			last = some[0].Seq - 1
		}
		v.gap = true
		out = append(out, Message{Gap: last})
	default:
		v.sent = some[len(some)-1].Seq
		out = append(out, Message{Events: slices.Clone(some)})
	}
	return out, changed, over
}
