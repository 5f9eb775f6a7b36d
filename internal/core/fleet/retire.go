package fleet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
)

// Retired is a device that stands in the file and is worked on no more: its column retired
// says why. It is in no scope.
type Retired struct {
	Name, Why string
	Line      int
}

// RetiredColumn is the column that retires a device.
const RetiredColumn = "retired"

// Replacement is a device that takes another's place in a fleet file.
type Replacement struct {
	Old, New string
	Why      string // the old one is retired
	// Set are values of the new one, by column; they go before those of the old one. Columns
	// that the file does not have are added.
	Set map[string]string
}

// own are the columns that a new device does not take from the one whose place it takes.
var own = []string{"name", "address", "port", "platform", "protocol", "algorithms", RetiredColumn, CallsColumn, SerialColumn, "version"}

// Replace changes the text of a fleet.csv: the new device has what the old one had, such as
// its site, its role and its pair, the old one is retired, and whoever was reached through
// it is reached through the new one. All other lines stay as they are, to the letter.
func Replace(data []byte, r Replacement) ([]byte, error) {
	cr := newSheet(data)
	lines := strings.SplitAfter(string(data), "\n")
	head, err := cr.Read()
	if err != nil {
		return nil, fmt.Errorf("the fleet file: %w", err)
	}
	at, _ := cr.FieldPos(0)
	e := &editor{columns: make([]string, len(head)), lines: lines, comma: cr.Comma}
	for i, h := range head {
		e.columns[i] = headName(h)
	}
	for _, c := range append([]string{RetiredColumn}, slices.Sorted(maps.Keys(r.Set))...) {
		if !slices.Contains(e.columns, c) {
			e.columns = append(e.columns, c)
			e.lines[at-1] = strings.TrimRight(e.lines[at-1], "\r\n") + string(cr.Comma) + c + lineEnd(e.lines[at-1])
		}
	}
	if err := e.read(cr); err != nil {
		return nil, err
	}
	old, isOld := e.find(r.Old)
	fresh, isNew := e.find(r.New)
	switch {
	case r.Old == r.New:
		return nil, fmt.Errorf("%s cannot take its own place: the new device has a line, and a name, of its own", r.Old)
	case !isOld:
		return nil, fmt.Errorf("there is no line of %s in the fleet file", r.Old)
	case old.get(e, RetiredColumn) != "":
		return nil, fmt.Errorf("%s is retired already: %s", r.Old, old.get(e, RetiredColumn))
	case !isNew:
		return nil, fmt.Errorf("there is no line of %s in the fleet file", r.New)
	}
	for _, c := range e.columns {
		if !slices.Contains(own, c) && fresh.get(e, c) == "" {
			fresh.set(e, c, old.get(e, c))
		}
	}
	for c, v := range r.Set {
		fresh.set(e, c, v)
	}
	old.set(e, RetiredColumn, r.Why)
	old.set(e, "pair", "")
	for _, rec := range e.records {
		if rec.get(e, "via") == r.Old && rec != old {
			rec.set(e, "via", r.New)
		}
	}
	return e.bytes()
}

// Add adds a line of a device to the text of a fleet.csv, with values by column.
func Add(data []byte, values map[string]string) ([]byte, error) {
	cr := newSheet(data)
	head, err := cr.Read()
	if err != nil {
		return nil, fmt.Errorf("the fleet file: %w", err)
	}
	row := make([]string, len(head))
	for i, h := range head {
		row[i] = values[headName(h)]
	}
	var b bytes.Buffer
	b.Write(data)
	if len(data) > 0 && data[len(data)-1] != '\n' {
		b.WriteByte('\n')
	}
	w := csv.NewWriter(&b)
	w.Comma = cr.Comma
	if err := w.Write(row); err != nil {
		return nil, err
	}
	w.Flush()
	return b.Bytes(), w.Error()
}

// editor changes single lines of a table.
type editor struct {
	columns []string
	lines   []string
	records []*record
	comma   rune
}

// headName is the name of a column in a head, without its kind.
func headName(written string) string {
	name, _, _ := strings.Cut(written, ":")
	return columnName(name)
}

// record is a device's line.
type record struct {
	line    int // from 1
	cells   []string
	changed bool
}

func (e *editor) read(cr *csv.Reader) error {
	for {
		rec, err := cr.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("the fleet file: %w", err)
		}
		first, _ := cr.FieldPos(0)
		last, _ := cr.FieldPos(len(rec) - 1)
		if first != last {
			return fmt.Errorf("line %d of the fleet file goes over several lines: change it by hand", first)
		}
		for i := range rec {
			rec[i] = strings.TrimSpace(rec[i])
		}
		e.records = append(e.records, &record{line: first, cells: rec})
	}
}

func (e *editor) find(name string) (*record, bool) {
	for _, r := range e.records {
		if r.get(e, "name") == name {
			return r, true
		}
	}
	return nil, false
}

func (r *record) get(e *editor, column string) string {
	if i := slices.Index(e.columns, column); i >= 0 && i < len(r.cells) {
		return r.cells[i]
	}
	return ""
}

func (r *record) set(e *editor, column, value string) {
	i := slices.Index(e.columns, column)
	if i < 0 || r.get(e, column) == value {
		return
	}
	for len(r.cells) <= i {
		r.cells = append(r.cells, "")
	}
	r.cells[i], r.changed = value, true
}

func (e *editor) bytes() ([]byte, error) {
	for _, r := range e.records {
		if !r.changed {
			continue
		}
		var b strings.Builder
		w := csv.NewWriter(&b)
		w.Comma = e.comma
		if err := w.Write(r.cells); err != nil {
			return nil, err
		}
		w.Flush()
		e.lines[r.line-1] = strings.TrimRight(b.String(), "\n") + lineEnd(e.lines[r.line-1])
	}
	return []byte(strings.Join(e.lines, "")), nil
}

// lineEnd is how a line ends.
func lineEnd(line string) string { return line[len(strings.TrimRight(line, "\r\n")):] }
