package runbook

import (
	"fmt"
	"slices"
	"strings"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/types"
	"github.com/expr-lang/expr/vm"
)

// A condition over a table that does not hold names the row that broke it, and its value: "lan
// 999 is none of 10, 100, 200", and not the condition once more.

// overRows is a condition such as all(ports, .state == "up"), taken apart.
type overRows struct {
	quantor string // all, any, none or one
	table   *vm.Program
	of      string   // the table, as it is written
	keys    []string // columns that name a row
	parts   []part   // what is asked of a row
}

// rowName is what a row is called within a condition that is asked of it.
const rowName = "row__"

// elements tells the type of the rows of a table, and the columns that name one; nil is no table.
type elements func(table string) (row types.Map, keys []string)

// elements of the tables that conditions know.
func (c *compiler) elements(table string) (types.Map, []string) {
	if columns := c.schema.Beside[table]; len(columns) > 0 {
		return besideRow(columns), []string{columns[0].Name}
	}
	if t, read := c.schema.Tables[table]; read && t.Many {
		keys := t.Manner.Keys
		for _, of := range c.schema.Of {
			if len(keys) == 0 {
				keys = of[table].Manner.Keys
			}
		}
		return rowType(t), keys
	}
	return nil, nil
}

// rowPointer puts the name of a row in the place of what stands for it.
type rowPointer struct{}

func (rowPointer) Visit(n *ast.Node) {
	if _, is := (*n).(*ast.PointerNode); is {
		ast.Patch(n, &ast.IdentifierNode{Value: rowName})
	}
}

// rowsOf takes a condition over the rows of a table apart; nil where it is none.
func rowsOf(n ast.Node, env types.Map, of elements) *overRows {
	b, is := n.(*ast.BuiltinNode)
	if !is || !slices.Contains([]string{"all", "any", "none", "one"}, b.Name) || len(b.Arguments) != 2 || of == nil {
		return nil
	}
	id, named := b.Arguments[0].(*ast.IdentifierNode)
	predicate, asks := b.Arguments[1].(*ast.PredicateNode)
	if !named || !asks {
		return nil
	}
	row, keys := of(id.Value)
	if row == nil {
		return nil
	}
	inner := predicate.Node
	ast.Walk(&inner, rowPointer{})
	with := types.Map{}
	for k, v := range env {
		with[k] = v
	}
	with[rowName] = row
	o := &overRows{quantor: b.Name, of: id.Value, keys: keys, parts: split(inner.String(), with, nil)}
	o.table, _, _ = compileExpr(id.Value, env, false)
	if o.table == nil || len(o.parts) == 0 {
		return nil
	}
	return o
}

// mostRowsNamed is how many rows are named that break a condition.
const mostRowsNamed = 3

// explain says which rows break the condition, and how.
func (o *overRows) explain(vals map[string]any) string {
	v, err := expr.Run(o.table, vals)
	if err != nil {
		return ""
	}
	rows := rowsIn(v)
	var broken, fit []string
	nearest, best := "", -1
	for _, row := range rows {
		vals[rowName] = row
		why, held := o.breaks(vals, row)
		switch {
		case why == "":
			fit = append(fit, o.name(row))
		default:
			broken = append(broken, why)
			if held > best {
				nearest, best = why, held
			}
		}
	}
	delete(vals, rowName)
	switch {
	case o.quantor == "all":
		return listed(broken)
	case o.quantor == "any" && len(rows) == 0:
		return "no row stands in " + o.of
	case o.quantor == "any":
		return fmt.Sprintf("no row of %s fits, of %d; the nearest: %s", o.of, len(rows), nearest)
	case o.quantor == "none":
		return listed(fit) + " should not be so, and is"
	case len(fit) == 0:
		return fmt.Sprintf("no row of %s fits, of %d", o.of, len(rows))
	}
	return fmt.Sprintf("%d rows of %s fit, and one should: %s", len(fit), o.of, listed(fit))
}

func rowsIn(v any) (out []map[string]any) {
	switch rows := v.(type) {
	case []map[string]any:
		return rows
	case []any:
		for _, r := range rows {
			if m, is := r.(map[string]any); is {
				out = append(out, m)
			}
		}
	}
	return out
}

func listed(what []string) string {
	if n := len(what) - mostRowsNamed; n > 0 {
		return strings.Join(what[:mostRowsNamed], "; ") + fmt.Sprintf("; and %d more", n)
	}
	return strings.Join(what, "; ")
}

// breaks says why a row does not fit, "" where it does, and how many parts of what is asked hold.
func (o *overRows) breaks(vals map[string]any, row map[string]any) (why string, held int) {
	for _, p := range o.parts {
		if v, err := expr.Run(p.whole, vals); err == nil && v == true {
			held++
			continue
		}
		if why == "" {
			why = o.says(p, vals, row)
		}
	}
	return why, held
}

// says is what of a row is not as it is asked.
func (o *overRows) says(p part, vals map[string]any, row map[string]any) string {
	text := strings.ReplaceAll(p.explain(vals), rowName+".", "")
	for _, k := range o.keys {
		if strings.HasPrefix(text, k+" ") {
			return text
		}
	}
	if name := o.name(row); name != "" {
		return name + ": " + text
	}
	return text
}

// name is a row by its keys: port 7.
func (o *overRows) name(row map[string]any) string {
	var parts []string
	for _, k := range o.keys {
		if v := row[k]; v != nil {
			parts = append(parts, k+" "+inLine(v))
		}
	}
	return strings.Join(parts, ", ")
}
