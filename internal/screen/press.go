package screen

import (
	"slices"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"

	"metabasis/internal/person"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// small tells whether the window is too small to show anything in.
func (a *App) small() bool { return a.width < ink.LeastCells || a.height < ink.LeastRows }

// running tells whether leaving would end something.
func (a *App) running() bool { return a.standing != nil && a.standing.Running() }

// key does what a key says, where keys go now.
func (a *App) key(k tea.KeyPressMsg) {
	h := a.top()
	switch {
	case h == nil:
	case a.small(): // nothing that cannot be seen can be answered
		if !a.running() && (key.Matches(k, keys.Leave) || k.String() == "q") {
			a.cmd(tea.Quit)
		}
		return
	case key.Matches(k, keys.Leave):
		a.message = ""
		a.interrupt()
		return
	case a.line != nil:
		a.lineKey(k)
		return
	}
	a.message = ""
	if h != nil && h.failed == "" {
		if q, ok := h.view.(*question); ok && k.String() != "esc" {
			a.careful(h, func() { a.cmd(q.take(k)) })
			return
		}
	}
	if h != nil && !a.everywhere(h, k) && h.failed == "" {
		a.careful(h, func() { press(h.view.Keys(), k) })
	}
}

// press does what a key does in a view.
func press(all []Key, k tea.KeyPressMsg) {
	if i := slices.IndexFunc(all, func(one Key) bool { return key.Matches(k, one.Binding) }); i >= 0 && all[i].Do != nil {
		all[i].Do(k.String())
	}
}

// everywhere does what a key does in every view.
func (a *App) everywhere(h *Host, k tea.KeyPressMsg) bool {
	switch {
	case key.Matches(k, keys.Back):
		a.back(h)
	case key.Matches(k, keys.Help):
		if _, open := h.view.(*keyHelp); !open {
			a.open(h, newHelp(h.view))
		}
	case key.Matches(k, keys.Answer):
		a.openQuestion()
	case key.Matches(k, keys.Workspace) && a.canHome():
		a.root.Show(a.home)
	case key.Matches(k, keys.Page) && a.deviceHere(h) != "":
		a.careful(h, func() { a.page(h, a.deviceHere(h)) })
	case a.standing == nil:
		return false
	case key.Matches(k, keys.Decide):
		if !a.standing.Waits() && h.view == a.standing.View() {
			a.say("nothing waits for a decision")
			return true
		}
		h.Show(a.standing.View())
		a.careful(a.top(), a.standing.Decide)
	case key.Matches(k, keys.Abort) && a.running():
		a.abort()
	default:
		return false
	}
	return true
}

// abort asks what an abort means.
func (a *App) abort() {
	a.line = nil
	a.root.Show(a.standing.View())
	a.careful(a.top(), a.standing.Abort)
}

// interrupt is Ctrl-C: it never just ends what runs.
func (a *App) interrupt() {
	if !a.running() {
		a.cmd(tea.Quit)
		return
	}
	a.abort()
}

// back leaves what is looked at. Leaving the last view while something runs says what
// that means.
func (a *App) back(h *Host) {
	if b, ok := h.view.(Backer); ok && h.failed == "" {
		left := false
		a.careful(h, func() { left = b.Back() })
		if left {
			return
		}
	}
	if b, ok := h.view.(*busy); ok && !b.given {
		b.leave()
		return
	}
	if len(a.stack) > 1 {
		a.remove(h)
		return
	}
	if !a.running() {
		a.cmd(tea.Quit)
		return
	}
	form := a.standing.Leaving()
	stay := form.Questions[0].Choices[0].Word
	a.ask(&question{form: form, owner: h, done: func(answers []string, err error) {
		if err == nil && answers[0] != stay {
			a.cmd(tea.Quit)
		}
	}})
}

// mouse does what a click or the wheel says: neither does more than to choose.
func (a *App) mouse(msg tea.MouseMsg) {
	h := a.top()
	if h == nil || a.small() || h.failed != "" {
		return
	}
	p, ok := h.view.(Pointed)
	if !ok {
		return
	}
	m := msg.Mouse()
	switch msg.(type) {
	case tea.MouseClickMsg:
		if m.Button == tea.MouseLeft && m.Y >= a.bodyTop && m.Y < a.height-1 {
			a.careful(h, func() { p.Click(m.X, m.Y-a.bodyTop) })
		}
	case tea.MouseWheelMsg:
		rows := map[tea.MouseButton]int{tea.MouseWheelUp: -3, tea.MouseWheelDown: 3}[m.Button]
		if rows != 0 {
			a.careful(h, func() { p.Wheel(rows) })
		}
	}
}

// ask puts a question. What the person waits for is asked at once.
func (a *App) ask(q *question) {
	q.app = a
	a.questions = append(a.questions, q)
	if h := a.top(); h != nil && q.owner == h {
		a.openOne(q)
	}
}

// openQuestion opens what has waited longest.
func (a *App) openQuestion() {
	if len(a.questions) == 0 {
		a.say("nothing is asked")
		return
	}
	a.openOne(a.questions[0])
}

func (a *App) openOne(q *question) {
	a.questions = slices.DeleteFunc(a.questions, func(o *question) bool { return o == q })
	below := a.root
	if q.owner != nil && !q.owner.closed && q.owner.view != nil {
		below = q.owner
	}
	q.host = a.open(below, q)
}

// withdraw takes back a question that nobody waits for any more.
func (a *App) withdraw(q *question) {
	a.questions = slices.DeleteFunc(a.questions, func(o *question) bool { return o == q })
	if q.host != nil && !q.over {
		q.over = true
		a.remove(q.host)
		a.say("that is not asked any more")
	}
}

var _ person.Person = (*App)(nil)
