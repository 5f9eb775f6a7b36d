package fleet

import (
	"bytes"
	"path/filepath"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/textfile"
)

// Read reads a fleet from data, by the ending of its file name. Platforms are
// the names of the profiles at hand. The error, if any, is a [problem.List].
func Read(file string, data []byte, platforms []string) (*Fleet, error) {
	return Kinds(nil).Read(file, data, platforms)
}

// Read is [Read], with kinds of columns that are said elsewhere.
func (k Kinds) Read(file string, data []byte, platforms []string) (*Fleet, error) {
	platforms = slices.Sorted(slices.Values(platforms))
	r := &reader{file: file, platforms: platforms, declared: k}
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
	s := r.sheet(data, strings.Join(known, ","))
	if s.head == nil {
		return nil, r.problems.Err()
	}
	if !slices.ContainsFunc(s.head, func(c column) bool { return slices.Contains(known, c.name) }) {
		r.problems = nil
		r.fail(s.line, 0, s.text, "name,address,platform", "this is not a fleet file: its first line names no column that a fleet has")
		return nil, r.problems.Err()
	}
	further := r.header(s)
	r.said = r.kinds(s, r.declared["fleet"], known)
	return r.build(s.records, further)
}

// header checks the column names and returns the further ones.
func (r *reader) header(s *sheet) (further []string) {
	r.twice(s)
	var all []string
	for _, c := range s.head {
		switch {
		case slices.Contains(known, c.name), slices.Contains(all, c.name):
		case !validColumn.MatchString(c.name):
			r.fail(s.line, c.col, s.text, "a lower-case word such as gate_port", "column name %q cannot be used in a runbook", c.name)
		default:
			further = append(further, c.name)
		}
		all = append(all, c.name)
	}
	for _, must := range []string{"name", "address", "platform"} {
		if !slices.Contains(all, must) {
			r.fail(s.line, 0, s.text, "", "there is no column %q", must)
		}
	}
	return further
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
	y := &yamlFleet{reader: r, lines: lines, written: map[string]string{}, lists: map[string][]row{}}
	for _, item := range list.Values {
		y.device(item)
	}
	r.said = r.kinds(&sheet{}, r.declared["fleet"], known)
	for name := range y.list {
		if _, said := r.said[name]; !said {
			r.said[name] = listKind(y.rows, name)
		}
	}
	f, err := r.build(y.rows, y.further)
	if err != nil {
		return nil, err
	}
	return f, r.listed(f, y)
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
