// Package stream passes on what happens to one that looks, without the one that tells of it ever
// waiting.
package stream

import (
	"context"
	"sync"
)

// Stream passes on what happens, in order and gathered, to one that looks. Whoever
// puts something in never waits: a terminal that stands still, or a pager that nobody
// reads on in, must not hold up a night whose timers run.
type Stream[T any] struct {
	mu     sync.Mutex
	items  []T
	closed bool
	off    bool // nobody looks any more
	more   chan struct{}
}

// New makes a stream.
func New[T any]() *Stream[T] { return &Stream[T]{more: make(chan struct{}, 1)} }

// Put passes items on.
func (s *Stream[T]) Put(items ...T) {
	s.mu.Lock()
	if !s.off {
		s.items = append(s.items, items...)
	}
	s.mu.Unlock()
	s.wake()
}

// Close says that nothing more comes.
func (s *Stream[T]) Close() {
	s.mu.Lock()
	s.closed = true
	s.mu.Unlock()
	s.wake()
}

// Off says that nobody looks any more: what is put in is dropped.
func (s *Stream[T]) Off() {
	s.mu.Lock()
	s.off, s.items = true, nil
	s.mu.Unlock()
	s.wake()
}

func (s *Stream[T]) wake() {
	select {
	case s.more <- struct{}{}:
	default:
	}
}

// Next waits for something and returns all there is. It is false at the end, and when
// ctx ends or nobody is to look any more.
func (s *Stream[T]) Next(ctx context.Context) ([]T, bool) {
	for {
		s.mu.Lock()
		items, over := s.items, s.closed || s.off
		s.items = nil
		s.mu.Unlock()
		switch {
		case len(items) > 0:
			return items, true
		case over:
			s.wake() // for whoever else waits
			return nil, false
		}
		select {
		case <-s.more:
		case <-ctx.Done():
			return nil, false
		}
	}
}
