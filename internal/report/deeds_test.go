package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
)

// What was looked at twice is told by what is different: as the table that it is where that was
// found out in the night, else as text; devices that are alike together.
func TestTheReportTellsWhatIsDifferentBetweenTwoLooks(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	var out []night.OutlineDevice
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		out = append(out, night.OutlineDevice{Name: name, Steps: []string{"Before", "After"}})
	}
	events := []night.Event{{Kind: night.Planned, Outline: &night.Outline{Title: "Quays", Batches: [][]night.OutlineDevice{out}}}, {Kind: night.Began}}
	look := func(device string, step int, compared *night.Compared, got ...string) {
		e := night.LookedAt(step, 1, "tell counts", got)
		e.Device, e.At, e.Compared = device, at, compared
		events = append(events, e)
	}
	for _, name := range []string{"a", "b"} { // the times in them differ, and what the table has does not
		look(name, 1, nil, "01:30:00 of "+name, "1 7")
		look(name, 2, &night.Compared{Table: "counts", Changes: []string{"counts: port 1: frames is 9, was 7"}}, "01:31:00 of "+name, "1 9")
	}
	look("c", 1, nil, "01:30:00", "1 7")
	look("c", 2, &night.Compared{Table: "counts"}, "01:31:00", "1 7")
	look("d", 1, nil, "1 7")
	look("d", 2, nil, "1 8") // not as a table
	look("e", 1, nil, "1 7")
	text := strings.Join(MorningDocument(MorningOf(21, "quays.runbook", "", events)).Markdown(), "\n")
	assert.Contains(t, text, "tell counts, what is different between the first time and the last")
	assert.Contains(t, text, "2 devices: a, b")
	assert.Equal(t, 1, strings.Count(text, "counts: port 1: frames is 9, was 7"), "those alike are told together")
	assert.Contains(t, text, "1 device: c\n\nNothing.")
	assert.Contains(t, text, "-1 7\n+1 8")
	assert.NotContains(t, text, "01:31:00")
}
