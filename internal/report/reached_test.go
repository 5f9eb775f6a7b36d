package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/runbook"
)

// Of many devices that an address answered they are counted; every other one is told.
func TestTheReportTellsWhatWasReached(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	var out []night.OutlineDevice
	for _, name := range []string{"a", "b", "c", "d"} {
		out = append(out, night.OutlineDevice{Name: name, Steps: []string{"Log collector"}})
	}
	events := []night.Event{{Kind: night.Planned, Outline: &night.Outline{Title: "Quays", Batches: [][]night.OutlineDevice{out}}}, {Kind: night.Began}}
	reach := func(device string, step int, r night.Reach) {
		events = append(events, night.Event{Kind: night.Reached, Device: device, Step: step, At: at, Reach: &r})
	}
	for _, name := range []string{"a", "b", "c"} {
		reach(name, 0, night.Reach{ReachAsk: runbook.ReachAsk{To: "198.51.100.14"}, Reached: runbook.Reached{Sent: 4, Answered: 4, Took: 3 * time.Millisecond}})
		reach(name, 1, night.Reach{ReachAsk: runbook.ReachAsk{To: "198.51.100.14"}, Reached: runbook.Reached{Sent: 4}})
	}
	reach("a", 1, night.Reach{ReachAsk: runbook.ReachAsk{To: "198.51.100.14"}, Reached: runbook.Reached{Sent: 4, Answered: 4}}) // in the end
	reach("b", 1, night.Reach{ReachAsk: runbook.ReachAsk{To: "198.51.100.14"}, Reached: runbook.Reached{Sent: 4, Answered: 2}})
	reach("d", 1, night.Reach{ReachAsk: runbook.ReachAsk{To: "198.51.100.14", From: "here"}, Reached: runbook.Reached{Not: "this machine may not ask"}})
	m := MorningOf(21, "quays.runbook", "", events)
	text := strings.Join(MorningDocument(m).Markdown(), "\n")
	assert.Contains(t, text, "## What was reached")
	assert.Contains(t, text, "| before the change | 198.51.100.14 | the device | 3 | 0 | 3 ms, a |")
	assert.Contains(t, text, "| Log collector | 198.51.100.14 | the device | 1 | 2 |")
	assert.Contains(t, text, "| b | Log collector | 198.51.100.14 | the device | 2 of 4 came back |")
	assert.Contains(t, text, "| c | Log collector | 198.51.100.14 | the device | 0 of 4 came back |")
	assert.Contains(t, text, "| d | Log collector | 198.51.100.14 | this machine | not known: this machine may not ask |")
	assert.NotContains(t, text, "| a | Log")
	assert.Equal(t, "198.51.100.14: 4 of 4 came back, the first after 3 ms", tell(events[2]))
	assert.Equal(t, "198.51.100.14 from here: not known: this machine may not ask", tell(events[len(events)-1]))

	without := MorningOf(21, "quays.runbook", "", events[:2])
	assert.NotContains(t, strings.Join(MorningDocument(without).Markdown(), "\n"), "What was reached")
}
