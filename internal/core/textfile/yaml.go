package textfile

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"metabasis/internal/core/problem"
)

// Bounds on YAML, which can say much in little.
const (
	maxLine  = 16 << 10 // bytes of a line
	maxDepth = 32       // levels
)

// YAML reads a YAML file into a value, and gives its tree too. Names that the value
// does not have are refused, unless loose. Anchors and aliases are refused: nine
// lines of them can stand for gigabytes. The error is a problem.List.
func YAML(file string, data []byte, into any, loose bool) (*ast.File, error) {
	doc, err := Tree(file, data)
	if err != nil {
		return nil, err
	}
	opts := []yaml.DecodeOption{yaml.Strict()}
	if loose {
		opts = nil
	}
	if len(doc.Docs) == 0 || doc.Docs[0].Body == nil {
		return doc, nil
	}
	if err := value(doc.Docs[0].Body, into, opts); err != nil {
		wrong := problem.FromYAML(file, data, err)
		if unknown, ok := errors.AsType[*yaml.UnknownFieldError](err); ok && unknown.Token != nil {
			wrong.Hint = namesAt(doc.Docs[0].Body, reflect.TypeOf(into), unknown.Token)
		}
		return nil, problem.List{wrong}
	}
	return doc, nil
}

// value reads a tree into a value. The parser may fail in itself over what no person writes.
func value(n ast.Node, into any, opts []yaml.DecodeOption) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("it cannot be read: %v", p)
		}
	}()
	return yaml.NodeToValue(n, into, opts...)
}

// Tree parses a YAML file within bounds. The error is a problem.List.
func Tree(file string, data []byte) (*ast.File, error) {
	for i, l := range bytes.Split(data, []byte("\n")) {
		at := problem.Problem{File: file, Line: i + 1}
		if len(l) > maxLine {
			at.Msg = fmt.Sprintf("a line of %d bytes; the most is %d", len(l), maxLine)
			return nil, problem.List{at}
		}
		if d := nested(l); d > maxDepth {
			at.Msg = fmt.Sprintf("%d levels on one line; the most is %d", d, maxDepth)
			return nil, problem.List{at}
		}
	}
	doc, err := parser.ParseBytes(data, 0)
	if err != nil {
		return nil, problem.List{problem.FromYAML(file, data, err)}
	}
	w := &walker{file: file, lines: bytes.Split(data, []byte("\n"))}
	for _, d := range doc.Docs {
		if d.Body != nil {
			w.walk(d.Body, 0)
		}
	}
	if w.found != nil {
		return nil, problem.List{*w.found}
	}
	return doc, nil
}

// nested is how deep a line can lead: brackets that stay open, and dashes of lists
// in lists.
func nested(line []byte) int {
	depth, most, dashes := 0, 0, true
	for _, c := range line {
		switch c {
		case '[', '{':
			depth++
			dashes = false
		case ']', '}':
			depth--
			dashes = false
		case '-':
			if dashes {
				depth++
			}
		case ' ':
		default:
			dashes = false
		}
		most = max(most, depth)
	}
	return most
}

// walker looks through a tree for what is refused.
type walker struct {
	file  string
	lines [][]byte
	found *problem.Problem
}

func (w *walker) fail(n ast.Node, hint, msg string) {
	if w.found != nil {
		return
	}
	w.found = &problem.Problem{File: w.file, Msg: msg, Hint: hint}
	if tk := n.GetToken(); tk != nil && tk.Position != nil {
		w.found.Line, w.found.Col = tk.Position.Line, tk.Position.Column
		if l := tk.Position.Line; l >= 1 && l <= len(w.lines) {
			w.found.Text = string(w.lines[l-1])
		}
	}
}

func (w *walker) walk(n ast.Node, depth int) {
	if w.found != nil || n == nil {
		return
	}
	if depth > maxDepth {
		w.fail(n, "", fmt.Sprintf("more than %d levels", maxDepth))
		return
	}
	switch v := n.(type) {
	case *ast.AliasNode, *ast.AnchorNode, *ast.MergeKeyNode:
		w.fail(n, "it out where it is meant", "anchors and aliases are not taken")
	case *ast.MappingNode:
		for _, kv := range v.Values {
			w.walk(kv, depth)
		}
	case *ast.MappingValueNode:
		w.walk(v.Key, depth+1)
		w.walk(v.Value, depth+1)
	case *ast.SequenceNode:
		for _, item := range v.Values {
			w.walk(item, depth+1)
		}
	case *ast.TagNode: // the parser fails in itself over some
		w.fail(n, "the value alone", "tags are not taken")
	}
}
