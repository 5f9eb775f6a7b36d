package screen

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"metabasis/internal/screen/ink"
)

// Line is a line to be typed in the place of the keys.
type Line struct {
	Label string // what stands before it, such as "find"
	Hint  string // what stands behind it
	Text  string // what is there to begin with
	// Each is told of every change; nil for none.
	Each func(text string)
	// Done is told of it when it is entered. An error is said, and the line stays.
	Done func(text string) error
	// Left is told when it is given up; nil for nothing.
	Left func()
	// Key is told of keys that a line has no use for, such as ↓; nil for none.
	Key func(name string)
}

// oneLine makes an error a line.
func oneLine(err error) string { return strings.ReplaceAll(err.Error(), "\n", " ") }

// typed is a line that is being typed.
type typed struct {
	Line
	host  *Host
	input textinput.Model
	app   *App
}

// mostTyped is the most that can be typed, in characters.
const mostTyped = 500

func (a *App) typeLine(h *Host, l Line) {
	if h != a.top() {
		return
	}
	in := textinput.New()
	in.Prompt, in.CharLimit = "", mostTyped
	in.SetValue(l.Text)
	in.CursorEnd()
	in.Focus() // its cursor does not blink: nothing moves where nothing happens
	a.line = &typed{Line: l, host: h, input: in, app: a}
}

func (a *App) lineKey(k tea.KeyPressMsg) {
	l := a.line
	a.message = ""
	switch k.String() {
	case "esc":
		a.line = nil
		if l.Left != nil {
			a.careful(l.host, l.Left)
		}
	case "enter":
		a.line = nil
		text := l.input.Value()
		a.careful(l.host, func() {
			if err := l.Done(text); err != nil {
				a.say(oneLine(err))
				if a.top() == l.host {
					a.line = l
				}
			}
		})
	case "up", "down", "tab", "shift+tab":
		if l.Key != nil {
			a.careful(l.host, func() { l.Key(k.String()) })
		}
	default:
		l.update(k)
	}
}

func (l *typed) update(msg tea.Msg) {
	before := l.input.Value()
	var cmd tea.Cmd
	l.input, cmd = l.input.Update(msg)
	l.app.cmd(cmd)
	if now := l.input.Value(); now != before && l.Each != nil {
		l.app.careful(l.host, func() { l.Each(now) })
	}
}

func (l *typed) row(p *ink.Painter, cells int) ink.Row {
	styles := textinput.Styles{Cursor: textinput.CursorStyle{Color: p.Theme.Color(ink.Lamp), Shape: tea.CursorBar}}
	styles.Focused.Text, styles.Focused.Prompt = p.Style(ink.Foam), p.Style(ink.Foam)
	styles.Focused.Placeholder, styles.Focused.Suggestion = p.Style(ink.Dim), p.Style(ink.Dim)
	styles.Blurred = styles.Focused
	l.input.SetStyles(styles)
	r := ink.T(ink.Foam, " ").Strong(ink.Lamp, l.Label+" ")
	message := l.app.message
	hint := l.Hint
	if message != "" {
		hint = ""
	}
	room := cells - r.Width() - len([]rune(hint+message)) - 5
	l.input.SetWidth(max(min(room, len([]rune(l.input.Value()))+1), 8)) // it fills its width with spaces
	r = r.Then(ink.Raw(l.input.View()))
	if message != "" {
		return r.Add(ink.Foam, "   ").Strong(ink.Lamp, message)
	}
	if hint == "" {
		hint = "Enter takes it, Esc leaves it"
	}
	return r.Add(ink.Dim, "   "+hint)
}
