package run

import (
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"metabasis/internal/core/night"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slowJournal takes its time and remembers what came together.
type slowJournal struct {
	mu     sync.Mutex
	groups [][]night.Event
	fail   error
}

func (j *slowJournal) Append(e []night.Event) error {
	time.Sleep(time.Millisecond)
	j.mu.Lock()
	defer j.mu.Unlock()
	if j.fail != nil {
		return j.fail
	}
	j.groups = append(j.groups, e)
	return nil
}

// Many intentions at once share appends, none returns before its event is
// durable, and numbers have no gaps.
func TestRecorderGroupsAndWaits(t *testing.T) {
	j := &slowJournal{}
	r := newRecorder(j)
	go r.run()
	var out []night.Event
	done := make(chan struct{})
	go func() {
		for e := range r.out {
			out = append(out, e...)
		}
		close(done)
	}()
	const n = 200
	var wg sync.WaitGroup
	for i := range n {
		wg.Go(func() {
			name := fmt.Sprint(i)
			r.Emit(night.Event{Kind: night.Doing, Device: name})
			assert.NoError(t, r.Intend(night.Event{Kind: night.Intent, Device: name}))
			j.mu.Lock()
			defer j.mu.Unlock()
			found := false
			for _, g := range j.groups {
				for _, e := range g {
					found = found || e.Kind == night.Intent && e.Device == name
				}
			}
			assert.True(t, found, "an intention returned before it was durable")
		})
	}
	wg.Wait()
	close(r.in)
	<-done
	require.Len(t, out, 2*n)
	for i, e := range out {
		require.Equal(t, int64(i+1), e.Seq)
	}
	assert.Less(t, len(j.groups), n, "intentions share appends")
}

func TestRecorderStaysFailed(t *testing.T) {
	j := &slowJournal{fail: errors.New("no space")}
	r := newRecorder(j)
	go r.run()
	go func() {
		for range r.out {
		}
	}()
	require.ErrorContains(t, r.Intend(night.Event{Kind: night.Intent}), "no space")
	j.mu.Lock()
	j.fail = nil
	j.mu.Unlock()
	assert.ErrorContains(t, r.Intend(night.Event{Kind: night.Intent}), "no space", "what is missing in the middle cannot be made good")
	close(r.in)
	<-r.done
}
