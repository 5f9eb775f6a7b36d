// Package grid shows one table read from many devices, with what few devices
// share first, to be sorted and filtered.
package grid

import (
	"context"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/table"
	"metabasis/internal/screen"
	"metabasis/internal/screen/console"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/screen/watch"
)

// sorting is how the rows are sorted: outliers first, or by a column; -1 is the
// device.
type sorting struct {
	outliers bool
	column   int
	down     bool
}

// View is the view's state.
type View struct {
	src     Source
	host    *screen.Host
	done    int // devices
	read    bool
	all     *table.Table // what was read
	sorted  table.Table  // that, with its outliers found
	shown   table.Table  // sorted and filtered
	odd     int
	telling []int // columns that tell devices apart
	widths  []int // cells of the device and of each column

	list   list.List
	top    int // row at which the list begins
	column int // that the cursor is in; -1 is the device
	sort   sorting
	filter string
}

// New makes the view. The table is read once it is opened.
func New(src Source) *View {
	v := &View{src: src, all: src.Table, sort: sorting{outliers: true}, column: -1}
	v.list = list.List{Len: func() int { return len(v.shown.Rows) }, Text: v.text, Draw: v.row}
	v.sorted = *src.Table
	v.widths = v.measure()
	v.arrange()
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "table " + v.all.Name }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) {
	v.host = h
	h.Go(func(ctx context.Context) {
		last := time.Now()
		t := v.src.Read(ctx, func(done int) {
			if time.Since(last) > everyWhile {
				last = time.Now()
				h.Then(func() {
					v.done = max(v.done, done)
					h.Progress("reading "+v.all.Name, v.done, v.src.Devices)
				})
			}
		})
		h.Then(func() {
			h.Progress("", 0, 0)
			v.arrive(t)
		})
	})
}

// everyWhile is how often the view is told how many devices are done.
const everyWhile = 50 * time.Millisecond

// Closed implements [screen.Closer].
func (v *View) Closed() error {
	if v.src.Close == nil {
		return nil
	}
	return v.src.Close()
}

// NotRead counts the devices that could not be read.
func (v *View) NotRead() int { return len(v.all.Failed) }

// Click implements [screen.Pointed].
func (v *View) Click(_, y int) { v.list.Click(y - v.top) }

// Wheel implements [screen.Pointed].
func (v *View) Wheel(rows int) { v.list.Wheel(rows) }

// arrive takes in the table once it has been read: what is unusual in it and how
// wide its columns are is found once.
func (v *View) arrive(t *table.Table) {
	v.all, v.read = t, true
	v.sorted = *t
	v.sorted.Rows = append([]table.Row(nil), t.Rows...)
	v.sorted.Sort(-1, false)
	v.odd = v.sorted.OutliersFirst()
	v.telling = v.sorted.Telling()
	v.widths = v.measure()
	v.arrange()
}

// arrange sorts and filters what was read.
func (v *View) arrange() {
	t := v.sorted
	if !v.sort.outliers {
		t.Rows = append([]table.Row(nil), v.sorted.Rows...)
		t.Sort(v.sort.column, v.sort.down)
	}
	if v.filter != "" {
		t = t.Filter(v.filter)
	}
	v.shown = t
	v.list.To(v.list.Cursor)
}

// Keys implements [screen.View].
func (v *View) Keys() []screen.Key {
	out := v.list.Moves("row")
	right := screen.On(keys.Right, "column", func() { v.column = min(v.column+1, len(v.shown.Columns)-1) })
	right.Binding.SetHelp("←→", keys.Right.Help().Desc)
	out = append(out, screen.On(keys.Left, "", func() { v.column = max(v.column-1, -1) }), right,
		screen.On(keys.Order, "order by it", v.order), screen.On(keys.Need, "outlier", v.nextOdd),
		screen.On(keys.Find, "find", func() { v.list.Find(v.host, "row") }), screen.On(keys.Only, "only", v.only))
	out = append(out, v.list.More(v.host)...)
	if v.src.Write != nil && v.read {
		out = append(out, screen.On(keys.Save, "save as CSV", v.write))
	}
	if device := v.device(); device != "" {
		if v.src.Said != nil {
			out = append(out, screen.On(keys.Open, "transcript", func() { watch.OpenTranscript(v.host, device, v.src.Said) }))
		}
		if v.src.Console != nil {
			out = append(out, screen.On(keys.Console, "console", func() {
				console.Work(v.host, device, v.src.Console(v.host.Context(), device), nil)
			}))
		}
	}
	return out
}

