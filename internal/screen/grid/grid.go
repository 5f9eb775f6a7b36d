// Package grid shows one table read from many devices, with what few devices
// share first, to be sorted and filtered.
package grid

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/table"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/safe"
)

// Source is where the table comes from.
type Source struct {
	Title   string
	Table   *table.Table // its columns; the rows come from Fill
	Devices int
	By      string // the column to sum up by; "" for those that tell devices apart
	// ClearText names the devices that are reached without encryption.
	ClearText map[string]bool
	// Fill reads the table. Each is told how many devices are done.
	Fill func(ctx context.Context, each func(done int)) *table.Table
	// Console works a device by hand; nil when that cannot be done.
	Console func(device string) tea.ExecCommand
	// Write writes the rows that are shown to a file and returns its name.
	Write func(t *table.Table) (string, error)
}

// Run shows the table until the person leaves, and returns it as it was read.
func Run(ctx context.Context, src Source, theme string, opts ...tea.ProgramOption) (*table.Table, error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	m := New(ctx, src, theme)
	_, err := tea.NewProgram(safe.Guard(m), append([]tea.ProgramOption{tea.WithContext(ctx), tea.WithFPS(30)}, opts...)...).Run()
	cancel()
	for range m.news { // until reading has ended
	}
	return m.all, err
}

// sorting is how the rows are sorted: outliers first, or by a column; -1 is the
// device.
type sorting struct {
	outliers bool
	column   int
	down     bool
}

// Model is the view's state.
type Model struct {
	src     Source
	ctx     context.Context
	painter *ink.Painter
	auto    bool
	news    chan any // int: devices done; *table.Table: over
	done    int
	read    bool
	all     *table.Table // what was read
	sorted  table.Table  // that, with its outliers found
	shown   table.Table  // sorted and filtered
	odd     int
	telling []int // columns that tell devices apart
	widths  []int // cells of the device and of each column

	width, height, cursor, top int
	column                     int // that the cursor is in; -1 is the device
	sort                       sorting
	filter                     string
	typing                     bool
	message                    string
}

// New makes the view's state and begins to read.
func New(ctx context.Context, src Source, theme string) *Model {
	m := &Model{src: src, ctx: ctx, news: make(chan any, 1), all: src.Table, sort: sorting{outliers: true}, column: -1}
	m.painter, m.auto = ink.ForTheme(theme)
	go func() { // it ends by itself, at the latest when ctx does
		defer close(m.news)
		m.news <- src.Fill(ctx, func(done int) {
			select {
			case m.news <- done:
			default: // nobody looks: the next one will do
			}
		})
	}()
	m.sorted = *src.Table
	m.widths = m.measure()
	m.arrange()
	return m
}

type (
	newsMsg struct{ of any }
	overMsg struct{}
	leftMsg struct{ err error } // the console was left
)

// Init implements [tea.Model].
func (m *Model) Init() tea.Cmd {
	if m.auto {
		return tea.Batch(m.listen(), tea.RequestBackgroundColor)
	}
	return m.listen()
}

func (m *Model) listen() tea.Cmd {
	return func() tea.Msg {
		if n, ok := <-m.news; ok {
			return newsMsg{n}
		}
		return overMsg{}
	}
}

// Update implements [tea.Model].
func (m *Model) Update(msg tea.Msg) (tea.Model, tea.Cmd) {
	switch msg := msg.(type) {
	case tea.WindowSizeMsg:
		m.width, m.height = msg.Width, msg.Height
	case tea.BackgroundColorMsg:
		if m.auto && !msg.IsDark() {
			m.painter = ink.NewPainter(&ink.Light)
		}
	case newsMsg:
		switch n := msg.of.(type) {
		case int:
			m.done = n
		case *table.Table:
			m.arrive(n)
		}
		return m, m.listen()
	case leftMsg:
		if msg.err != nil {
			m.message = "the console: " + msg.err.Error()
		}
	case tea.KeyPressMsg:
		m.message = ""
		return m, m.key(msg.String(), msg.Text)
	}
	return m, nil
}

// Failed implements [safe.View].
func (m *Model) Failed(msg tea.Msg, mistake string) tea.Cmd {
	m.message = "Metabasis has made a mistake: " + mistake
	if _, ok := msg.(newsMsg); ok {
		return m.listen()
	}
	return nil
}

// Plain implements [safe.View].
func (m *Model) Plain() []string { return []string{"The table is read all the same; q leaves."} }

// arrive takes in the table once it has been read: what is unusual in it and how
// wide its columns are is found once.
func (m *Model) arrive(t *table.Table) {
	m.all, m.read = t, true
	m.sorted = *t
	m.sorted.Rows = append([]table.Row(nil), t.Rows...)
	m.sorted.Sort(-1, false)
	m.odd = m.sorted.OutliersFirst()
	m.telling = m.sorted.Telling()
	m.widths = m.measure()
	m.arrange()
}

