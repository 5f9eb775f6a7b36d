// Package config understands device configurations well enough to compare
// them: as trees of lines, whatever order a device prints them in or how it
// indents them.
//
// A [Style] says how a platform writes its configuration. Two configurations
// are equal when, volatile lines aside, the same lines stand in the same
// sections; the order of lines counts only within a section, and only where
// the style says so.
package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"github.com/aymanbagabas/go-udiff"
)

// Style is how a platform writes its configuration.
type Style struct {
	// Layout is "indented" (deeper lines belong to the line above them), "braces"
	// (what stands between a line that ends with { and a line } belongs to it; a ;
	// at the end of a line is no part of it) or "flat" (every line stands alone).
	Layout string
	// Volatile lines change by themselves, such as a date, and are left out of
	// every comparison.
	Volatile []*regexp.Regexp
	// Opens is a line that begins a text of several lines; its group "end" is the line that ends
	// it. nil is none.
	Opens *regexp.Regexp
	// Ordered says that the order of lines within a section has a meaning.
	Ordered bool
}

// Line is a line of a configuration with the lines that belong to it.
type Line struct {
	Text  string
	Under []Line
}

// Config is a parsed configuration.
type Config struct {
	Lines   []Line
	paths   *listed
	ordered bool
	whole   bool     // it has further parts, if empty ones
	parts   []string // their lines
}

// Parse reads what a device printed. It never fails: a line that fits nowhere
// stands at the top.
func Parse(text string, style Style) Config {
	type open struct {
		indent int
		lines  *[]Line
	}
	c := Config{ordered: style.Ordered, whole: strings.Contains(text, partMark)}
	if c.whole {
		c.parts, text = parts(text, style), Alone(text)
	}
	stack := []open{{-1, &c.Lines}}
	end := "" // of the text that is being read
	for raw := range strings.Lines(text) {
		raw = strings.TrimRight(raw, " \t\r\n")
		body := strings.TrimLeft(raw, " \t")
		if end != "" {
			in := stack[len(stack)-1].lines
			if body == end {
				raw, end = body, ""
			}
			(*in)[len(*in)-1].Text += "\n" + raw
			continue
		}
		if body == "" || matchesAny(style.Volatile, raw) {
			continue
		}
		indent, opens := 0, true
		switch style.Layout {
		case "flat":
		case "braces":
			if strings.TrimRight(body, "; ") == "}" {
				if len(stack) > 1 {
					stack = stack[:len(stack)-1]
				}
				continue
			}
			indent, opens = len(stack), strings.HasSuffix(body, "{")
			body = strings.TrimRight(body, "{; ")
		default:
			indent = len(raw) - len(body)
		}
		for len(stack) > 1 && stack[len(stack)-1].indent >= indent {
			stack = stack[:len(stack)-1]
		}
		in := stack[len(stack)-1].lines
		*in = append(*in, Line{Text: body})
		if end = style.ends(body); end != "" {
			continue
		}
		if opens {
			stack = append(stack, open{indent, &(*in)[len(*in)-1].Under})
		}
	}
	c.paths = &listed{}
	return c
}

// Written reads lines that a person wrote down: as a platform prints them, or, where that
// is in braces and no line has one, by how they are indented.
func Written(lines []string, style Style) []Line {
	opens := func(l string) bool { return strings.HasSuffix(strings.TrimRight(l, " \t"), "{") }
	if style.Layout == "braces" && !slices.ContainsFunc(lines, opens) {
		style.Layout = "indented"
		lines = slices.Clone(lines)
		for i, l := range lines {
			lines[i] = strings.TrimRight(l, "; \t")
		}
	}
	return Parse(strings.Join(lines, "\n"), style).Lines
}

// listed are the paths of a configuration, listed when they are first wanted: to sort them
// costs more than most of what is done with a configuration.
type listed struct {
	once sync.Once
	list []string
}

func matchesAny(res []*regexp.Regexp, s string) bool {
	return slices.ContainsFunc(res, func(re *regexp.Regexp) bool { return re.MatchString(s) })
}

// Paths lists every line with the sections it stands in, joined by " > ".
// Unless the style is ordered, the lines are sorted. The caller must not change
// the list.
func (c Config) Paths() []string {
	if c.paths == nil {
		return nil
	}
	c.paths.once.Do(func() {
		c.paths.list = paths(c.Lines)
		if !c.ordered {
			slices.Sort(c.paths.list)
		}
	})
	return c.paths.list
}

// Listed lists every line with the sections it stands in, as they stand in the configuration.
func (c Config) Listed() []string { return paths(c.Lines) }

func paths(lines []Line) (out []string) {
	var walk func(prefix string, lines []Line)
	walk = func(prefix string, lines []Line) {
		for _, l := range lines {
			out = append(out, prefix+l.Text)
			if len(l.Under) > 0 {
				walk(prefix+l.Text+" > ", l.Under)
			}
		}
	}
	walk("", lines)
	return out
}

