package screen

import (
	"errors"
	"fmt"
	"io/fs"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/run"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/pager"
)

// key does what a key says, where the keys go now.
func (m *Model) key(k tea.KeyPressMsg) tea.Cmd {
	m.message = ""
	name := k.String()
	if name == "ctrl+c" {
		return m.interrupt()
	}
	switch m.focus {
	case onTranscript:
		if !m.pager.Typing() && (name == "d" || name == "a") { // what is urgent works from here, too
			m.focus, m.pager = onList, nil
			return m.listKey(name)
		}
		if !m.pager.Key(name, k.Text, m.height-7) {
			m.focus, m.pager = onList, nil
		}
	case onDecide:
		m.decideKey(name)
	case onAbort:
		m.abortKey(name)
	case onBegin:
		return m.beginKey(name)
	default:
		return m.listKey(name)
	}
	return nil
}

// interrupt is Ctrl-C: it never just ends a night that runs.
func (m *Model) interrupt() tea.Cmd {
	if !m.running() {
		return tea.Quit
	}
	m.focus, m.abort = onAbort, decide.View{}
	return nil
}

func (m *Model) listKey(name string) tea.Cmd {
	page := max(m.height-10, 1)
	switch name {
	case "up", "k":
		m.list.Move(&m.night, -m.list.Step(m.listCells()))
	case "down", "j":
		m.list.Move(&m.night, m.list.Step(m.listCells()))
	case "left", "h":
		m.list.Move(&m.night, -1)
	case "right", "l":
		m.list.Move(&m.night, 1)
	case "pgup":
		m.list.Move(&m.night, -page)
	case "pgdown":
		m.list.Move(&m.night, page)
	case "home":
		m.list.Move(&m.night, -len(m.night.Devices))
	case "end":
		m.list.Move(&m.night, len(m.night.Devices))
	case "f":
		m.list.Folded = !m.list.Folded
	case "n":
		m.list.NextInNeed(&m.night)
	case "enter", "t":
		m.openTranscript()
	case "c":
		if d := m.list.Device(&m.night); d != nil && m.src.Console != nil {
			return tea.Exec(m.src.Console(d.Name), func(err error) tea.Msg { return leftMsg{err} })
		}
	case "d":
		m.openDecide()
	case "a":
		if m.running() {
			m.focus, m.abort = onAbort, decide.View{}
		}
	case "g":
		if !m.started && m.src.Start != nil {
			m.focus = onBegin
		}
	case "q":
		if !m.running() {
			return tea.Quit
		}
		m.message = "the night is running: abort it with a, then leave"
	}
	return nil
}

func (m *Model) listCells() int {
	if m.width >= ink.SideBySide {
		return m.width - m.width*38/100 - 2
	}
	return m.width
}

func (m *Model) openTranscript() {
	d := m.list.Device(&m.night)
	if d == nil || m.src.Transcript == nil {
		return
	}
	lines, err := m.src.Transcript(d.Name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		m.message = "nothing was said to " + d.Name + " yet"
	case err != nil:
		m.message = err.Error()
	default:
		m.pager, m.focus = pager.New(d.Name, lines), onTranscript
	}
}

func (m *Model) openDecide() {
	h, ok := m.hold()
	if !ok || m.src.Do == nil {
		m.message = "nothing waits for a decision"
		return
	}
	m.choice.Reset(decide.OfHold(&m.night, h))
	m.focus = onDecide
}

func (m *Model) decideKey(name string) {
	h, ok := m.hold()
	if !ok || h.Number != m.choice.Hold() {
		// It was answered or has gone meanwhile: the key was meant for another
		// question and does nothing.
		m.focus = onList
		m.message = "that hold is over"
		return
	}
	switch name {
	case "d":
		m.focus = onList
	case "a":
		m.focus, m.abort = onAbort, decide.View{}
	default:
		m.questionKey(name, &m.choice, decide.OfHold(&m.night, h))
	}
}

func (m *Model) abortKey(name string) {
	if name == "a" {
		m.focus = onList
		return
	}
	m.questionKey(name, &m.abort, decide.OfAbort(&m.night))
}

// questionKey moves in a question and answers it.
func (m *Model) questionKey(name string, v *decide.View, q decide.Question) {
	switch name {
	case "esc", "q":
		m.focus = onList
	case "up", "k":
		v.Move(q, -1)
	case "down", "j":
		v.Move(q, 1)
	case "enter":
		if c, ok := v.Enter(q); ok {
			m.do(run.Command{Hold: q.Hold, Choice: c})
			m.focus = onList
		}
	}
}

func (m *Model) beginKey(name string) tea.Cmd {
	switch name {
	case "enter":
		m.started, m.focus = true, onList
		m.events = m.src.Start()
		return m.listen()
	case "esc", "q", "g":
		m.focus = onList
	default:
		m.message = fmt.Sprintf("%s does nothing here", name)
	}
	return nil
}
