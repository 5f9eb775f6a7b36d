package fleet

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// Rows is a table beside the fleet: several rows a device, a site, a role, or for all. Whose a
// row is, its columns device, site and role say; one that says none of them is for all devices.
// A step goes through the rows that are its device's:
//
//	rows,replace
//	device,site,lan,title
//	,,10,staff
//	,ALD,10,staff
//	,ALD,30,gates
//	ald-quay-3,,40,kiosk
//
// Where rows of several ranks are for one device, the first line says whether the more special
// ones replace the more general ones, or join them.
type Rows struct {
	Name    string // the table's
	File    string
	Columns []kind.Column
	join    bool
	ruled   bool // the file says which of the two
	rows    []besideRow
	by      map[whose][]int // numbers of rows
}

// whose says for which devices a row is; "" is for any.
type whose struct{ device, site, role string }

// rank is how special that is.
func (w whose) rank() int {
	switch {
	case w.device != "":
		return 3
	case w.site != "" && w.role != "":
		return 2
	case w.site != "" || w.role != "":
		return 1
	}
	return 0
}

func (w whose) String() string {
	var parts []string
	for _, p := range [][2]string{{"device", w.device}, {"site", w.site}, {"role", w.role}} {
		if p[1] != "" {
			parts = append(parts, p[0]+" "+p[1])
		}
	}
	if parts == nil {
		return "all devices"
	}
	return strings.Join(parts, ", ")
}

type besideRow struct {
	line   int
	values map[string]any
	key    string // its cells, to tell two rows of the same
}

// keys are the columns that say whose a row is.
var keys = []string{"device", "site", "role"}

// The two rules of a table.
const (
	ruleJoin    = "join"
	ruleReplace = "replace"
)

// Of are the rows of a device, in the order of the file, each once.
func (t *Rows) Of(d Device) []map[string]any {
	var at []int
	best := 0
	for _, w := range whoseOf(d) {
		rows := t.by[w]
		switch {
		case len(rows) == 0:
			continue
		case !t.join && w.rank() > best:
			at, best = nil, w.rank()
		case !t.join && w.rank() < best:
			continue
		}
		at = append(at, rows...)
	}
	slices.Sort(at)
	out := make([]map[string]any, 0, len(at))
	seen := make(map[string]bool, len(at))
	for _, i := range at {
		if !seen[t.rows[i].key] {
			seen[t.rows[i].key] = true
			out = append(out, t.rows[i].values)
		}
	}
	return out
}

// whoseOf are all by which a row can be a device's.
func whoseOf(d Device) (out []whose) {
	seen := map[whose]bool{}
	for _, device := range []string{"", d.Name} {
		for _, site := range []string{"", d.Site} {
			for _, role := range []string{"", d.Role} {
				if w := (whose{device, site, role}); !seen[w] {
					seen[w] = true
					out = append(out, w)
				}
			}
		}
	}
	return out
}

// ranks are by what rows are for a device, such as "site ALD" and "all devices", the most
// general first.
func (t *Rows) ranks(d Device) (out []whose) {
	for _, w := range whoseOf(d) {
		if len(t.by[w]) > 0 {
			out = append(out, w)
		}
	}
	slices.SortStableFunc(out, func(a, b whose) int { return a.rank() - b.rank() })
	return out
}

// ReadTable reads a table beside the fleet; its name is its file's. The error, if any, is a
// [problem.List].
func (k Kinds) ReadTable(file string, data []byte) (*Rows, error) {
	data, err := textfile.Decode(file, data)
	if err != nil {
		return nil, err
	}
	ext := filepath.Ext(file)
	name := strings.TrimSuffix(filepath.Base(file), ext)
	r := &reader{file: file}
	if !validColumn.MatchString(name) {
		r.fail(0, 0, "", "a lower-case word such as lans"+ext, "a table cannot be called %q in a runbook", name)
		return nil, r.problems.Err()
	}
	var s *sheet
	switch strings.ToLower(ext) {
	case ".csv":
		s = r.sheet(data, "device,site,lan")
		r.twice(s)
	default:
		if s, err = r.yamlTable(data); err != nil {
			return nil, err
		}
	}
	t := &Rows{Name: name, File: file}
	r.rows(t, s, k[name])
	return t, r.problems.Err()
}

// rows makes a table of a sheet.
func (r *reader) rows(t *Rows, s *sheet, said map[string]Said) {
	switch s.rule.value {
	case "", ruleReplace:
	case ruleJoin:
		t.join = true
	default:
		r.fail(
			s.rule.line,
			s.rule.col,
			"rows,"+s.rule.value,
			problem.OneOf(s.rule.value, []string{ruleJoin, ruleReplace}),
			"the rule %q is not known: rows of one device join those of its site, its role and of all, or replace them",
			s.rule.value,
		)
	}
	t.ruled = s.rule.value != ""
	kinds := r.kinds(s, said, keys)
	var columns []string
	for _, c := range s.head {
		switch {
		case slices.Contains(keys, c.name), slices.Contains(columns, c.name):
		case c.name == "name":
			r.fail(s.line, c.col, s.text, "device", "whose a row is, the column device says; a column of its own is called otherwise, such as title")
		case !validColumn.MatchString(c.name):
			r.fail(s.line, c.col, s.text, "a lower-case word such as lan", "column name %q cannot be used in a runbook", c.name)
		default:
			columns = append(columns, c.name)
		}
	}
	if len(columns) == 0 && s.head != nil && len(r.problems) == 0 {
		r.fail(s.line, 0, s.text, "device,lan", "there is no column beside those that say whose a row is")
	}
	r.fits(s.records, kinds)
	for _, c := range columns {
		k, is := kinds[c]
		if !is {
			k = kind.Guess(valuesOf(s.records, c))
		}
		t.Columns = append(t.Columns, kind.Column{Name: c, Kind: k})
	}
	t.fill(s.records)
}

