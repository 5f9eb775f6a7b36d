// Package roster is the Fleet view: the devices in scope, how far we come with
// each, and why no further. Devices are marked here by hand, by range or by a
// condition, saved as a selection, reached, read, and worked by hand.
//
// It draws a [reach.Board] and never reaches into what fills it.
package roster

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/pager"
	"metabasis/internal/screen/safe"
)

// Source is what the view shows and what it can ask to be done. What is nil
// cannot be done.
type Source struct {
	Title   string
	Devices []Device
	LeftOut []scope.LeftOut
	// Reach begins to reach devices and returns what happens, until the channel
	// is closed.
	Reach func(names []string) <-chan []reach.Event
	// Choose tells which devices a condition selects.
	Choose func(condition string) ([]string, error)
	// Save saves a selection.
	Save func(name string, s scope.Selection) error
	// Console works a device by hand.
	Console func(device string) tea.ExecCommand
	// Transcript returns what was said with a device.
	Transcript func(device string) ([]string, error)
	// Fingerprint returns that of a key shown for the first time, with its kind
	// and whose it is.
	Fingerprint func(r *reach.Result) (fingerprint string, fresh bool)
	// Accept takes the new keys of devices, once or for good.
	Accept func(results []*reach.Result, forGood bool) error
	// Tables are the names of the tables that can be read.
	Tables []string
}

// Device is a device in scope.
type Device struct {
	fleet.Device
	Login     string
	ClearText bool
}

// Result is how the view was left.
type Result struct {
	Board  reach.Board
	Table  string   // the table that the person wants to read, "" for none
	Marked []string // the devices it is wanted of; none are all
}

// Run shows the view until the person leaves it.
func Run(ctx context.Context, src Source, theme string, board reach.Board, opts ...tea.ProgramOption) (Result, error) {
	m := New(src, theme, board)
	_, err := tea.NewProgram(safe.Guard(m), append([]tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(30)}, opts...)...).Run()
	return Result{Board: m.board, Table: m.table, Marked: m.markedNames()}, err
}

// by is what the devices are grouped by.
type by int

const (
	bySite by = iota
	byRole
	byPlatform
	byOutcome
	groupings
)

func (b by) String() string { return [...]string{"site", "role", "platform", "outcome"}[b] }

// typing is what a line is being typed for.
type typing int

const (
	notTyping typing = iota
	typingCondition
	typingName
	typingTable
)

// Model is the view's state.
type Model struct {
	src     Source
	painter *ink.Painter
	auto    bool
	board   reach.Board
	events  <-chan []reach.Event
	now     time.Time

	width, height int
	group         by
	rows          []row // as they are grouped now
	cursor        int   // index into rows, of a device
	top           int
	marked        map[string]bool
	clear         bool   // some device is reached in clear text
	from          string // where a range of marks begins
	keys          bool   // new keys are asked about
	keysTop       int    // the first that is shown
	typing        typing
	typed         string
	pager         *pager.View
	table         string
	message       string
	said          time.Time
}

// row is a group's heading or a device.
type row struct {
	heading string
	members []int // of a heading
	device  int
}

// New makes the view's state.
func New(src Source, theme string, board reach.Board) *Model {
	m := &Model{src: src, now: time.Now(), marked: map[string]bool{}, board: board}
	m.painter, m.auto = ink.ForTheme(theme)
	m.clear = slices.ContainsFunc(src.Devices, func(d Device) bool { return d.ClearText })
	if len(board.Entries) == 0 {
		var names []string
		for _, d := range src.Devices {
			names = append(names, d.Name)
		}
		m.board = reach.NewBoard(names)
	}
	m.regroup()
	return m
}

type (
	tickMsg   time.Time
	eventsMsg []reach.Event
	overMsg   struct{}
	leftMsg   struct{ err error }
)

// Init implements [tea.Model].
func (m *Model) Init() tea.Cmd {
	if m.auto {
		return tea.Batch(tick(), tea.RequestBackgroundColor)
	}
	return tick()
}

func tick() tea.Cmd {
	return tea.Every(250*time.Millisecond, func(t time.Time) tea.Msg { return tickMsg(t) })
}

func (m *Model) listen() tea.Cmd {
	events := m.events
	return func() tea.Msg {
		if e, ok := <-events; ok {
			return eventsMsg(e)
		}
		return overMsg{}
	}
}

const messageStays = 5 * time.Second

// Update implements [tea.Model].
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if m.auto && !msg.IsDark() {
			m.painter = ink.NewPainter(&ink.Light)
		}
	case tickMsg:
		m.now = time.Time(msg)
		if m.now.Sub(m.said) > messageStays {
			m.message = ""
		}
		return m, tick()
	case eventsMsg:
		m.board, m.now = m.board.Fold(msg...), time.Now()
		return m, m.listen()
	case overMsg:
		m.events = nil
		m.regroup()
	case leftMsg:
		if msg.err != nil {
			m.say("the console: " + msg.err.Error())
		}
	case tea.KeyPressMsg:
		m.message = ""
		return m, m.key(msg)
	}
	return m, nil
}

