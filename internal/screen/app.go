package screen

import (
	"context"
	"log/slog"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/person"
	"metabasis/internal/screen/ink"
)

// Options are how the application is set up.
type Options struct {
	Theme string // auto, dark or light
	Mouse bool
	// Log takes what is needed to understand a mistake, with LogFile as its name; nil
	// takes nothing.
	Log     *slog.Logger
	LogFile string
	// Clock tells the time; nil is the system's.
	Clock func() time.Time
}

// App is the application. It is a [person.Person]: what is asked is asked on the
// screen.
type App struct {
	opts     Options
	painter  *ink.Painter
	auto     bool
	standing Standing
	home     View // of the workspace; nil where there is none
	page     func(h *Host, device string)

	width, height int
	now           time.Time
	stack         []*Host
	root          *Host       // of what outlives views
	questions     []*question // that wait to be opened
	line          *typed      // that is being typed; nil
	message       string
	said          time.Time
	failure       error // that ends the application
	cmds          []tea.Cmd
	inbox         inbox
	gone          chan struct{} // closed when nobody looks any more
	output        *output
	work          sync.WaitGroup
	bodyTop       int // the row at which the view's own rows begin
	cached        string
	dirty         bool
}

// New makes the application.
func New(o Options) *App {
	a := &App{opts: o, inbox: inbox{more: make(chan struct{}, 1)}, gone: make(chan struct{}), output: newOutput(os.Stdout), dirty: true}
	if a.opts.Log == nil {
		a.opts.Log = slog.New(slog.DiscardHandler)
	}
	if a.opts.Clock == nil {
		a.opts.Clock = time.Now
	}
	a.now = a.opts.Clock()
	a.painter, a.auto = ink.ForTheme(o.Theme)
	ctx, cancel := context.WithCancel(context.Background())
	a.root = &Host{app: a, ctx: ctx, cancel: cancel}
	return a
}

// SetHome tells the application the view of the workspace, which a key leads to where
// it is not below what is looked at already.
func (a *App) SetHome(v View) { a.home = v }

// SetPage tells the application what opens all that is known of a device, which a key leads to
// from every view that has one under its cursor.
func (a *App) SetPage(open func(h *Host, device string)) { a.page = open }

// deviceHere is the device under the cursor; "" where the view has none, or nothing tells of it.
func (a *App) deviceHere(h *Host) string {
	if v, ok := h.view.(OfDevices); ok && a.page != nil && h.failed == "" {
		return v.DeviceHere()
	}
	return ""
}

func (a *App) canHome() bool {
	return a.home != nil && !slices.ContainsFunc(a.stack, func(h *Host) bool { return h.view == a.home })
}

// Run shows the application, beginning with one view, until the person leaves. When ctx
// ends, so does the screen. It returns once what views had under way has ended. The
// error is what kept the first view from opening, or the terminal's.
func (a *App) Run(ctx context.Context, begin func(h *Host), opts ...tea.ProgramOption) error {
	a.Begin(begin)
	opts = append([]tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(30), tea.WithOutput(a.output)}, opts...)
	p := tea.NewProgram(a, opts...)
	stop := a.suspends(p)
	_, err := p.Run()
	stop()
	a.Close()
	if a.failure != nil {
		return a.failure
	}
	return err
}

// Begin opens the first view, as soon as the application runs.
func (a *App) Begin(begin func(h *Host)) {
	a.post(func() { a.careful(a.root, func() { begin(a.root) }) })
}

// Close ends what views had under way, and waits for it.
func (a *App) Close() {
	close(a.gone)
	for _, h := range slices.Backward(a.stack) {
		a.shut(h)
	}
	a.stack = nil
	a.root.cancel()
	a.root.work.Wait()
	a.work.Wait()
}

type (
	tickMsg time.Time
	doMsg   struct{ do func() }
)

// Init implements [tea.Model].
func (a *App) Init() tea.Cmd {
	cmds := []tea.Cmd{tick(), a.listen()}
	if a.auto {
		cmds = append(cmds, tea.RequestBackgroundColor)
	}
	return tea.Batch(cmds...)
}

// tick comes on the next quarter of a second, so that clocks move evenly.
func tick() tea.Cmd {
	return tea.Every(250*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// listen waits for the next thing to be done here.
func (a *App) listen() tea.Cmd {
	return func() tea.Msg {
		select {
		case <-a.inbox.more:
			return postedMsg{}
		case <-a.gone:
			return nil
		}
	}
}

type postedMsg struct{}

// inbox is what is to be done where keys are dealt with. Whoever puts something in
// never waits.
type inbox struct {
	mu    sync.Mutex
	items []func()
	more  chan struct{}
}

func (i *inbox) put(do func()) {
	i.mu.Lock()
	i.items = append(i.items, do)
	i.mu.Unlock()
	select {
	case i.more <- struct{}{}:
	default:
	}
}

func (i *inbox) all() []func() {
	i.mu.Lock()
	defer i.mu.Unlock()
	items := i.items
	i.items = nil
	return items
}

// Posted tells whether something waits to be done where keys are dealt with.
func (a *App) Posted() bool {
	a.inbox.mu.Lock()
	defer a.inbox.mu.Unlock()
	return len(a.inbox.items) > 0
}

// post has something done where keys are dealt with. It may be called from anywhere;
// once nobody looks any more, it is dropped.
func (a *App) post(do func()) { a.inbox.put(do) }

func (a *App) cmd(c tea.Cmd) { a.cmds = append(a.cmds, c) }

// messageStays is how long the answer to a key stands in the place of the keys.
const messageStays = 5 * time.Second

func (a *App) say(text string) { a.message, a.said = text, time.Now() }

// Update implements [tea.Model].
func (a *App) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	a.dirty = true
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		a.width, a.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if a.auto && !msg.IsDark() {
			a.painter = ink.NewPainter(&ink.Light)
		}
	case tickMsg:
		a.now = a.opts.Clock()
		if time.Time(msg).Sub(a.said) > messageStays {
			a.message = ""
		}
		a.cmd(tick())
	case postedMsg:
		a.now = a.opts.Clock()
		for _, do := range a.inbox.all() {
			do()
		}
		a.cmd(a.listen())
	case doMsg:
		msg.do()
	case tea.KeyPressMsg:
		a.said = time.Now()
		a.key(msg)
	case tea.MouseMsg:
		a.mouse(msg)
	default:
		a.others(msg)
	}
	cmds := a.cmds
	a.cmds = nil
	return a, tea.Batch(cmds...)
}

