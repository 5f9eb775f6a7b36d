package grid

import (
	"context"
	"fmt"
	"strings"
	"testing"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/runbook"
	"metabasis/internal/core/table"
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

func shown(m *Model) string { return ansi.Strip(m.draw()) }

// pressed sends keys by their names.
func pressed(m *Model, keys ...string) {
	for _, k := range keys {
		m.key(k, map[bool]string{true: k, false: ""}[len(k) == 1])
	}
}

// read waits until the table has been read.
func read(t *testing.T, src Source) *Model {
	m := New(context.Background(), src, "dark")
	m.Update(tea.WindowSizeMsg{Width: 100, Height: 30})
	for n := range m.news {
		m.Update(newsMsg{n})
	}
	return m
}

func TestOutliersComeFirst(t *testing.T) {
	m := read(t, Source{Title: "/quays", Devices: 61, Table: &table.Table{Name: "version"}, Fill: func(_ context.Context, each func(int)) *table.Table { each(3); return versions() }})
	s := shown(m)
	assert.Contains(t, s, "▲ 1 of 61 devices not read. ◆ 1 row is unlike most. version: 59 have 4.2, 1 has 4.1")
	assert.Contains(t, s, "▲ quay-99 was not read: port: refuses")
	lines := strings.Split(s, "\n")
	assert.Contains(t, lines[4], "◆ quay-41", "the odd one stands first")
	pressed(m, "right", "right", "s")
	assert.Contains(t, strings.Split(shown(m), "\n")[4], "quay-59", "sorted by free")
	pressed(m, "s")
	assert.Contains(t, strings.Split(shown(m), "\n")[4], "quay-00", "and falling")
	pressed(m, "o")
	assert.Contains(t, strings.Split(shown(m), "\n")[4], "quay-41")
}

func TestFilterAndWrite(t *testing.T) {
	var wrote *table.Table
	m := read(t, Source{Table: &table.Table{}, Fill: func(context.Context, func(int)) *table.Table { return versions() },
		Write: func(t *table.Table) (string, error) { wrote = t; return "version.csv", nil }})
	pressed(m, "/", "4", ".", "1", "enter")
	assert.Contains(t, shown(m), `only rows with "4.1"`)
	pressed(m, "w")
	require.NotNil(t, wrote)
	assert.Len(t, wrote.Rows, 1, "what is shown is what is written")
	assert.Contains(t, shown(m), "written to version.csv: 1 of 60 rows")
	pressed(m, "esc")
	assert.NotContains(t, shown(m), "only rows")
	assert.Len(t, m.shown.Rows, 60)
}

func TestBeforeItIsRead(t *testing.T) {
	more := make(chan struct{})
	m := New(context.Background(), Source{Devices: 9, Table: &table.Table{Name: "clock"}, Fill: func(_ context.Context, each func(int)) *table.Table { each(4); <-more; return versions() }}, "light")
	m.Update(tea.WindowSizeMsg{Width: 100, Height: 30})
	m.Update(newsMsg{<-m.news})
	assert.Contains(t, shown(m), "Reading: 4 of 9 devices done.")
	pressed(m, "w", "s", "down", "end", "left")
	close(more)
	for n := range m.news {
		m.Update(newsMsg{n})
	}
	assert.Contains(t, shown(m), "1 row is unlike most")
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
	m := New(context.Background(), Source{Table: full, Fill: func(context.Context, func(int)) *table.Table { return full }}, "dark")
	m.Update(tea.WindowSizeMsg{Width: 160, Height: 42})
	for n := range m.news {
		m.Update(newsMsg{n})
	}
	b.Run("move", func(b *testing.B) {
		for b.Loop() {
			pressed(m, "down")
			_ = m.View()
		}
	})
	b.Run("filter", func(b *testing.B) {
		m.typing = true
		for b.Loop() {
			pressed(m, "7")
			_ = m.View()
			pressed(m, "backspace")
		}
	})
}