// arrange sorts and filters what was read.
func (m *Model) arrange() {
	t := m.sorted
	if !m.sort.outliers {
		t.Rows = append([]table.Row(nil), m.sorted.Rows...)
		t.Sort(m.sort.column, m.sort.down)
	}
	if m.filter != "" {
		t = t.Filter(m.filter)
	}
	m.shown = t
	m.cursor = min(m.cursor, max(len(t.Rows)-1, 0))
}

func (m *Model) key(name, text string) tea.Cmd {
	if name == "ctrl+c" {
		return tea.Quit
	}
	if m.typing {
		m.typeKey(name, text)
		return nil
	}
	page := max(m.height-9, 1)
	last := max(len(m.shown.Rows)-1, 0)
	switch name {
	case "up", "k":
		m.cursor = max(m.cursor-1, 0)
	case "down", "j":
		m.cursor = min(m.cursor+1, last)
	case "pgup":
		m.cursor = max(m.cursor-page, 0)
	case "pgdown":
		m.cursor = min(m.cursor+page, last)
	case "home":
		m.cursor = 0
	case "end":
		m.cursor = last
	case "left", "h":
		m.column = max(m.column-1, -1)
	case "right", "l":
		m.column = min(m.column+1, len(m.shown.Columns)-1)
	case "s":
		m.sort = sorting{column: m.column, down: !m.sort.outliers && m.sort.column == m.column && !m.sort.down}
		m.arrange()
	case "o":
		m.sort = sorting{outliers: true}
		m.arrange()
	case "/":
		m.typing = true
	case "w":
		m.write()
	case "c":
		if m.src.Console != nil && m.cursor < len(m.shown.Rows) {
			return tea.Exec(m.src.Console(m.shown.Rows[m.cursor].Device), func(err error) tea.Msg { return leftMsg{err} })
		}
	case "q", "esc":
		if m.filter != "" && name == "esc" {
			m.filter = ""
			m.arrange()
			return nil
		}
		return tea.Quit
	}
	return nil
}

func (m *Model) write() {
	if m.src.Write == nil || !m.read {
		return
	}
	path, err := m.src.Write(&m.shown)
	if err != nil {
		m.message = err.Error()
		return
	}
	m.message = fmt.Sprintf("written to %s: %d of %d rows", path, len(m.shown.Rows), len(m.all.Rows))
}

func (m *Model) typeKey(name, text string) {
	switch name {
	case "enter":
		m.typing = false
	case "esc":
		m.typing, m.filter = false, ""
	case "backspace":
		if r := []rune(m.filter); len(r) > 0 {
			m.filter = string(r[:len(r)-1])
		}
	default:
		if len(m.filter) < 80 {
			m.filter += text
		}
	}
	m.arrange()
}

// View implements [tea.Model].
func (m *Model) View() tea.View {
	v := tea.NewView(m.draw())
	v.AltScreen = true
	v.WindowTitle = "Metabasis · " + m.all.Name
	return v
}

func (m *Model) draw() string {
	if m.width == 0 {
		return ""
	}
	if page, small := m.painter.TooSmall(m.width, m.height); small {
		return page
	}
	rows := []ink.Row{m.title(), m.attention(), {}, m.head()}
	failed := m.failed()
	body := m.height - len(rows) - len(failed) - 1
	rows = append(rows, m.lines(body)...)
	for len(rows) < m.height-1-len(failed) {
		rows = append(rows, ink.Row{})
	}
	rows = append(rows, failed...)
	return m.painter.Page(append(rows, m.foot()), m.width, m.height)
}

func (m *Model) title() ink.Row {
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, m.all.Name).Add(ink.Dim, "  "+m.src.Title)
	how := "outliers first"
	if !m.sort.outliers {
		how = "by " + m.columnName(m.sort.column)
		if m.sort.down {
			how += ", falling"
		}
	}
	right := ink.T(ink.Dim, how+" ")
	if m.filter != "" {
		right = ink.T(ink.Lamp, fmt.Sprintf("only rows with %q  ", m.filter)).Then(right)
	}
	return ink.Cut(r, max(m.width-right.Width()-1, 0)).Add(ink.Foam, " ").Then(right)
}

func (m *Model) columnName(i int) string {
	if i < 0 {
		return "device"
	}
	return m.shown.Columns[i].Name
}

// attention says first what is unusual.
func (m *Model) attention() ink.Row {
	r := ink.T(ink.Foam, " ")
	if !m.read {
		return r.Strong(ink.Tide, fmt.Sprintf("Reading: %d of %d devices done.", m.done, m.src.Devices))
	}
	cols := m.telling
	if i := m.all.Column(m.src.By); i >= 0 {
		cols = []int{i}
	}
	if n := len(m.all.Failed); n > 0 {
		r = r.Strong(ink.Port, fmt.Sprintf("▲ %d of %d devices not read. ", n, m.src.Devices))
	}
	switch {
	case len(m.all.Rows) == 0:
		r = r.Strong(ink.Lamp, "Nothing was read.")
	case m.odd > 0:
		r = r.Strong(ink.Lamp, fmt.Sprintf("◆ %s unlike most. ", rowsWord(m.odd)))
	default:
		r = r.Strong(ink.Buoy, "● Nothing unusual. ")
	}
	for _, i := range cols[:min(len(cols), 2)] {
		r = r.Strong(ink.Foam, m.all.Columns[i].Name+": ").Add(ink.Foam, m.all.Summary(i)+"  ")
	}
	r.Marked = m.odd > 0 || len(m.all.Failed) > 0
	return r
}