// others hands on what components have sent themselves, and what was pasted.
func (a *App) others(msg tea.Msg) {
	if p, pasted := msg.(tea.PasteMsg); pasted {
		// The end of a line is no part of what was copied with it, such as a password.
		msg = tea.PasteMsg{Content: strings.TrimRight(p.Content, "\r\n")}
		if a.small() {
			return
		}
		if a.line != nil {
			a.line.update(msg)
		} else if h := a.top(); h != nil {
			a.take(h, msg)
		}
		return
	}
	for _, h := range a.stack {
		a.take(h, msg)
	}
}

// taker is a view with components that send themselves messages.
type taker interface{ take(msg tea.Msg) tea.Cmd }

func (a *App) take(h *Host, msg tea.Msg) {
	if t, ok := h.view.(taker); ok {
		a.careful(h, func() { a.cmd(t.take(msg)) })
	}
}

// top is what is looked at; nil when nothing is.
func (a *App) top() *Host {
	if len(a.stack) == 0 {
		return nil
	}
	return a.stack[len(a.stack)-1]
}

// open opens a view above another; one that is above nothing that is open is closed
// at once.
func (a *App) open(below *Host, v View) *Host {
	ctx, cancel := context.WithCancel(a.root.ctx)
	h := &Host{app: a, view: v, parent: below, ctx: ctx, cancel: cancel}
	at := len(a.stack)
	if below != a.root {
		if at = slices.Index(a.stack, below) + 1; at == 0 {
			h.closed = true
			a.shut(h)
			return h
		}
	}
	a.stack = slices.Insert(a.stack, at, h)
	if h == a.top() {
		a.line = nil
	}
	if o, ok := v.(Opener); ok {
		a.careful(h, func() { o.Opened(h) })
	}
	return h
}

// remove leaves a view. When it was the last, so is the application.
func (a *App) remove(h *Host) {
	i := slices.Index(a.stack, h)
	if i < 0 {
		return
	}
	if h == a.top() {
		a.line = nil
	}
	a.stack = slices.Delete(a.stack, i, i+1)
	a.shut(h)
	if q, ok := h.view.(*question); ok {
		q.left()
	}
	if top := a.top(); i == len(a.stack) && top != nil {
		if r, ok := top.view.(Returner); ok {
			a.careful(top, r.Returned)
		}
	}
}

// shut ends the work of a view that was left, and closes it behind.
func (a *App) shut(h *Host) {
	h.closed = true
	h.cancel()
	a.work.Add(1)
	go func() {
		defer a.work.Done()
		h.work.Wait()
		c, ok := h.view.(Closer)
		if !ok {
			return
		}
		if err := a.try(h, "closing", c.Closed); err != nil {
			a.post(func() { a.say(err.Error()) })
		}
	}()
}

// fail ends the application with an error.
func (a *App) fail(err error) {
	a.failure = err
	a.cmd(tea.Quit)
}

// Fail ends the application with an error: what it was opened for cannot be shown.
func (h *Host) Fail(err error) { h.app.fail(err) }

// Quit ends the application. It may be called from anywhere.
func (a *App) Quit() { a.post(func() { a.cmd(tea.Quit) }) }

// Quit ends the application.
func (h *Host) Quit() { h.app.cmd(tea.Quit) }

// Root is a host that lives as long as the application, for what outlives a view.
func (h *Host) Root() *Host { return h.app.root }

// Show opens a view that may be open already: then it comes up on top of the others,
// which stay as they are, and what was opened from it is left.
func (h *Host) Show(v View) {
	a := h.app
	i := slices.IndexFunc(a.stack, func(o *Host) bool { return o.view == v })
	if i < 0 {
		a.open(a.root, v)
		return
	}
	shown := a.stack[i]
	for _, o := range slices.Backward(slices.Clone(a.stack)) {
		if o.from(shown) {
			a.remove(o)
		}
	}
	if a.top() != shown {
		a.line = nil
		a.stack = append(slices.DeleteFunc(a.stack, func(o *Host) bool { return o == shown }), shown)
	}
}

// from tells whether a view was opened from another, or from one that was.
func (h *Host) from(other *Host) bool {
	for p := h.parent; p != nil; p = p.parent {
		if p == other {
			return true
		}
	}
	return false
}

// Ask implements [person.Person]: it may be called from anywhere. What the person waits
// for asks at once; anything else waits until the person opens it, so that no key that
// was meant for something else answers it.
func (a *App) Ask(ctx context.Context, f person.Form) ([]string, error) {
	q := &question{form: f, answered: make(chan struct{})}
	q.done = func(answers []string, err error) { q.answers, q.err = answers, err; close(q.answered) }
	q.owner, _ = ctx.Value(inFront{}).(*Host)
	a.post(func() { a.ask(q) })
	select {
	case <-q.answered:
		return q.answers, q.err
	case <-ctx.Done():
		a.post(func() { a.withdraw(q) })
		return nil, ctx.Err()
	case <-a.gone:
		return nil, person.ErrLeft
	}
}
