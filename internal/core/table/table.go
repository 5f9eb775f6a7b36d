// Package table holds one table read from many devices, and finds what is
// unusual in it: values that few devices share.
package table

import (
	"cmp"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/runbook"
)

// Column is a column of the table.
type Column struct {
	Name string
	Type runbook.ColumnType
	Size bool // a number of bytes
}

// Row is a row of one device. A value is a string, a float64 or a bool; nil
// where the device's platform has no such column. Devices are compared within
// their group, such as a platform: what is usual for one is not for another.
type Row struct {
	Device string
	Group  string
	Values []any
}

// Failed is a device that could not be read.
type Failed struct {
	Device string `json:"device"`
	Why    string `json:"why"`
}

// Table is a table over many devices.
type Table struct {
	Name    string
	Columns []Column
	Rows    []Row
	Empty   []string // devices whose table has no rows
	Failed  []Failed
	Many    bool // a device may have many rows

	groups map[string]*group // found by OutliersFirst
}

// group is what the devices of one group have in common.
type group struct {
	devices int
	tallies []map[string]int // devices by value, for each column
	telling []bool           // by column
}

// Column returns the index of a column, -1 when there is none.
func (t *Table) Column(name string) int {
	return slices.IndexFunc(t.Columns, func(c Column) bool { return c.Name == name })
}

// Add adds what a device was read: a map[string]any, or a []map[string]any.
func (t *Table) Add(device, group string, v any) {
	switch rows := v.(type) {
	case map[string]any:
		t.row(device, group, rows)
	case []map[string]any:
		t.Many = true
		for _, r := range rows {
			t.row(device, group, r)
		}
		if len(rows) == 0 {
			t.Empty = append(t.Empty, device)
		}
	}
}

func (t *Table) row(device, group string, r map[string]any) {
	values := make([]any, len(t.Columns))
	for i, c := range t.Columns {
		values[i] = r[c.Name]
	}
	t.Rows = append(t.Rows, Row{device, group, values})
}

// Text shows a value as people read it.
func (c Column) Text(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case bool:
		if x {
			return "yes"
		}
		return "no"
	case float64:
		switch {
		case c.Type == runbook.TimeColumn:
			return time.Unix(0, int64(x*1e9)).UTC().Format("2006-01-02 15:04:05")
		case c.Size && x >= 1e9:
			return short(x/1e9) + " GB"
		case c.Size && x >= 1e6:
			return short(x/1e6) + " MB"
		case c.Size && x >= 1e3:
			return short(x/1e3) + " KB"
		}
		return strconv.FormatFloat(x, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

// short writes a number with one decimal at most.
func short(x float64) string { return strings.TrimSuffix(strconv.FormatFloat(x, 'f', 1, 64), ".0") }

// Count is how many devices have a value.
type Count struct {
	Value   string
	Devices int
}

// tally counts the devices of a group that have each value of a column, the most
// common first.
func (t *Table) tally(in string, column int) []Count {
	seen := map[string]map[string]bool{}
	for _, r := range t.Rows {
		if r.Group != in {
			continue
		}
		v := t.Columns[column].Text(r.Values[column])
		if seen[v] == nil {
			seen[v] = map[string]bool{}
		}
		seen[v][r.Device] = true
	}
	var out []Count
	for v, devices := range seen {
		out = append(out, Count{v, len(devices)})
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Value, b.Value))
	})
	return out
}

// Groups lists the groups in the order of their first rows.
func (t *Table) Groups() (out []string) {
	for _, r := range t.Rows {
		if !slices.Contains(out, r.Group) {
			out = append(out, r.Group)
		}
	}
	return out
}

// analyse finds what the devices of each group have in common.
func (t *Table) analyse() {
	t.groups = map[string]*group{}
	for _, name := range t.Groups() {
		g := &group{devices: t.devicesIn(name)}
		for i, c := range t.Columns {
			tally := t.tally(name, i)
			counts := map[string]int{}
			for _, n := range tally {
				counts[n.Value] = n.Devices
			}
			g.tallies = append(g.tallies, counts)
			g.telling = append(g.telling, tells(c, tally, g.devices))
		}
		t.groups[name] = g
	}
}

