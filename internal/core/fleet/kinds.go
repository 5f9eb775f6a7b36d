package fleet

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// The kind of a column is said once: behind its name in the head of its file, as lan: number
// 2..4094, or in a small file for all of them, columns.yaml:
//
//	fleet:
//	  gate_port: number 1..48
//	lans:
//	  lan: number 2..4094
//
// under the name of the file it is of: fleet, sites, roles, or a table.

// ColumnsFile is the name of that file.
const ColumnsFile = "columns.yaml"

// Kinds are the kinds of columns as [ColumnsFile] says them, by file and column.
type Kinds map[string]map[string]Said

// Said is a kind, and where it is said.
type Said struct {
	Kind kind.Kind
	File string
	Line int
}

// ReadKinds reads the kinds of columns. The error, if any, is a problem.List.
func ReadKinds(file string, data []byte) (Kinds, error) {
	data, err := textfile.Decode(file, data)
	if err != nil {
		return nil, err
	}
	doc, err := textfile.Tree(file, data)
	if err != nil {
		return nil, err
	}
	r := &reader{file: file}
	lines := strings.Split(string(data), "\n")
	out := Kinds{}
	for _, d := range doc.Docs {
		for _, of := range mappings(d.Body) {
			name := keyOf(of)
			p := of.Key.GetToken().Position
			if out[name] != nil {
				r.fail(p.Line, p.Column, lineOf(lines, p.Line), "", "%q stands twice", name)
			}
			out[name] = map[string]Said{}
			if mappings(of.Value) == nil {
				r.fail(
					p.Line,
					p.Column,
					lineOf(lines, p.Line),
					"lan: number 2..4094, and so on, under it",
					"under %q stand its columns, each with its kind",
					name,
				)
			}
			for _, c := range mappings(of.Value) {
				r.saidKind(out[name], c, lines)
			}
		}
	}
	return out, r.problems.Err()
}

func (r *reader) saidKind(out map[string]Said, c *ast.MappingValueNode, lines []string) {
	name := keyOf(c)
	p := c.Key.GetToken().Position
	value, ok := c.Value.(ast.ScalarNode)
	if !ok {
		r.fail(p.Line, p.Column, lineOf(lines, p.Line), name+": number 2..4094", "the kind of %q is one text", name)
		return
	}
	k, err := kind.Parse(scalar(value))
	if err != nil {
		r.fail(p.Line, p.Column, lineOf(lines, p.Line), "", "%s: %v", name, err)
	}
	if _, twice := out[name]; twice {
		r.fail(p.Line, p.Column, lineOf(lines, p.Line), "", "%q stands twice", name)
	}
	out[name] = Said{k, r.file, p.Line}
}

// Unused tells kinds of what is not there: of is what the fleet has, by the names of files.
func (k Kinds) Unused(of map[string][]string) error {
	var list problem.List
	var files []string
	for name := range of {
		files = append(files, name)
	}
	for file, columns := range k {
		for name, said := range columns {
			p := problem.Problem{File: said.File, Line: said.Line}
			switch {
			case of[file] == nil:
				p.Msg, p.Hint = fmt.Sprintf("there is no file of columns called %q", file), problem.OneOf(file, files)
			case !slices.Contains(of[file], name):
				p.Msg, p.Hint = fmt.Sprintf("%s has no column %q", file, name), problem.OneOf(name, of[file])
			default:
				continue
			}
			list = append(list, p)
		}
	}
	return list.Err()
}

// kinds are those of the columns of a sheet, as its head and the file of kinds say them.
// Those of certain columns need none: what they hold is known.
func (r *reader) kinds(s *sheet, said map[string]Said, certain []string) map[string]kind.Kind {
	out := map[string]kind.Kind{}
	for name, k := range said {
		out[name] = k.Kind
	}
	for _, c := range s.head {
		if c.kind == nil {
			continue
		}
		if slices.Contains(certain, c.name) {
			r.fail(s.line, c.col, s.text, c.name, "what %s holds is known: it needs no kind", c.name)
		}
		if k, both := said[c.name]; both && !k.Kind.Equal(*c.kind) {
			r.fail(s.line, c.col, s.text, "one of the two", "%s is %s here, and %s in %s line %d", c.name, c.kind, k.Kind, k.File, k.Line)
		}
		out[c.name] = *c.kind
	}
	return out
}

// fits tells the values that are not of the kinds of their columns.
func (r *reader) fits(rows []row, kinds map[string]kind.Kind) {
	if len(kinds) == 0 {
		return
	}
	for _, one := range rows {
		for name, c := range one.cells {
			k, said := kinds[name]
			if !said || c.value == "" {
				continue
			}
			if err := k.Check(c.value); err != nil {
				r.fail(c.line, c.col, one.text, "", "%s: %v; its kind is %s", name, err, k)
			}
		}
	}
}
