package fleet

import (
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/textfile"
)

// yamlFleet reads devices and rows that are YAML.
type yamlFleet struct {
	*reader
	lines   []string
	written map[string]string // names of columns as they were written first
	names   []string
	rows    []row
	further []string
	list    map[string]bool  // columns in which some device has a list of values
	lists   map[string][]row // rows that stand in the devices, by the name of their table
	tables  []string         // those, in their order
}

// device reads one device.
func (y *yamlFleet) device(item ast.Node) {
	var name string
	for _, kv := range mappings(item) {
		if v, ok := kv.Value.(ast.ScalarNode); ok && keyOf(kv) == "name" {
			name = scalar(v)
		}
	}
	y.rows = append(y.rows, y.row(item, func(column string, seq *ast.SequenceNode, at cell) {
		y.inDevice(name, column, seq, at)
	}))
	for _, n := range y.names {
		if !slices.Contains(known, n) && !slices.Contains(y.further, n) && !slices.Contains(y.tables, n) {
			y.further = append(y.further, n)
		}
	}
}

// row reads the values of a mapping. A list of values becomes one cell; a list of rows is given
// to rows.
func (y *yamlFleet) row(item ast.Node, rows func(column string, seq *ast.SequenceNode, at cell)) row {
	p := item.GetToken().Position
	one := row{line: p.Line, text: lineOf(y.lines, p.Line), cells: map[string]cell{}}
	for i, kv := range mappings(item) {
		kp := kv.Key.GetToken().Position
		text := lineOf(y.lines, kp.Line)
		if i == 0 {
			one.line, one.text = kp.Line, text
		}
		name, written := keyOf(kv), strings.TrimSpace(kv.Key.GetToken().Value)
		at := cell{"", kp.Line, kp.Column}
		if first, there := y.written[name]; there && first != written {
			y.fail(kp.Line, kp.Column, text, first, "columns %q and %q are one and the same: names differ by more than their case", first, written)
		} else if _, twice := one.cells[name]; twice {
			y.fail(kp.Line, kp.Column, text, "", "%q stands twice", name)
		}
		y.written[name] = written
		value, ok := kv.Value.(ast.ScalarNode)
		seq, isList := kv.Value.(*ast.SequenceNode)
		switch {
		case ok: // the token, not the decoded value: 007 or 1e3 must stay as written
			at.value = scalar(value)
		case isList && !slices.Contains(known, name) && rows != nil && hasRows(seq):
			rows(name, seq, at)
			continue
		case isList && !slices.Contains(known, name):
			at.value = y.items(name, seq, kp.Line, kp.Column)
		default:
			y.fail(kp.Line, kp.Column, text, name+": one value", "%q must be one value, or a list", name)
			continue
		}
		if !slices.Contains(known, name) && !validColumn.MatchString(name) {
			y.fail(kp.Line, kp.Column, text, "a lower-case word such as gate_port", "name %q cannot be used in a runbook", name)
		}
		if !slices.Contains(y.names, name) {
			y.names = append(y.names, name)
		}
		one.cells[name] = at
	}
	return one
}

func hasRows(seq *ast.SequenceNode) bool {
	return slices.ContainsFunc(seq.Values, func(n ast.Node) bool { return mappings(n) != nil })
}

// items makes one cell of a list of values.
func (y *yamlFleet) items(name string, seq *ast.SequenceNode, line, col int) string {
	if y.list == nil {
		y.list = map[string]bool{}
	}
	y.list[name] = true
	var out []string
	for _, n := range seq.Values {
		v, ok := n.(ast.ScalarNode)
		switch {
		case !ok:
			y.fail(line, col, lineOf(y.lines, line), name+": [10, 20]", "a list in %q holds values, or it holds rows, not both", name)
		case strings.Contains(scalar(v), ","):
			y.fail(
				line,
				col,
				lineOf(y.lines, line),
				"a list of rows, each with a name for its value",
				"%q has a comma, which an item of a list cannot have",
				scalar(v),
			)
		default:
			out = append(out, scalar(v))
		}
	}
	return strings.Join(out, ", ")
}

