package home

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

const fleetCSV = "name,address,platform,site,role,login\nald-quay-1,192.0.2.1,tern,ALD,quay,crew\n"

const oneBook = `runbook "One log host"
  window    now for 10m
  reserve   2m

scope
  role == "quay"

timer       60s

step "Log collector"
  send
    | log host 198.51.100.14
  undo
    | drop log host 198.51.100.14
`

func write(t testing.TB, dir, name, text string) {
	require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
}

// past puts a night into the journal. With an end it gets a summary, as at its end.
func past(t testing.TB, j *store.Journal, began time.Time, title string, last night.State, ended, summed bool) int64 {
	w, err := j.Begin(store.NightHead{Began: began, Title: title, Change: "MSF-1", File: "one.runbook"})
	require.NoError(t, err)
	o := &night.Outline{Title: title, Window: plan.Window{Open: began, Close: began.Add(time.Hour)}, Batches: [][]night.OutlineDevice{{{Name: "ald-quay-1"}}}}
	events := []night.Event{{Seq: 1, Kind: night.Planned, At: began, Outline: o}, {Seq: 2, Kind: night.Moved, At: began.Add(time.Minute), Device: "ald-quay-1", State: last}}
	if ended {
		events = append(events, night.Event{Seq: 3, Kind: night.Ended, At: began.Add(2 * time.Minute)})
	}
	require.NoError(t, w.Append(events))
	if summed {
		n := night.Fold(night.Night{}, events...)
		require.NoError(t, j.Summarise(w.ID, workspace.Summed(&n)))
	}
	return w.ID
}

func journal(t testing.TB, dir string) *store.Journal {
	j, err := store.OpenJournal(filepath.Join(dir, "metabasis.db"))
	require.NoError(t, err)
	t.Cleanup(func() { j.Close() })
	return j
}

func opened(t testing.TB, dir string) *screentest.Screen {
	d, err := acts.Open(dir, nil, nil)
	require.NoError(t, err)
	return screentest.New(t, 160, 42, screen.Options{}, func(h *screen.Host) { h.Open(New(d)) })
}

var began = time.Date(2026, 11, 20, 1, 30, 0, 0, time.Local)

// What needs a person comes first, until they have seen to it; then the fleet, the
// runbooks with their state, and the nights by month.
func TestHomeTells(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "fleet.csv", fleetCSV)
	write(t, dir, "one.runbook", oneBook)
	write(t, dir, "wrong.runbook", "runbook \"Wrong\"\n  windw now for 10m\n")
	j := journal(t, dir)
	past(t, j, began.AddDate(0, -2, 0), "An old one", night.Kept, true, true)
	past(t, j, began, "A good one", night.Kept, true, false)
	past(t, j, began.AddDate(0, 0, 1), "A stranded one", night.Stranded, true, true)
	past(t, j, began.AddDate(0, 0, 2), "A crashed one", night.Changing, false, false)
	s := opened(t, dir)
	s.See(`A crashed one · MSF-1 +crashed at`)
	s.See(`● A good one`)
	s.See(`wrong.runbook +▪ \d mistake`)
	text := s.See(`one.runbook +● fits +One log host +last Sun 22 Nov 2026`)
	assert.Regexp(t, `(?s)Needs you.*▲ A crashed one.*▲ A stranded one.*ald-quay-1 stranded.*Fleet\s+1 device:.*Runbooks.*Nights of November 2026.*● A good one.*Nights of September 2026.*● An old one`, text)

	// Seen to, with a reason, it is among the past nights only.
	s.Press("down")
	assert.Regexp(t, `▌.*A stranded one`, s.Text())
	s.Press("S", "no", "enter")
	assert.Contains(t, s.Text(), "write what was found and done")
	s.Press("thing found; replaced", "enter")
	s.See(`seen to by \S+: nothing found; replaced`)
	assert.NotRegexp(t, `(?s)Needs you.*A stranded one.*Fleet`, s.Text())
	again := opened(t, dir)
	again.See("nothing found; replaced")
	again.See(`● A good one`)

	// The one that was read for its summary was written down, the crashed one was not:
	// it may run on elsewhere.
	list, err := j.List(t.Context())
	require.NoError(t, err)
	for _, n := range list {
		assert.Equal(t, n.Title != "A crashed one", n.Summary != nil, n.Title)
	}

	s.Press("/", "wrong", "enter", "enter")
	assert.Contains(t, s.See("▲ 5 mistakes"), "windw")
	s.Press("q", "/", "a good", "enter", "n", "enter")
	assert.Contains(t, s.See("The night is over"), "A good one")
	s.Press("q")
	s.See("Nights of November")
}

// What is not there is said, and nothing else is missing for it.
func TestAnEmptyWorkspace(t *testing.T) {
	s := opened(t, t.TempDir())
	text := s.See("There is no night in the journal yet")
	assert.Contains(t, text, "There is no fleet.csv")
	assert.Contains(t, text, "There is no *.runbook here")
	s.Press("enter", "S", "down", "G", "g", "/", "x", "enter", "esc")
	assert.NotContains(t, s.Text(), "mistake:")
	dir := t.TempDir()
	write(t, dir, "fleet.csv", "name,address\nx,y\n")
	write(t, dir, "one.runbook", oneBook)
	write(t, dir, "metabasis.db", "this is no journal at all, and was never one")
	s = opened(t, dir)
	s.See(`▪ .*fleet.csv`)
	s.See(`journal check says what is whole`)
	s.Press("enter")
	assert.Contains(t, s.See("What is wrong|fleet.csv"), "fleet.csv")
}

// A runbook that cannot be planned says why, in place.
func TestARunbookThatCannotBePlanned(t *testing.T) {
	dir := t.TempDir()
	write(t, dir, "fleet.csv", fleetCSV)
	write(t, dir, "one.runbook", oneBook)
	s := opened(t, dir)
	s.See("● fits")
	s.Press("down", "enter")
	s.See(`set METABASIS_CREW_PASSWORD`)
	assert.Contains(t, s.Text(), "Runbooks")
}

// BenchmarkOpen opens a workspace with 2,000 past nights, from the first to the frame
// with all of them.
func BenchmarkOpen(b *testing.B) {
	dir := b.TempDir()
	write(b, dir, "fleet.csv", fleetCSV)
	j := journal(b, dir)
	for i := range 2000 {
		past(b, j, began.Add(time.Duration(i)*time.Hour), fmt.Sprintf("Night %d", i), night.Kept, true, true)
	}
	for b.Loop() {
		s := opened(b, dir)
		s.See("Night 1999")
	}
}
