package runbook

import (
	"errors"
	"fmt"
	"reflect"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
)

// NotKnown says that a condition is neither true nor false: it looks at a value
// that the device did not tell.
type NotKnown struct {
	Source string // the condition
	Column string // what is missing
}

func (e *NotKnown) Error() string {
	return fmt.Sprintf("condition %q cannot be told: %s is missing in what the device said", e.Source, e.Column)
}

// missingName asks whether a value is missing: missing(.preference).
const missingName = "missing"

// errMissing carries the name of a column through an evaluation.
type errMissing struct{ column string }

func (e *errMissing) Error() string { return e.column + " is missing" }

// known are the functions that stand between a condition and a value of a table:
// what is missing ends the evaluation, so that it is never taken for 0 or for "".
func known() []expr.Option {
	check := func(params ...any) (any, error) {
		if params[0] == nil {
			return nil, &errMissing{fmt.Sprint(params[1])}
		}
		return params[0], nil
	}
	return []expr.Option{
		expr.Function("known_text", check, new(func(any, string) string)),
		expr.Function("known_number", check, new(func(any, string) float64)),
		expr.Function("known_yes", check, new(func(any, string) bool)),
		expr.Function(missingName, func(params ...any) (any, error) { return params[0] == nil, nil }, new(func(any) bool)),
	}
}

// guardValues puts a known function around each value of a table.
type guardValues struct{}

func (guardValues) Visit(n *ast.Node) {
	switch node := (*n).(type) {
	case *ast.MemberNode:
		name, ok := node.Property.(*ast.StringNode)
		if f := knownFor(node.Type()); ok && f != "" {
			ast.Patch(n, &ast.CallNode{Callee: &ast.IdentifierNode{Value: f}, Arguments: []ast.Node{node, &ast.StringNode{Value: name.Value}}})
		}
	case *ast.CallNode:
		if id, ok := node.Callee.(*ast.IdentifierNode); ok && id.Value == missingName && len(node.Arguments) == 1 {
			if inner, ok := node.Arguments[0].(*ast.CallNode); ok && len(inner.Arguments) == 2 {
				node.Arguments[0] = inner.Arguments[0]
			}
		}
	}
}

func knownFor(t reflect.Type) string {
	if t == nil {
		return ""
	}
	switch t.Kind() {
	case reflect.String:
		return "known_text"
	case reflect.Float32, reflect.Float64:
		return "known_number"
	case reflect.Bool:
		return "known_yes"
	}
	return ""
}

// missing finds what an evaluation ended at; "" when that was something else.
func missingIn(err error) string {
	var m *errMissing
	if errors.As(err, &m) {
		return m.column
	}
	return ""
}
