// Package home is the view a workspace opens with: its runbooks, and the nights
// that were.
package home

import (
	"context"
	"fmt"
	"path/filepath"
	"time"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/run"
	"metabasis/internal/screen/ink"
)

// Entry is the fleet, a runbook or a past night.
type Entry struct {
	Fleet   bool
	Runbook string // path, for a runbook
	Problem string // why it cannot be run as it stands
	Title   string
	Night   int64 // for a past night
	Change  string
	Began   time.Time
	Outcome run.Outcome
	Summary string
}

// Place is where the view stands, to come back to.
type Place struct {
	Cursor  int
	Message string // what there is to say
}

// Choose shows the entries from a place on, and returns the one that was chosen,
// or nil when the person left, and the place it was left at.
func Choose(ctx context.Context, dir string, entries []Entry, light bool, at Place, opts ...tea.ProgramOption) (*Entry, Place, error) {
	m := &model{dir: dir, entries: entries, painter: ink.NewPainter(&ink.Dark), message: at.Message, cursor: min(at.Cursor, max(len(entries)-1, 0))}
	if light {
		m.painter = ink.NewPainter(&ink.Light)
	}
	if _, err := tea.NewProgram(m, append([]tea.ProgramOption{tea.WithContext(ctx)}, opts...)...).Run(); err != nil {
		return nil, Place{}, err
	}
	return m.chosen, Place{Cursor: m.cursor}, nil
}

type model struct {
	dir           string
	entries       []Entry
	painter       *ink.Painter
	cursor, top   int
	width, height int
	message       string
	chosen        *Entry
}

func (m *model) Init() tea.Cmd { return nil }

func (m *model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.KeyPressMsg:
		m.message = ""
		switch msg.String() {
		case "up", "k":
			m.cursor = max(m.cursor-1, 0)
		case "down", "j":
			m.cursor = min(m.cursor+1, max(len(m.entries)-1, 0))
		case "home":
			m.cursor = 0
		case "end":
			m.cursor = max(len(m.entries)-1, 0)
		case "enter":
			return m, m.choose()
		case "q", "esc", "ctrl+c":
			return m, tea.Quit
		}
	}
	return m, nil
}

func (m *model) choose() tea.Cmd {
	if m.cursor >= len(m.entries) {
		return nil
	}
	if e := m.entries[m.cursor]; e.Problem != "" {
		m.message = e.Problem
		return nil
	}
	m.chosen = &m.entries[m.cursor]
	return tea.Quit
}

func (m *model) View() tea.View {
	v := tea.NewView(m.painter.Page(m.rows(), m.width, m.height))
	v.AltScreen = true
	v.WindowTitle = "Metabasis"
	return v
}

func (m *model) rows() []ink.Row {
	abs, err := filepath.Abs(m.dir)
	if err != nil {
		abs = m.dir
	}
	rows := []ink.Row{ink.Row{}.Add(ink.Foam, " ").Strong(ink.Foam, "Metabasis").Add(ink.Dim, "  "+abs), {}}
	var list []ink.Row
	at := 0
	for i, e := range m.entries {
		if i == 0 || kind(m.entries[i-1]) != kind(e) {
			name := kind(e)
			if i > 0 {
				list = append(list, ink.Row{})
			}
			list = append(list, ink.Row{}.Strong(ink.Foam, " "+name))
		}
		r := line(e)
		if i == m.cursor {
			r.Marked, at = true, len(list)
			r.Spans[0].Text, r.Spans[0].Ink = "▌", ink.Lamp
		}
		list = append(list, r)
	}
	if len(m.entries) == 0 {
		list = append(list, ink.T(ink.Foam, " There is no runbook here and no night in the journal."))
	}
	space := max(m.height-4, 1)
	if m.cursor == 0 {
		at = 0 // with the heading over it
	}
	m.top = min(max(m.top, at-space+1), at, max(0, len(list)-space))
	rows = append(rows, list[m.top:min(m.top+space, len(list))]...)
	for len(rows) < m.height-2 {
		rows = append(rows, ink.Row{})
	}
	foot := ink.Row{}.Add(ink.Foam, " ").Strong(ink.Foam, "↑↓").Add(ink.Dim, " choose    ").Strong(ink.Foam, "Enter").
		Add(ink.Dim, " open; nothing is sent before you begin    ").Strong(ink.Foam, "q").Add(ink.Dim, " leave")
	return append(rows, ink.T(ink.Lamp, " "+m.message), foot)
}

// kind is the heading an entry stands under.
func kind(e Entry) string {
	switch {
	case e.Fleet:
		return "Fleet"
	case e.Runbook != "":
		return "Runbooks"
	}
	return "Nights that were"
}

func line(e Entry) ink.Row {
	r := ink.T(ink.Foam, " ").Add(ink.Foam, " ")
	if e.Fleet && e.Problem != "" {
		return r.Add(ink.Lamp, "▪ "+e.Problem)
	}
	if e.Fleet {
		return r.Add(ink.Dim, e.Title)
	}
	if e.Runbook != "" {
		r = r.Col(ink.Foam, filepath.Base(e.Runbook), 26).Add(ink.Foam, " ")
		if e.Problem != "" {
			return r.Add(ink.Lamp, "▪ "+e.Problem)
		}
		return r.Add(ink.Dim, e.Title)
	}
	if e.Problem != "" {
		when := ""
		if !e.Began.IsZero() {
			when = e.Began.Local().Format("2006-01-02 15:04")
		}
		return r.Col(ink.Foam, when, 18).Add(ink.Lamp, "▪ ").Col(ink.Foam, e.Title, 50).Add(ink.Lamp, "  "+e.Problem)
	}
	shape, in := "●", ink.Buoy
	switch e.Outcome {
	case run.SomeBlocked:
		shape, in = "▪", ink.Lamp
	case run.SomeBack:
		shape, in = "◁", ink.Heather
	case run.NeedsPerson:
		shape, in = "▲", ink.Port
	}
	return r.Col(ink.Foam, e.Began.Local().Format("2006-01-02 15:04"), 18).Add(in, shape+" ").
		Col(ink.Foam, fmt.Sprintf("%s · %s", e.Title, e.Change), 50).Add(ink.Dim, "  "+e.Summary)
}
