// Package screen is the full-screen application. It draws an immutable view of
// a night at a bounded rate and passes decisions on; it never reaches into the
// run. Each view is a package of its own.
package screen

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/run"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/pager"
	"metabasis/internal/screen/safe"
	"metabasis/internal/screen/strip"
	"metabasis/internal/screen/watch"
)

// Source is where a night comes from. A finished night has no Start and no Do.
type Source struct {
	// Night is the night as it stands: planned, or over.
	Night run.Night
	// Start begins the run and returns its events, or why it cannot begin. It may
	// take a while.
	Start func() (<-chan []run.Event, error)
	// Do passes on a decision.
	Do func(run.Command) error
	// Tail returns the last lines of a device's transcript.
	Tail func(device string, lines int) []string
	// Transcript returns all of it.
	Transcript func(device string) ([]string, error)
	// Lines returns what will be sent to a device, before the night begins.
	Lines func(device string) []string
	// Elsewhere says who runs the night in another process; "" for one that nobody
	// runs.
	Elsewhere string
	// Console works a device by hand while the screen waits; the night goes on.
	// nil when that cannot be done.
	Console func(device string) tea.ExecCommand
	// By is the person at the keyboard.
	By string
}

// Theme chooses the colours: auto, dark or light.
type Theme string

// Run shows a night until the person leaves. It returns the night as it stood
// then. When ctx ends, so does the screen.
func Run(ctx context.Context, src Source, theme Theme, opts ...tea.ProgramOption) (run.Night, error) {
	m := New(src, theme)
	_, err := tea.NewProgram(safe.Guard(m), append([]tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(30)}, opts...)...).Run()
	return m.night, err
}

// focus is where keys go.
type focus int

const (
	onList focus = iota
	onDecide
	onAbort
	onBegin
	onTranscript
	onPane
	onFind
)

// Model is the application's state.
type Model struct {
	src     Source
	painter *ink.Painter
	auto    bool
	night   run.Night
	events  <-chan []run.Event
	started bool
	asked   bool // the run was asked to begin
	width   int
	height  int
	now     time.Time
	focus   focus
	list    watch.View
	choice  decide.View
	abort   decide.View
	pager   *pager.View
	paneTop int
	finding string // a part of a device's name that is looked for
	from    int    // where the cursor was when finding began
	message string // what the last key could not do
	said    time.Time
	cached  string
	dirty   bool
}

// New makes the application's state.
func New(src Source, theme Theme) *Model {
	m := &Model{src: src, night: src.Night, dirty: true}
	m.now = m.clock(time.Now())
	m.painter, m.auto = ink.ForTheme(string(theme))
	m.list.Folded = len(m.night.Devices) > 60
	return m
}

type (
	tickMsg   time.Time
	eventsMsg []run.Event
	overMsg   struct{}
	leftMsg   struct{ err error } // the console was left
	begunMsg  struct {
		events <-chan []run.Event
		err    error
	}
)

// Init implements [tea.Model].
func (m *Model) Init() tea.Cmd {
	if m.auto {
		return tea.Batch(tick(), tea.RequestBackgroundColor)
	}
	return tick()
}

// tick comes on the next quarter of a second, so that clocks move evenly.
func tick() tea.Cmd {
	const every = 250 * time.Millisecond
	return tea.Every(every, func(t time.Time) tea.Msg { return tickMsg(t) })
}

// messageStays is how long the answer to a key stands in the place of the keys.
const messageStays = 4 * time.Second

// frame is the longest events are gathered before they are drawn.
const frame = 50 * time.Millisecond

// listen gathers what happens for up to a frame.
func (m *Model) listen() tea.Cmd {
	events := m.events
	return func() tea.Msg {
		got, ok := <-events
		if !ok {
			return overMsg{}
		}
		timer := time.NewTimer(frame)
		defer timer.Stop()
		for {
			select {
			case more, ok := <-events:
				if !ok {
					return eventsMsg(got)
				}
				got = append(got, more...)
			case <-timer.C:
				return eventsMsg(got)
			}
		}
	}
}

