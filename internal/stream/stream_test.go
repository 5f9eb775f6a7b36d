package stream

import (
	"context"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// Whoever puts never waits, and whoever looks gets everything, in order, gathered.
func TestAStreamLosesNothing(t *testing.T) {
	s := New[int]()
	for i := range 1000 {
		s.Put(i) // nobody looks yet
	}
	var all []int
	var wg sync.WaitGroup
	wg.Go(func() {
		for items, ok := s.Next(t.Context()); ok; items, ok = s.Next(t.Context()) {
			all = append(all, items...)
		}
	})
	for i := range 1000 {
		s.Put(1000 + i)
	}
	s.Close()
	wg.Wait()
	assert.Len(t, all, 2000)
	for i, v := range all {
		assert.Equal(t, i, v)
	}
}

func TestAStreamEnds(t *testing.T) {
	s := New[int]()
	ctx, cancel := context.WithTimeout(t.Context(), 10*time.Millisecond)
	defer cancel()
	_, ok := s.Next(ctx)
	assert.False(t, ok, "with its context")
	s.Put(1)
	s.Off()
	s.Put(2)
	_, ok = s.Next(t.Context())
	assert.False(t, ok, "when nobody is to look any more")
	s = New[int]()
	s.Put(3)
	s.Close()
	items, ok := s.Next(t.Context())
	assert.True(t, ok)
	assert.Equal(t, []int{3}, items)
	_, ok = s.Next(t.Context())
	assert.False(t, ok)
}
