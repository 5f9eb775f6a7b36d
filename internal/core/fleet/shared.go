package fleet

import (
	"fmt"
	"path/filepath"
	"slices"

	"metabasis/internal/core/kind"
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
	said    map[string]kind.Kind
}

type sharedRow struct {
	line   int
	values map[string]string
}

// ReadShared reads a file of values by site or by role; by is the name of its first
// column. The error, if any, is a [problem.List].
func ReadShared(file, by string, data []byte) (*Shared, error) {
	return Kinds(nil).ReadShared(file, by, data)
}

// ReadShared is [ReadShared], with kinds of columns that are said elsewhere.
func (k Kinds) ReadShared(file, by string, data []byte) (*Shared, error) {
	data, err := textfile.Decode(file, data)
	if err != nil {
		return nil, err
	}
	r := &reader{file: file}
	sh := &Shared{File: file, By: by, of: map[string]sharedRow{}}
	s := r.sheet(data, by+",crew_lan")
	r.sharedHeader(sh, s)
	sh.said = r.kinds(s, k[by+"s"], known)
	r.fits(s.records, sh.said)
	for _, one := range s.records {
		r.sharedRow(sh, one)
	}
	return sh, r.problems.Err()
}

// sharedHeader reads the names of the columns.
func (r *reader) sharedHeader(sh *Shared, s *sheet) {
	r.twice(s)
	for i, c := range s.head {
		switch {
		case i == 0 && c.name != sh.By:
			r.fail(s.line, 1, s.text, sh.By, "the first column must be %q: it says whose the values are", sh.By)
		case i == 0, slices.Contains(sh.Columns, c.name):
			continue
		case slices.Contains(known, c.name):
			r.fail(s.line, c.col, s.text, "", "%q is what the fleet file says of each device", c.name)
		case !validColumn.MatchString(c.name):
			r.fail(s.line, c.col, s.text, "a lower-case word such as crew_lan", "column name %q cannot be used in a runbook", c.name)
		}
		if i > 0 {
			sh.Columns = append(sh.Columns, c.name)
		}
	}
}

func (r *reader) sharedRow(sh *Shared, one row) {
	key := one.cells[sh.By].value
	old, twice := sh.of[key]
	switch {
	case key == "":
		r.fail(one.line, 1, one.text, "", "this line says of no %s", sh.By)
		return
	case twice:
		r.fail(one.line, 1, one.text, "", "%s %s stands already on line %d", sh.By, key, old.line)
		return
	}
	values := map[string]string{}
	for _, c := range sh.Columns {
		values[c] = one.cells[c].value
	}
	sh.of[key] = sharedRow{one.line, values}
}

// Add gives the devices the values of their sites and roles. A column that two files
// share would leave open which of them counts.
func (f *Fleet) Add(shared ...*Shared) error {
	var list problem.List
	from := map[string]string{}
	for _, s := range shared {
		for _, c := range s.Columns {
			if other := from[c]; other != "" {
				list = append(
					list,
					problem.Problem{File: s.File, Line: 1, Msg: fmt.Sprintf("column %q stands in %s, too: which of them counts cannot be told", c, filepath.Base(other))},
				)
				continue
			}
			from[c] = s.File
			if !slices.Contains(f.Columns, c) {
				f.Columns = append(f.Columns, c)
			}
			list = append(list, f.agree(s, c)...)
		}
		for i := range f.Devices {
			s.give(&f.Devices[i])
		}
	}
	f.shared = append(f.shared, shared...)
	f.count()
	return list.Err()
}

// agree takes the kind of a column as a file of shared values says it. What the fleet file
// itself has in that column must be of it, too.
func (f *Fleet) agree(s *Shared, c string) (list problem.List) {
	k, said := s.said[c]
	if !said {
		return nil
	}
	if own, both := f.said[c]; both && !own.Equal(k) {
		return problem.List{{File: s.File, Line: 1, Msg: fmt.Sprintf(
			"%s is %s here, and %s in %s",
			c,
			k,
			own,
			filepath.Base(f.File),
		), Hint: "one of the two"}}
	}
	if f.said == nil {
		f.said = map[string]kind.Kind{}
	}
	f.said[c] = k
	for _, d := range f.Devices {
		if v := d.Values[c]; v != "" && d.Sources[c] == "" {
			if err := k.Check(v); err != nil {
				list = append(
					list,
					problem.Problem{File: f.File, Line: d.Line, Msg: fmt.Sprintf("%s: %v; its kind is %s, as %s says", c, err, k, filepath.Base(s.File))},
				)
			}
		}
	}
	return list
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
