package screen

import (
	"fmt"
	"path"
	"runtime"
	"runtime/debug"
	"strings"

	"metabasis/internal/screen/ink"
)

// careful does something of a view. A mistake in it is said, and what led to it is in the
// log; the application goes on.
func (a *App) careful(h *Host, do func()) {
	defer a.caught(h, "a key or what came of one", a.say)
	do()
}

// caught ends a panic: it is logged, and said.
func (a *App) caught(h *Host, where string, say func(string)) {
	if r := recover(); r != nil {
		say(a.mistake(h, where, r).Error())
	}
}

// try does something behind; a panic in it is an error.
func (a *App) try(h *Host, what string, do func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = a.mistake(h, what, r)
		}
	}()
	return do()
}

// mistake logs a mistake of ours and names it.
func (a *App) mistake(h *Host, where string, r any) *Failed {
	name := ""
	if h.view != nil {
		name = h.view.Name()
	}
	said := describe(r)
	a.opts.Log.Error("mistake", "view", name, "in", where, "what", said, "stack", string(debug.Stack()))
	return &Failed{What: said, Log: a.opts.LogFile}
}

// rows draws a view. One that cannot be drawn has a plain page in its place, and takes
// no keys: nothing is answered unseen.
func (a *App) rows(h *Host, f Frame) (rows []ink.Row) {
	defer func() {
		if r := recover(); r != nil {
			first := h.failed == ""
			h.failed = describe(r)
			if first { // every frame fails the same way
				_ = a.mistake(h, "drawing", r)
			}
			rows = a.failedPage(h)
		}
	}()
	rows = h.view.Rows(f)
	h.failed = ""
	return rows[:min(len(rows), f.Height)]
}

// failedPage takes the place of a view that cannot be drawn.
func (a *App) failedPage(h *Host) []ink.Row {
	rows := []ink.Row{
		{},
		ink.T(ink.Foam, " ").Strong(ink.Port, "▲ Metabasis has made a mistake: this view cannot be drawn."),
		ink.T(ink.Foam, "   "+h.failed),
	}
	if a.opts.LogFile != "" {
		rows = append(rows, ink.T(ink.Dim, "   What led to it is in "+a.opts.LogFile))
	}
	rows = append(rows, ink.Row{})
	if a.standing != nil {
		for _, l := range a.standing.Plain() {
			rows = append(rows, ink.T(ink.Foam, "   "+l))
		}
	}
	return append(rows, ink.Row{}, ink.T(ink.Foam, "   q leaves this view. Another size of the window may bring it back."),
		ink.T(ink.Foam, "   Until then its keys do nothing."))
}

// head draws what stands on top of every view.
func (a *App) head(f Frame) (rows []ink.Row) {
	if a.standing == nil {
		return nil
	}
	defer func() {
		if r := recover(); r != nil {
			_ = a.mistake(a.root, "drawing the night", r)
			rows = []ink.Row{ink.Row{}.Strong(ink.Port, " ▲ the night cannot be drawn: "+describe(r))}
			for _, l := range a.standing.Plain() {
				rows = append(rows, ink.T(ink.Foam, "   "+l))
			}
		}
	}()
	return a.standing.Head(f)
}

// describe says what a panic was, and where in our code.
func describe(r any) string {
	text := strings.ReplaceAll(fmt.Sprint(r), "\n", " ")
	if at := panickedAt(); at != "" {
		text += " (" + at + ")"
	}
	return text
}

// panickedAt finds our innermost function on the stack that panicked.
func panickedAt() string {
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
