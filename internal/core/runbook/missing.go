package runbook

import (
	"errors"
	"fmt"
	"reflect"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
)

// NotKnown says that a condition is neither true nor false: it looks at a value
// that the device did not tell, or at a number that the fleet does not say of it.
type NotKnown struct {
	Source  string // the condition
	Column  string // what is missing
	InFleet bool   // it is the fleet that does not say it
}

func (e *NotKnown) Error() string {
	where := "what the device said"
	if e.InFleet {
		where = "the fleet"
	}
	return fmt.Sprintf("condition %q cannot be told: %s is missing in %s", e.Source, e.Column, where)
}

// missingName asks whether a value is missing: missing(.preference).
const missingName = "missing"

// errMissing carries the name of a column through an evaluation.
type errMissing struct {
	column  string
	inFleet bool
}

func (e *errMissing) Error() string { return e.column + " is missing" }

// known are the functions that stand between a condition and a value of a table:
// what is missing ends the evaluation, so that it is never taken for 0 or for "".
func known() []expr.Option {
	in := func(fleet bool) func(params ...any) (any, error) {
		return func(params ...any) (any, error) {
			if params[0] == nil {
				return nil, &errMissing{fmt.Sprint(params[1]), fleet}
			}
			return params[0], nil
		}
	}
	check := in(false)
	return []expr.Option{
		expr.Function("known_whole", in(true), new(func(any, string) int)),
		expr.Function("known_switch", in(true), new(func(any, string) bool)),
		expr.Function("known_text", check, new(func(any, string) string)),
		expr.Function("known_number", check, new(func(any, string) float64)),
		expr.Function("known_yes", check, new(func(any, string) bool)),
		expr.Function(missingName, func(params ...any) (any, error) { return params[0] == nil, nil }, new(func(any) bool)),
	}
}

// reachedValues puts a known function around each value of a table, and around each
// number of the fleet.
type reachedValues struct{}

func (reachedValues) Visit(n *ast.Node) {
	switch node := (*n).(type) {
	case *ast.MemberNode:
		name, ok := node.Property.(*ast.StringNode)
		if f := knownFor(node.Type()); ok && f != "" {
			ast.Patch(n, &ast.CallNode{Callee: &ast.IdentifierNode{Value: f}, Arguments: []ast.Node{node, &ast.StringNode{Value: name.Value}}})
		}
	case *ast.IdentifierNode:
		if f := knownInFleet(node.Type()); f != "" {
			ast.Patch(n, &ast.CallNode{Callee: &ast.IdentifierNode{Value: f}, Arguments: []ast.Node{node, &ast.StringNode{Value: node.Value}}})
		}
	case *ast.CallNode:
		if id, ok := node.Callee.(*ast.IdentifierNode); ok && id.Value == missingName && len(node.Arguments) == 1 {
			if inner, ok := node.Arguments[0].(*ast.CallNode); ok && len(inner.Arguments) == 2 {
				node.Arguments[0] = inner.Arguments[0]
			}
		}
	}
}

// knownInFleet is the function around a value of the fleet; "" where it always has one.
func knownInFleet(t reflect.Type) string {
	if t == nil {
		return ""
	}
	switch t.Kind() {
	case reflect.Int:
		return "known_whole"
	case reflect.Bool:
		return "known_switch"
	}
	return ""
}

func knownFor(t reflect.Type) string {
	if t == nil {
		return ""
	}
	switch t.Kind() {
	case reflect.String:
		return "known_text"
	case reflect.Int: // what is read from a device has no whole numbers
		return "known_whole"
	case reflect.Float32, reflect.Float64:
		return "known_number"
	case reflect.Bool:
		return "known_yes"
	}
	return ""
}

// missing finds what an evaluation ended at; "" when that was something else.
func missingIn(err error) string {
	column, _ := missingFrom(err)
	return column
}

// missingFrom is missingIn, and whether it is the fleet that does not say it.
func missingFrom(err error) (column string, inFleet bool) {
	var m *errMissing
	if errors.As(err, &m) {
		return m.column, m.inFleet
	}
	return "", false
}
