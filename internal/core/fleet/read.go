package fleet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/textfile"
)

// Read reads a fleet from data, by the ending of its file name. Platforms are
// the names of the profiles at hand. The error, if any, is a [problem.List].
func Read(file string, data []byte, platforms []string) (*Fleet, error) {
	platforms = slices.Sorted(slices.Values(platforms))
	r := &reader{file: file, platforms: platforms}
	data, err := textfile.Decode(file, data)
	if err != nil {
		return nil, err
	}
	switch ext := strings.ToLower(filepath.Ext(file)); ext {
	case ".csv":
		return r.csv(data)
	case ".yaml", ".yml":
		return r.yaml(data)
	case ".txt":
		return r.list(data)
	default:
		r.fail(0, 0, "", "fleet.csv, fleet.yaml or a .txt list", "cannot tell what kind of fleet file ends in %q", ext)
		return nil, r.problems.Err()
	}
}

func lineOf(lines []string, n int) string {
	if n < 1 || n > len(lines) {
		return ""
	}
	return strings.TrimRight(lines[n-1], "\r")
}

func (r *reader) csv(data []byte) (*Fleet, error) {
	lines := strings.Split(string(data), "\n")
	cr := csv.NewReader(bytes.NewReader(data))
	cr.Comment = '#'
	cr.TrimLeadingSpace = true
	cr.FieldsPerRecord = -1
	head, err := cr.Read()
	if err != nil {
		if errors.Is(err, io.EOF) {
			r.fail(0, 0, "", strings.Join(known, ","), "the file is empty: its first line must name the columns")
		} else {
			r.csvError(err, lines)
		}
		return nil, r.problems.Err()
	}
	line, _ := cr.FieldPos(0)
	if !slices.ContainsFunc(head, func(h string) bool {
		return slices.Contains(known, strings.ToLower(strings.TrimSpace(h)))
	}) {
		r.fail(line, 0, lineOf(lines, line), "name,address,platform", "this is not a fleet file: its first line names no column that a fleet has")
		return nil, r.problems.Err()
	}
	columns, further := r.header(head, line, lineOf(lines, line), func(i int) int { _, c := cr.FieldPos(i); return c })
	var rows []row
	for {
		rec, err := cr.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			r.csvError(err, lines)
			break // what follows a broken quote cannot be trusted
		}
		line, _ := cr.FieldPos(0)
		one := row{line: line, text: lineOf(lines, line), cells: map[string]cell{}}
		if len(rec) > len(columns) {
			_, col := cr.FieldPos(len(columns))
			r.fail(line, col, one.text, "", "%d values under %d columns", len(rec), len(columns))
		}
		for i, v := range rec[:min(len(rec), len(columns))] {
			l, c := cr.FieldPos(i)
			one.cells[columns[i]] = cell{strings.TrimSpace(v), l, c}
		}
		rows = append(rows, one)
	}
	return r.build(rows, further)
}

func (r *reader) csvError(err error, lines []string) {
	var pe *csv.ParseError
	if errors.As(err, &pe) {
		r.fail(pe.Line, pe.Column, lineOf(lines, pe.Line), `"a value in quotes", with "" for a quote inside it`, "%v", pe.Err)
		return
	}
	r.fail(0, 0, "", "", "%v", err)
}

// header checks the column names and returns them all and the further ones.
func (r *reader) header(head []string, line int, text string, col func(int) int) (all, further []string) {
	for i, h := range head {
		name := columnName(h)
		switch {
		case slices.Contains(all, name):
			r.fail(line, col(i), text, "", "column %q stands twice", name)
		case slices.Contains(known, name):
		case !validColumn.MatchString(name):
			r.fail(line, col(i), text, "a lower-case word such as gate_port", "column name %q cannot be used in a runbook", name)
		default:
			further = append(further, name)
		}
		all = append(all, name)
	}
	for _, must := range []string{"name", "address", "platform"} {
		if !slices.Contains(all, must) {
			r.fail(line, 0, text, "", "there is no column %q", must)
		}
	}
	return all, further
}

