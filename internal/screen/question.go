package screen

import (
	"strings"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
	"charm.land/huh/v2"

	"metabasis/internal/person"
	"metabasis/internal/screen/ink"
)

// question is a form on the screen. What is not entered to its end is not answered.
type question struct {
	app      *App
	form     person.Form
	owner    *Host // of what asks; nil when nobody waits for it
	host     *Host // its own, once it is open
	done     func(answers []string, err error)
	over     bool
	answered chan struct{} // closed when it is; nil where done does it all
	answers  []string
	err      error

	drawn  *huh.Form
	fields []huh.Field
	values []string
	theme  *ink.Theme
	top    int // first of the lines shown
}

func (q *question) Name() string {
	if q.form.Title == "" {
		return "a question"
	}
	return q.form.Title
}

// title is what is said of it while it waits.
func (q *question) title() string {
	if len(q.form.Questions) == 1 {
		return q.form.Questions[0].Text
	}
	return q.form.Title
}

func (q *question) Keys() []Key { return nil }

// keys are those that the line of keys shows.
func (q *question) keys() []key.Binding {
	b := func(name, does string) key.Binding {
		return key.NewBinding(key.WithKeys(name), key.WithHelp(name, does))
	}
	out := []key.Binding{b("Enter", "take it")}
	if len(q.form.Questions) > 1 {
		out = append(out, b("Shift-Tab", "the one before"))
	}
	if len(q.form.Lines) > 4 {
		out = append(out, b("PgUp PgDn", "scroll"))
	}
	out = append(out, b("Esc", "no answer"))
	if s := q.app.standing; s != nil && s.Waits() {
		out = append(out, b("Esc d", "decide"))
	}
	return out
}

// Opened implements [Opener].
func (q *question) Opened(h *Host) {
	q.values = make([]string, len(q.form.Questions))
	for i := range q.form.Questions {
		q.values[i] = q.form.Questions[i].Usual
		q.fields = append(q.fields, q.field(i))
	}
	q.app, q.theme = h.app, h.app.painter.Theme
	q.drawn = huh.NewForm(huh.NewGroup(q.fields...)).
		WithShowHelp(false).
		WithTheme(theme(h.app.painter)).
		WithKeyMap(formKeys()).
		WithWidth(min(h.app.width-4, 100))
	h.app.cmd(q.drawn.Init())
}

func (q *question) field(i int) huh.Field {
	one := &q.form.Questions[i]
	if len(one.Choices) > 0 {
		var options []huh.Option[string]
		for _, c := range one.Choices {
			label := c.Word
			if c.Does != "" {
				label = ink.Fit(c.Word, 12) + c.Does
			}
			options = append(options, huh.NewOption(label, c.Word))
		}
		if q.values[i] == "" {
			q.values[i] = one.Choices[0].Word
		}
		return huh.NewSelect[string]().Title(one.Text).Options(options...).Value(&q.values[i])
	}
	in := huh.NewInput().Title(one.Text).Description(one.Hint).Value(&q.values[i]).Prompt("▸ ").CharLimit(mostAnswered).Validate(one.Refuses)
	if one.Secret {
		in = in.EchoMode(huh.EchoModePassword)
	}
	return in
}

// mostAnswered is the most that an answer can have, in characters: a token may be long.
const mostAnswered = 8192

// formKeys are the keys in a form: Enter and Tab go on, Shift-Tab goes back.
func formKeys() *huh.KeyMap {
	k := huh.NewDefaultKeyMap()
	k.Quit = key.NewBinding(key.WithDisabled())
	k.Select.Filter = key.NewBinding(key.WithDisabled())
	return k
}

// take hands something to the form.
func (q *question) take(msg tea.Msg) tea.Cmd {
	if q.drawn == nil || q.over {
		return nil
	}
	if k, ok := msg.(tea.KeyPressMsg); ok {
		switch k.String() {
		case "pgup":
			q.top = max(q.top-10, 0)
			return nil
		case "pgdown":
			q.top += 10
			return nil
		}
	}
	field := q.drawn.GetFocusedField()
	_, cmd := q.drawn.Update(msg)
	if k, ok := msg.(tea.KeyPressMsg); ok {
		cmd = q.goOn(k.String(), field, cmd)
	}
	if q.drawn.State == huh.StateCompleted {
		q.over = true
		q.app.remove(q.host)
		q.done(q.values, nil)
	}
	return cmd
}

