package runbook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/expr-lang/expr/types"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
)

// What the compiler of expressions says of a slip is told in our words here, with what to write
// instead.

var (
	unknownName  = regexp.MustCompile(`unknown name (\S+)`)
	unknownField = regexp.MustCompile(`unknown field (\S+)|has no field (\S+)`)
	assignment   = regexp.MustCompile(`(^|[^=!<>])=([^=]|$)`)
	mixed        = regexp.MustCompile(`: (?:==|!=|<|<=|>|>=) \(mismatched types (string|int|float\d\d) and (?:string|int|float\d\d)\)`)
	quotedNumber = regexp.MustCompile(`"(\d+)"`)
	bareNumber   = regexp.MustCompile(`([=<>]\s*)(\d+(?:\.\d+)*)\b`)
	bareAddress  = regexp.MustCompile(`(^|[\s(,\[=])(\d+\.\d+\.\d+\.\d+(?:/\d+)?|[0-9a-fA-F]{1,4}(?::[0-9a-fA-F]{0,4}){2,7}(?:/\d+)?)`)
	isEmpty      = regexp.MustCompile(`(\w+)\s*==\s*""`)
	isNotEmpty   = regexp.MustCompile(`(\w+)\s*!=\s*""`)
)

// explain makes a problem of what the expression compiler says, in our words.
func (c *compiler) explain(at span, source string, err error, env types.Map, elsewhere string) {
	msg, hint := err.Error(), ""
	if m := unknownName.FindStringSubmatch(msg); m != nil {
		name := m[1]
		msg = fmt.Sprintf("nothing is called %q here", name)
		if _, isTable := c.schema.Tables[name]; isTable || name == hasName || name == "config" {
			msg = fmt.Sprintf("%s is read from the device and is not known yet: %s", strings.TrimSuffix(name, "_has"), elsewhere)
		} else {
			hint = problem.Nearest(name, slices.Collect(maps.Keys(env)))
			if nearReaches.MatchString(source) && strings.HasPrefix(name, "reach") {
				hint = `reaches "198.51.100.14"`
			}
			if c.columnOfRows(source, name) {
				hint = "." + name + ", for the column of each row"
			}
		}
		c.fail(at, hint, "%s", msg)
		return
	}
	if m := unknownField.FindStringSubmatch(msg); m != nil {
		name := m[1] + m[2]
		var fields []string
		for t, table := range c.schema.Tables {
			if strings.Contains(source, t+".") {
				fields = append(fields, slices.Collect(maps.Keys(table.Columns))...)
			}
		}
		for n, t := range env { // the row of a loop
			if row, ok := t.(types.Map); ok && c.schema.Tables[n].Columns == nil && strings.Contains(source, n+".") {
				fields = append(fields, slices.Collect(maps.Keys(row))...)
			}
		}
		c.fail(at, problem.OneOf(name, slices.Sorted(slices.Values(fields))), "there is no column %q", name)
		return
	}
	switch {
	case wholeTable.MatchString(msg):
		if table, column := c.tableIn(source); table != "" {
			msg, hint = table+" is a table, and no value", "one of its columns, such as "+table+"."+column
		}
	case strings.HasPrefix(msg, "array elements can only be selected"):
		if table, column := c.tableIn(source); table != "" {
			msg = table + " has many rows: which of them is meant is not said"
			hint = fmt.Sprintf("any(%s, .%s …), or all(%s, .%s …)", table, column, table, column)
		}
	case strings.Contains(source, " read ") && strings.Contains(msg, "is not expected here"):
		hint = "TABLE read within 7d"
	case nearReaches.MatchString(source) && !reachesForm.MatchString(source):
		hint = `reaches "198.51.100.14"`
	case reachesForm.MatchString(source) && strings.Contains(msg, "is not expected here"):
		hint = `reaches "198.51.100.14", with from here, from a device, and without loss behind it`
	case assignment.MatchString(source):
		hint = "== to compare"
	case bareAddress.MatchString(source):
		msg, hint = "an address is text, and stands in quotes", bareAddress.ReplaceAllString(source, `$1"$2"`)
	case dottedNumber.MatchString(source) && strings.Contains(msg, "is not expected here"):
		msg, hint = "a version is text, and stands in quotes", dottedNumber.ReplaceAllString(source, `$1"$2"`)
	case mixed.MatchString(msg):
		m := mixed.FindStringSubmatch(msg)
		msg, hint = "a number is held against a text"+c.kinds(source), alike(source, m[1] == "string")
	}
	if m := mismatched.FindStringSubmatch(msg); m != nil && wordFor(m[2]) != "" && wordFor(m[3]) != "" {
		msg = fmt.Sprintf("%s and %s do not go together with %s", wordFor(m[2]), wordFor(m[3]), m[1])
	}
	if strings.Contains(msg, "expected bool") {
		msg = "this is not a condition: it is neither true nor false"
	}
	c.fail(at, hint, "%s", msg)
}