func rowsWord(n int) string {
	if n == 1 {
		return "1 row is"
	}
	return fmt.Sprintf("%d rows are", n)
}

// measure finds the cells of the device and of each column.
func (m *Model) measure() []int {
	out := make([]int, len(m.all.Columns)+1)
	out[0] = len("device")
	for i, c := range m.all.Columns {
		out[i+1] = len([]rune(c.Name))
	}
	for _, r := range m.all.Rows {
		out[0] = max(out[0], len([]rune(r.Device))+m.mark(r.Device))
		for i, c := range m.all.Columns {
			out[i+1] = max(out[i+1], len([]rune(c.Text(r.Values[i]))))
		}
	}
	for i := range out {
		out[i] = min(out[i], 40) + 2
	}
	return out
}

// clearText marks a device that is reached without encryption.
const clearText = "clear text"

// mark is the cells that the mark on a device takes.
func (m *Model) mark(device string) int {
	if m.src.ClearText[device] {
		return len(clearText) + 1
	}
	return 0
}

func (m *Model) head() ink.Row {
	w := m.widths
	r := ink.T(ink.Foam, "   ")
	for i := -1; i < len(m.shown.Columns); i++ {
		text := m.columnName(i)
		if i == m.column {
			r = r.Strong(ink.Lamp, ink.Fit("▾"+text, w[i+1]))
			continue
		}
		r = r.Add(ink.Dim, ink.Fit(text, w[i+1]))
	}
	return r
}

func (m *Model) lines(height int) []ink.Row {
	m.top = max(min(m.top, m.cursor), m.cursor-height+1)
	w := m.widths
	var out []ink.Row
	for k := m.top; k < min(m.top+height, len(m.shown.Rows)); k++ {
		row := m.shown.Rows[k]
		r := ink.T(ink.Foam, " ")
		if k == m.cursor {
			r = ink.T(ink.Lamp, "▌")
		}
		cells, odd := ink.Row{}, false
		for i, c := range m.shown.Columns {
			text := ink.Fit(c.Text(row.Values[i]), w[i+1])
			if m.sorted.Odd(row, i) {
				cells, odd = cells.Strong(ink.Lamp, text), true
				continue
			}
			cells = cells.Add(ink.Foam, text)
		}
		mark := "  "
		if odd {
			mark = "◆ "
		}
		r = r.Add(ink.Lamp, mark)
		if m.src.ClearText[row.Device] {
			r = r.Add(ink.Foam, row.Device+" ").Strong(ink.Lamp, ink.Fit(clearText, w[0]-len([]rune(row.Device))-1)).Then(cells)
		} else {
			r = r.Col(ink.Foam, row.Device, w[0]).Then(cells)
		}
		r.Marked = k == m.cursor
		out = append(out, r)
	}
	return out
}

// failed lists the devices that could not be read, as many as have room.
func (m *Model) failed() []ink.Row {
	var rows []ink.Row
	if !m.read {
		return nil
	}
	for i, f := range m.all.Failed {
		if i == 4 && len(m.all.Failed) > 5 {
			rows = append(rows, ink.T(ink.Port, fmt.Sprintf(" ▲ and %d more were not read", len(m.all.Failed)-4)))
			break
		}
		rows = append(rows, ink.T(ink.Foam, " ").Strong(ink.Port, "▲ "+f.Device+" was not read: ").Add(ink.Foam, strings.ReplaceAll(f.Why, "\n", " ")))
	}
	if len(m.all.Empty) > 0 {
		rows = append(rows, ink.T(ink.Dim, " "+strings.Join(m.all.Empty[:min(len(m.all.Empty), 6)], ", ")+": no rows"))
	}
	return rows
}

func (m *Model) foot() ink.Row {
	r := ink.T(ink.Foam, " ")
	if m.typing {
		return r.Strong(ink.Lamp, "only rows with ").Add(ink.Foam, m.filter+"▏")
	}
	if m.message != "" {
		return r.Strong(ink.Lamp, m.message)
	}
	ks := []ink.Key{ink.K("↑↓", "row"), ink.K("←→", "column"), ink.K("s", "sort by it"), ink.K("o", "outliers first"),
		ink.K("/", "filter"), ink.K("w", "write CSV")}
	if m.src.Console != nil && len(m.shown.Rows) > 0 {
		ks = append(ks, ink.K("c", "console"))
	}
	return ink.Keys(append(ks, ink.K("q", "leave")), m.width)
}
