package watch

import (
	"context"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
)

// In Ready the devices can be read: what will change is told of each, and what few have or
// what cannot be said comes first; the lines and the difference stand in each other's place.
func TestWhatWillChangeIsToldInReady(t *testing.T) {
	moved := []string{"- log host 192.0.2.1", "- port 7 > lan 20", "+ log host 192.0.2.9", "+ port 7 > lan 310"}
	foresee := func(_ context.Context, each func(...night.Event)) error {
		for _, d := range planned(4, 2).Devices {
			switch d.Name {
			case "ald-quay-3":
				each(of(d.Name, night.NoPrediction("not reachable: refused")))
			case "ald-quay-4":
				each(night.Event{Kind: night.Prediction, Device: d.Name, OK: true}, night.Event{Kind: night.Prediction, Device: d.Name, Step: 1, Note: `step "Gates": no row of ports fits, of 12`})
			default:
				each(night.Event{Kind: night.Prediction, Device: d.Name, OK: true, Lines: moved})
			}
		}
		return nil
	}
	s := &shown{n: New(Source{Night: planned(4, 2), Run: fakeRun{}, Plan: fakePlan{rehearse: foresee, lines: []string{"    | log host 192.0.2.9"}}})}
	s.Screen = screentest.New(t, 160, 42, options(), func(h *screen.Host) { h.Open(s.n.View()) })
	s.Press("p")
	for _, all := range []string{"ald-quay-3: cannot be said", "ald-quay-1, ald-quay-2: 4 lines", "ald-quay-4: nothing will change;"} { // it is told as it comes
		s.See(all)
	}
	text := s.Text()
	for _, want := range []string{"ald-quay-1, ald-quay-2: 4 lines will differ", "ald-quay-3: cannot be said: not", "ald-quay-4: nothing will change;"} {
		assert.Contains(t, text, want)
	}
	assert.Less(t, strings.Index(text, "ald-quay-3: cannot"), strings.Index(text, "ald-quay-1, ald-quay-2:"), "the rarest first")
	assert.Less(t, strings.Index(text, "ald-quay-3: cannot"), strings.Index(text, "ald-quay-4: nothing"), "what cannot be said before what can")
	assert.Contains(t, text, "changes  - log host 192.0.2.1")
	s.Press("enter")
	assert.Contains(t, s.Text(), "| log host 192.0.2.9")
	s.Press("v")
	assert.Contains(t, s.Text(), "  port 7  ")
	assert.NotContains(t, s.Text(), "| log host 192.0.2.9")
	s.Press("v")
	assert.Contains(t, s.Text(), "| log host 192.0.2.9")
	s.Press("esc", "G", "v")
	s.See("Nothing will change")
	s.See("no row of ports fits")
}

// A device that was kept and is not as predicted says so, in its row and in the sum, and v
// shows what.
func TestNotAsPredictedIsCalledOut(t *testing.T) {
	s := running(t, planned(2, 2), 160, 42)
	unlike := []string{"there, and not predicted: log host 192.0.2.253"}
	s.happen(
		night.Event{Kind: night.Prediction, Device: "ald-quay-1", OK: true, Lines: []string{"+ lan 310"}},
		of("ald-quay-1", night.AtTheEnd(false, unlike)),
		night.Event{Kind: night.Moved, Device: "ald-quay-1", State: night.Kept, OK: true, Note: "not as predicted: 1 line; kept and saved"},
		of("ald-quay-2", night.AtTheEnd(true, nil)),
		night.Event{Kind: night.Moved, Device: "ald-quay-2", State: night.Kept, OK: true, Note: "kept and saved; as predicted"},
		night.Event{Kind: night.Ended, At: began},
	)
	text := s.Text()
	assert.Contains(t, text, "2 devices: 2 kept; 1 kept and not as predicted")
	assert.Contains(t, text, "not as predicted: 1 line; kept and saved")
	assert.Contains(t, text, "v shows them")
	s.Press("v")
	assert.Contains(t, s.Text(), "Not as predicted: 1 line")
	assert.Contains(t, s.Text(), unlike[0])
	s.Press("esc", "down", "v")
	assert.NotContains(t, s.Text(), "Not as predicted")
}
