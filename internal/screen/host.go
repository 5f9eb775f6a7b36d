package screen

import (
	"context"
	"fmt"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/person"
)

// Host is the application as one view has it. Its methods are called where keys are
// dealt with, and in what [Host.Then] and [Listen] call back; never from elsewhere,
// except for Then, Context and Ask.
type Host struct {
	app    *App
	view   View
	parent *Host // that opened it
	ctx    context.Context
	cancel context.CancelFunc
	work   sync.WaitGroup
	closed bool
	failed string // why it cannot be drawn
	behind progressOf
}

// Context ends when the view is left.
func (h *Host) Context() context.Context { return h.ctx }

// Open opens a view above this one. Where this one is not on top any more, it comes
// right above it, and does not get in the way of what is looked at.
func (h *Host) Open(v View) *Host { return h.app.open(h, v) }

// Back leaves this view.
func (h *Host) Back() { h.app.remove(h) }

// Say says something in the place of the keys, for a while.
func (h *Host) Say(text string) { h.app.say(text) }

// Now is the time, as the application has it.
func (h *Host) Now() time.Time { return h.app.now }

// Ring rings the bell of the terminal, once.
func (h *Host) Ring() { h.app.cmd(tea.Raw("\a")) }

// Left tells whether the view was left.
func (h *Host) Left() bool { return h.closed }

// Top tells whether the view is what is looked at.
func (h *Host) Top() bool { return h.app.top() == h }

// Type lets a line be typed in the place of the keys.
func (h *Host) Type(l Line) { h.app.typeLine(h, l) }

// Ask puts a form on the screen and hands on the answers; it is not called when the
// person leaves it.
func (h *Host) Ask(f person.Form, then func(answers []string)) {
	h.app.ask(&question{form: f, owner: h, done: func(answers []string, err error) {
		if err == nil {
			then(answers)
		}
	}})
}

// Stand makes something stand on top of every view; nil takes it away.
func (h *Host) Stand(s Standing) { h.app.standing = s }

// Standing is what stands there.
func (h *Host) Standing() Standing { return h.app.standing }

// Go does something behind, as long as the view is open.
func (h *Host) Go(do func(ctx context.Context)) {
	h.work.Add(1)
	go func() {
		defer h.work.Done()
		defer h.app.caught(h, "work behind it", func(mistake string) { h.Then(func() { h.app.say(mistake) }) })
		do(h.ctx)
	}()
}

// Then has something done where keys are dealt with, soon. It may be called from
// anywhere; after the view was left it does nothing.
func (h *Host) Then(do func()) {
	h.app.post(func() {
		if !h.closed {
			h.app.careful(h, do)
		}
	})
}

// Work does something that the person waits for: what it is stands on the screen, and
// Esc gives it up. Whatever it asks is asked at once. Then is called at its end, even
// when this view was left meanwhile: what was opened must be closed.
func (h *Host) Work(what string, do func(ctx context.Context) error, then func(error)) {
	b := &busy{what: what, began: h.app.now}
	host := h.Open(b)
	ctx := context.WithValue(host.ctx, inFront{}, host)
	b.giveUp = host.cancel
	h.app.work.Add(1)
	go func() {
		defer h.app.work.Done()
		err := h.app.try(host, what, func() error { return do(ctx) })
		h.app.post(func() {
			h.app.remove(host)
			h.app.careful(h, func() { then(err) })
		})
	}()
}

// inFront marks the context of work that the person waits for.
type inFront struct{}

// progressOf is how far something is that goes on behind a view.
type progressOf struct {
	what        string
	done, total int
}

// Progress says how far something is that goes on behind the view, such as reaching; it
// stands on the last line while another view is looked at. A total of 0 ends it.
func (h *Host) Progress(what string, done, total int) { h.behind = progressOf{what, done, total} }

// Exec gives the terminal to something else for a while.
func (h *Host) Exec(c tea.ExecCommand, then func(error)) {
	h.app.cmd(tea.Exec(c, func(err error) tea.Msg { return doMsg{func() { h.app.careful(h, func() { then(err) }) }} }))
}

// frame is the least time between two looks at what happens, so that it is gathered.
const frame = 50 * time.Millisecond

// Listen hands on what happens, gathered, until there is nothing more or the view is
// left; over, which may be nil, is called in the first case.
func Listen[T any](h *Host, next func(context.Context) ([]T, bool), take func([]T), over func()) {
	h.Go(func(ctx context.Context) {
		for {
			items, ok := next(ctx)
			if !ok {
				break
			}
			taken := make(chan struct{})
			h.app.post(func() {
				defer close(taken)
				if !h.closed {
					h.app.careful(h, func() { take(items) })
				}
			})
			select {
			case <-taken: // drawn before more is taken: a slow terminal does not pile it up
			case <-ctx.Done():
				return
			}
			select {
			case <-time.After(frame):
			case <-ctx.Done():
				return
			}
		}
		if over != nil && ctx.Err() == nil {
			h.Then(over)
		}
	})
}

// Failed is an error that says that we made a mistake.
type Failed struct {
	What string
	Log  string // the file with all that is known of it
}

func (f *Failed) Error() string {
	if f.Log == "" {
		return "Metabasis has made a mistake: " + f.What
	}
	return fmt.Sprintf("Metabasis has made a mistake: %s; what led to it is in %s", f.What, f.Log)
}