// Update implements [tea.Model].
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	m.dirty = true
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if m.auto && !msg.IsDark() {
			m.painter = ink.NewPainter(&ink.Light)
		}
	case tickMsg:
		m.now = m.clock(time.Time(msg))
		if m.now.Sub(m.said) > messageStays {
			m.message = ""
		}
		return m, tick()
	case eventsMsg:
		m.take(msg)
		return m, m.listen()
	case begunMsg:
		m.asked = false
		if msg.err != nil {
			m.message, m.said = msg.err.Error(), time.Now()
			return m, nil
		}
		m.started, m.events = true, msg.events
		return m, m.listen()
	case overMsg:
		m.events = nil
	case leftMsg:
		if msg.err != nil {
			m.message, m.said = "the console: "+msg.err.Error(), time.Now()
		}
	case tea.KeyPressMsg:
		m.said = time.Now()
		return m, m.key(msg)
	}
	return m, nil
}

// Failed implements [safe.View]: what happens in the night is listened to all the
// same.
func (m *Model) Failed(msg tea.Msg, mistake string) tea.Cmd {
	m.message, m.said = "Metabasis has made a mistake: "+mistake, time.Now()
	switch msg.(type) {
	case tickMsg:
		return tick()
	case eventsMsg:
		return m.listen()
	}
	return nil
}

// Plain implements [safe.View].
func (m *Model) Plain() []string {
	if !m.running() {
		return nil
	}
	lines := []string{"The night goes on.", ""}
	for state, n := range m.night.Count() {
		lines = append(lines, fmt.Sprintf("%d %s", n, state))
	}
	slices.Sort(lines[2:])
	return append(lines, "", "Closing the terminal takes back what is in change, and ends the night then.")
}

func (m *Model) take(events []run.Event) {
	m.night = run.Fold(m.night, events...)
	m.now = m.clock(time.Now())
	if m.focus == onDecide && len(m.night.Holds) == 0 {
		m.leaveQuestion()
	}
	if m.focus == onAbort && !m.night.Ended.IsZero() {
		m.leaveQuestion()
		m.message, m.said = "the night was over before it was aborted", time.Now()
	}
}

// past tells a night that is only looked at.
func (m *Model) past() bool { return !m.started && m.src.Start == nil && m.src.Do == nil }

// clock is the time the screen shows: that of a night whose journal ends before it
// does stands still, as nobody knows what came then.
func (m *Model) clock(now time.Time) time.Time {
	if m.past() && m.night.Ended.IsZero() && !m.night.Last.IsZero() {
		return m.night.Last
	}
	return now
}

// small tells whether the window is too small to show anything in.
func (m *Model) small() bool { return m.width < ink.LeastCells || m.height < ink.LeastRows }

// running tells whether leaving now would leave devices behind.
func (m *Model) running() bool { return m.started && m.night.Ended.IsZero() }

// hold is the hold that Decide shows: that of the device under the cursor, else
// the oldest.
func (m *Model) hold() (run.Hold, bool) {
	if d := m.list.Device(&m.night); d != nil && m.focus != onDecide {
		for _, h := range m.night.Holds {
			if h.Device == d.Name {
				return h, true
			}
		}
	}
	if m.focus == onDecide {
		for _, h := range m.night.Holds {
			if h.Number == m.deciding() {
				return h, true
			}
		}
	}
	if len(m.night.Holds) > 0 {
		return m.night.Holds[0], true
	}
	return run.Hold{}, false
}

// deciding is the hold the person has opened.
func (m *Model) deciding() int { return m.choice.Hold() }

func (m *Model) do(c run.Command) {
	c.By = m.src.By
	if err := m.src.Do(c); err != nil {
		m.message = err.Error()
	}
}

// View implements [tea.Model].
func (m *Model) View() tea.View {
	if m.dirty {
		m.cached = m.draw()
		m.dirty = false
	}
	v := tea.NewView(m.cached)
	v.AltScreen = true
	v.WindowTitle = "Metabasis"
	if m.night.Outline != nil {
		v.WindowTitle = "Metabasis · " + m.night.Outline.Title
	}
	return v
}