func valuesOf(rows []row, column string) (out []string) {
	for _, one := range rows {
		out = append(out, one.cells[column].value)
	}
	return out
}

// fill takes the rows, with their values as they are of their kinds.
func (t *Rows) fill(records []row) {
	t.by = map[whose][]int{}
	for _, one := range records {
		w := whose{one.cells["device"].value, one.cells["site"].value, one.cells["role"].value}
		values := make(map[string]any, len(t.Columns))
		var key strings.Builder
		for _, c := range t.Columns {
			v := one.cells[c.Name].value
			values[c.Name] = c.Kind.Value(v)
			key.WriteString(v + "\x00")
		}
		t.by[w] = append(t.by[w], len(t.rows))
		t.rows = append(t.rows, besideRow{one.line, values, key.String()})
	}
}

// AddTables gives the fleet tables, and holds them against it: rows of devices that are not there
// are noted, what leaves open which rows count is a mistake. The error is a problem.List.
func (f *Fleet) AddTables(tables ...*Rows) error {
	var list problem.List
	for _, t := range tables {
		at := problem.Problem{File: t.File}
		if slices.Contains(f.Columns, t.Name) || slices.Contains(known, t.Name) {
			at.Msg, at.Hint = fmt.Sprintf(
				"a column of the fleet is called %s, too: which of them is meant cannot be told",
				t.Name,
			), "another name for the file"
			list = append(list, at)
			continue
		}
		if i := slices.IndexFunc(f.Tables, func(o *Rows) bool { return o.Name == t.Name }); i >= 0 {
			at.Msg, at.Hint = fmt.Sprintf("the table %s stands in %s, too", t.Name, filepath.Base(f.Tables[i].File)), "one of the two"
			list = append(list, at)
			continue
		}
		list = append(list, t.against(f)...)
		f.Tables = append(f.Tables, t)
	}
	return list.Err()
}

// against holds a table against the fleet.
func (t *Rows) against(f *Fleet) (list problem.List) {
	sites, roles, retired := map[string]bool{}, map[string]bool{}, map[string]bool{}
	for _, d := range f.Devices {
		sites[d.Site], roles[d.Role] = true, true
	}
	for _, r := range f.Retired {
		retired[r.Name] = true
	}
	var strange []string
	for w, rows := range t.by {
		d, there := f.Get(w.device)
		line := t.rows[rows[0]].line
		switch {
		case w.device != "" && !there && !retired[w.device]:
			strange = append(strange, "device "+w.device)
		case w.site != "" && !sites[w.site]:
			strange = append(strange, "site "+w.site)
		case w.role != "" && !roles[w.role]:
			strange = append(strange, "role "+w.role)
		case there && (w.site != "" && w.site != d.Site || w.role != "" && w.role != d.Role):
			list = append(
				list,
				problem.Problem{File: t.File, Line: line, Msg: fmt.Sprintf("this row is for %s, and %s is of site %q and role %q: it is nobody's", w, w.device, d.Site, d.Role), Hint: "the device alone"},
			)
		}
	}
	if len(strange) > 0 {
		slices.Sort(strange)
		more := ""
		if n := len(strange) - 5; n > 0 {
			strange, more = strange[:5], fmt.Sprintf(" and %d others", n)
		}
		f.Notes = append(
			f.Notes,
			fmt.Sprintf("%s has rows for what is not in the fleet: %s%s", filepath.Base(t.File), strings.Join(strange, ", "), more),
		)
	}
	return append(list, t.unclear(f)...)
}

// unclear tells where it is open which rows of a device count.
func (t *Rows) unclear(f *Fleet) (list problem.List) {
	if t.join {
		return nil
	}
	for _, d := range f.Devices {
		ranks := t.ranks(d)
		n := len(ranks)
		if n < 2 {
			continue
		}
		at := problem.Problem{File: t.File, Line: t.rows[t.by[ranks[n-1]][0]].line}
		switch {
		case !t.ruled && ranks[0].rank() != ranks[n-1].rank():
			at.Line = 1
			at.Msg = fmt.Sprintf(
				"rows of %s and of %s are for %s: it must be said whether the more special ones replace the others, or join them",
				ranks[0],
				ranks[n-1],
				d.Name,
			)
			at.Hint = "rows,replace or rows,join in a line of its own above the head"
			return append(list, at)
		case ranks[n-1].rank() == ranks[n-2].rank():
			at.Msg = fmt.Sprintf("rows of %s and of %s are for %s: which of them replace the others cannot be told", ranks[n-2], ranks[n-1], d.Name)
			at.Hint = "rows,join in the first line, or rows that name both site and role"
			return append(list, at)
		}
	}
	return list
}
