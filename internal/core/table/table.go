// Package table holds one table read from many devices, and finds what is
// unusual in it: values that few devices share.
package table

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/maruel/natural"

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
	// Sites are those of the devices: what is the same all over a site is so on purpose. nil
	// is not known.
	Sites map[string]string

	groups map[string]*group // found by OutliersFirst
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

// Sort sorts the rows by a column, or by the device when it is -1. Numbers in
// text count as numbers: quay-2 comes before quay-10.
func (t *Table) Sort(column int, down bool) {
	slices.SortStableFunc(t.Rows, func(a, b Row) int {
		n := 0
		if column < 0 {
			n = natural.Compare(a.Device, b.Device)
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
	if a == nil || b == nil { // what is missing comes first
		return cmp.Compare(btoi(a != nil), btoi(b != nil))
	}
	return natural.Compare(fmt.Sprint(a), fmt.Sprint(b))
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
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