// device is that of the row under the cursor; "" for none.
func (v *View) device() string {
	if i := v.list.Cursor; i < len(v.shown.Rows) {
		return v.shown.Rows[i].Device
	}
	return ""
}

// DeviceHere implements [screen.OfDevices].
func (v *View) DeviceHere() string { return v.device() }

// order goes on from outliers first to the column under the cursor, rising, then
// falling, and back.
func (v *View) order() {
	switch {
	case v.sort.outliers || v.sort.column != v.column:
		v.sort = sorting{column: v.column}
	case !v.sort.down:
		v.sort.down = true
	default:
		v.sort = sorting{outliers: true}
	}
	v.arrange()
}

// nextOdd goes to the next row with something unusual.
func (v *View) nextOdd() {
	n := len(v.shown.Rows)
	for k := 1; k <= n; k++ {
		i := (v.list.Cursor + k) % n
		for c := range v.shown.Columns {
			if v.sorted.Odd(v.shown.Rows[i], c) {
				v.list.To(i)
				return
			}
		}
	}
	v.host.Say("nothing here is unusual")
}

// only shows only the rows that have a text.
func (v *View) only() {
	show := func(text string) { v.filter = text; v.arrange() }
	v.host.Type(screen.Line{Label: "only rows with", Text: v.filter, Each: show,
		Done: func(text string) error { show(text); return nil }, Left: func() { show("") }})
}

// text is what finding looks in.
func (v *View) text(i int) string {
	r := v.shown.Rows[i]
	parts := []string{r.Device}
	for k, c := range v.shown.Columns {
		parts = append(parts, c.Text(r.Values[k]))
	}
	return strings.Join(parts, " ")
}

func (v *View) write() {
	if v.src.Write == nil || !v.read {
		return
	}
	path, err := v.src.Write(&v.shown)
	if err != nil {
		v.host.Say(err.Error())
		return
	}
	v.host.Say(fmt.Sprintf("written to %s: %d of %d rows", path, len(v.shown.Rows), len(v.all.Rows)))
}

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	rows := []ink.Row{v.title(f.Cells), v.attention(f), {}, v.head()}
	v.top = len(rows)
	failed := v.failed()
	body := v.list.Rows(f.Cells, f.Height-len(rows)-len(failed))
	rows = append(rows, body...)
	for len(rows) < f.Height-len(failed) {
		rows = append(rows, ink.Row{})
	}
	return append(rows, failed...)
}

func (v *View) title(cells int) ink.Row {
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, v.all.Name).Add(ink.Dim, "  "+v.src.Title)
	how := "outliers first"
	if !v.sort.outliers {
		how = "by " + v.columnName(v.sort.column)
		if v.sort.down {
			how += ", falling"
		}
	}
	right := ink.T(ink.Dim, how+" ")
	if v.filter != "" {
		right = ink.T(ink.Lamp, fmt.Sprintf("only rows with %q  ", v.filter)).Then(right)
	}
	return ink.Cut(r, max(cells-right.Width()-1, 0)).Add(ink.Foam, " ").Then(right)
}

func (v *View) columnName(i int) string {
	if i < 0 {
		return "device"
	}
	return v.shown.Columns[i].Name
}

