package grid

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/runbook"
	"metabasis/internal/core/table"
	"metabasis/internal/screen"
	"metabasis/internal/screen/screentest"
)

func versions() *table.Table {
	t := &table.Table{Name: "version", Columns: []table.Column{{Name: "version", Type: runbook.TextColumn}, {Name: "free", Type: runbook.NumberColumn}}}
	for i := range 60 {
		v := "4.2"
		if i == 41 {
			v = "4.1"
		}
		t.Add(fmt.Sprintf("quay-%02d", i), "tern", map[string]any{"version": v, "free": float64(60 - i)})
	}
	t.Failed = append(t.Failed, table.Failed{Device: "quay-99", Why: "port: refuses"})
	return t
}

// read shows a table and waits until it has been read.
func read(t *testing.T, src Source) (*screentest.Screen, *View) {
	v := New(src)
	s := screentest.Open(t, 100, 30, v)
	for !v.read {
		s.Send(nil)
	}
	return s, v
}

func TestOutliersComeFirst(t *testing.T) {
	s, _ := read(t, Source{Title: "/quays", Devices: 61, Table: &table.Table{Name: "version"}, Read: func(_ context.Context, each func(int)) *table.Table { each(3); return versions() }})
	text := s.Text()
	assert.Contains(t, text, "▲ 1 of 61 devices not read. ◆ 1 row is unlike most. version: 59 have 4.2, 1 has 4.1")
	assert.Contains(t, text, "▲ quay-99 was not read: port: refuses")
	assert.Contains(t, s.Lines()[4], "◆ quay-41", "the odd one stands first")
	s.Press("right", "right", "o")
	assert.Contains(t, s.Lines()[4], "quay-59", "sorted by free")
	s.Press("o")
	assert.Contains(t, s.Lines()[4], "quay-00", "and falling")
	s.Press("G", "!")
	assert.Regexp(t, `▌◆ quay-41`, s.Text(), "the unusual row is found in any order")
	s.Press("g", "o")
	assert.Contains(t, s.Lines()[4], "quay-41", "and outliers first again")
	s.Press("/", "quay-30", "enter")
	assert.Regexp(t, `▌. quay-30`, s.Text())
}

func TestFilterAndWrite(t *testing.T) {
	var wrote *table.Table
	s, v := read(t, Source{Table: &table.Table{}, Read: func(context.Context, func(int)) *table.Table { return versions() },
		Write: func(t *table.Table) (string, error) { wrote = t; return "version.csv", nil }})
	s.Press("&", "4.1", "enter")
	assert.Contains(t, s.Text(), `only rows with "4.1"`)
	s.Press("s")
	require.NotNil(t, wrote)
	assert.Len(t, wrote.Rows, 1, "what is shown is what is written")
	assert.Contains(t, s.Text(), "written to version.csv: 1 of 60 rows")
	s.Press("&", "esc")
	assert.NotContains(t, s.Text(), "only rows")
	assert.Len(t, v.shown.Rows, 60)
	assert.False(t, s.Quit)
}

// What is read goes on while it is looked at, and is given up when it is left.
func TestBeforeItIsRead(t *testing.T) {
	more, gone := make(chan struct{}), make(chan struct{})
	v := New(Source{Devices: 9, Table: &table.Table{Name: "clock"}, Read: func(ctx context.Context, each func(int)) *table.Table {
		select {
		case <-more:
		case <-ctx.Done():
			close(gone)
		}
		return versions()
	}})
	s := screentest.New(t, 100, 30, screen.Options{Theme: "light"}, func(h *screen.Host) { h.Open(v) })
	s.See("Reading: 0 of 9 devices done.")
	v.done = 4
	assert.Contains(t, s.Text(), "Reading: 4 of 9 devices done.")
	s.Press("s", "o", "down", "end", "left", "&", "x", "enter", "esc", "!")
	close(more)
	s.See("1 row is unlike most")
	more = make(chan struct{})
	other := New(v.src)
	v.host.Open(other)
	s.See("Reading: 0 of 9")
	s.Press("q")
	<-gone
}

// BenchmarkKeyToFrame measures from a key to the finished frame with the ports
// of 5,000 devices, 24 each.
func BenchmarkKeyToFrame(b *testing.B) {
	full := &table.Table{Name: "ports", Columns: []table.Column{{Name: "port", Type: runbook.NumberColumn}, {Name: "state", Type: runbook.TextColumn}, {Name: "label", Type: runbook.TextColumn}}}
	for i := range 5000 {
		var rows []map[string]any
		for p := range 24 {
			rows = append(rows, map[string]any{"port": float64(p), "state": []string{"up", "up", "up", "shut"}[(i+p)%4], "label": fmt.Sprintf("to %d", p)})
		}
		full.Add(fmt.Sprintf("quay-%04d", i), "tern", rows)
	}
	v := New(Source{Table: full, Read: func(context.Context, func(int)) *table.Table { return full }})
	v.arrive(full)
	screentest.Bench(b, screen.New(screen.Options{Theme: "dark"}), func(h *screen.Host) { h.Open(v) }, nil)
}
