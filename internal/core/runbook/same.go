package runbook

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// An expectation may ask that a table is as it was before the change: same(neighbours), or
// same(ports, except: [counters]). Columns that the profile calls volatile do not count.

// sameName is what our own form same(…) becomes inside an expression.
const sameName = "same_as_before"

var sameForm = regexp.MustCompile(`\bsame\(\s*([a-z][a-z0-9_]*)\s*(?:,\s*except:\s*\[([^\]"]*)\]\s*)?\)`)

// Same is a table that a condition holds against what it was before.
type Same struct {
	Table  string
	Except []string // columns that do not count
}

// Sames are the tables that the condition holds against what they were before.
func (c *Cond) Sames() (out []Same) {
	for _, f := range forms(c.Source) {
		if f.same != nil {
			out = append(out, *f.same)
		}
	}
	return out
}

// form is a piece of a condition in a form of our own.
type form struct {
	from, to int
	text     string // what it becomes
	same     *Same
	read     string // the table whose reading may be so old
	age      string // as it was written
	reach    *reachForm
}

// forms finds them, in order. What stands in quotes is text.
func forms(source string) (out []form) {
	for _, m := range hasForm.FindAllStringSubmatchIndex(source, -1) {
		not := ""
		if source[m[2]:m[3]] == "lacks" {
			not = "not "
		}
		out = append(out, form{from: m[0], to: m[1], text: not + hasName + "(" + filled(source[m[4]:m[5]]) + ")"})
	}
	out = append(out, reachesOf(source)...)
	at := 0
	for i, part := range splitQuotes(source) {
		if i%2 == 0 {
			for _, m := range sameForm.FindAllStringSubmatchIndex(part, -1) {
				s := Same{Table: part[m[2]:m[3]]}
				if m[4] >= 0 {
					s.Except = strings.FieldsFunc(part[m[4]:m[5]], func(r rune) bool { return r == ',' || r == ' ' })
				}
				out = append(out, form{from: at + m[0], to: at + m[1], text: s.call(), same: &s})
			}
			out = append(out, readsOf(part, at)...)
		}
		at += len(part)
	}
	slices.SortFunc(out, func(a, b form) int { return a.from - b.from })
	return out
}

func (s Same) call() string {
	var quoted []string
	for _, c := range s.Except {
		quoted = append(quoted, quote(c))
	}
	return fmt.Sprintf("%s(%q, %s, [%s])", sameName, s.Table, s.Table, strings.Join(quoted, ", "))
}

var sameCall = regexp.MustCompile(`\b` + sameName + `\("([a-z0-9_]+)", [a-z0-9_]+, \[([^\]]*)\]\)`)

// writtenSame puts the form back, as people wrote it.
func writtenSame(source string) string {
	return sameCall.ReplaceAllStringFunc(source, func(call string) string {
		m := sameCall.FindStringSubmatch(call)
		if m[2] == "" {
			return "same(" + m[1] + ")"
		}
		return "same(" + m[1] + ", except: [" + strings.ReplaceAll(m[2], `"`, "") + "])"
	})
}

// beforeKey is where an environment has what tables were before.
const beforeKey = "\x00before"

// Before tells how a table differs from what it was; "" when it does not.
type Before func(s Same, now any) string

// WithBefore returns a copy that lets conditions look at what was before the change.
func (e Env) WithBefore(b Before) Env { return e.With(beforeKey, b) }

// unlike says how a table differs from what it was.
func (e Env) unlike(s Same, now any) string {
	if b, ok := e[beforeKey].(Before); ok {
		return b(s, now)
	}
	return s.Table + " was not read before the change"
}

// sameFunc is the function behind the form.
func (e Env) sameFunc() func(string, any, []any) bool {
	return func(table string, now any, except []any) bool {
		s := Same{Table: table}
		for _, c := range except {
			s.Except = append(s.Except, fmt.Sprint(c))
		}
		return e.unlike(s, now) == ""
	}
}

// explainSame says how tables differ from what they were, for a part that asks that.
func (e Env) explainSame(source string) string {
	var out []string
	for _, f := range forms(source) {
		if f.same != nil {
			if why := e.unlike(*f.same, e[f.same.Table]); why != "" {
				out = append(out, why)
			}
		}
	}
	return strings.Join(out, "; ")
}

// Unlike compares the rows of a table with those before, without the columns that do not
// count; "" says that they are the same. Their order has no meaning.
func Unlike(table string, before, now any, except []string) string {
	was, is := rowTexts(before, except), rowTexts(now, except)
	gone, come := without(was, is), without(is, was)
	if len(gone)+len(come) == 0 {
		return ""
	}
	var parts []string
	for _, p := range []struct {
		word string
		rows []string
	}{{"gone", gone}, {"new", come}} {
		if n := len(p.rows); n > 0 {
			text := fmt.Sprintf("%s: %s", p.word, strings.Join(p.rows[:min(n, 3)], "; "))
			if n > 3 {
				text += fmt.Sprintf(" and %d more", n-3)
			}
			parts = append(parts, text)
		}
	}
	return table + " is not as before; " + strings.Join(parts, "; ")
}

func rowTexts(v any, except []string) (out []string) {
	rows, many := v.([]map[string]any)
	if row, one := v.(map[string]any); one && !many {
		rows = []map[string]any{row}
	}
	for _, row := range rows {
		var cells []string
		for c, v := range row {
			if !slices.Contains(except, c) && v != nil {
				cells = append(cells, fmt.Sprintf("%s %v", c, v))
			}
		}
		slices.Sort(cells)
		out = append(out, strings.Join(cells, ", "))
	}
	return out
}

// without is what the first list has more often than the second.
func without(a, b []string) (out []string) {
	left := map[string]int{}
	for _, s := range b {
		left[s]++
	}
	for _, s := range a {
		if left[s]--; left[s] < 0 {
			out = append(out, s)
		}
	}
	return out
}
