package profile

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/table"
	"metabasis/internal/device/tree"
)

// Reader turns what a command prints into a table.
//
// A table of one row gives each column a pattern of its own. A table of many
// rows has a pattern for the line that begins a row, with a group for each
// column it carries; a column that is not in it is looked for, by its own
// pattern, in the lines up to the next row.
//
// A reader never takes silence for an answer, and passes over nothing. Where there
// are many rows, every line must be a row, a part of one, or one that Skip says
// belongs to none; else the whole answer is an error that shows it. A table is
// empty where a line fits None, where every line is one to skip, or, with Silent,
// where nothing is printed. A value that the device does not tell is nil.
type Reader struct {
	Command `yaml:",inline"`
	Title   string    `yaml:"title"`
	Row     Pattern   `yaml:"row"`
	Skip    []Pattern `yaml:"skip"`   // headings, and what else is no row
	None    Pattern   `yaml:"none"`   // what says that there is nothing
	Silent  bool      `yaml:"silent"` // an empty table prints nothing at all
	// Momentary tables say what is so at the moment, such as who is logged in: they are in
	// a record only where they are asked for by name.
	Momentary bool              `yaml:"momentary"`
	Columns   map[string]Column `yaml:"columns"`
	// Where the platform is not worked over a terminal: the path of the one row, or that of
	// each of many.
	Get   string   `yaml:"get"`
	Each  string   `yaml:"each"`
	order []string // columns as the profile lists them
	from  tree.Path
}

// Column is a column of a table.
type Column struct {
	Type     runbook.ColumnType `yaml:"type"`
	Match    Pattern            `yaml:"match"` // group 1 is the value
	Yes      string             `yaml:"yes"`   // yes/no: the text that means yes
	Unit     string             `yaml:"unit"`  // number: KB, MB, GB, KiB, MiB or GiB make it bytes
	Optional bool               `yaml:"optional"`
	Volatile bool               `yaml:"volatile"` // it changes by itself
	Key      bool               `yaml:"key"`      // it tells the rows apart, alone or with other keys
	Counter  bool               `yaml:"counter"`  // number: it only ever grows
	// Tolerance is how far a number may be off and counts as the same: "5", or "10%".
	Tolerance string `yaml:"tolerance"`
	Carry     bool   `yaml:"carry"` // empty means: as in the row above
	At        string `yaml:"at"`    // where it stands below its row, in a tree; its name when not given
	at        tree.Path
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
		t := runbook.Table{Many: r.many(), Columns: map[string]runbook.ColumnType{}}
		for col, c := range r.Columns {
			t.Columns[col] = c.Type
			if c.Volatile {
				t.Volatile = append(t.Volatile, col)
			}
		}
		t.Manner = r.Manner()
		out[name] = t
	}
	return out
}

// Manner is how records of the table are compared.
func (r Reader) Manner() record.Manner {
	m := record.Manner{Within: map[string]record.Tolerance{}}
	for _, name := range r.order {
		c := r.Columns[name]
		within, _ := record.ParseTolerance(cmp.Or(c.Tolerance, "0")) // it was checked
		within.Counter = c.Counter
		switch {
		case c.Key:
			m.Keys = append(m.Keys, name)
		case c.Volatile, c.Counter && c.Tolerance == "":
			m.Volatile = append(m.Volatile, name)
		case within != record.Tolerance{}:
			m.Within[name] = within
		}
	}
	return m
}

// prints finds the table that a command prints. A table of which several readers make something
// is none: which of them is meant nobody says.
func (p *Profile) prints(command string) (out plan.Printed, ok bool) {
	for name, r := range p.Readers {
		if r.Send == "" || strings.TrimSpace(command) != r.Send {
			continue
		}
		if ok {
			return plan.Printed{}, false
		}
		ok = true
		out = plan.Printed{Table: name, Manner: r.Manner(), Rows: func(lines []string) ([]record.Row, error) {
			v, err := r.Parse(lines)
			return record.Rows(v), err
		}}
	}
	return out, ok
}

// Asked is the command of the reader. A line that says that there is nothing is no
// refusal, even where it looks like one.
func (r Reader) Asked() Command {
	c := r.Command
	if r.None.Regexp != nil {
		c.Harmless = append([]Pattern{r.None}, c.Harmless...)
	}
	return c
}

// Parse turns printed lines into the table: a map[string]any when it has one
// row, else a []map[string]any. The error shows the text that it was given.
func (r Reader) Parse(lines []string) (any, error) {
	if r.Row.Regexp == nil {
		row := map[string]any{}
		if IndexMatch(lines, r.None) >= 0 { // all that it could tell is missing
			for name := range r.Columns {
				row[name] = nil
			}
			return row, nil
		}
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
		case strings.TrimSpace(l) == "", r.None.Matches(l), slices.ContainsFunc(r.Skip, func(p Pattern) bool { return p.Matches(l) }):
		case r.Row.Matches(l):
			if err := end(i); err != nil {
				return nil, err
			}
			begin = i
		case begin < 0 || !r.partOfRow(l):
			strange = append(strange, l)
		}
	}
	if err := end(len(lines)); err != nil {
		return nil, err
	}
	printed := slices.ContainsFunc(lines, func(l string) bool { return strings.TrimSpace(l) != "" })
	switch {
	case len(strange) > 0 && len(rows) == 0:
		return nil, fmt.Errorf("no line fits its row; it printed: %s", some(strange))
	case len(strange) > 0:
		return nil, fmt.Errorf("%d rows, and %s that fit neither row nor skip: %s", len(rows), Plural(len(strange), "line"), some(strange))
	case len(rows) > 0:
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
		groups = r.Row.Find(lines[0])
	}
	for name, c := range r.Columns {
		text, found, err := c.in(lines, r.Row.Regexp == nil)
		if err != nil {
			return fmt.Errorf("column %s: %w", name, err)
		}
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
		if c.missing(text, found) {
			row[name] = nil
			continue
		}
		v, err := c.value(text)
		if err != nil {
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

// partOfRow tells whether a line carries a column of the row it stands under.
func (r Reader) partOfRow(l string) bool {
	for _, c := range r.Columns {
		if c.Match.Matches(l) {
			return true
		}
	}
	return false
}

// missing tells whether the device did not tell an optional value. Text may be
// empty; a yes/no whose group is empty says no.
func (c Column) missing(text string, found bool) bool {
	return c.Optional && (!found || text == "" && c.Type != runbook.TextColumn && c.Type != runbook.YesNoColumn)
}

// in finds the value of a column in the lines of its row. Where the answer is one
// row, two lines that tell different values tell none.
func (c Column) in(lines []string, only bool) (text string, found bool, err error) {
	for _, l := range lines {
		m := c.Match.Find(l)
		switch {
		case m == nil:
		case !found:
			text, found = m[1], true
		case only && m[1] != text:
			return "", false, fmt.Errorf("two lines fit it, and they differ: %q and %q", text, m[1])
		}
		if found && !only {
			break
		}
	}
	return text, found, nil
}

// Plural counts things in words.
func Plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
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
