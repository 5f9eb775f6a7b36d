package screen

import (
	"fmt"

	"charm.land/bubbles/v2/help"
	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/progress"
	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/textfile"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// View implements [tea.Model].
func (a *App) View() tea.View {
	if a.dirty {
		a.cached = a.draw()
		a.dirty = false
	}
	v := tea.NewView(a.cached)
	v.AltScreen = true
	v.WindowTitle = "Metabasis"
	if a.standing != nil {
		v.WindowTitle += " · " + a.standing.Title()
	} else if h := a.top(); h != nil {
		v.WindowTitle += " · " + h.view.Name()
	}
	if a.opts.Mouse {
		v.MouseMode = tea.MouseModeCellMotion
	}
	return v
}

func (a *App) draw() string {
	if a.width == 0 {
		return ""
	}
	f := Frame{Now: a.now, Cells: a.width, Height: a.height, Painter: a.painter}
	rows := a.head(f)
	if a.small() {
		var must []ink.Row
		if len(rows) > 0 {
			must = rows[len(rows)-1:]
		}
		page, _ := a.painter.TooSmall(a.width, a.height, must...)
		return page
	}
	if len(rows) > 0 {
		rows = append(rows, ink.Row{})
	}
	a.bodyTop = len(rows)
	f.Height = a.height - len(rows) - 1
	if h := a.top(); h != nil {
		rows = append(rows, a.rows(h, f)...)
	}
	for len(rows) < a.height-1 {
		rows = append(rows, ink.Row{})
	}
	foot := a.foot()
	rows = append(rows[:a.height-len(foot)], foot...)
	return textfile.Straight(a.painter.Page(rows, a.width, a.height))
}

// mostMessage is the most rows that a message takes.
const mostMessage = 3

// foot is the last line, or lines: what is typed, a message, or the keys.
func (a *App) foot() (rows []ink.Row) {
	if a.line != nil {
		return []ink.Row{a.line.row(a.painter, a.width)}
	}
	r := ink.T(ink.Foam, " ")
	if a.message != "" { // all of it is said, over what stands above where it must
		for _, l := range ink.Wrap(a.message, a.width-2, mostMessage) {
			rows = append(rows, r.Strong(ink.Lamp, l))
		}
		return rows
	}
	if len(a.questions) > 0 {
		r = r.Strong(ink.Lamp, "◆ A answers: "+ink.Clip(a.questions[0].title(), 40)+"   ")
	}
	r = r.Then(a.progress())
	return []ink.Row{r.Then(a.keyRow(a.width - r.Width()))}
}

// progress is how far what goes on behind other views is.
func (a *App) progress() (r ink.Row) {
	for _, h := range a.stack[:max(len(a.stack)-1, 0)] {
		if p := h.behind; p.total > 0 {
			r = r.Strong(ink.Tide, "◔ "+p.what+" ").
				Then(Bar(a.painter, p.done, p.total, 8)).
				Add(ink.Dim, fmt.Sprintf(" %d of %d   ", p.done, p.total))
		}
	}
	return r
}

// Bar draws how far something is.
func Bar(p *ink.Painter, done, total, cells int) ink.Row {
	bar := progress.New(
		progress.WithoutPercentage(),
		progress.WithWidth(cells),
		progress.WithFillCharacters('━', '╌'),
		progress.WithColors(p.Theme.Color(ink.Tide)),
	)
	bar.EmptyColor = p.Theme.Color(ink.Faint)
	return ink.Raw(bar.ViewAs(float64(done) / float64(max(total, 1))))
}

// keyRow is the line of the keys that do something now. Those that work everywhere
// always have room.
func (a *App) keyRow(cells int) ink.Row {
	h := a.top()
	if h == nil {
		return ink.Row{}
	}
	if q, ok := h.view.(*question); ok {
		return a.helpRow(q.keys(), nil, cells)
	}
	var own []key.Binding
	everywhere := []key.Binding{named(keys.Help, "?", "keys"), named(keys.Back, "q", a.leaves(h))}
	if a.canHome() {
		everywhere = append([]key.Binding{named(keys.Workspace, "w", "workspace")}, everywhere...)
	}
	if a.standing != nil {
		if a.running() {
			everywhere = append([]key.Binding{named(keys.Abort, "a", "abort")}, everywhere...)
		}
		if leads := a.standing.Leads(); leads != "" && (a.standing.Waits() || h.view != a.standing.View()) {
			everywhere = append([]key.Binding{named(keys.Decide, "d", leads)}, everywhere...)
		}
	}
	if h.failed == "" {
		for _, k := range h.view.Keys() {
			if k.Does != "" && k.Enabled() {
				own = append(own, named(k.Binding, k.Help().Key, k.Does))
			}
		}
		if a.deviceHere(h) != "" {
			own = append(own, named(keys.Page, "I", "device"))
		}
	}
	return a.helpRow(own, everywhere, cells)
}

// leaves says where going back leads.
func (a *App) leaves(h *Host) string {
	if w, ok := h.view.(*busy); ok && !w.given {
		return "give up"
	}
	if len(a.stack) > 1 {
		return "back"
	}
	return "leave"
}

// named is a binding with other words on it.
func named(b key.Binding, name, does string) key.Binding {
	b.SetHelp(name, does)
	return b
}

// helpRow writes keys; those of last always have room.
func (a *App) helpRow(own, last []key.Binding, cells int) ink.Row {
	h := help.New()
	h.ShortSeparator, h.Ellipsis = "   ", "…"
	h.Styles.ShortKey = a.painter.Style(ink.Foam).Bold(true)
	h.Styles.ShortDesc = a.painter.Style(ink.Dim)
	h.Styles.ShortSeparator, h.Styles.Ellipsis = a.painter.Style(ink.Dim), a.painter.Style(ink.Dim)
	right := ink.Raw(h.ShortHelpView(last))
	if len(last) == 0 {
		right = ink.Row{}
	}
	left := max(cells-right.Width()-4, 1)
	h.SetWidth(left)
	r := ink.Raw(h.ShortHelpView(own))
	if r.Width() >= left { // they stand closer where there is little room
		h.ShortSeparator = "  "
		r = ink.Raw(h.ShortHelpView(own))
	}
	if len(own) == 0 {
		return right
	}
	return r.Add(ink.Dim, "   ").Then(right)
}