// listKind is the kind of a column in which devices have lists.
func listKind(rows []row, column string) kind.Kind {
	var items []string
	for _, v := range valuesOf(rows, column) {
		items = append(items, kind.Items(v)...)
	}
	k := kind.Guess(items)
	k.List = true
	return k
}

// inDevice takes a list of rows that stands in a device.
func (y *yamlFleet) inDevice(device, table string, seq *ast.SequenceNode, at cell) {
	if !validColumn.MatchString(table) {
		y.fail(at.line, at.col, lineOf(y.lines, at.line), "a lower-case word such as lans", "a table cannot be called %q in a runbook", table)
		return
	}
	if !slices.Contains(y.tables, table) {
		y.tables = append(y.tables, table)
	}
	sub := &yamlFleet{reader: y.reader, lines: y.lines, written: map[string]string{}}
	for _, n := range seq.Values {
		if mappings(n) == nil {
			y.fail(
				at.line,
				at.col,
				lineOf(y.lines, at.line),
				table+": [{lan: 10}, {lan: 20}]",
				"a list in %q holds values, or it holds rows, not both",
				table,
			)
			continue
		}
		one := sub.row(n, nil)
		for _, k := range keys {
			if c, said := one.cells[k]; said {
				y.fail(c.line, c.col, lineOf(y.lines, c.line), "another name", "a row that stands in a device is its own: %q is not said in it", k)
			}
		}
		one.cells["device"] = cell{device, one.line, at.col}
		y.lists[table] = append(y.lists[table], one)
	}
}

// listed gives a fleet the tables that stand in its devices.
func (r *reader) listed(f *Fleet, y *yamlFleet) error {
	for _, name := range y.tables {
		s := &sheet{head: []column{}, records: y.lists[name]}
		seen := map[string]bool{"device": true}
		for _, one := range s.records {
			for c := range one.cells {
				if !seen[c] {
					seen[c] = true
					s.head = append(s.head, column{name: c, written: c})
				}
			}
		}
		slices.SortFunc(s.head, func(a, b column) int { return strings.Compare(a.name, b.name) })
		t := &Rows{Name: name, File: r.file}
		r.rows(t, s, r.declared[name])
		if err := r.problems.Err(); err != nil {
			return err
		}
		if err := f.AddTables(t); err != nil {
			return err
		}
	}
	return nil
}

// yamlTable reads a table that is YAML: rows, where there are several ranks, then a list of
// rows, each with the columns device, site and role where it is not for all.
func (r *reader) yamlTable(data []byte) (*sheet, error) {
	doc, err := textfile.Tree(r.file, data)
	if err != nil {
		return nil, err
	}
	lines := strings.Split(string(data), "\n")
	y := &yamlFleet{reader: r, lines: lines, written: map[string]string{}}
	s := &sheet{head: []column{}}
	var list *ast.SequenceNode
	for _, d := range doc.Docs {
		if seq, ok := d.Body.(*ast.SequenceNode); ok {
			list = seq
		}
		for _, kv := range mappings(d.Body) {
			p := kv.Key.GetToken().Position
			value, one := kv.Value.(ast.ScalarNode)
			switch {
			case keyOf(kv) == "rows" && one:
				s.rule = cell{scalar(value), p.Line, p.Column}
			case keyOf(kv) == "list":
				list, _ = kv.Value.(*ast.SequenceNode)
			default:
				r.fail(p.Line, p.Column, lineOf(lines, p.Line), "rows: join, and list: with the rows under it", "unknown entry %q", keyOf(kv))
			}
		}
	}
	if list == nil {
		r.fail(0, 0, "", "list: and under it one - {device: …, lan: …} for each row", "there is no list of rows")
		return s, nil
	}
	for _, item := range list.Values {
		s.records = append(s.records, y.row(item, nil))
	}
	for _, name := range y.names {
		s.head = append(s.head, column{name: name, written: name})
	}
	return s, nil
}
