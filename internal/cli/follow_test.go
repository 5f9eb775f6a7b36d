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
	go func() { over <- follow(events, shown, left, nil) }()
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
	go func() { over <- follow(events, shown, make(chan struct{}), nil) }()
	var got []run.Event
	for e := range shown {
		got = append(got, e...)
	}
	assert.Len(t, got, 2)
}

// Somebody who works a device by hand learns what needs a person.
func TestNeeds(t *testing.T) {
	n := &needs{}
	assert.Empty(t, n.get())
	night := run.Fold(run.Night{}, planned(), run.Event{Kind: run.HoldOpened, Hold: 1, Device: "a", Note: "refused"}, run.Event{Kind: run.HoldOpened, Hold: 2})
	n.set(&night)
	assert.Equal(t, "◆ a is held, and 1 more", n.get())
	night = run.Fold(night, run.Event{Kind: run.HoldClosed, Hold: 1, Device: "a"}, run.Event{Kind: run.HoldClosed, Hold: 2}, run.Event{Kind: run.Moved, Device: "a", State: run.Dark})
	n.set(&night)
	assert.Equal(t, "▲ 1 out of contact", n.get())
	assert.Empty(t, (*needs)(nil).get())
}