// tells tells whether a column tells devices apart in a way worth looking at: it
// has more than one value, most devices share theirs with others, and not all
// have all of them. Times, serial numbers and the like are different on every
// device, the numbers of ports the same on all: they tell nothing.
func tells(c Column, tally []Count, devices int) bool {
	if c.Type == runbook.TimeColumn || len(tally) == 0 || tally[len(tally)-1].Devices == devices {
		return false
	}
	shared, all := 0, 0
	for _, n := range tally {
		all += n.Devices
		if n.Devices > 1 {
			shared += n.Devices
		}
	}
	return len(tally) > 1 && 2*shared > all
}

// Telling lists the columns that tell devices of some group apart.
func (t *Table) Telling() (out []int) {
	if t.groups == nil {
		t.analyse()
	}
	for i := range t.Columns {
		for _, g := range t.groups {
			if g.telling[i] {
				out = append(out, i)
				break
			}
		}
	}
	return out
}

// rarity tells how unusual a value is in its group: the share of devices that do
// not have it, if few have it; else 0.
func (t *Table) rarity(r Row, column int) float64 {
	g := t.groups[r.Group]
	if g == nil || !g.telling[column] {
		return 0
	}
	share := float64(g.tallies[column][t.Columns[column].Text(r.Values[column])]) / float64(max(g.devices, 1))
	if share >= 0.5 {
		return 0
	}
	return 1 - share
}

// Odd tells whether a value of a row is one that few devices of its group share.
// OutliersFirst must have looked at the table.
func (t *Table) Odd(r Row, column int) bool { return t.rarity(r, column) > 0 }

// OutliersFirst sorts the rows so that those with values which few devices share
// come first; the others stay as they are. It returns how many those are.
func (t *Table) OutliersFirst() int {
	t.analyse()
	score := make(map[*Row]float64, len(t.Rows))
	rows := make([]*Row, len(t.Rows))
	odd := 0
	for k := range t.Rows {
		r := &t.Rows[k]
		rows[k] = r
		for i := range t.Columns {
			score[r] = max(score[r], t.rarity(*r, i))
		}
		if score[r] > 0 {
			odd++
		}
	}
	slices.SortStableFunc(rows, func(a, b *Row) int { return cmp.Compare(score[b], score[a]) })
	sorted := make([]Row, len(rows))
	for k, r := range rows {
		sorted[k] = *r
	}
	t.Rows = sorted
	return odd
}

// devicesIn counts the devices of a group that have rows.
func (t *Table) devicesIn(group string) int {
	seen := map[string]bool{}
	for _, r := range t.Rows {
		if r.Group == group {
			seen[r.Device] = true
		}
	}
	return len(seen)
}

// Devices counts the devices with rows.
func (t *Table) Devices() int {
	seen := map[string]bool{}
	for _, r := range t.Rows {
		seen[r.Device] = true
	}
	return len(seen)
}

// Sort sorts the rows by a column, or by the device when it is -1.
func (t *Table) Sort(column int, down bool) {
	slices.SortStableFunc(t.Rows, func(a, b Row) int {
		n := 0
		if column < 0 {
			n = cmp.Compare(a.Device, b.Device)
		} else {
			n = compare(a.Values[column], b.Values[column])
		}
		if down {
			return -n
		}
		return n
	})
}