// Has tells whether a line stands in the configuration, at any depth. A query
// such as "port 7 > lan 310" asks for a line within a section.
func (c Config) Has(query string) bool {
	want := strings.Split(query, ">")
	for i := range want {
		want[i] = strings.Join(strings.Fields(want[i]), " ")
	}
	var find func(lines []Line, want []string, started bool) bool
	find = func(lines []Line, want []string, started bool) bool {
		for _, l := range lines {
			if strings.Join(strings.Fields(firstLine(l.Text)), " ") == want[0] &&
				(len(want) == 1 || find(l.Under, want[1:], true)) {
				return true
			}
			if !started && find(l.Under, want, false) {
				return true
			}
		}
		return false
	}
	return find(c.Lines, want, false)
}

// Equal tells whether two configurations of one style say the same.
func Equal(a, b Config) bool {
	return slices.Equal(a.Paths(), b.Paths()) && (!a.whole || !b.whole || slices.Equal(a.parts, b.parts))
}

// Diff is what must be taken out of one configuration and put into it to make
// another, as paths.
type Diff struct {
	Removed, Added []string
}

// Compare finds the difference from one configuration to another.
func Compare(from, to Config) Diff {
	if Equal(from, to) {
		return Diff{}
	}
	d := differing(from.Paths(), to.Paths())
	if from.whole && to.whole {
		p := differing(from.parts, to.parts)
		d.Removed, d.Added = append(d.Removed, p.Removed...), append(d.Added, p.Added...)
	}
	if from.ordered && to.ordered {
		moved := moved(from.Paths(), to.Paths())
		d.Removed, d.Added = append(d.Removed, moved...), append(d.Added, moved...)
	}
	return d
}

// differing finds the lines that one list has more often than the other.
func differing(from, to []string) (d Diff) {
	a, b := count(from), count(to)
	for _, p := range from {
		if a[p] > b[p] {
			d.Removed = append(d.Removed, p)
			a[p]--
		}
	}
	a = count(from)
	for _, p := range to {
		if b[p] > a[p] {
			d.Added = append(d.Added, p)
			b[p]--
		}
	}
	return d
}

// moved finds the fewest lines that stand in both lists but, in an order that has a
// meaning, at another place among the others.
func moved(from, to []string) (out []string) {
	places := map[string][]int{}
	for i, p := range from {
		places[p] = append(places[p], i)
	}
	var at []int // the places in from of the lines of to that are common
	var paths []string
	for _, p := range to {
		if left := places[p]; len(left) > 0 {
			at, paths = append(at, left[0]), append(paths, p)
			places[p] = left[1:]
		}
	}
	stays := longestRising(at)
	for i, p := range paths {
		if !stays[i] {
			out = append(out, p)
		}
	}
	return out
}

// longestRising marks the members of a longest rising subsequence.
func longestRising(list []int) map[int]bool {
	var ends []int // index of the least end of a rising subsequence of each length
	before := make([]int, len(list))
	for i, v := range list {
		k, _ := slices.BinarySearchFunc(ends, v, func(j, v int) int { return list[j] - v })
		before[i] = -1
		if k > 0 {
			before[i] = ends[k-1]
		}
		if k == len(ends) {
			ends = append(ends, i)
		} else {
			ends[k] = i
		}
	}
	out := map[int]bool{}
	if len(ends) > 0 {
		for i := ends[len(ends)-1]; i >= 0; i = before[i] {
			out[i] = true
		}
	}
	return out
}

func count(paths []string) map[string]int {
	n := make(map[string]int, len(paths))
	for _, p := range paths {
		n[p]++
	}
	return n
}

// Empty says that nothing differs.
func (d Diff) Empty() bool { return len(d.Removed) == 0 && len(d.Added) == 0 }

// Lines gives the difference to show: removals behind "-", additions behind "+".
// Paths may hold secrets; mask is applied to them first.
func (d Diff) Lines(mask func([]string) []string) []string {
	var out []string
	for _, p := range mask(d.Removed) {
		out = append(out, Marked("-", p)...)
	}
	for _, p := range mask(d.Added) {
		out = append(out, Marked("+", p)...)
	}
	return out
}

// String summarises the difference in a few words.
func (d Diff) String() string {
	if d.Empty() {
		return "equal"
	}
	return fmt.Sprintf("%d missing, %d added", len(d.Removed), len(d.Added))
}

// Unified gives the difference of two printed configurations as a unified
// diff, volatile lines left in: it is for people to read.
func Unified(fromName, toName, from, to string) string {
	return udiff.Unified(fromName, toName, from, to)
}

// UnifiedAll is [Unified] with all lines that are the same.
func UnifiedAll(fromName, toName, from, to string) string {
	all := strings.Count(from, "\n") + strings.Count(to, "\n") + 1
	out, err := udiff.ToUnified(fromName, toName, from, udiff.Strings(from, to), all)
	if err != nil { // it has edits of our own making
		return Unified(fromName, toName, from, to)
	}
	return out
}
