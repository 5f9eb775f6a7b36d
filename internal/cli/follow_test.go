package cli

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/run"
)

func planned() run.Event {
	return run.Event{Kind: run.Planned, Outline: &run.Outline{Batches: [][]run.OutlineDevice{{{Name: "a"}}}}}
}

// Nobody reads what is shown, and the night goes on all the same.
func TestANightNeverWaitsForWhoeverLooks(t *testing.T) {
	events := make(chan []run.Event)
	shown := make(chan []run.Event)
	over := make(chan run.Night)
	left := make(chan struct{})
	go func() { over <- follow(events, shown, left) }()
	events <- []run.Event{planned()}
	for range 10_000 {
		events <- []run.Event{{Kind: run.Doing, Device: "a", Note: "x"}}
	}
	// Somebody looks at last, and has missed nothing.
	assert.Len(t, <-shown, 10_001)
	events <- []run.Event{{Kind: run.Moved, Device: "a", State: run.Kept, OK: true}}
	close(left) // the screen is gone
	events <- []run.Event{{Kind: run.Ended}}
	close(events)
	n := <-over
	assert.Equal(t, run.Kept, n.Get("a").State)
	_, open := <-shown
	assert.False(t, open)
}

func TestAllIsShownBeforeItIsOver(t *testing.T) {
	events := make(chan []run.Event, 3)
	events <- []run.Event{planned()}
	events <- []run.Event{{Kind: run.Moved, Device: "a", State: run.Kept, OK: true}}
	close(events)
	shown := make(chan []run.Event)
	over := make(chan run.Night, 1)
	go func() { over <- follow(events, shown, make(chan struct{})) }()
	var got []run.Event
	for e := range shown {
		got = append(got, e...)
	}
	assert.Len(t, got, 2)
}