// attention says first what is unusual.
func (v *View) attention(f screen.Frame) ink.Row {
	r := ink.T(ink.Foam, " ")
	if !v.read {
		return r.Strong(ink.Tide, fmt.Sprintf("Reading: %d of %d devices done.  ", v.done, v.src.Devices)).
			Then(screen.Bar(f.Painter, v.done, v.src.Devices, 24))
	}
	cols := v.telling
	if i := v.all.Column(v.src.By); i >= 0 {
		cols = []int{i}
	}
	if n := len(v.all.Failed); n > 0 {
		r = r.Strong(ink.Port, fmt.Sprintf("▲ %d of %d devices not read. ", n, v.src.Devices))
	}
	switch {
	case len(v.all.Rows) == 0:
		r = r.Strong(ink.Lamp, "Nothing was read.")
	case v.odd > 0:
		r = r.Strong(ink.Lamp, fmt.Sprintf("◆ %s unlike most. ", rowsWord(v.odd)))
	default:
		r = r.Strong(ink.Buoy, "● Nothing unusual. ")
	}
	for _, i := range cols[:min(len(cols), 2)] {
		r = r.Strong(ink.Foam, v.all.Columns[i].Name+": ").Add(ink.Foam, v.all.Summary(i)+"  ")
	}
	r.Marked = v.odd > 0 || len(v.all.Failed) > 0
	return r
}

func rowsWord(n int) string {
	if n == 1 {
		return "1 row is"
	}
	return fmt.Sprintf("%d rows are", n)
}

// measure finds the cells of the device and of each column.
func (v *View) measure() []int {
	out := make([]int, len(v.all.Columns)+1)
	out[0] = len("device")
	for i, c := range v.all.Columns {
		out[i+1] = len([]rune(c.Name))
	}
	for _, r := range v.all.Rows {
		out[0] = max(out[0], len([]rune(r.Device))+v.mark(r.Device))
		for i, c := range v.all.Columns {
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
func (v *View) mark(device string) int {
	if v.src.ClearText[device] {
		return len(clearText) + 1
	}
	return 0
}

func (v *View) head() ink.Row {
	w := v.widths
	r := ink.T(ink.Foam, "   ")
	for i := -1; i < len(v.shown.Columns); i++ {
		text := v.columnName(i)
		if i == v.column {
			r = r.Strong(ink.Lamp, ink.Fit("▾"+text, w[i+1]))
			continue
		}
		r = r.Add(ink.Dim, ink.Fit(text, w[i+1]))
	}
	return r
}

// row draws a row of the table.
func (v *View) row(k int, here bool, cells int) ink.Row {
	row, w := v.shown.Rows[k], v.widths
	r := ink.T(ink.Foam, " ")
	if here {
		r = ink.T(ink.Lamp, "▌")
	}
	values, odd := ink.Row{}, false
	for i, c := range v.shown.Columns {
		text := ink.Fit(c.Text(row.Values[i]), w[i+1])
		if v.sorted.Odd(row, i) {
			values, odd = values.Strong(ink.Lamp, text), true
			continue
		}
		values = values.Add(ink.Foam, text)
	}
	mark := "  "
	if odd {
		mark = "◆ "
	}
	r = r.Add(ink.Lamp, mark)
	if v.src.ClearText[row.Device] {
		r = r.Add(ink.Foam, row.Device+" ").Strong(ink.Lamp, ink.Fit(clearText, w[0]-len([]rune(row.Device))-1))
	} else {
		r = r.Col(ink.Foam, row.Device, w[0])
	}
	return ink.Cut(r.Then(values), cells)
}

// failed lists the devices that could not be read, as many as have room.
func (v *View) failed() []ink.Row {
	var rows []ink.Row
	if !v.read {
		return nil
	}
	for i, f := range v.all.Failed {
		if i == 4 && len(v.all.Failed) > 5 {
			rows = append(rows, ink.T(ink.Port, fmt.Sprintf(" ▲ and %d more were not read", len(v.all.Failed)-4)))
			break
		}
		rows = append(
			rows,
			ink.T(ink.Foam, " ").Strong(ink.Port, "▲ "+f.Device+" was not read: ").Add(ink.Foam, strings.ReplaceAll(f.Why, "\n", " ")),
		)
	}
	if len(v.all.Empty) > 0 {
		rows = append(rows, ink.T(ink.Dim, " "+strings.Join(v.all.Empty[:min(len(v.all.Empty), 6)], ", ")+": no rows"))
	}
	return rows
}