// goOn goes to another field at once, in place of the command by which the form would:
// else what is typed ahead would stand in the field before, and a part of a secret
// where it can be seen.
func (q *question) goOn(pressed string, from huh.Field, cmd tea.Cmd) tea.Cmd {
	last := from == q.fields[len(q.fields)-1]
	switch {
	case pressed == "shift+tab":
		return q.drawn.PrevField()
	case pressed != "enter" && pressed != "tab":
		return cmd
	case from.Error() != nil || last && pressed == "tab":
		return nil
	case last:
		return q.drawn.NextGroup()
	}
	return q.drawn.NextField()
}

// left says that there is no answer, if none was given.
func (q *question) left() {
	if !q.over {
		q.over = true
		q.done(nil, person.ErrLeft)
	}
}

// Click implements [Pointed]: a form takes no clicks.
func (q *question) Click(int, int) {}

// Wheel implements [Pointed].
func (q *question) Wheel(rows int) { q.top = max(q.top+rows, 0) }

func (q *question) Rows(f Frame) []ink.Row {
	if q.theme != f.Painter.Theme { // the terminal has told its ground meanwhile
		q.theme = f.Painter.Theme
		q.drawn.WithTheme(theme(f.Painter))
	}
	rows := []ink.Row{{}}
	if q.form.Title != "" {
		rows = append(rows, ink.T(ink.Foam, "  ").Strong(ink.Lamp, "◆ "+q.form.Title), ink.Row{})
	}
	if b := q.waits(); b != "" {
		rows = append(rows[:len(rows)-1], ink.T(ink.Dim, "    for: "+b), ink.Row{})
	}
	var fields []ink.Row
	for _, l := range strings.Split(q.drawn.WithWidth(min(f.Cells-4, 100)).View(), "\n") {
		fields = append(fields, ink.T(ink.Foam, "  ").Then(ink.Raw(l)))
	}
	if len(q.form.Lines) > 0 {
		var lines []ink.Row
		for _, l := range q.form.Lines {
			lines = append(lines, ink.T(ink.Foam, "    "+l))
		}
		room := max(f.Height-len(rows)-len(fields)-2, 3)
		lines, q.top = ink.Scroll(lines, q.top, -1, room)
		rows = append(append(rows, lines...), ink.Row{})
	}
	return append(rows, fields...)
}

// waits is what waits in front of the person for the answer; "" for nothing.
func (q *question) waits() string {
	if q.owner == nil || q.form.Title == "" {
		return ""
	}
	if b, ok := q.owner.view.(*busy); ok {
		return b.what
	}
	return ""
}

// theme is our look for a form.
func theme(p *ink.Painter) huh.Theme {
	return huh.ThemeFunc(func(bool) *huh.Styles {
		var s huh.Styles
		text, dim, lamp, port := p.Style(ink.Foam), p.Style(ink.Dim), p.Style(ink.Lamp), p.Style(ink.Port)
		s.Form.Base, s.Group.Base = text, text
		s.FieldSeparator = text.SetString("\n\n")
		own := huh.FieldStyles{
			Base: text, Title: text.Bold(true), Description: dim, NoteTitle: text.Bold(true),
			ErrorIndicator: port.SetString(" ▲"), ErrorMessage: port.SetString("▲"),
			SelectSelector: lamp.Bold(true).SetString("▌ "), Option: text, SelectedOption: lamp.Bold(true),
			NextIndicator: dim.SetString(" ↓"), PrevIndicator: dim.SetString("↑ "),
			FocusedButton: lamp, BlurredButton: dim, Card: text, Next: lamp,
			TextInput: huh.TextInputStyles{Cursor: lamp, CursorText: text, Placeholder: dim, Prompt: lamp, Text: text},
		}
		s.Focused, s.Blurred = own, own
		s.Blurred.Title, s.Blurred.SelectSelector = dim, text.SetString("  ")
		s.Blurred.TextInput.Prompt = dim
		return &s
	})
}
