package report

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
)

// errandNight is a night of four devices: one kept, one stranded that was read, one dark that was not,
// and one that was worked by hand when the night was cut off.
func errandNight() []night.Event {
	at := time.Date(2026, 11, 20, 2, 0, 0, 0, time.UTC)
	var out []night.Event
	add := func(e night.Event) {
		at = at.Add(time.Second)
		e.At, e.Seq = at, int64(len(out)+1)
		out = append(out, e)
	}
	device := func(name, site string) night.OutlineDevice {
		return night.OutlineDevice{Name: name, Site: site, Platform: "tern", Steps: []string{"Gates"}}
	}
	add(night.Event{Kind: night.Planned, Outline: &night.Outline{Title: "Gates", Batches: [][]night.OutlineDevice{{
		device("cld-quay-1", "CLD"), device("brm-quay-1", "BRM"), device("ald-quay-1", "ALD"), device("ald-quay-2", "ALD")}}}})
	add(night.Event{Kind: night.Began, By: "ada"})
	of := func(name string, e night.Event) { e.Device = name; add(e) }
	for _, n := range []string{"cld-quay-1", "brm-quay-1", "ald-quay-1", "ald-quay-2"} {
		of(n, night.Is(night.Checking, ""))
		of(n, night.Event{Kind: night.BackedUp, What: "backups/" + n + "/a.cfg", Note: "ab12"})
		of(n, night.Event{Kind: night.Intent, What: night.ToSend, Step: 1, Lines: []string{"lan 310", "title gates"}})
		of(n, night.Event{Kind: night.Sent, Step: 1, Line: 1, Lines: []string{"lan 310"}})
	}
	of("cld-quay-1", night.EndsIn(night.Kept, "kept", true))
	of("brm-quay-1", night.Event{Kind: night.Intent, What: night.ToLead, Lines: []string{"drop lan 310"}})
	of("brm-quay-1", night.Event{Kind: night.Differs, Lines: []string{"+ lan 310", "- port 3 > label \"gate\""}})
	of("brm-quay-1", night.EndsIn(night.Stranded, "could not be taken back: not equal to the backup after the last rung", true))
	of("ald-quay-1", night.Event{Kind: night.TimerSeen, Due: at.Add(4 * time.Minute), For: 4 * time.Minute})
	of("ald-quay-1", night.Event{Kind: night.Lost, Note: "no answer"})
	of("ald-quay-1", night.EndsIn(night.Dark, "let go; restarts at 02:04:00", true))
	of("ald-quay-2", night.Is(night.Held, "line 2 was refused"))
	of("ald-quay-2", night.Event{Kind: night.Intent, What: night.ToHand, Step: 1})
	of("ald-quay-2", night.Event{Kind: night.Worked, Step: 1, By: "bea"})
	return out
}

// The errand lists each device of which nobody has proven what it has, by site, line by line, and says
// of each what was read, and what was not.
func TestTheErrand(t *testing.T) {
	m := MorningOf(21, "gates.runbook", "", errandNight())
	text := strings.Join(Errand(m, map[string]Place{"brm-quay-1": {Address: "192.0.2.7", Via: "brm-dist-1"}}).Plain(), "\n")
	assert.NotContains(t, text, "cld-quay-1", "it is what it was meant to be")
	part := func(name string) string {
		_, after, _ := strings.Cut(text, "\n"+name+"\n---")
		before, _, _ := strings.Cut(after, "\n---")
		return before
	}
	brm := part("brm-quay-1")
	assert.Contains(t, brm, "It is reached through brm-dist-1.")
	assert.Contains(t, brm, "This is to be put right, as it was read at")
	assert.Contains(t, brm, "  [ ] take away  lan 310\n  [ ] put back   port 3 > label \"gate\"")
	assert.Contains(t, brm, "backups/brm-quay-1/a.cfg\n  ab12")
	assert.Equal(t, 2, strings.Count(brm, "[ ]"), "what is to be put right is ticked off, and nothing else")
	ald := part("ald-quay-1")
	assert.Contains(t, ald, "What runs on it was not read since the change began")
	assert.Contains(t, ald, "[ ] lan 310")
	assert.Contains(t, ald, "Its own way back was due at")
	hand := part("ald-quay-2")
	assert.Contains(t, hand, "It was worked by hand by bea")
	assert.Contains(t, hand, "the night was cut off: it was held: it was being worked by hand by bea")
	assert.Less(t, strings.Index(text, "ald-quay-1"), strings.Index(text, "brm-quay-1"), "by site")
	assert.Contains(t, text, "site  device      address    platform  it is")

	quiet := MorningOf(22, "gates.runbook", "", errandNight()[:3])
	assert.Contains(t, strings.Join(Errand(quiet, nil).Plain(), "\n"), "Nothing: every device was read")
}

// What was read before something was done to a device is not what it has.
func TestAnErrandOfAnOldReading(t *testing.T) {
	events := errandNight()
	last := events[len(events)-1]
	for i, e := range []night.Event{{Kind: night.Differs, Lines: []string{"+ lan 310"}}, {Kind: night.Intent, What: night.ToUndo, Lines: []string{"drop lan 310"}}} {
		e.Device, e.At, e.Seq = "ald-quay-2", last.At.Add(time.Duration(i+1)*time.Second), last.Seq+int64(i)+1
		events = append(events, e)
	}
	text := strings.Join(Errand(MorningOf(21, "", "", events), nil).Plain(), "\n")
	assert.Contains(t, text, "Something was to be done to it after that")
}
