package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/expr-lang/expr/types"

	"metabasis/internal/core/config"
	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/record"
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
	Many     bool // many rows; else conditions speak of its only row
	Columns  map[string]ColumnType
	Volatile []string // columns that change by themselves
	Manner   record.Manner
}

// Schema is what conditions and values may speak of.
type Schema struct {
	Platforms []string
	Fields    []kind.Column // further columns of the fleet
	// Beside are the tables beside the fleet: what is known of a device before it is reached.
	Beside map[string][]kind.Column
	Tables map[string]Table // that are read from devices
	// Of is the tables that each platform reads. Conditions of a step are held
	// against those of the platforms it names; against those in scope, once it is
	// known which these are, by [Runbook.Suits].
	Of map[string]map[string]Table
	// Reaches tells of which platforms the profile says how they reach an address.
	Reaches map[string]bool
}

// DeviceFields are the names under which a device's own columns are known.
var DeviceFields = []string{"name", "address", "platform", "site", "role", "pair", "via", "serial"}

// Compile type-checks every condition and value against the schema. The error,
// if any, is a problem.List. A runbook that compiled cannot fail at night for
// a mistyped name.
func (rb *Runbook) Compile(s Schema) error {
	c := &compiler{rb: rb, schema: s}
	fields := rb.fieldTypes(s)
	for _, a := range rb.Ask {
		if s.has(a.Name) || s.Beside[a.Name] != nil || s.Tables[a.Name].Columns != nil || a.Name == "config" {
			c.fail(span{line: a.Line, col: 3}, "another name", "%s is the name of something a device has", a.Name)
		}
	}
	for name := range s.Beside {
		if s.Tables[name].Columns != nil {
			c.fail(
				span{},
				"another name for the file",
				"the table %s stands beside the fleet, and is read from devices, too: which of them is meant cannot be told",
				name,
			)
		}
	}
	full := withTables(fields, s.Tables)
	for _, cond := range rb.Scope {
		c.scope(cond, fields, scopeTypes(fields, s.Tables))
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
	c.recording()
	return c.list.Err()
}

// fieldTypes are the types of what is known before a device is reached.
func (rb *Runbook) fieldTypes(s Schema) types.Map {
	fields := types.Map{}
	for _, f := range DeviceFields {
		fields[f] = types.String
	}
	for _, c := range s.Fields {
		fields[c.Name] = kindType(c.Kind)
	}
	for name, columns := range s.Beside {
		fields[name] = types.Array(besideRow(columns))
	}
	for _, a := range rb.Ask {
		fields[a.Name] = kindType(a.Kind)
	}
	return fields
}

// has tells whether a device has a column of that name in the fleet.
func (s Schema) has(name string) bool {
	return slices.Contains(DeviceFields, name) || s.field(name) != nil
}

// field finds a further column of the fleet; nil where there is none.
func (s Schema) field(name string) *kind.Column {
	for i := range s.Fields {
		if s.Fields[i].Name == name {
			return &s.Fields[i]
		}
	}
	return nil
}

// kindType is the type of a value of a kind, as conditions have it.
func kindType(k kind.Kind) types.Type {
	switch {
	case k.List:
		item := k
		item.List = false
		return types.Array(kindType(item))
	case k.IsNumber():
		return types.Int
	case k.Type == kind.Switch:
		return types.Bool
	}
	return types.String
}

// besideRow is the type of a row of a table beside the fleet.
func besideRow(columns []kind.Column) types.Map {
	row := types.Map{}
	for _, c := range columns {
		row[c.Name] = kindType(c.Kind)
	}
	return row
}

// withTables adds the types of what is read from a device.
func withTables(fields types.Map, tables map[string]Table) types.Map {
	full := maps.Clone(fields)
	for name, t := range tables {
		full[name] = tableType(t)
	}
	full[hasName] = types.TypeOf(func(string) bool { return true })
	withReaches(full)
	return full
}

func tableType(t Table) types.Type {
	if t.Many {
		return types.Array(rowType(t))
	}
	return rowType(t)
}

func rowType(t Table) types.Map {
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
	return row
}

type compiler struct {
	rb     *Runbook
	schema Schema
	list   problem.List
}

func (c *compiler) fail(at span, hint, format string, args ...any) {
	p := problem.Problem{File: c.rb.File, Line: at.line, Col: at.col, Text: c.rb.lines[at.line], Hint: hint, Msg: fmt.Sprintf(format, args...)}
	if at.file != "" {
		p.File, p.Text = at.file, at.raw
	}
	c.list = append(c.list, p)
}

func (c *compiler) step(s *Step, fields, full types.Map) {
	if s.When != nil {
		c.cond(s.When, full, "")
	}
	if s.For != nil {
		c.loop(s.For, fields, full)
		fields, full = s.For.looped(fields, c.schema), s.For.looped(full, c.schema)
	}
	if s.Already != nil {
		c.cond(s.Already, full, "")
	}
	for _, on := range s.On {
		for _, p := range on.Platforms {
			if !slices.Contains(c.schema.Platforms, p) {
				c.fail(span{line: on.Line, col: 0}, "on "+problem.OneOf(p, c.schema.Platforms), "no profile for platform %q", p)
			}
		}
		for _, t := range on.texts() {
			c.text(t, fields)
			if t.Each() && s.For != nil && s.For.Late() { // it would be read in the midst of the night
				c.fail(t.at, "the lines themselves, or a step without the loop",
					"which file this is must be known before the night, and the loop goes through what is read in it")
			}
		}
		if on.Already != nil {
			c.cond(on.Already, full, "")
		}
		c.expects(on.Expect, full)
	}
	if s.Wait != nil && s.Wait.Until != nil {
		c.expects([]Expect{{Cond: s.Wait.Until, Within: s.Wait.Most, Line: s.Wait.Line}}, full)
	}
	for _, t := range s.Tell {
		c.text(t, fields)
	}
	c.expects(s.Expect, full)
	c.namedPlatforms(s)
}

func (c *compiler) expects(list []Expect, full types.Map) {
	full = maps.Clone(full)
	full[sameName] = types.TypeOf(func(string, any, []any) bool { return true })
	for _, e := range list {
		c.sames(e.Cond)
		c.cond(e.Cond, full, "")
		if e.Within > time.Hour {
			c.fail(span{line: e.Line, col: 0}, "within an hour", "an expectation may wait an hour at most")
		}
	}
}

// namedPlatforms holds a step's conditions against the platforms that the step
// names.
func (c *compiler) namedPlatforms(s *Step) {
	if c.schema.Of == nil {
		return
	}
	for _, on := range s.On {
		for _, p := range on.Platforms {
			if _, known := c.schema.Of[p]; known {
				c.list = append(c.list, c.rb.suits(s, p, c.schema)...)
			}
		}
	}
}

func (c *compiler) timer() {
	t := c.rb.Timer
	for _, p := range t.NoneOn {
		if !slices.Contains(c.schema.Platforms, p) {
			c.fail(span{line: t.Line, col: 0}, "timer none on "+problem.OneOf(p, c.schema.Platforms), "no profile for platform %q", p)
		}
	}
	seen := map[string]bool{}
	for _, of := range t.Of {
		at := span{line: of.Line, col: 0}
		switch {
		case !slices.Contains(c.schema.Platforms, of.Platform):
			c.fail(at, "timer 4m on "+problem.OneOf(of.Platform, c.schema.Platforms), "no profile for platform %q", of.Platform)
		case t.NoneFor(of.Platform):
			c.fail(at, "one of the two", "timer none is said of %s, too", of.Platform)
		case seen[of.Platform]:
			c.fail(at, "one of the two", "the timer of %s is said twice", of.Platform)
		case of.For < 10*time.Second:
			c.fail(at, "timer 4m on "+of.Platform, "a rollback timer of %s fires before a line is sent", FormatDuration(of.For))
		}
		seen[of.Platform] = true
	}
	if t.Given && !t.None && t.For < 10*time.Second {
		c.fail(span{line: t.Line, col: 0}, "timer 10m", "a rollback timer of %s fires before a line is sent", FormatDuration(t.For))
	}
	if b := c.rb.Batches; len(b.Sizes) == 0 {
		c.rb.Batches.Sizes = []Size{{Percent: 100}}
	}
	if b := &c.rb.Batches; !b.StopGiven {
		b.StopAfter = UsualStop
	}
}

// sames checks the tables that are held against what they were.
func (c *compiler) sames(cond *Cond) {
	for _, s := range cond.Sames() {
		t, known := c.schema.Tables[s.Table]
		if !known {
			continue // it is told as any other name that is not known
		}
		for _, col := range s.Except {
			if _, has := t.Columns[col]; !has {
				c.fail(cond.at, problem.OneOf(col, slices.Sorted(maps.Keys(t.Columns))), "the table %s has no column %q", s.Table, col)
			}
		}
	}
}

func (c *compiler) cond(cond *Cond, env types.Map, elsewhere string) {
	if _, may := env[sameName]; !may && len(cond.Sames()) > 0 {
		c.fail(
			cond.at,
			"expect "+cond.Source+" within 30s",
			"same() holds a table against what it was before the change: it can be expected, nothing else",
		)
		return
	}
	if _, may := env[readName]; !may && slices.ContainsFunc(forms(cond.text()), func(f form) bool { return f.read != "" }) {
		c.fail(cond.at, "", "how long ago a table was read is asked for in a scope only: everywhere else it is read anew")
		return
	}
	if _, may := env[reachesName]; !may && cond.AsksReach() {
		c.fail(cond.at, "check \"It answers\" where "+cond.Source+", under precheck",
			"whether an address answers is looked at on the night, and the scope is settled before")
		return
	}
	if name := cond.Selection(); name != "" && cond.means == "" {
		c.fail(cond.at, `a condition such as site == "ALD"`, "there is no selection @%s here", name)
		return
	}
	source, back := rewrite(cond.text())
	prog, off, err := compileExpr(source, env, true)
	if err != nil && cond.means != "" {
		c.fail(cond.at, "", "the selection %s, %s: %v", cond.Source, cond.means, err)
		return
	}
	if err != nil {
		at := cond.at
		at.col += len([]rune(cond.Source[:min(max(back(off), 0), len(cond.Source))]))
		c.explain(at, cond.Source, err, env, elsewhere)
		return
	}
	for _, m := range hasForm.FindAllStringSubmatch(cond.Source, -1) {
		if strings.Contains(interpolated(m[2]), "<<") {
			c.fail(cond.at, "<<value>>", "these angles are not closed")
		}
	}
	for _, f := range reachesOf(cond.text()) {
		for _, source := range []string{f.reach.to, f.reach.from} {
			if _, _, err := compileExpr(source, env, false); err != nil {
				c.fail(cond.at, "a step with a loop over the rows, and the condition under expect", "an address is asked for of the device, not of each row")
				return
			}
		}
	}
	cond.prog, cond.names, cond.parts = prog, namesIn(source), split(source, env, c.elements)
	cond.late = slices.ContainsFunc(cond.names, c.read) || cond.AsksReach()
}

// read tells whether a name is of what is read from the device.
func (c *compiler) read(name string) bool {
	_, table := c.schema.Tables[name]
	return table || name == "config"
}

func (c *compiler) text(t *Text, env types.Map) {
	if t.each != nil {
		t.each.env = env
	}
	if t.file != "" {
		c.fail(t.at, "", "the file %s was not read: a file can be named in a runbook of a workspace only", t.file)
	}
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
		p.prog, p.names = prog, namesIn(p.source)
	}
}

// DeviceEnv makes the environment of one device: its columns, the asked values
// and nothing read from it.
func (rb *Runbook) DeviceEnv(fields map[string]any, answers map[string]string) Env {
	env := Env{}
	for k, v := range fields {
		env[k] = v
	}
	for _, a := range rb.Ask {
		env[a.Name] = a.Kind.Value(answers[a.Name])
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
