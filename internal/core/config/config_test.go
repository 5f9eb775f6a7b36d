package config

import (
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var indented = Style{Layout: "indented", Volatile: []*regexp.Regexp{regexp.MustCompile(`^# written`)}}

const printed = `# written 01:34 by crew
name ald-quay-1
port 7
   lan 310
   label "gate"
port 8
   label "gate"
`

func TestOrderIndentAndVolatileLinesDoNotCount(t *testing.T) {
	a := Parse(printed, indented)
	b := Parse("port 8\n label \"gate\"\n\nport 7\r\n label \"gate\"\r\n lan 310\nname ald-quay-1\n# written later\n", indented)
	assert.True(t, Equal(a, b))
	assert.Empty(t, Compare(a, b))
	ordered := indented
	ordered.Ordered = true
	assert.False(t, Equal(Parse(printed, ordered), Parse("name ald-quay-1\nport 8\n label \"gate\"\nport 7\n lan 310\n label \"gate\"\n", ordered)))
}

func TestSameLineInAnotherSectionIsADifference(t *testing.T) {
	a := Parse(printed, indented)
	b := Parse(strings.Replace(printed, "   lan 310\n", "", 1)+"   lan 310\n", indented)
	assert.False(t, Equal(a, b))
	assert.Equal(t, []string{"- port 7 > lan 310", "+ port 8 > lan 310"}, Compare(a, b).Lines(func(l []string) []string { return l }))
	assert.Equal(t, "1 missing, 1 added", Compare(a, b).String())
	assert.Equal(t, "equal", Compare(a, a).String())
}

func TestHas(t *testing.T) {
	c := Parse(printed, indented)
	for query, want := range map[string]bool{
		"name ald-quay-1": true, "name  ald-quay-1 ": true, "lan 310": true, "port 7 > lan 310": true, "port 7>lan 310": true,
		"port 8 > lan 310": false, "name": false, "ald": false, "": false, "port 7 > port 8": false,
	} {
		assert.Equal(t, want, c.Has(query), query)
	}
	deep := Parse("a\n b\n  c\n   d\n", indented)
	for query, want := range map[string]bool{"a > b > c": true, "b > c": true, "a > c": false, "a > b > d": false, "c > d": true, "b > d": false, "d > c": false} {
		assert.Equal(t, want, deep.Has(query), query)
	}
}

func TestFlatLayoutIgnoresIndent(t *testing.T) {
	assert.Len(t, Parse("a\n  b\n", Style{Layout: "flat"}).Lines, 2)
}

// Whatever two devices print, equality is an equivalence that agrees with the
// difference, and the difference explains itself.
func TestCompareProperties(t *testing.T) {
	line := rapid.StringMatching(`( ){0,3}[abc]( [xy])?`)
	text := rapid.Map(rapid.SliceOfN(line, 0, 8), func(l []string) string { return strings.Join(l, "\n") })
	rapid.Check(t, func(t *rapid.T) {
		a, b := Parse(text.Draw(t, "a"), indented), Parse(text.Draw(t, "b"), indented)
		d := Compare(a, b)
		assert.Equal(t, Equal(a, b), d.Empty())
		assert.True(t, Equal(a, a))
		assert.Equal(t, Equal(a, b), Equal(b, a))
		back := Compare(b, a)
		assert.ElementsMatch(t, d.Added, back.Removed)
		rebuilt := slices.Clone(a.Paths())
		for _, p := range d.Removed {
			i := slices.Index(rebuilt, p)
			rebuilt = slices.Delete(rebuilt, i, i+1)
		}
		rebuilt = append(rebuilt, d.Added...)
		slices.Sort(rebuilt)
		assert.ElementsMatch(t, b.Paths(), rebuilt)
	})
}

// Where the order has a meaning, a line that moved is a difference, and the fewest are
// said to have moved.
func TestMovedLines(t *testing.T) {
	flat := Style{Layout: "flat", Ordered: true}
	show := func(a, b string) []string {
		return Compare(Parse(a, flat), Parse(b, flat)).Lines(func(l []string) []string { return l })
	}
	assert.Equal(t, []string{"- d", "+ d"}, show("a\nb\nc\nd\n", "d\na\nb\nc\n"))
	assert.Equal(t, []string{"- x", "- b", "+ y", "+ b"}, show("a\nb\nx\nc\n", "b\na\ny\nc\n")[:4])
	assert.Empty(t, show("a\na\nb\n", "a\na\nb\n"))
	assert.NotEmpty(t, show("a\nb\na\n", "a\na\nb\n"))
	line := rapid.StringMatching(`[abcd]`)
	text := rapid.Map(rapid.SliceOfN(line, 0, 9), func(l []string) string { return strings.Join(l, "\n") })
	rapid.Check(t, func(t *rapid.T) {
		a, b := Parse(text.Draw(t, "a"), flat), Parse(text.Draw(t, "b"), flat)
		assert.Equal(t, Equal(a, b), Compare(a, b).Empty(), "%v %v", a.Paths(), b.Paths())
		d := Compare(a, b)
		assert.Equal(t, len(b.Paths())-len(a.Paths()), len(d.Added)-len(d.Removed))
	})
}

func FuzzParse(f *testing.F) {
	f.Add(printed)
	f.Fuzz(func(t *testing.T, s string) {
		c := Parse(s, indented)
		for _, p := range c.Paths() {
			assert.NotEmpty(t, p)
		}
	})
}

// Braces say what belongs together, however it is indented; one too many does no harm.
func TestBraces(t *testing.T) {
	braces := Style{Layout: "braces"}
	c := Parse("port 7 {\nlan 310;\n  gate {\n label \"x\";\n }\n}\nname a;\n}\nport 8 {\n}\n", braces)
	assert.Equal(t, []string{"name a", "port 7", "port 7 > gate", "port 7 > gate > label \"x\"", "port 7 > lan 310", "port 8"}, c.Paths())
	assert.Len(t, c.Lines, 3)
	assert.True(t, Equal(c, Parse("  port 8 {\n  }\n  name a;\n  port 7 {\n      gate {\n  label \"x\";\n}\n lan 310;\n}", braces)))
	l := &Language{Leave: "exit", Style: braces, Rules: []Rule{
		{In: re(`^port \d+$`), Line: re(`^lan \d+$`), Put: "set $0", Key: "lan", Away: "delete lan"},
		{In: re(`^port \d+$`), Line: re(`^gate$`), Section: true, Put: "edit $0", Away: "delete gate"},
		{In: re(`^gate$`), Line: re(`^label .*$`), Put: "set $0", Key: "label", Away: "delete label"},
		{Line: re(`^port \d+$`), Section: true, Put: "edit $0", Away: "delete $0"},
		{Line: re(`^name \S+$`), Key: "name", Put: "set $0"},
	}}
	to := Parse("port 7 {\nlan 20;\ngate {\nlabel \"y\";\n}\n}\nport 9 {\ngate {\n}\n}\nname b;\n", braces)
	lines, err := l.Lead(c, to)
	assert.NoError(t, err)
	assert.Equal(t, []string{"set name b", "delete port 8", "edit port 9", "edit gate", "exit", "exit", "edit port 7", "set lan 20", "edit gate", `set label "y"`}, lines)
}

// A text of several lines is one line of a configuration: whatever stands in it, it is compared as
// a whole, led to and away, and typed line by line.
func TestTextsOfSeveralLines(t *testing.T) {
	opens := regexp.MustCompile(`^greeting until (?P<end>\S+)$`)
	style := Style{Layout: "indented", Opens: opens, Volatile: []*regexp.Regexp{regexp.MustCompile(`^#`)}}
	l := &Language{Style: style, Takes: regexp.MustCompile(`^drop `), Rules: []Rule{
		{Line: regexp.MustCompile(`^name \S+$`), Key: "name"},
		{Line: regexp.MustCompile(`^greeting until \S+$`), Key: "greeting", Away: "drop greeting"},
		{Line: regexp.MustCompile(`^lan \d+$`), Section: true, Away: "drop $0"},
	}}
	const greeting = "greeting until fin\n# not volatile here\n  lan 7\n\nname x\nfin\n"
	with := Parse("name a\n"+greeting+"lan 310\n", style)
	without := Parse("name a\nlan 310\n", style)
	assert.Len(t, with.Lines, 3)
	assert.True(t, with.Has("greeting until fin"))
	assert.False(t, with.Has("lan 7"))
	d := Compare(without, with)
	assert.Equal(t, []string{"+ greeting until fin", "+   # not volatile here", "+     lan 7", "+", "+   name x", "+   fin"}, d.Lines(func(l []string) []string { return l }))

	lead, err := l.Lead(without, with)
	require.NoError(t, err)
	typed := Typed(lead)
	assert.Equal(t, strings.Split(strings.TrimSuffix(greeting, "\n"), "\n"), typed)
	after, err := l.Predict(without, typed)
	require.NoError(t, err)
	assert.True(t, Equal(with, after))
	back, err := l.Lead(with, without)
	require.NoError(t, err)
	assert.Equal(t, []string{"drop greeting"}, back)
	other := Parse("name a\n"+strings.Replace(greeting, "lan 7", "lan 8", 1)+"lan 310\n", style)
	lead, err = l.Lead(with, other)
	require.NoError(t, err)
	assert.Len(t, lead, 1, "it is replaced as a whole")
	assert.Empty(t, l.Unjudged(without, append(typed, "name b")))
	assert.Len(t, l.Unjudged(without, append([]string{"nonsense"}, typed...)), 1)
	assert.Empty(t, l.Strange(typed))
	cut := Parse("greeting until fin\nname x\n", style)
	assert.Len(t, cut.Lines, 1, "what is cut short is one thing, too")
}
