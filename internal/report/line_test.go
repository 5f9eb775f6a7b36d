package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
)

func TestLines(t *testing.T) {
	due := time.Date(2026, 12, 2, 1, 44, 12, 0, time.UTC)
	for want, e := range map[string]night.Event{
		"ald-quay-3     changing: Time sources":                             {Kind: night.Moved, Device: "ald-quay-3", State: night.Changing, Note: "Time sources"},
		"ald-quay-3     kept":                                               {Kind: night.Moved, Device: "ald-quay-3", State: night.Kept},
		"ald-quay-3     timer armed for 10m, due 01:44:12":                  {Kind: night.TimerSeen, Device: "ald-quay-3", For: 10 * time.Minute, Due: due},
		"ald-quay-3     held: line 1 was refused (sent: log hst; said: no)": {Kind: night.HoldOpened, Device: "ald-quay-3", Note: "line 1 was refused", Lines: []string{"sent: log hst", "said: no"}},
		"-              decided: go on, by ada":                             {Kind: night.HoldClosed, Choice: night.GoOn, By: "ada"},
		"ald-quay-3     precheck clock: does not hold: off by 1h":           {Kind: night.Prechecked, Device: "ald-quay-3", What: "clock", Note: "off by 1h"},
		"ald-quay-3     precheck storage: holds (41 MB free)":               {Kind: night.Prechecked, Device: "ald-quay-3", What: "storage", OK: true, Note: "41 MB free"},
		"-              aborted by ada: devices in change may finish":       {Kind: night.Aborted, By: "ada", Choice: night.Finish},
		"ald-quay-3     taking back, undo lines: equal":                     {Kind: night.Rung, Device: "ald-quay-3", What: work.RungUndo, Note: "equal"},
		"-              Quays: 1 device in 1 batch, 0 left out; window 01:44:12 to 02:44:12; warning: timer none": {Kind: night.Planned, Outline: &night.Outline{Title: "Quays", Warnings: []string{"timer none"},
			Window: plan.Window{Open: due, Close: due.Add(time.Hour)}, Batches: [][]night.OutlineDevice{{{Name: "a"}}}}},
		"ald-quay-3     decided: start before the window, by ada: the ferry is late":                                   {Kind: night.HoldClosed, Device: "ald-quay-3", Choice: night.StartEarly, By: "ada", Note: "the ferry is late"},
		"ald-quay-3     step 2 left out: by decision":                                                                  {Kind: night.Stepped, Device: "ald-quay-3", Step: 2, What: night.StepLeft, Note: "by decision"},
		"-              Quays: 0 devices in 0 batches, 0 left out; window 01:44:12 to 02:44:12; asks after 2 failures": {Kind: night.Planned, Outline: &night.Outline{Title: "Quays", Budget: 2, Window: plan.Window{Open: due, Close: due.Add(time.Hour)}}},
		"ald-quay-3     sent, and taken: log host 192.0.2.1":                                                           {Kind: night.Sent, Device: "ald-quay-3", Lines: []string{"log host 192.0.2.1"}},
		"ald-quay-3     no answer for 5s":                                                                              {Kind: night.Quiet, Device: "ald-quay-3", For: 5 * time.Second},
	} {
		assert.Equal(t, want, Line(e))
	}
	assert.Empty(t, Line(night.Event{Kind: night.Moved, Device: "a", State: night.Held, Note: "line 1 was refused"}), "a hold is told once, with its evidence")
}

func TestSummaryAndNeeds(t *testing.T) {
	o := &night.Outline{Batches: [][]night.OutlineDevice{{{Name: "a", Steps: []string{"s"}}, {Name: "b"}, {Name: "c"}}}}
	n := night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: o},
		night.Event{Kind: night.Stepped, Device: "a", Step: 1, What: night.StepLeft},
		night.Event{Kind: night.Moved, Device: "a", State: night.Kept, OK: true},
		night.Event{Kind: night.Moved, Device: "b", State: night.Stranded, Note: "not back", OK: true},
		night.Event{Kind: night.Moved, Device: "c", State: night.Kept, OK: true})
	assert.Equal(t, "3 devices: 2 kept, 1 stranded; left out: 1 step", Summary(&n))
	due := time.Date(2026, 12, 2, 2, 10, 0, 0, time.Local)
	cut := night.Fold(n, night.Event{Kind: night.TimerSeen, Device: "b", Due: due}, night.Event{Kind: night.Moved, Device: "b", State: night.Soaking}, night.Event{Kind: night.Moved, Device: "c", State: night.Waiting})
	assert.Equal(t, []string{`a              kept without "s"`, "b              soaking: all its steps were done, and nothing was saved; it was to restart at 02:10:00 by itself: look what it has now", "1 device never begun: c"}, Needs(&cut), "of a night that was cut off")
	lost := night.Fold(cut, night.Event{Kind: night.Moved, Device: "b", State: night.Dark, Note: "no contact; restarts at 02:10:00"})
	assert.Contains(t, Needs(&lost), "b              dark: no line was sent; it was to restart at 02:10:00 by itself: look what it has now", "nobody looks for it any more")
	assert.Equal(t, []string{`a              kept without "s"`, "b              stranded: not back"}, Needs(&n))
	for _, d := range []string{"a", "c"} {
		n = night.Fold(n, night.Event{Kind: night.Moved, Device: d, State: night.Skipped, Note: "the run was aborted", OK: true})
	}
	assert.Equal(t, []string{"b              stranded: not back", "2 devices skipped: the run was aborted: a, c"}, Needs(&n), "the skipped stand in the list, together")
	n = night.Fold(n, night.Event{Kind: night.Moved, Device: "c", State: night.Skipped, Note: "its partner is reverted", OK: true})
	assert.Contains(t, Needs(&n), "c              skipped: its partner is reverted")
	n = night.Fold(n, night.Event{Kind: night.Moved, Device: "a", State: night.Kept, OK: true},
		night.Event{Kind: night.Moved, Device: "b", State: night.Stranded, Note: "not back", OK: true},
		night.Event{Kind: night.Moved, Device: "c", State: night.Kept, OK: true})
	assert.Equal(t, night.NeedsPerson, n.Outcome())
	assert.Len(t, night.States(), 17, "every state has its place")
}
