package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
)

func TestLines(t *testing.T) {
	due := time.Date(2026, 12, 2, 1, 44, 12, 0, time.UTC)
	for want, e := range map[string]run.Event{
		"ald-quay-3     changing: Time sources":                             {Kind: run.Moved, Device: "ald-quay-3", State: run.Changing, Note: "Time sources"},
		"ald-quay-3     kept":                                               {Kind: run.Moved, Device: "ald-quay-3", State: run.Kept},
		"ald-quay-3     timer armed for 10m, due 01:44:12":                  {Kind: run.TimerSeen, Device: "ald-quay-3", For: 10 * time.Minute, Due: due},
		"ald-quay-3     held: line 1 was refused (sent: log hst; said: no)": {Kind: run.HoldOpened, Device: "ald-quay-3", Note: "line 1 was refused", Lines: []string{"sent: log hst", "said: no"}},
		"-              decided: go on, by ada":                             {Kind: run.HoldClosed, Choice: run.GoOn, By: "ada"},
		"ald-quay-3     precheck clock: does not hold: off by 1h":           {Kind: run.Prechecked, Device: "ald-quay-3", What: "clock", Note: "off by 1h"},
		"ald-quay-3     precheck storage: holds (41 MB free)":               {Kind: run.Prechecked, Device: "ald-quay-3", What: "storage", OK: true, Note: "41 MB free"},
		"-              aborted by ada: devices in change may finish":       {Kind: run.Aborted, By: "ada", Choice: run.Finish},
		"ald-quay-3     taking back, undo lines: equal":                     {Kind: run.Rung, Device: "ald-quay-3", What: run.RungUndo, Note: "equal"},
		"-              Quays: 1 device in 1 batch, 0 left out; window 01:44:12 to 02:44:12; warning: timer none": {Kind: run.Planned, Outline: &run.Outline{Title: "Quays", Warnings: []string{"timer none"},
			Window: plan.Window{Open: due, Close: due.Add(time.Hour)}, Batches: [][]run.OutlineDevice{{{Name: "a"}}}}},
		"ald-quay-3     decided: start before the window, by ada: the ferry is late":                                   {Kind: run.HoldClosed, Device: "ald-quay-3", Choice: run.StartEarly, By: "ada", Note: "the ferry is late"},
		"ald-quay-3     step 2 left out: by decision":                                                                  {Kind: run.Stepped, Device: "ald-quay-3", Step: 2, What: run.StepLeft, Note: "by decision"},
		"-              Quays: 0 devices in 0 batches, 0 left out; window 01:44:12 to 02:44:12; asks after 2 failures": {Kind: run.Planned, Outline: &run.Outline{Title: "Quays", Budget: 2, Window: plan.Window{Open: due, Close: due.Add(time.Hour)}}},
		"ald-quay-3     sent, and taken: log host 192.0.2.1":                                                           {Kind: run.Sent, Device: "ald-quay-3", Lines: []string{"log host 192.0.2.1"}},
		"ald-quay-3     no answer for 5s":                                                                              {Kind: run.Quiet, Device: "ald-quay-3", For: 5 * time.Second},
	} {
		assert.Equal(t, want, Line(e))
	}
	assert.Empty(t, Line(run.Event{Kind: run.Moved, Device: "a", State: run.Held, Note: "line 1 was refused"}), "a hold is told once, with its evidence")
}

func TestSummaryAndNeeds(t *testing.T) {
	o := &run.Outline{Batches: [][]run.OutlineDevice{{{Name: "a", Steps: []string{"s"}}, {Name: "b"}, {Name: "c"}}}}
	n := run.Fold(run.Night{}, run.Event{Kind: run.Planned, Outline: o},
		run.Event{Kind: run.Stepped, Device: "a", Step: 1, What: run.StepLeft},
		run.Event{Kind: run.Moved, Device: "a", State: run.Kept, OK: true},
		run.Event{Kind: run.Moved, Device: "b", State: run.Stranded, Note: "not back", OK: true},
		run.Event{Kind: run.Moved, Device: "c", State: run.Kept, OK: true})
	assert.Equal(t, "3 devices: 2 kept, 1 stranded; left out: 1 step", Summary(&n))
	due := time.Date(2026, 12, 2, 2, 10, 0, 0, time.Local)
	cut := run.Fold(n, run.Event{Kind: run.TimerSeen, Device: "b", Due: due}, run.Event{Kind: run.Moved, Device: "b", State: run.Soaking}, run.Event{Kind: run.Moved, Device: "c", State: run.Waiting})
	assert.Equal(t, []string{`a              kept without "s"`, "b              soaking: all its steps were done, and nothing was saved; it was to restart at 02:10:00 by itself: look what it has now", "1 device never begun: c"}, Needs(&cut), "of a night that was cut off")
	assert.Equal(t, []string{`a              kept without "s"`, "b              stranded: not back"}, Needs(&n))
	for _, d := range []string{"a", "c"} {
		n = run.Fold(n, run.Event{Kind: run.Moved, Device: d, State: run.Skipped, Note: "the run was aborted", OK: true})
	}
	assert.Equal(t, []string{"b              stranded: not back", "2 devices skipped: the run was aborted: a, c"}, Needs(&n), "the skipped stand in the list, together")
	n = run.Fold(n, run.Event{Kind: run.Moved, Device: "c", State: run.Skipped, Note: "its partner is reverted", OK: true})
	assert.Contains(t, Needs(&n), "c              skipped: its partner is reverted")
	n = run.Fold(n, run.Event{Kind: run.Moved, Device: "a", State: run.Kept, OK: true},
		run.Event{Kind: run.Moved, Device: "b", State: run.Stranded, Note: "not back", OK: true},
		run.Event{Kind: run.Moved, Device: "c", State: run.Kept, OK: true})
	assert.Equal(t, run.NeedsPerson, n.Outcome())
	assert.Len(t, States, 16, "every state has its place")
}