func (r *reader) yaml(data []byte) (*Fleet, error) {
	lines := strings.Split(string(data), "\n")
	doc, err := textfile.Tree(r.file, data)
	if err != nil {
		return nil, err
	}
	var list *ast.SequenceNode
	for _, d := range doc.Docs {
		for _, kv := range mappings(d.Body) {
			if keyOf(kv) == "devices" {
				list, _ = kv.Value.(*ast.SequenceNode)
			} else {
				p := kv.Key.GetToken().Position
				r.fail(p.Line, p.Column, lineOf(lines, p.Line), "devices", "unknown entry %q", keyOf(kv))
			}
		}
	}
	if list == nil {
		r.fail(0, 0, "", "devices: and under it one - name: ... for each device", "there is no list of devices")
		return nil, r.problems.Err()
	}
	var rows []row
	var further []string
	for _, item := range list.Values {
		p := item.GetToken().Position
		one := row{line: p.Line, text: lineOf(lines, p.Line), cells: map[string]cell{}}
		for i, kv := range mappings(item) {
			kp := kv.Key.GetToken().Position
			if i == 0 {
				one.line, one.text = kp.Line, lineOf(lines, kp.Line)
			}
			name := keyOf(kv)
			value, ok := kv.Value.(ast.ScalarNode)
			switch {
			case !ok:
				r.fail(kp.Line, kp.Column, lineOf(lines, kp.Line), name+": one value", "%q must be one value, not a list or a table", name)
				continue
			case slices.Contains(known, name):
			case !validColumn.MatchString(name):
				r.fail(kp.Line, kp.Column, lineOf(lines, kp.Line), "a lower-case word such as gate_port", "name %q cannot be used in a runbook", name)
			case !slices.Contains(further, name):
				further = append(further, name)
			}
			// The token, not the decoded value: 007 or 1e3 must stay as written.
			one.cells[name] = cell{scalar(value), kp.Line, kp.Column}
		}
		rows = append(rows, one)
	}
	return r.build(rows, further)
}

func scalar(n ast.ScalarNode) string {
	if _, null := n.(*ast.NullNode); null {
		return ""
	}
	if s, ok := n.(*ast.StringNode); ok {
		return s.Value
	}
	return strings.TrimSpace(n.GetToken().Value)
}

func keyOf(kv *ast.MappingValueNode) string { return columnName(kv.Key.GetToken().Value) }

// columnName is a column as we call it, however it is written: Calls itself and
// calls_itself are one.
func columnName(written string) string {
	name := strings.ToLower(strings.TrimSpace(written))
	if spaced := strings.ReplaceAll(name, "_", " "); spaced == CallsColumn {
		return spaced
	}
	return name
}

func mappings(n ast.Node) []*ast.MappingValueNode {
	switch m := n.(type) {
	case *ast.MappingNode:
		return m.Values
	case *ast.MappingValueNode:
		return []*ast.MappingValueNode{m}
	}
	return nil
}

func hasPlatformLine(data []byte) bool {
	for l := range bytes.Lines(data) {
		if w := bytes.Fields(l); len(w) == 2 && string(w[0]) == "platform" {
			return true
		}
	}
	return false
}

func (r *reader) list(data []byte) (*Fleet, error) {
	var rows []row
	platform := cell{}
	if !hasPlatformLine(data) {
		r.fail(0, 0, "", "platform NAME on a line before the first address", "this is not a list of devices: no line names their platform")
		return nil, r.problems.Err()
	}
	for i, text := range strings.Split(string(data), "\n") {
		text = strings.TrimRight(text, "\r")
		words := strings.Fields(strings.SplitN(text, "#", 2)[0])
		n := i + 1
		switch {
		case len(words) == 0:
		case words[0] == "platform" && len(words) == 2:
			platform = cell{words[1], n, strings.Index(text, words[1]) + 1}
		case platform.value == "":
			r.fail(n, 1, text, "platform NAME on a line before the first address", "no platform is named for %s", words[0])
		case len(words) > 1:
			r.fail(n, 1, text, "one address a line, or use fleet.csv", "more than an address on this line")
		default:
			at := cell{words[0], n, strings.Index(text, words[0]) + 1}
			name := nameOf(words[0])
			rows = append(rows, row{line: n, text: text, cells: map[string]cell{
				"name": {name, at.line, at.col}, "address": at, "platform": platform,
			}})
		}
	}
	return r.build(rows, nil)
}
