package runbook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/expr-lang/expr/types"

	"metabasis/internal/core/config"
	"metabasis/internal/core/problem"
)

// ColumnType is the type of a column of a table read from a device.
type ColumnType string

// The types a column can have. Times and sizes are numbers to conditions:
// seconds and bytes.
const (
	TextColumn   ColumnType = "text"
	NumberColumn ColumnType = "number"
	YesNoColumn  ColumnType = "yes/no"
	TimeColumn   ColumnType = "time"
)

// Table is what a profile promises to read from a device.
type Table struct {
	Many    bool // many rows; else conditions speak of its only row
	Columns map[string]ColumnType
}

// Schema is what conditions and values may speak of.
type Schema struct {
	Platforms []string
	Fields    []string // further columns of the fleet
	Tables    map[string]Table
}

// DeviceFields are the names under which a device's own columns are known.
var DeviceFields = []string{"name", "address", "platform", "site", "role", "pair", "via"}

// Compile type-checks every condition and value against the schema. The error,
// if any, is a problem.List. A runbook that compiled cannot fail at night for
// a mistyped name.
func (rb *Runbook) Compile(s Schema) error {
	c := &compiler{rb: rb, schema: s}
	fields := types.Map{}
	for _, f := range slices.Concat(s.Fields, DeviceFields) {
		fields[f] = types.String
	}
	for _, a := range rb.Ask {
		if _, taken := fields[a.Name]; taken || s.Tables[a.Name].Columns != nil || a.Name == "config" {
			c.fail(span{a.Line, 3}, "another name", "%s is the name of something a device has", a.Name)
		}
		fields[a.Name] = types.String
		if a.Kind == Number {
			fields[a.Name] = types.Int
		}
	}
	full := maps.Clone(fields)
	for name, t := range s.Tables {
		full[name] = tableType(t)
	}
	full[hasName] = types.TypeOf(func(string) bool { return true })
	for _, cond := range rb.Scope {
		c.cond(cond, fields, "the scope is settled before any device is reached, so it can look only at the fleet and at asked values")
	}
	for _, pc := range rb.Prechecks {
		if pc.Own() {
			c.cond(pc.Where, full, "")
		}
	}
	for i := range rb.Steps {
		c.step(&rb.Steps[i], fields, full)
	}
	c.timer()
	return c.list.Err()
}

func tableType(t Table) types.Type {
	row := types.Map{}
	for col, ct := range t.Columns {
		switch ct {
		case NumberColumn, TimeColumn:
			row[col] = types.Float
		case YesNoColumn:
			row[col] = types.Bool
		default:
			row[col] = types.String
		}
	}
	if t.Many {
		return types.Array(row)
	}
	return row
}

type compiler struct {
	rb     *Runbook
	schema Schema
	list   problem.List
}

func (c *compiler) fail(at span, hint, format string, args ...any) {
	c.list = append(c.list, problem.Problem{
		File: c.rb.File, Line: at.line, Col: at.col, Text: c.rb.lines[at.line], Hint: hint, Msg: fmt.Sprintf(format, args...),
	})
}

func (c *compiler) step(s *Step, fields, full types.Map) {
	if s.When != nil {
		c.cond(s.When, fields, "when is settled before any device is reached; to look at the device, use already")
	}
	if s.For != nil {
		fields, full = maps.Clone(fields), maps.Clone(full)
		t := types.String
		if s.For.Number {
			t = types.Int
		}
		if _, taken := full[s.For.Var]; taken {
			c.fail(span{s.For.Line, 0}, "another name", "%s is already the name of something else", s.For.Var)
		}
		fields[s.For.Var], full[s.For.Var] = t, t
	}
	if s.Already != nil {
		c.cond(s.Already, full, "")
	}
	for _, on := range s.On {
		for _, p := range on.Platforms {
			if !slices.Contains(c.schema.Platforms, p) {
				c.fail(span{on.Line, 0}, "on "+problem.OneOf(p, c.schema.Platforms), "no profile for platform %q", p)
			}
		}
		for _, t := range slices.Concat(on.Send, on.Undo) {
			c.text(t, fields)
		}
	}
	for _, e := range s.Expect {
		c.cond(e.Cond, full, "")
		if e.Within > time.Hour {
			c.fail(span{e.Line, 0}, "within an hour", "an expectation may wait an hour at most")
		}
	}
}

func (c *compiler) timer() {
	t := c.rb.Timer
	if t.Given && !t.None && t.For < 10*time.Second {
		c.fail(span{t.Line, 0}, "timer 10m", "a rollback timer of %s fires before a line is sent", FormatDuration(t.For))
	}
	if b := c.rb.Batches; len(b.Sizes) == 0 {
		c.rb.Batches.Sizes = []Size{{Percent: 100}}
	}
}

func (c *compiler) cond(cond *Cond, env types.Map, elsewhere string) {
	source, back := rewrite(cond.Source)
	prog, off, err := compileExpr(source, env, true)
	if err != nil {
		at := cond.at
		at.col += len([]rune(cond.Source[:min(max(back(off), 0), len(cond.Source))]))
		c.explain(at, cond.Source, err, env, elsewhere)
		return
	}
	cond.prog, cond.names, cond.parts = prog, namesIn(source), split(source, env)
}

func (c *compiler) text(t *Text, env types.Map) {
	for i := range t.pieces {
		p := &t.pieces[i]
		if p.source == "" {
			continue
		}
		prog, off, err := compileExpr(p.source, env, false)
		if err != nil {
			at := p.at
			at.col += len([]rune(p.source[:min(max(off, 0), len(p.source))]))
			c.explain(at, p.source, err, env, "lines are rendered before any device is reached, so they can use only the fleet and asked values")
			continue
		}
		p.prog = prog
	}
}

var (
	unknownName  = regexp.MustCompile(`unknown name (\S+)`)
	unknownField = regexp.MustCompile(`unknown field (\S+)|has no field (\S+)`)
	assignment   = regexp.MustCompile(`(^|[^=!<>])=([^=]|$)`)
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
		c.fail(at, problem.OneOf(name, slices.Sorted(slices.Values(fields))), "there is no column %q", name)
		return
	}
	if assignment.MatchString(source) {
		hint = "== to compare"
	}
	if strings.Contains(msg, "expected bool") {
		msg = "this is not a condition: it is neither true nor false"
	}
	c.fail(at, hint, "%s", msg)
}

// DeviceEnv makes the environment of one device: its columns, the asked values
// and nothing read from it.
func (rb *Runbook) DeviceEnv(fields map[string]string, answers map[string]string) Env {
	env := Env{}
	for k, v := range fields {
		env[k] = v
	}
	for _, a := range rb.Ask {
		v := answers[a.Name]
		env[a.Name] = v
		if a.Kind == Number {
			var n int
			fmt.Sscan(v, &n)
			env[a.Name] = n
		}
	}
	return env
}

// With returns a copy of the environment with one more value.
func (e Env) With(name string, value any) Env {
	out := maps.Clone(e)
	out[name] = value
	return out
}

// WithConfig returns a copy that lets conditions look at a configuration.
func (e Env) WithConfig(c config.Config) Env { return e.With("config", c) }
