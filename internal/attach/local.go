package attach

import (
	"context"
	"sync"

	"metabasis/internal/core/night"
	"metabasis/internal/stream"
)

// Local is the screen of the night's own process: it has the wheel until somebody takes it.
type Local struct {
	server *Server
	viewer *viewer

	turns *stream.Stream[Wheel]

	mu    sync.Mutex
	wheel Wheel
}

// Local enters the screen of the night's own process, of whom somebody sits at.
func (s *Server) Local(who string) *Local {
	l := &Local{server: s, turns: stream.New[Wheel]()}
	l.viewer = &viewer{who: who, own: l}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.viewers = append(s.viewers, l.viewer)
	s.wheel = l.viewer
	s.tellWheel()
	return l
}

// turn takes in who has the wheel. The caller holds that of the server.
func (l *Local) turn(w Wheel) {
	l.mu.Lock()
	l.wheel = w
	l.mu.Unlock()
	l.turns.Put(w)
}

// Wheel tells who decides, and who looks.
func (l *Local) Wheel() Wheel {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.wheel
}

// Turned waits until the wheel is another than before, or who looks, and returns who had it since,
// the newest last; it is false when ctx ends, or the night.
func (l *Local) Turned(ctx context.Context) ([]Wheel, bool) { return l.turns.Next(ctx) }

// Take takes the wheel.
func (l *Local) Take() error {
	l.server.take(l.viewer)
	return nil
}

// Do passes on a decision, if this screen has the wheel.
func (l *Local) Do(c night.Command) error { return l.server.do(l.viewer, c) }
