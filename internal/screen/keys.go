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
	if m.small() { // nothing that cannot be seen can be answered
		if (name == "ctrl+c" || name == "q") && !m.running() {
			return tea.Quit
		}
		return nil
	}
	if name == "ctrl+c" {
		return m.interrupt()
	}
	switch m.focus {
	case onPane:
		m.paneKey(name)
	case onFind:
		m.findKey(name, k.Text)
	case onTranscript:
		if !m.pager.Typing() && (name == "d" || name == "a") { // what is urgent works from here, too
			m.focus, m.pager = onList, nil
			return m.listKey(name)
		}
		if !m.pager.Key(name, k.Text, m.height-7) {
			m.focus, m.pager = onList, nil
		}
	case onDecide:
		m.decideKey(name, k.Text)
	case onAbort:
		m.abortKey(name, k.Text)
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
	m.openAbort()
	return nil
}

func (m *Model) openAbort() {
	m.abort.Open(decide.OfAbort(&m.night))
	m.focus, m.paneTop = onAbort, 0
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
			m.openAbort()
		}
	case "g":
		if !m.started && m.src.Start != nil && !m.asked {
			m.focus = onBegin
		}
	case "/":
		m.focus, m.finding, m.from = onFind, "", m.list.Cursor
	case "tab":
		m.focus = onPane
	case "q", "esc":
		if !m.running() {
			return tea.Quit
		}
		if name == "q" {
			m.message = "the night is running: abort it with a, then leave"
		}
	}
	return nil
}

// paneKey scrolls what stands beside the list.
func (m *Model) paneKey(name string) {
	page := max(m.height-10, 1)
	switch name {
	case "up", "k":
		m.paneTop = max(m.paneTop-1, 0)
	case "down", "j":
		m.paneTop++
	case "pgup":
		m.paneTop = max(m.paneTop-page, 0)
	case "pgdown", "space":
		m.paneTop += page
	case "home":
		m.paneTop = 0
	case "end":
		m.paneTop = 1 << 20
	case "d":
		m.openDecide()
	case "a":
		if m.running() {
			m.openAbort()
		}
	default:
		m.focus, m.paneTop = onList, 0
	}
}

// findKey finds a device by a part of its name, as it is typed.
func (m *Model) findKey(name, text string) {
	switch name {
	case "esc":
		m.list.Cursor, m.focus = m.from, onList
		return
	case "enter":
		m.focus = onList
		return
	case "down", "tab":
		if !m.list.Find(&m.night, m.finding, m.list.Cursor+1) {
			m.message = "no device is called so"
		}
		return
	case "backspace":
		r := []rune(m.finding)
		m.finding = string(r[:max(len(r)-1, 0)])
	default:
		if len(m.finding) < 64 {
			m.finding += text
		}
	}
	if !m.list.Find(&m.night, m.finding, m.from) {
		m.message = "no device has " + m.finding + " in its name"
	}
}

func (m *Model) listCells() int {
	if m.width >= ink.SideBySide {
		return m.width - m.width*38/100 - 2
	}
	return m.width
}

func (m *Model) openTranscript() {
	d := m.list.Device(&m.night)
	if d == nil {
		return
	}
	if !m.started && m.src.Start != nil && m.src.Lines != nil {
		m.pager, m.focus = pager.Of("What will be sent to "+d.Name, d.Name, m.src.Lines(d.Name)), onTranscript
		return
	}
	if m.src.Transcript == nil {
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
	m.choice.Open(decide.OfHold(&m.night, h))
	m.focus, m.paneTop = onDecide, 0
}

func (m *Model) decideKey(name, text string) {
	h, ok := m.hold()
	if !ok || h.Number != m.choice.Hold() {
		// It was answered or has gone meanwhile: the key was meant for another
		// question and does nothing.
		m.focus = onList
		m.message = "that hold is over"
		return
	}
	switch {
	case m.choice.Typing():
	case name == "d":
		m.leaveQuestion()
		return
	case name == "a":
		m.openAbort()
		return
	}
	m.questionKey(name, text, &m.choice, decide.OfHold(&m.night, h))
}

func (m *Model) abortKey(name, text string) {
	if name == "a" {
		m.leaveQuestion()
		return
	}
	m.questionKey(name, text, &m.abort, decide.OfAbort(&m.night))
}

// leaveQuestion leaves a question. Nothing stays chosen.
func (m *Model) leaveQuestion() {
	m.focus, m.choice, m.abort, m.paneTop = onList, decide.View{}, decide.View{}, 0
}

// questionKey moves in a question and answers it.
func (m *Model) questionKey(name, text string, v *decide.View, q decide.Question) {
	switch {
	case name == "esc", name == "q" && !v.Typing():
		m.leaveQuestion()
	case name == "enter":
		if a, ok := v.Enter(q); ok {
			m.do(run.Command{Hold: q.Hold, Choice: a.Choice, Reason: a.Reason})
			m.leaveQuestion()
		}
	case v.Typing():
		v.Type(name, text)
	case name == "up", name == "k":
		v.Move(q, -1)
	case name == "down", name == "j":
		v.Move(q, 1)
	case len(name) == 1 && name[0] >= '1' && name[0] <= '9' && int(name[0]-'1') < len(q.Offers):
		v.Choose(q, int(name[0]-'1'))
	}
}

func (m *Model) beginKey(name string) tea.Cmd {
	switch name {
	case "enter":
		m.focus, m.asked = onList, true
		start := m.src.Start
		return func() tea.Msg {
			events, err := start()
			return begunMsg{events, err}
		}
	case "esc", "q", "g":
		m.focus = onList
	default:
		m.message = fmt.Sprintf("%s does nothing here", name)
	}
	return nil
}
