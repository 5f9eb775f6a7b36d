package record

import (
	"regexp"
	"slices"
	"strings"
)

// Expect marks those changes of a device that a runbook asked for: held are the conditions
// that it expected after its steps, and that held. What they speak of and became so is as
// expected; every other change is as it was, one that nobody asked for.
//
// A condition speaks of a cell by its table and column (clock.source), or, of a table of many
// rows, by its column and the row's key (any(ports, .port == 3 and .lan == "310")).
func Expect(changes []Change, held []string) []Change {
	out := slices.Clone(changes)
	for i := range out {
		out[i].Expected = slices.ContainsFunc(held, func(cond string) bool { return out[i].askedFor(cond) })
	}
	return out
}

// askedFor tells whether a condition speaks of all that changed.
func (c Change) askedFor(cond string) bool {
	switch {
	case c.Kind == Unknown || c.Kind == Gone || !mentions(cond, c.Table):
		return false
	case c.Row == "" && c.Kind == Other:
		return len(c.columns) > 0 && !slices.ContainsFunc(c.columns, func(col string) bool { return !mentions(cond, c.Table+"."+col) })
	case c.Row == "":
		return false
	}
	for _, key := range strings.Split(c.Row, ", ") {
		column, value, _ := strings.Cut(key, " ")
		is := regexp.MustCompile(`\.` + regexp.QuoteMeta(column) + `\s*==\s*"?` + regexp.QuoteMeta(value) + `"?(\W|$)`)
		if !is.MatchString(cond) {
			return false
		}
	}
	return c.Kind == New || !slices.ContainsFunc(c.columns, func(col string) bool { return !mentions(cond, "."+col) })
}

// mentions tells whether a name stands in a condition, not as a part of a longer one.
func mentions(cond, name string) bool {
	start := `(^|[^\w.])`
	if strings.HasPrefix(name, ".") {
		start = `(^|[^\w])`
	}
	return regexp.MustCompile(start + regexp.QuoteMeta(name) + `(\W|$)`).MatchString(cond)
}
