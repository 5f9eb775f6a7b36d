package fleet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// What is the same for all devices of a site, or of a role, stands once: in a file of its
// own beside the fleet, whose first column is called site or role and whose others are
// values that a runbook can use by their names. What the fleet itself says of a device
// goes before it.

// Shared are values by site or by role.
type Shared struct {
	File    string
	By      string // site or role
	Columns []string
	of      map[string]sharedRow
}

type sharedRow struct {
	line   int
	values map[string]string
}

// ReadShared reads a file of values by site or by role; by is the name of its first
// column. The error, if any, is a [problem.List].
func ReadShared(file, by string, data []byte) (*Shared, error) {
	data, err := textfile.Decode(file, data)
	if err != nil {
		return nil, err
	}
	lines := strings.Split(string(data), "\n")
	r := &reader{file: file}
	cr := csv.NewReader(bytes.NewReader(data))
	cr.Comment, cr.TrimLeadingSpace, cr.FieldsPerRecord = '#', true, -1
	s := &Shared{File: file, By: by, of: map[string]sharedRow{}}
	for first := true; ; first = false {
		rec, err := cr.Read()
		if errors.Is(err, io.EOF) {
			if first {
				r.fail(0, 0, "", by+",crew_lan", "the file is empty: its first line must name the columns")
			}
			break
		}
		if err != nil {
			r.csvError(err, lines)
			break
		}
		line, _ := cr.FieldPos(0)
		text := lineOf(lines, line)
		if first {
			r.sharedHeader(s, rec, line, text)
			continue
		}
		r.sharedRow(s, rec, line, text)
	}
	return s, r.problems.Err()
}

// sharedHeader reads the names of the columns.
func (r *reader) sharedHeader(s *Shared, head []string, line int, text string) {
	for i, h := range head {
		name := strings.ToLower(strings.TrimSpace(h))
		switch {
		case i == 0 && name != s.By:
			r.fail(line, 1, text, s.By, "the first column must be %q: it says whose the values are", s.By)
		case i == 0:
		case slices.Contains(known, name):
			r.fail(line, 0, text, "", "%q is what the fleet file says of each device", name)
		case !validColumn.MatchString(name):
			r.fail(line, 0, text, "a lower-case word such as crew_lan", "column name %q cannot be used in a runbook", name)
		case slices.Contains(s.Columns, name):
			r.fail(line, 0, text, "", "column %q stands twice", name)
		}
		if i > 0 {
			s.Columns = append(s.Columns, name)
		}
	}
}

func (r *reader) sharedRow(s *Shared, rec []string, line int, text string) {
	key := strings.TrimSpace(rec[0])
	old, twice := s.of[key]
	switch {
	case key == "":
		r.fail(line, 1, text, "", "this line says of no %s", s.By)
		return
	case twice:
		r.fail(line, 1, text, "", "%s %s stands already on line %d", s.By, key, old.line)
		return
	case len(rec)-1 > len(s.Columns):
		r.fail(line, 0, text, "", "%d values under %d columns", len(rec), len(s.Columns)+1)
		return
	}
	row := sharedRow{line, map[string]string{}}
	for i, v := range rec[1:] {
		v = strings.TrimSpace(v)
		if problem.Printable(v) != v || strings.ContainsAny(v, "\n\t") {
			r.fail(line, 0, text, "", "the value of %s has a control character", s.Columns[i])
		}
		row.values[s.Columns[i]] = v
	}
	s.of[key] = row
}

// Add gives the devices the values of their sites and roles. A column that two files
// share would leave open which of them counts.
func (f *Fleet) Add(shared ...*Shared) error {
	var list problem.List
	from := map[string]string{}
	for _, s := range shared {
		for _, c := range s.Columns {
			if other := from[c]; other != "" {
				list = append(list, problem.Problem{File: s.File, Line: 1, Msg: fmt.Sprintf("column %q stands in %s, too: which of them counts cannot be told", c, filepath.Base(other))})
				continue
			}
			from[c] = s.File
			if !slices.Contains(f.Columns, c) {
				f.Columns = append(f.Columns, c)
			}
		}
		for i := range f.Devices {
			s.give(&f.Devices[i])
		}
	}
	f.shared = append(f.shared, shared...)
	f.count()
	return list.Err()
}

// key is the site or role of a device.
func (s *Shared) key(d Device) string {
	if s.By == "site" {
		return d.Site
	}
	return d.Role
}

func (s *Shared) give(d *Device) {
	row, ok := s.of[s.key(*d)]
	if !ok {
		return
	}
	for c, v := range row.values {
		if d.Values[c] != "" || v == "" {
			continue
		}
		if d.Sources == nil {
			d.Sources = map[string]string{}
		}
		d.Values[c] = v
		d.Sources[c] = fmt.Sprintf("%s line %d", filepath.Base(s.File), row.line)
	}
}

// Source says where the value of a column of a device comes from; where it has none, who
// does not say it.
func (f *Fleet) Source(d Device, column string) string {
	if s := d.Sources[column]; s != "" {
		return s
	}
	if d.Values[column] == "" {
		for _, s := range f.shared {
			if slices.Contains(s.Columns, column) {
				return fmt.Sprintf("neither the fleet nor %s says it for %s %q", filepath.Base(s.File), s.By, s.key(d))
			}
		}
	}
	return fmt.Sprintf("%s line %d", filepath.Base(f.File), d.Line)
}
