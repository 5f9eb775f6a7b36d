package watch

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
)

// troubled is a night of six devices that runs.
func troubled() (n *Live, at func(minute int, events ...night.Event)) {
	o := &night.Outline{Title: "Quays"}
	for _, name := range []string{"a", "b", "c", "d", "e", "f"} {
		o.Batches = append(o.Batches, []night.OutlineDevice{{Name: name, Steps: []string{"Collector"}}})
	}
	n = New(Source{Night: night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: o}), Run: &fakeRun{}})
	n.started = true
	n.view.lay(100)
	began := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	return n, func(minute int, events ...night.Event) {
		for i := range events {
			events[i].At = began.Add(time.Duration(minute) * time.Minute)
		}
		n.take(events)
	}
}

func goes(device string, s night.State) night.Event {
	return night.Event{Kind: night.Moved, Device: device, State: s, OK: s == night.Kept || s == night.Reverted || s == night.Stranded}
}

func TestTheCursorFollowsTrouble(t *testing.T) {
	n, at := troubled()
	v := n.view
	here := func() string { return v.Device().Name }
	at(0, goes("a", night.Changing), goes("c", night.Changing))
	assert.Equal(t, "a", here(), "nothing needs anybody")
	at(1, goes("c", night.Held))
	assert.Equal(t, "c", here())
	at(2, goes("e", night.Dark))
	assert.Equal(t, "e", here(), "the newest")
	assert.Equal(t, "e", n.night.Devices[v.rows[v.list.Cursor].from].Name, "and the list with it")
	at(3, goes("b", night.Changing), goes("b", night.Kept))
	assert.Equal(t, "e", here())
	at(4, goes("e", night.Reverted))
	assert.Equal(t, "c", here(), "what is left")

	v.list.To(v.list.Cursor + 2) // a person moves it
	moved := here()
	assert.NotEqual(t, "c", moved)
	at(5, goes("f", night.Stranded))
	assert.Equal(t, moved, here(), "it is in somebody's hands")
	at(6, goes("f", night.Kept), goes("c", night.Kept))
	assert.Equal(t, moved, here())
	at(7, goes("b", night.Held))
	assert.Equal(t, "b", here(), "once nothing needed anybody, it follows again")
}

func TestTheCursorStaysUnderAKeyAndUnderAQuestion(t *testing.T) {
	n, at := troubled()
	v := n.view
	v.hand(func() {})() // such as the transcript of the device under the cursor
	at(1, goes("c", night.Held))
	assert.Equal(t, "a", v.Device().Name)

	n, at = troubled()
	v = n.view
	v.asking = &asking{v: v}
	v.follow()
	n.night = night.Fold(n.night, goes("c", night.Held))
	v.follow()
	assert.Equal(t, "a", v.Device().Name, "what is being decided does not move away")
	v.asking = nil
	at(2, goes("d", night.Dark))
	assert.Equal(t, "d", v.Device().Name)
	at(3, night.Event{Kind: night.Ended})
	v.to(0)
	at(4, goes("e", night.Stranded))
	assert.Equal(t, "a", v.Device().Name, "a night that is over is looked through by a person")
}

// All that is not plainly well is visited, what needs somebody first, each once a round.
func TestWhatIsNotPlainlyWellIsVisited(t *testing.T) {
	n, at := troubled()
	at(1, goes("a", night.Reverted), goes("b", night.Stranded), goes("c", night.Held), goes("e", night.Dark), goes("d", night.Changing))
	at(2, night.Event{Kind: night.Stepped, Device: "f", Step: 1, What: night.StepLeft}, goes("f", night.Kept))
	var names []string
	for _, i := range n.view.notWell() {
		names = append(names, n.night.Devices[i].Name)
	}
	assert.Equal(t, []string{"c", "b", "e", "a", "f"}, names)
	at(3, night.Event{Kind: night.Quiet, Device: "d", For: 30 * time.Second})
	assert.Len(t, n.view.notWell(), 6, "one that does not answer, too")
}
