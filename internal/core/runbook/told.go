package runbook

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/expr-lang/expr/types"

	"metabasis/internal/core/problem"
)

// A scope may look at what devices told when they were last read, whenever that was: version.version
// == "4.1". How old that may be is asked for in the condition: version read within 7d.

// Told is a table as a device told it when it was read last.
type Told struct {
	Table string
	At    time.Time
	// Rows is its row, or its rows, as conditions take them; nil where there are none to go by.
	Rows any
	// Not says why there are none: "version was never read of it".
	Not string
}

// Teller gives a table as a device of a platform told it last.
type Teller func(device, platform, table string) Told

// readName is what our own form version read within 7d becomes inside an expression.
const readName = "read_within"

var readForm = regexp.MustCompile(`\b([a-z][a-z0-9_]*)\s+read\s+within\b(?:\s+([0-9][0-9a-z]*))?`)

// readsOf finds the forms in a piece of a condition that is not in quotes.
func readsOf(part string, at int) (out []form) {
	for _, m := range readForm.FindAllStringSubmatchIndex(part, -1) {
		f := form{from: at + m[0], to: at + m[1], read: part[m[2]:m[3]]}
		if m[4] >= 0 {
			f.age = part[m[4]:m[5]]
		}
		within, _ := parseAge(f.age) // a mistake is told before this is run
		f.text = fmt.Sprintf("%s(%q, %d)", readName, f.read, int(within.Seconds()))
		out = append(out, f)
	}
	return out
}

var inDays = regexp.MustCompile(`^([1-9][0-9]{0,4})d$`)

// parseAge reads how old what was told may be: 7d, or as any other length of time.
func parseAge(text string) (time.Duration, error) {
	if m := inDays.FindStringSubmatch(text); m != nil {
		days, err := strconv.Atoi(m[1])
		return time.Duration(days) * 24 * time.Hour, err
	}
	return ParseDuration(text)
}

// formatAge writes it as people do.
func formatAge(d time.Duration) string {
	if day := 24 * time.Hour; d >= day && d%day == 0 {
		return fmt.Sprintf("%dd", d/day)
	}
	return FormatDuration(d)
}

var readCall = regexp.MustCompile(`\b` + readName + `\("([a-z0-9_]+)", (\d+)\)`)

// writtenRead puts the form back, as people wrote it.
func writtenRead(source string) string {
	return readCall.ReplaceAllStringFunc(source, func(call string) string {
		m := readCall.FindStringSubmatch(call)
		seconds, err := strconv.Atoi(m[2])
		if err != nil {
			return call
		}
		return m[1] + " read within " + formatAge(time.Duration(seconds)*time.Second)
	})
}

// scopeTypes are the types of what a scope may look at: the fleet, asked values, and tables
// as they were last read. Where the fleet has a name that a table has, too, that of the fleet
// is meant.
func scopeTypes(fields types.Map, tables map[string]Table) types.Map {
	out := maps.Clone(fields)
	for name, t := range tables {
		if _, inFleet := fields[name]; !inFleet {
			out[name] = tableType(t)
		}
	}
	out[readName] = types.TypeOf(func(string, int) bool { return true })
	return out
}

// scope compiles a condition of a scope.
func (c *compiler) scope(cond *Cond, fields, env types.Map) {
	if !c.ages(cond) {
		return
	}
	if c.cond(cond, env, scopeLooks); cond.prog == nil {
		return
	}
	cond.late = false
	for _, name := range cond.names {
		if _, inFleet := fields[name]; !inFleet && c.schema.Tables[name].Columns != nil {
			cond.told = append(cond.told, name)
		}
	}
	for _, f := range forms(cond.text()) {
		if f.read != "" && !slices.Contains(cond.told, f.read) {
			cond.told = append(cond.told, f.read)
		}
	}
}

const scopeLooks = "a scope can look at the fleet, at asked values, and at tables as they were last read"

// ages checks how old what was told may be; it is false where that is wrong.
func (c *compiler) ages(cond *Cond) bool {
	for _, f := range forms(cond.text()) {
		if f.read == "" {
			continue
		}
		if c.schema.Tables[f.read].Columns == nil {
			c.fail(cond.at, problem.OneOf(f.read, slices.Sorted(maps.Keys(c.schema.Tables)))+" read within 7d",
				"no profile reads a table %q", f.read)
			return false
		}
		if f.age == "" {
			c.fail(cond.at, f.read+" read within 7d", "how long ago %s may have been read stands behind within, as a length of time", f.read)
			return false
		}
		if _, err := parseAge(f.age); err != nil {
			c.fail(cond.at, f.read+" read within 7d", "%q is not how long ago", strings.TrimSpace(f.age))
			return false
		}
	}
	return true
}

// Told lists the tables that a scope looks at as they were last read.
func (c *Cond) Told() []string { return c.told }

// toldKey is where an environment has what devices told, by table.
const toldKey = "\x00told"

// WithTold returns a copy that lets a condition of a scope look at tables as a device told them
// last.
func (e Env) WithTold(told ...Told) Env {
	out, known := maps.Clone(e), map[string]Told{}
	for _, t := range told {
		known[t.Table] = t
		if _, inFleet := e[t.Table]; !inFleet && t.Not == "" {
			out[t.Table] = t.Rows
		}
	}
	out[toldKey] = known
	return out
}

// NotTold says why a condition cannot be settled on a device: a table that it looks at was not
// read of it. It is "" where all were.
func (c *Cond) NotTold(env Env) string {
	known, _ := env[toldKey].(map[string]Told)
	for _, table := range c.told {
		if t, asked := known[table]; !asked || t.Not != "" {
			if asked {
				return t.Not
			}
			return table + " was never read of it"
		}
	}
	return ""
}

// aheadMost is how far the clock that a reading was timed by may be ahead of this one.
const aheadMost = time.Minute

// readFunc is the function behind the form. What was never read was not read within any time.
func (e Env) readFunc() func(string, int) bool {
	return func(table string, seconds int) bool {
		known, _ := e[toldKey].(map[string]Told)
		t, asked := known[table]
		if !asked || t.Not != "" {
			return false
		}
		age := time.Since(t.At)
		return age <= time.Duration(seconds)*time.Second && age >= -aheadMost
	}
}