var (
	wholeTable = regexp.MustCompile(`mismatched types [^)]*map\[string\]`)
	overTable  = regexp.MustCompile(`\b(?:any|all|none|one|filter|count|map)\(\s*([a-z][a-z0-9_]*)\s*,`)
)

var (
	dottedNumber = regexp.MustCompile(`([=<>]\s*)(\d+(?:\.\d+){2,})\b`)
	mismatched   = regexp.MustCompile(`^invalid operation: (\S+) \(mismatched types (\w+) and (\w+)\)$`)
)

// wordFor is what a type is called here; "" for one that has no word.
func wordFor(goType string) string {
	switch goType {
	case "bool":
		return "yes or no"
	case "string":
		return "a text"
	case "int", "float64", "float32":
		return "a number"
	}
	return ""
}

// columnOfRows tells whether a name is that of a column of a table whose rows a condition asks.
func (c *compiler) columnOfRows(source, name string) bool {
	for _, m := range overTable.FindAllStringSubmatch(source, -1) {
		if _, has := c.schema.Tables[m[1]].Columns[name]; has {
			return true
		}
		if slices.ContainsFunc(c.schema.Beside[m[1]], func(col kind.Column) bool { return col.Name == name }) {
			return true
		}
	}
	return false
}

// tableIn finds a table that a condition names, and a column of it: the one that is named behind
// it, or the first.
func (c *compiler) tableIn(source string) (table, column string) {
	for _, name := range namesIn(source) {
		columns := slices.Sorted(maps.Keys(c.schema.Tables[name].Columns))
		for _, col := range c.schema.Beside[name] {
			columns = append(columns, col.Name)
		}
		if len(columns) == 0 {
			continue
		}
		for _, col := range columns {
			if strings.Contains(source, name+"."+col) {
				return name, col
			}
		}
		if slices.Contains(columns, name) {
			return name, name
		}
		return name, columns[0]
	}
	return "", ""
}

// kinds says what the columns of the fleet in a condition hold.
func (c *compiler) kinds(source string) string {
	said := ""
	for _, name := range namesIn(source) {
		switch f := c.schema.field(name); {
		case f == nil:
		case f.Kind.Type == kind.Number:
			said += fmt.Sprintf("; all that stands in the column %s are whole numbers", name)
		case f.Kind.Type == kind.Text || f.Kind.Type == "":
			said += fmt.Sprintf("; the column %s holds text: not all that stands in it are whole numbers", name)
		default:
			said += fmt.Sprintf("; the kind of the column %s is %s", name, f.Kind)
		}
	}
	return said
}

// alike is a condition in which a value is held against one of its own kind; "" where
// that cannot be told.
func alike(source string, text bool) string {
	out := quotedNumber.ReplaceAllString(source, "$1")
	out = isEmpty.ReplaceAllString(out, "missing($1)")
	out = isNotEmpty.ReplaceAllString(out, "not missing($1)")
	if text {
		out = bareNumber.ReplaceAllString(source, `$1"$2"`)
	}
	if out == source {
		return ""
	}
	return out
}