// Failed implements [safe.View]: what comes of reaching is listened to all the
// same.
func (m *Model) Failed(msg tea.Msg, mistake string) tea.Cmd {
	m.say("Metabasis has made a mistake: " + mistake)
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
	if m.running() {
		return []string{"Devices are being reached; nothing is changed on them."}
	}
	return nil
}

func (m *Model) say(text string) { m.message, m.said = text, time.Now() }

// running tells whether devices are being reached now.
func (m *Model) running() bool { return m.events != nil }

// groupName is the group that a device belongs to.
func (m *Model) groupName(i int) string {
	d := m.src.Devices[i]
	switch m.group {
	case bySite:
		return orNone(d.Site, "site")
	case byRole:
		return orNone(d.Role, "role")
	case byPlatform:
		return d.Platform
	}
	e := m.board.Entries[i]
	switch e.State {
	case reach.Failed:
		return fmt.Sprintf("%s: %s", e.Result.Failure.Stage.Noun(), e.Result.Failure.Common())
	case reach.Waiting:
		return "not reached yet"
	case reach.Reaching:
		return "being reached"
	}
	return "ready"
}

func orNone(v, what string) string {
	if v == "" {
		return "no " + what
	}
	return v
}

// regroup puts the devices into groups anew. It is done when the person asks for
// it and when reaching is over, so that nothing jumps while it goes on.
func (m *Model) regroup() {
	at := m.current()
	var names []string
	members := map[string][]int{}
	for i := range m.src.Devices {
		g := m.groupName(i)
		if members[g] == nil {
			names = append(names, g)
		}
		members[g] = append(members[g], i)
	}
	if m.group == byOutcome { // what needs somebody first: failures by how many, then the rest
		rank := func(g string) int {
			switch m.board.Entries[members[g][0]].State {
			case reach.Failed:
				return 0
			case reach.Reaching, reach.Waiting:
				return 1
			}
			return 2
		}
		slices.SortStableFunc(names, func(a, b string) int {
			stage := func(g string) reach.Stage { return m.board.Entries[members[g][0]].Stage }
			return cmp.Or(rank(a)-rank(b), len(members[b])-len(members[a]), cmp.Compare(stage(a), stage(b)))
		})
	}
	m.rows = nil
	for _, g := range names {
		m.rows = append(m.rows, row{heading: g, members: members[g], device: -1})
		for _, i := range members[g] {
			m.rows = append(m.rows, row{device: i})
		}
	}
	m.cursor = min(1, len(m.rows)-1)
	if at >= 0 {
		m.cursor = slices.IndexFunc(m.rows, func(r row) bool { return r.device == at })
	}
}

// current is the device under the cursor, -1 for none.
func (m *Model) current() int {
	if m.cursor < 0 || m.cursor >= len(m.rows) {
		return -1
	}
	return m.rows[m.cursor].device
}

// move moves the cursor by so many devices.
func (m *Model) move(n int) {
	step := 1
	if n < 0 {
		step = -1
	}
	for ; n != 0; n -= step {
		next := m.cursor + step
		for next >= 0 && next < len(m.rows) && m.rows[next].device < 0 {
			next += step
		}
		if next < 0 || next >= len(m.rows) {
			return
		}
		m.cursor = next
	}
}

// markedNames are the marked devices in the fleet's order.
func (m *Model) markedNames() []string {
	var out []string
	for _, d := range m.src.Devices {
		if m.marked[d.Name] {
			out = append(out, d.Name)
		}
	}
	return out
}

// meant are the devices that a key is for: those marked, else all.
func (m *Model) meant() []string {
	if names := m.markedNames(); len(names) > 0 {
		return names
	}
	var all []string
	for _, d := range m.src.Devices {
		all = append(all, d.Name)
	}
	return all
}

// fresh are the results whose host keys were shown for the first time.
func (m *Model) fresh() (out []*reach.Result) {
	for _, e := range m.board.Entries {
		if m.isFresh(e) {
			out = append(out, e.Result)
		}
	}
	return out
}

// isFresh tells whether a device waits for its new host key to be accepted.
func (m *Model) isFresh(e reach.Entry) bool {
	if m.src.Fingerprint == nil || e.Result == nil {
		return false
	}
	_, fresh := m.src.Fingerprint(e.Result)
	return fresh
}

// View implements [tea.Model].
func (m *Model) View() tea.View {
	v := tea.NewView(m.draw())
	v.AltScreen = true
	v.WindowTitle = "Metabasis · Fleet"
	return v
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

func list(names []string, n int) string {
	if len(names) <= n {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:n], ", "), len(names)-n)
}