func compare(a, b any) int {
	x, ok1 := a.(float64)
	y, ok2 := b.(float64)
	if ok1 && ok2 {
		return cmp.Compare(x, y)
	}
	return cmp.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

// Filter keeps the rows in which some cell has the text, in any case.
func (t *Table) Filter(text string) Table {
	out := *t
	out.Rows = nil
	text = strings.ToLower(text)
	for _, r := range t.Rows {
		hit := strings.Contains(strings.ToLower(r.Device), text)
		for i, c := range t.Columns {
			hit = hit || strings.Contains(strings.ToLower(c.Text(r.Values[i])), text)
		}
		if hit {
			out.Rows = append(out.Rows, r)
		}
	}
	return out
}

// Summary says in a line what the devices have in common in a column: "19 have
// 4.2, 2 have 4.1". With several groups, it says so of each.
func (t *Table) Summary(column int) string {
	groups := t.Groups()
	var parts []string
	for _, g := range groups {
		text := t.summary(g, column)
		if len(groups) > 1 {
			text = g + ": " + text
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

func (t *Table) summary(group string, column int) string {
	var parts []string
	tally := t.tally(group, column)
	for i, c := range tally {
		if i == 4 && len(tally) > 5 {
			parts = append(parts, fmt.Sprintf("and %d more values", len(tally)-4))
			break
		}
		v := c.Value
		if v == "" {
			v = "nothing"
		}
		verb := "have"
		if c.Devices == 1 {
			verb = "has"
		}
		parts = append(parts, fmt.Sprintf("%d %s %s", c.Devices, verb, v))
	}
	return strings.Join(parts, ", ")
}

// WriteCSV writes the table as RFC 4180 has it. Times are as in RFC 3339, sizes
// in bytes. Text that a spreadsheet would run as a formula is quoted by an
// apostrophe: it comes from devices.
func (t *Table) WriteCSV(w io.Writer) error {
	out := csv.NewWriter(w)
	head := []string{"device"}
	for _, c := range t.Columns {
		head = append(head, c.Name)
	}
	_ = out.Write(head)
	for _, r := range t.Rows {
		line := []string{r.Device}
		for i, c := range t.Columns {
			line = append(line, harmless(plain(c, r.Values[i])))
		}
		_ = out.Write(line)
	}
	out.Flush()
	return out.Error()
}

func harmless(v any) string {
	s, isText := v.(string)
	if isText && s != "" && strings.ContainsRune("=+@-\t\r", rune(s[0])) {
		if _, err := strconv.ParseFloat(s, 64); err != nil && s != "-" {
			return "'" + s
		}
	}
	if v == nil {
		return ""
	}
	if f, ok := v.(float64); ok {
		return strconv.FormatFloat(f, 'f', -1, 64)
	}
	return fmt.Sprint(v)
}

// plain is a value as programs read it.
func plain(c Column, v any) any {
	if f, ok := v.(float64); ok && c.Type == runbook.TimeColumn {
		return time.Unix(0, int64(f*1e9)).UTC().Format(time.RFC3339)
	}
	return v
}

// WriteJSON writes the table as one object.
func (t *Table) WriteJSON(w io.Writer) error {
	rows := []map[string]any{}
	for _, r := range t.Rows {
		row := map[string]any{"device": r.Device}
		for i, c := range t.Columns {
			if v := plain(c, r.Values[i]); v != nil {
				row[c.Name] = v
			}
		}
		rows = append(rows, row)
	}
	failed := t.Failed
	if failed == nil {
		failed = []Failed{}
	}
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(map[string]any{"table": t.Name, "rows": rows, "failed": failed})
}

// WriteText writes the table as people read it.
func (t *Table) WriteText(w io.Writer) error {
	widths := make([]int, len(t.Columns)+1)
	cells := [][]string{{"device"}}
	for _, c := range t.Columns {
		cells[0] = append(cells[0], c.Name)
	}
	for _, r := range t.Rows {
		line := []string{r.Device}
		for i, c := range t.Columns {
			line = append(line, c.Text(r.Values[i]))
		}
		cells = append(cells, line)
	}
	for _, line := range cells {
		for i, s := range line {
			widths[i] = max(widths[i], len([]rune(s)))
		}
	}
	for _, line := range cells {
		var b strings.Builder
		for i, s := range line {
			b.WriteString(s + strings.Repeat(" ", widths[i]-len([]rune(s))+2))
		}
		if _, err := fmt.Fprintln(w, strings.TrimRight(b.String(), " ")); err != nil {
			return err
		}
	}
	return nil
}
