package roster

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/screen/pager"
)

// key does what a key says, where the keys go now.
func (m *Model) key(k tea.KeyPressMsg) tea.Cmd {
	name := k.String()
	switch {
	case name == "ctrl+c":
		return tea.Quit
	case m.pager != nil:
		if !m.pager.Key(name, k.Text, m.height-7) {
			m.pager = nil
		}
	case m.typing != notTyping:
		return m.typeKey(name, k.Text)
	case m.keys:
		return m.keysKey(name)
	default:
		return m.listKey(name)
	}
	return nil
}

func (m *Model) listKey(name string) tea.Cmd {
	page := max(m.height-10, 1)
	switch name {
	case "up", "k":
		m.move(-1)
	case "down", "j":
		m.move(1)
	case "pgup":
		m.move(-page)
	case "pgdown":
		m.move(page)
	case "home":
		m.move(-len(m.rows))
	case "end":
		m.move(len(m.rows))
	case "space":
		m.mark()
	case "v":
		m.markRange()
	case "x":
		m.marked, m.from = map[string]bool{}, ""
	case "/":
		m.begin(typingCondition, m.src.Choose != nil)
	case "s":
		m.begin(typingName, m.src.Save != nil)
	case "r":
		m.begin(typingTable, len(m.src.Tables) > 0)
	case "o":
		m.group = (m.group + 1) % groupings
		m.regroup()
		if i := m.current(); m.group == byOutcome && i >= 0 && m.board.Entries[i].State != reach.Failed {
			m.cursor = min(1, len(m.rows)-1) // what needs somebody comes first
		}
	case "n":
		m.nextFailed()
	case "g":
		return m.reach(m.meant())
	case "G":
		if names := m.failed(); len(names) > 0 {
			return m.reach(names)
		}
	case "K":
		if len(m.fresh()) > 0 && m.src.Accept != nil {
			m.keys, m.keysTop = true, 0
		}
	case "enter", "t":
		m.openTranscript()
	case "c":
		return m.console()
	case "q", "esc":
		return tea.Quit
	}
	return nil
}

func (m *Model) begin(t typing, can bool) {
	if can {
		m.typing, m.typed = t, ""
	}
}

func (m *Model) mark() {
	i := m.current()
	if i < 0 {
		return
	}
	name := m.src.Devices[i].Name
	if m.marked[name] {
		delete(m.marked, name)
	} else {
		m.marked[name] = true
	}
	m.from = name
	m.move(1)
}

// markRange marks from the device that was marked last to the cursor.
func (m *Model) markRange() {
	from := slices.IndexFunc(m.rows, func(r row) bool { return r.device >= 0 && m.src.Devices[r.device].Name == m.from })
	if from < 0 {
		m.say("mark the first of the range with Space, then go to the last and press v")
		return
	}
	lo, hi := min(from, m.cursor), max(from, m.cursor)
	for _, r := range m.rows[lo : hi+1] {
		if r.device >= 0 {
			m.marked[m.src.Devices[r.device].Name] = true
		}
	}
}

// nextFailed goes to the next device that was not reached.
func (m *Model) nextFailed() {
	for n := 1; n <= len(m.rows); n++ {
		i := (m.cursor + n) % len(m.rows)
		if d := m.rows[i].device; d >= 0 && m.board.Entries[d].Result != nil && m.board.Entries[d].Result.Failure != nil {
			m.cursor = i
			return
		}
	}
	m.say("no device has failed")
}

func (m *Model) reach(names []string) tea.Cmd {
	switch {
	case m.src.Reach == nil:
		return nil
	case m.running():
		m.say("devices are being reached already")
		return nil
	}
	m.events = m.src.Reach(names)
	return m.listen()
}

// failed are the devices that were not reached; those whose new host keys wait to
// be accepted are not among them.
func (m *Model) failed() (names []string) {
	for _, e := range m.board.Entries {
		if e.State == reach.Failed && !m.isFresh(e) {
			names = append(names, e.Device)
		}
	}
	return names
}

func (m *Model) openTranscript() {
	i := m.current()
	if i < 0 || m.src.Transcript == nil {
		return
	}
	name := m.src.Devices[i].Name
	lines, err := m.src.Transcript(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		m.say("nothing was said with " + name + " yet")
	case err != nil:
		m.say(err.Error())
	default:
		m.pager = pager.New(name, lines)
	}
}

func (m *Model) console() tea.Cmd {
	i := m.current()
	if i < 0 || m.src.Console == nil {
		return nil
	}
	return tea.Exec(m.src.Console(m.src.Devices[i].Name), func(err error) tea.Msg { return leftMsg{err} })
}

// keysKey answers the question about new host keys. Each answer is two keys
// away from the list.
func (m *Model) keysKey(name string) tea.Cmd {
	forGood := name == "m"
	switch name {
	case "up", "k":
		m.keysTop--
	case "down", "j":
		m.keysTop++
	case "pgup":
		m.keysTop -= max(m.height-14, 1)
	case "pgdown":
		m.keysTop += max(m.height-14, 1)
	case "1", "m":
		results := m.fresh()
		m.keys = false
		if err := m.src.Accept(results, forGood); err != nil {
			m.say(err.Error())
			return nil
		}
		var names []string
		for _, r := range results {
			names = append(names, r.Device)
		}
		return m.reach(names)
	case "esc", "q", "x":
		m.keys = false
		m.say("refused: these devices stay unreached")
	}
	return nil
}

func (m *Model) typeKey(name, text string) tea.Cmd {
	switch name {
	case "esc":
		m.typing = notTyping
	case "enter":
		what := m.typing
		m.typing = notTyping
		return m.entered(what, strings.TrimSpace(m.typed))
	case "backspace":
		if r := []rune(m.typed); len(r) > 0 {
			m.typed = string(r[:len(r)-1])
		}
	case "ctrl+u":
		m.typed = ""
	default:
		if len(m.typed) < 200 {
			m.typed += text
		}
	}
	return nil
}

func (m *Model) entered(what typing, text string) tea.Cmd {
	if text == "" {
		return nil
	}
	switch what {
	case typingCondition:
		names, err := m.src.Choose(text)
		if err != nil {
			m.say(strings.ReplaceAll(err.Error(), "\n", " "))
			return nil
		}
		for _, n := range names {
			m.marked[n] = true
		}
		m.say(fmt.Sprintf("%s marked, %d in all", plural(len(names), "device"), len(m.marked)))
	case typingName:
		names := m.markedNames()
		if len(names) == 0 {
			m.say("no device is marked")
			return nil
		}
		if err := m.src.Save(text, scope.Selection{Devices: names}); err != nil {
			m.say(err.Error())
			return nil
		}
		m.say(fmt.Sprintf("saved: @%s means %s", text, list(names, 4)))
	case typingTable:
		if !slices.Contains(m.src.Tables, text) {
			m.say(fmt.Sprintf("there is no table %q; there are %s", text, strings.Join(m.src.Tables, ", ")))
			return nil
		}
		if m.running() {
			m.say("devices are being reached: read them when that is over")
			return nil
		}
		m.table = text
		return tea.Quit
	}
	return nil
}