func (m *Model) draw() string {
	if m.width == 0 {
		return ""
	}
	if page, small := m.painter.TooSmall(m.width, m.height, m.attention()); small {
		return page
	}
	rows := strip.Rows(&m.night, m.now, m.width)
	if m.past() && m.night.Ended.IsZero() {
		rows = strip.Still(&m.night, m.width)
	}
	rows = append(rows, m.attention(), ink.Row{})
	body := m.height - len(rows) - 1
	rows = append(rows, m.body(body)...)
	for len(rows) < m.height-1 {
		rows = append(rows, ink.Row{})
	}
	rows = append(rows[:m.height-1], m.keys())
	return m.painter.Page(rows, m.width, m.height)
}

func (m *Model) body(height int) []ink.Row {
	if m.focus == onTranscript && m.pager != nil {
		if lines, err := m.src.Transcript(m.pager.Device); err == nil {
			m.pager.Set(lines)
		}
		return m.pager.Rows(m.width, height)
	}
	if m.width >= ink.SideBySide {
		side := m.width * 38 / 100
		list := m.list.Rows(&m.night, m.now, m.listCells(), height)
		return ink.Beside(list, m.width-side, m.side(side-2, height))
	}
	if m.focus != onList && m.focus != onFind && m.started {
		return m.side(m.width-2, height)
	}
	if !m.started && m.src.Start != nil { // what will be done, over the list it is done to
		pane := m.side(m.width-2, height*3/5)
		for len(pane) < height*3/5+1 {
			pane = append(pane, ink.Row{})
		}
		return append(pane, m.list.Rows(&m.night, m.now, m.width, height-len(pane))...)
	}
	if height < 22 {
		return m.list.Rows(&m.night, m.now, m.width, height)
	}
	panel := 8
	rows := m.list.Rows(&m.night, m.now, m.width, height-panel-1)
	for len(rows) < height-panel {
		rows = append(rows, ink.Row{})
	}
	return append(rows, m.side(m.width-2, panel)...)
}

// side is what stands beside the list: a question, or the device under the
// cursor. What does not fit scrolls; what a key would act on is always in sight.
func (m *Model) side(cells, height int) []ink.Row {
	rows := m.withDevice(m.question(cells), cells, height)
	must := ink.LastMarked(rows)
	if m.focus == onPane {
		must = -1
	}
	rows, m.paneTop = ink.Scroll(rows, m.paneTop, must, height)
	return indent(rows)
}

// question is what is asked, if anything is.
func (m *Model) question(cells int) []ink.Row {
	switch h, held := m.hold(); {
	case m.focus == onAbort:
		return m.abort.Rows(decide.OfAbort(&m.night), m.now, true, cells)
	case !m.started && m.src.Start != nil:
		return m.ready(cells)
	case m.focus == onDecide && held:
		return m.choice.Rows(decide.OfHold(&m.night, h), m.now, true, cells)
	case held && (h.Device == "" || m.underCursor(h.Device)):
		return m.choice.Rows(decide.OfHold(&m.night, h), m.now, false, cells)
	}
	return nil
}

// withDevice puts the device under the cursor below what stands there.
func (m *Model) withDevice(rows []ink.Row, cells, height int) []ink.Row {
	d := m.list.Device(&m.night)
	if m.focus == onDecide || m.focus == onAbort {
		if h, ok := m.hold(); ok && h.Device != "" {
			d = m.night.Get(h.Device)
		}
	}
	if d == nil || m.focus != onPane && height-len(rows) < 6 {
		return rows
	}
	if len(rows) > 0 {
		rows = append(rows, ink.Row{}, ink.T(ink.Faint, strings.Repeat("─", cells)))
	}
	tail := func(n int) []string {
		if m.src.Tail == nil {
			return nil
		}
		return m.src.Tail(d.Name, n)
	}
	room := height - len(rows)
	if m.focus == onPane { // it scrolls: all of it
		room = max(room, 200)
	}
	return append(rows, watch.Panel(d, m.now, tail, cells, room)...)
}

func (m *Model) underCursor(device string) bool {
	d := m.list.Device(&m.night)
	return d != nil && d.Name == device
}

func indent(rows []ink.Row) []ink.Row {
	out := make([]ink.Row, len(rows))
	for i, r := range rows {
		out[i] = ink.T(ink.Foam, " ").Then(r)
		out[i].Marked = r.Marked
	}
	return out
}
