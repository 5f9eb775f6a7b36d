// Package safe keeps a mistake in a view from ending what the view shows. Where
// drawing fails, a plain page takes the place of the drawn one; where a message
// fails, the view goes on with the next. A night goes on in either case, and can
// still be decided on.
package safe

import (
	"fmt"
	"path"
	"runtime"
	"strings"

	tea "charm.land/bubbletea/v2"
)

// View is a view that can be guarded.
type View interface {
	tea.Model
	// Failed is told that dealing with a message failed, and why. It returns
	// what must go on all the same, such as listening.
	Failed(msg tea.Msg, mistake string) tea.Cmd
	// Plain is what a person must know when the view cannot be drawn: what is
	// under way, and the keys that still work. It must be simple.
	Plain() []string
}

// Guard guards a view, which must return itself from Update.
func Guard(v View) tea.Model { return &guarded{view: v} }

type guarded struct {
	view    View
	undrawn bool // what the person sees is the plain page
}

// Init implements [tea.Model].
func (g *guarded) Init() tea.Cmd { return g.view.Init() }

// Update implements [tea.Model].
func (g *guarded) Update(msg tea.Msg) (m tea.Model, cmd tea.Cmd) {
	m = g
	defer func() {
		if r := recover(); r != nil {
			cmd = g.view.Failed(msg, describe(r))
		}
	}()
	if k, ok := msg.(tea.KeyPressMsg); ok && g.undrawn && k.String() == "enter" {
		return m, nil // it would answer a question that nobody can see
	}
	_, cmd = g.view.Update(msg)
	return m, cmd
}

// View implements [tea.Model].
func (g *guarded) View() (v tea.View) {
	defer func() {
		if r := recover(); r != nil {
			v = tea.NewView(page(describe(r), g.view))
			v.AltScreen, g.undrawn = true, true
		}
	}()
	g.undrawn = false
	return g.view.View()
}

func page(mistake string, v View) string {
	lines := []string{"", " ▲ Metabasis has made a mistake: this cannot be drawn.", "   " + mistake, ""}
	for _, l := range v.Plain() {
		lines = append(lines, "   "+l)
	}
	lines = append(lines, "", "   Esc or another size of the window may bring the view back.", "   Until then, Enter does nothing.")
	return strings.Join(lines, "\n")
}

// describe says what a panic was, and where in our code.
func describe(r any) string {
	text := strings.ReplaceAll(fmt.Sprint(r), "\n", " ")
	if at := where(); at != "" {
		text += " (" + at + ")"
	}
	return text
}

// where finds our innermost function on the stack that panicked.
func where() string {
	pcs := make([]uintptr, 64)
	frames := runtime.CallersFrames(pcs[:runtime.Callers(1, pcs)])
	panicked := false
	for {
		f, more := frames.Next()
		switch {
		case f.Function == "runtime.gopanic":
			panicked = true
		case panicked && strings.HasPrefix(f.Function, "metabasis/"):
			return fmt.Sprintf("%s:%d", path.Join(path.Base(path.Dir(f.File)), path.Base(f.File)), f.Line)
		}
		if !more {
			return ""
		}
	}
}
