package profile

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/table"
)

// Reader turns what a command prints into a table.
//
// A table of one row gives each column a pattern of its own. A table of many
// rows has a pattern for the line that begins a row, with a group for each
// column it carries; a column that is not in it is looked for, by its own
// pattern, in the lines up to the next row.
//
// A reader never takes silence for an answer. Lines that begin no row are
// expected only where Skip says so; a table without rows is one only if every
// line is expected, and printing nothing counts only with Silent.
type Reader struct {
	Command `yaml:",inline"`
	Title   string            `yaml:"title"`
	Row     Pattern           `yaml:"row"`
	Skip    []Pattern         `yaml:"skip"`   // headings, and what says that there is nothing
	Silent  bool              `yaml:"silent"` // an empty table prints nothing at all
	Columns map[string]Column `yaml:"columns"`
	order   []string          // columns as the profile lists them
}

// Column is a column of a table.
type Column struct {
	Type     runbook.ColumnType `yaml:"type"`
	Match    Pattern            `yaml:"match"` // group 1 is the value
	Yes      string             `yaml:"yes"`   // yes/no: the text that means yes
	Unit     string             `yaml:"unit"`  // number: KB, MB, GB, KiB, MiB or GiB make it bytes
	Optional bool               `yaml:"optional"`
	Carry    bool               `yaml:"carry"` // empty means: as in the row above
}

// Order lists the names of the columns as the profile does.
func (r Reader) Order() []string { return r.order }

// TableColumns are the columns in the order in which the profile lists them.
func (r Reader) TableColumns() (out []table.Column) {
	for _, name := range r.order {
		c := r.Columns[name]
		out = append(out, table.Column{Name: name, Type: c.Type, Size: c.Unit != ""})
	}
	return out
}

// Tables are the tables the profile reads, for checking runbooks.
func (p *Profile) Tables() map[string]runbook.Table {
	out := map[string]runbook.Table{}
	for name, r := range p.Readers {
		t := runbook.Table{Many: r.Row.Regexp != nil, Columns: map[string]runbook.ColumnType{}}
		for col, c := range r.Columns {
			t.Columns[col] = c.Type
		}
		out[name] = t
	}
	return out
}

// Read reads a table.
func (s *Session) Read(ctx context.Context, table string) (any, error) {
	r, ok := s.p.Readers[table]
	if !ok {
		return nil, &run.Unclear{Asked: table, Got: "the profile of " + s.p.Platform + " has no such reader"}
	}
	got, err := s.command(ctx, r.Command, nil)
	if err != nil {
		return nil, err
	}
	v, err := r.Parse(got)
	if err != nil {
		return nil, &run.Unclear{Asked: r.Send, Got: s.Mask(err.Error())}
	}
	return v, nil
}

// Parse turns printed lines into the table: a map[string]any when it has one
// row, else a []map[string]any. The error shows the text that it was given.
func (r Reader) Parse(lines []string) (any, error) {
	if r.Row.Regexp == nil {
		row := map[string]any{}
		if err := r.fill(row, nil, lines, lines); err != nil {
			return nil, err
		}
		return row, nil
	}
	return r.parseRows(lines)
}

func (r Reader) parseRows(lines []string) (any, error) {
	rows := []map[string]any{}
	var strange []string
	begin, above := -1, map[string]any{}
	end := func(i int) error {
		if begin < 0 {
			return nil
		}
		row := map[string]any{}
		if err := r.fill(row, above, lines[begin:i], lines); err != nil {
			return err
		}
		rows, above, begin = append(rows, row), row, -1
		return nil
	}
	for i, l := range lines {
		switch {
		case strings.TrimSpace(l) == "", slices.ContainsFunc(r.Skip, func(p Pattern) bool { return p.matches(l) }):
		case r.Row.matches(l):
			if err := end(i); err != nil {
				return nil, err
			}
			begin = i
		case begin < 0:
			strange = append(strange, l)
		}
	}
	if err := end(len(lines)); err != nil {
		return nil, err
	}
	printed := slices.ContainsFunc(lines, func(l string) bool { return strings.TrimSpace(l) != "" })
	switch {
	case len(rows) > 0:
	case len(strange) > 0:
		return nil, fmt.Errorf("no line fits its row; it printed: %s", some(strange))
	case !printed && !r.Silent:
		return nil, fmt.Errorf("it printed nothing where a table was expected")
	}
	return rows, nil
}

// fill fills one row from its lines; the first of them is the one that begins
// it, when there are many rows.
func (r Reader) fill(row, above map[string]any, lines, all []string) error {
	var groups []string
	if r.Row.Regexp != nil {
		groups = r.Row.find(lines[0])
	}
	for name, c := range r.Columns {
		text, found := c.in(lines)
		if i := r.groupOf(name); i >= 0 {
			text, found = groups[i], true
		}
		switch {
		case found && text == "" && c.Carry && above[name] != nil:
			row[name] = above[name]
			continue
		case !found && !c.Optional:
			return fmt.Errorf("no line fits column %s; it printed: %s", name, some(all))
		}
		v, err := c.value(text)
		if err != nil && !(text == "" && c.Optional) {
			return fmt.Errorf("column %s: %w; it printed: %s", name, err, some(lines))
		}
		row[name] = v
	}
	return nil
}

func (r Reader) groupOf(column string) int {
	if r.Row.Regexp == nil {
		return -1
	}
	return r.Row.SubexpIndex(column)
}

func (c Column) in(lines []string) (string, bool) {
	for _, l := range lines {
		if m := c.Match.find(l); m != nil {
			return m[1], true
		}
	}
	return "", false
}

// some is the start of what was printed.
func some(lines []string) string {
	s := strings.Join(lines[:min(len(lines), 5)], " / ")
	if r := []rune(s); len(r) > 400 {
		return string(r[:400]) + "…"
	}
	return s
}

// value converts a column's text. Times become seconds since 1970, sizes bytes;
// with an error it is the zero value.
func (c Column) value(text string) (any, error) {
	switch c.Type {
	case runbook.NumberColumn:
		f, err := strconv.ParseFloat(strings.TrimSpace(text), 64)
		if err != nil {
			return 0.0, fmt.Errorf("%q is not a number", text)
		}
		return f * units[c.Unit], nil
	case runbook.YesNoColumn:
		return text == c.Yes, nil
	case runbook.TimeColumn:
		t, err := time.Parse(time.RFC3339, text)
		if err != nil {
			return 0.0, fmt.Errorf("%q is not a time as in RFC 3339", text)
		}
		return float64(t.UnixNano()) / 1e9, nil
	}
	return text, nil
}
