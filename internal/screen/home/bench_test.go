package home

import (
	"context"
	"fmt"
	"testing"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/table"
	"metabasis/internal/screen"
	"metabasis/internal/screen/grid"
	"metabasis/internal/screen/page"
	"metabasis/internal/screen/roster"
	"metabasis/internal/screen/screentest"
	"metabasis/internal/screen/watch"
)

// bigNight is a night over 5,000 devices of which some two thousand a second move.
func bigNight() *watch.Live {
	o := &night.Outline{Title: "Move the quays", Window: plan.Window{Open: began, Close: began.Add(3 * time.Hour), Reserve: 20 * time.Minute}}
	for i := range 5000 {
		if i%250 == 0 {
			o.Batches = append(o.Batches, nil)
		}
		last := len(o.Batches) - 1
		o.Batches[last] = append(o.Batches[last], night.OutlineDevice{Name: fmt.Sprintf("quay-%04d", i), Platform: "tern", Steps: []string{"Time sources"}})
	}
	at := 0
	return watch.New(watch.Source{Night: night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: o}),
		Run: endless(func(ctx context.Context) (events []night.Event, more bool) {
			for range 100 {
				at++
				states := []night.State{night.Checking, night.Changing, night.Verifying, night.Kept}
				events = append(events, night.Event{Kind: night.Moved, At: began, Device: fmt.Sprintf("quay-%04d", at%5000), State: states[at/5000%4], Note: "Time sources"})
			}
			return events, ctx.Err() == nil
		})})
}

// endless is a night in which something happens for ever.
type endless func(context.Context) ([]night.Event, bool)

func (endless) Begin(context.Context) error                      { return nil }
func (endless) Do(night.Command) error                           { return nil }
func (endless) Notes() []string                                  { return nil }
func (f endless) Next(ctx context.Context) ([]night.Event, bool) { return f(ctx) }

// BenchmarkBelow presses keys in every view while a night over 5,000 devices runs below
// it, and draws the frames.
func BenchmarkBelow(b *testing.B) {
	var devices []roster.Device
	var lines []string
	full := &table.Table{Name: "ports", Columns: []table.Column{{Name: "port", Type: runbook.NumberColumn}, {Name: "state", Type: runbook.TextColumn}}}
	for i := range 5000 {
		name := fmt.Sprintf("quay-%04d", i)
		devices = append(devices, roster.Device{Device: fleet.Device{Name: name, Site: fmt.Sprintf("S%02d", i%40), Platform: "tern"}})
		full.Add(name, "tern", []map[string]any{{"port": 1.0, "state": "up"}, {"port": 2.0, "state": []string{"up", "shut"}[i%2]}})
		lines = append(lines, "01:30:00.000 < a line that a device has printed, of some length "+name)
	}
	dir := b.TempDir()
	write(b, dir, "fleet.csv", fleetCSV)
	j := journal(b, dir)
	for i := range 2000 {
		past(b, j, began.Add(time.Duration(i)*time.Hour), fmt.Sprintf("Night %d", i), night.Kept, true, true)
	}
	desk, err := acts.Open(dir, nil, nil)
	if err != nil {
		b.Fatal(err)
	}
	for name, view := range map[string]func(n *watch.Live) screen.View{
		"night": func(n *watch.Live) screen.View { return n.View() },
		"fleet": func(*watch.Live) screen.View { return roster.New(roster.Source{Devices: devices}) },
		"table": func(*watch.Live) screen.View {
			return grid.New(grid.Source{Table: full, Read: func(context.Context, func(int)) *table.Table { return full }})
		},
		"transcript": func(*watch.Live) screen.View {
			return page.Growing("Transcript", func() []string { return lines }, watch.TranscriptRow)
		},
		"workspace": func(*watch.Live) screen.View { return New(desk) },
	} {
		b.Run(name, func(b *testing.B) {
			n := bigNight()
			app := screen.New(screen.Options{Theme: "dark", Clock: func() time.Time { return began.Add(time.Hour) }})
			screentest.BenchKeys(b, app, func(h *screen.Host) { h.Open(n.View()) }, []string{"B", "enter"}, func(h *screen.Host) {
				if v := view(n); v != n.View() {
					h.Open(v)
				}
			})
		})
	}
}
