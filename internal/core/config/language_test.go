package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func re(s string) *regexp.Regexp { return regexp.MustCompile(s) }

// harbour is a language with all that a language can have.
func harbour() *Language {
	port := re(`^port \d+$`)
	return &Language{Leave: "up", Takes: re(`^(drop |open$)`), Style: Style{Layout: "indented"}, Rules: []Rule{
		{In: port, Line: re(`^label "(.*)"$`), Key: "label", Away: "drop label"},
		{In: port, Line: re(`^lan (\d+)$`), Key: "lan", Away: "drop lan", Needs: []string{"lan $1"}},
		{In: port, Line: re(`^trunk$`), Key: "lan", Away: "drop trunk"},
		{In: port, Line: re(`^shut$`), Away: "open"},
		{In: re(`^lan \d+$`), Line: re(`^title (\S+)$`), Key: "title", Away: "drop title"},
		{Line: re(`^name (\S+)$`), Key: "name"},
		{Line: re(`^time source (\S+) (first|second|third|fourth)$`), Places: []string{"first", "second", "third", "fourth"}, Away: "drop time source $1"},
		{Line: re(`^log host (\S+)$`), Away: "drop $0"},
		{Line: re(`^manage from (\S+)$`), Key: "manage", Path: true},
		{Line: re(`^login (\S+) secret (\S+)$`), Key: "login $1", Away: "drop login $1"},
		{Line: re(`^lan (\d+)$`), Section: true, Away: "drop $0", Brings: []string{"title l$1"}},
		{Line: re(`^port (\d+)$`), Section: true, Fixed: true},
	}}
}

// drawConfig draws a configuration that a device could have.
func drawConfig(t *rapid.T, name string, ports int) Config {
	pick := func(of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
	some := func(least int, of ...string) []string {
		return rapid.Permutation(of).Draw(t, name)[:rapid.IntRange(least, len(of)).Draw(t, name)]
	}
	var lines []string
	add := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	add("name %s", pick("a", "b"))
	for i, s := range some(0, "192.0.2.1", "192.0.2.2", "192.0.2.3", "192.0.2.4", "192.0.2.5") {
		if i == 4 {
			break
		}
		add("time source %s %s", s, []string{"first", "second", "third", "fourth"}[i])
	}
	for _, h := range some(0, "198.51.100.1", "198.51.100.2", "198.51.100.3") {
		add("log host %s", h)
	}
	add("manage from %s", pick("any", "203.0.113.0/24"))
	for _, u := range some(0, "crew", "pilot") {
		add("login %s secret %s", u, pick("x", "y"))
	}
	lans := some(0, "10", "20", "30")
	for _, l := range lans {
		add("lan %s", l)
		if s := pick("", "office", "gates"); s != "" {
			add("  title %s", s)
		}
	}
	for p := range ports {
		add("port %d", p+1)
		if s := pick("", "uplink", "gate"); s != "" {
			add("  label %q", s)
		}
		if s := pick(append([]string{"", "trunk"}, lans...)...); s == "trunk" {
			add("  trunk")
		} else if s != "" {
			add("  lan %s", s)
		}
		if pick("", "shut") != "" {
			add("  shut")
		}
	}
	return Parse(strings.Join(lines, "\n"), harbour().Style)
}

// Whatever two configurations say, the lines found lead from one to the other, nothing
// leads from one to itself, and from wherever they are cut off a way leads back.
func TestLeadLeads(t *testing.T) {
	l := harbour()
	rapid.Check(t, func(t *rapid.T) {
		from, to := drawConfig(t, "from", 3), drawConfig(t, "to", 3)
		lines, err := l.Lead(from, to)
		require.NoError(t, err)
		got, err := l.Predict(from, lines)
		require.NoError(t, err)
		assert.Empty(t, Compare(got, to))
		nothing, err := l.Lead(from, from)
		require.NoError(t, err)
		assert.Empty(t, nothing)
		cut := rapid.IntRange(0, len(lines)).Draw(t, "cut")
		mid, err := l.Predict(from, lines[:cut])
		require.NoError(t, err)
		back, err := l.Lead(mid, from)
		require.NoError(t, err)
		got, err = l.Predict(mid, back)
		require.NoError(t, err)
		assert.Empty(t, Compare(got, from))
		if i := slices.IndexFunc(lines, func(s string) bool { return strings.HasPrefix(s, "manage ") }); i >= 0 {
			assert.Equal(t, len(lines)-1, i, "the management path is changed last")
		}
	})
}

// On small cases no fewer lines lead there: every way is tried.
func TestLeadFindsTheFewest(t *testing.T) {
	l := harbour()
	type place struct {
		e     *editor
		lines int
	}
	key := func(e *editor) string {
		k := strings.Join(e.config().Paths(), "\n")
		for _, s := range e.at[1:] {
			k += "\x00" + s.line
		}
		return k
	}
	copied := func(e *editor) *editor {
		n := newEditor(l, e.config())
		for _, s := range e.at[1:] {
			for _, x := range n.at[len(n.at)-1].lines {
				if x.text == s.line {
					n.at = append(n.at, x.in())
				}
			}
		}
		return n
	}
	typed := []string{"up", "log host 1", "log host 2", "drop log host 1", "drop log host 2", "lan 10", "lan 20", "drop lan 10", "drop lan 20", "title x", "drop title",
		"port 1", "port 2", "trunk", "drop trunk", "drop lan", "time source 1 first", "time source 2 first", "time source 1 second", "time source 2 second", "drop time source 1", "drop time source 2"}
	draw := func(t *rapid.T, name string) Config {
		pick := func(of ...string) string { return rapid.SampledFrom(of).Draw(t, name) }
		text := pick("", "time source 1 first\n", "time source 1 first\ntime source 2 second\n", "time source 2 first\ntime source 1 second\n") + pick("", "log host 1\n", "log host 1\nlog host 2\n")
		lan := pick("", "10", "20")
		if lan != "" {
			text += "lan " + lan + "\n" + pick("", " title x\n")
		}
		text += "port 1\n" + pick("", " trunk\n", map[bool]string{true: " lan " + lan + "\n"}[lan != ""]) + "port 2\n"
		return Parse(text, l.Style)
	}
	rapid.Check(t, func(t *rapid.T) {
		from, to := draw(t, "from"), draw(t, "to")
		lines, err := l.Lead(from, to)
		require.NoError(t, err)
		if len(lines) > 6 {
			t.Skip("too long a way to try all")
		}
		seen := map[string]bool{}
		queue := []place{{newEditor(l, from), 0}}
		for len(queue) > 0 {
			p := queue[0]
			queue = queue[1:]
			if Equal(p.e.config(), to) {
				assert.Equal(t, p.lines, len(lines), "%q", lines)
				return
			}
			if p.lines == len(lines) {
				continue
			}
			for _, s := range typed {
				n := copied(p.e)
				if n.typed(s) != "" {
					continue
				}
				if k := key(n); !seen[k] {
					seen[k] = true
					queue = append(queue, place{n, p.lines + 1})
				}
			}
		}
		t.Fatalf("no way as short as %q", lines)
	})
}

func lead(t *testing.T, l *Language, from, to string) []string {
	t.Helper()
	lines, err := l.Lead(Parse(from, l.Style), Parse(to, l.Style))
	require.NoError(t, err)
	return lines
}

// The order is safe: what is needed comes before it is used, and goes after.
func TestTheOrderIsSafe(t *testing.T) {
	l := harbour()
	assert.Equal(t, []string{"lan 310", "title gates", "up", "port 7", "lan 310", "up", "drop lan 20"},
		lead(t, l, "lan 20\nport 7\n lan 20\n", "lan 310\n title gates\nport 7\n lan 310\n"))
	assert.Equal(t, []string{"port 7", "drop lan", "up", "drop lan 310"}, lead(t, l, "lan 310\nport 7\n lan 310\n", "port 7\n"))
	assert.Equal(t, []string{"time source 192.0.2.40 first", "drop time source 192.0.2.9"},
		lead(t, l, "time source 192.0.2.9 first\n", "time source 192.0.2.40 first\n"), "never without one")
	assert.Equal(t, []string{"log host 1", "manage from any"}, lead(t, l, "manage from 203.0.113.0/24\n", "manage from any\nlog host 1\n"))
}

// A section that can be done last is, so that it need not be left; a full list makes
// room first; the management path is last, wherever it stands.
func TestTheEndOfTheWay(t *testing.T) {
	l := harbour()
	assert.Equal(t, []string{"port 1", "trunk", "up", "drop lan 20", "lan 10", "drop title"}, lead(t, l, "lan 20\nport 1\n lan 20\n", "lan 10\nport 1\n trunk\n"))
	assert.Equal(t, []string{"drop time source 1", "time source 5 fourth"},
		lead(t, l, "time source 1 first\ntime source 2 second\ntime source 3 third\ntime source 4 fourth\n", "time source 2 first\ntime source 3 second\ntime source 4 third\ntime source 5 fourth\n"))
	assert.Equal(t, []string{"time source 3 first", "drop time source 2"}, lead(t, l, "time source 1 first\ntime source 2 second\n", "time source 3 first\ntime source 1 second\n"))
	l.Rules[3].Path = true // shut
	assert.Equal(t, []string{"log host 1", "port 2", "trunk", "up", "port 1", "shut"}, lead(t, l, "port 1\nport 2\n", "log host 1\nport 1\n shut\nport 2\n trunk\n"))
}

// Where the order of all lines has a meaning, and no rule puts lines into one, nothing is
// made up.
func TestAnOrderThatNoRuleKnows(t *testing.T) {
	l := gates()
	l.Style.Ordered = true
	_, err := l.Lead(Parse("a 1\nb 1\n", l.Style), Parse("b 1\na 1\n", l.Style))
	assert.ErrorContains(t, err, "do not say how its lines are put into an order")
	assert.Equal(t, []string{"set b 2"}, lead(t, l, "a 1\nb 1\n", "a 1\nb 2\n"))
}

// What needs each other in a circle has no order, and a section without a rule is not
// entered.
func TestWhatHasNoOrder(t *testing.T) {
	l := &Language{Leave: "up", Style: Style{Layout: "indented"}, Rules: []Rule{
		{Line: re(`^a$`), Away: "drop a", Needs: []string{"b"}}, {Line: re(`^b$`), Away: "drop b", Needs: []string{"a"}},
		{Line: re(`^plain \d$`), Away: "drop $0"}, {In: re(`^plain \d$`), Line: re(`^x$`), Away: "drop x"}}}
	_, err := l.Lead(Config{}, Parse("a\nb\n", l.Style))
	assert.ErrorContains(t, err, "wait for each other")
	_, err = l.Lead(Parse("plain 1\n x\n", l.Style), Parse("plain 1\n", l.Style))
	assert.ErrorContains(t, err, "no rule of the language says that it is a section")
	_, err = l.Lead(Config{}, Parse("plain 1\n x\n", l.Style))
	assert.ErrorContains(t, err, "does not say that it is a section")
}

// What no rule leads to is said, each line.
func TestWhatCannotBeLed(t *testing.T) {
	l := harbour()
	_, err := l.Lead(Parse("name a\nport 1\n odd\nwords\n", l.Style), Parse("port 2\nfish\n", l.Style))
	for _, want := range []string{`"name a" cannot be taken away`, `"words": no rule of the language takes it away`, `"fish": no rule of the language puts it there`,
		`"port 2" is not there, and is not made by a line`, `"port 1" cannot be taken away`} {
		assert.ErrorContains(t, err, want)
	}
}

func TestPredictSaysWhatIsNotTaken(t *testing.T) {
	l := harbour()
	c := Parse("lan 10\nport 1\n lan 10\n", l.Style)
	for lines, want := range map[string]string{
		"up":                     `line 1, "up": no section is open`,
		"drop log host 1":        "nothing here is taken away by it",
		"swim":                   "do not know it here",
		"port 9":                 "it cannot be made",
		"drop lan 10":            `"lan 10" is needed by another line`,
		"port 1|lan 20":          `line 2, "lan 20": it needs "lan 20", which is not there`,
		"log host 1|port 1|swim": "line 3",
	} {
		_, err := l.Predict(c, strings.Split(lines, "|"))
		assert.ErrorContains(t, err, want, lines)
	}
	got, err := l.Predict(c, []string{"port 1", "trunk", "up", "drop lan 10"})
	require.NoError(t, err)
	assert.Equal(t, []string{"port 1", "port 1 > trunk"}, got.Paths())
}

// What a pattern begins with is never more than it asks for.
func TestLiteral(t *testing.T) {
	for pattern, want := range map[string]string{`^port (\d+)$`: "port ", `^name`: "name", `port`: "", `^ab?c`: "a", `^ab*`: "a", `^ab{2}`: "a", `^ab|c`: "", `^a(b|c)`: "a", `^a(b|c)|d`: "", `^a[)]|b`: "", `^a[(]|b`: "", `^a[]|]b`: "a", `^a[^]|]b`: "a", `^\d`: "", `^$`: "", `^log host \S+$`: "log host "} {
		assert.Equal(t, want, literal(pattern), pattern)
	}
	rapid.Check(t, func(t *rapid.T) {
		pattern := "^" + rapid.StringMatching(`[abc?*+.|()^\[\]]{0,7}`).Draw(t, "pattern")
		r, err := regexp.Compile(pattern)
		line := rapid.StringMatching(`[abc]{0,6}`).Draw(t, "line")
		if err == nil && r.MatchString(line) {
			assert.True(t, strings.HasPrefix(line, literal(pattern)), "%q fits %q", line, pattern)
		}
	})
}

// gates is a flat language that says what is set by a word before it.
func gates() *Language {
	return &Language{Style: Style{Layout: "flat"}, Takes: re(`^clear `), Rules: []Rule{
		{Line: re(`^(gate \d+) (.*)$`), Put: "set $0", Key: "$1", Away: "clear $1"},
		{Line: re(`^(.*) \S+$`), Put: "set $0", Key: "$1", Away: "clear $1"},
	}}
}

func TestAFlatLanguage(t *testing.T) {
	l := gates()
	lines := lead(t, l, "gate 1 open 8 s\nlog host 1\nname a\n", "gate 1 open 5 s\nname b\ngate 2 shut\n")
	assert.ElementsMatch(t, []string{"set gate 1 open 5 s", "set name b", "set gate 2 shut", "clear log host"}, lines)
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) Config {
			var lines []string
			for _, k := range []string{"gate 1", "gate 2", "name", "log host", "a b c"} {
				if v := rapid.SampledFrom([]string{"", "x", "y"}).Draw(t, name); v != "" {
					lines = append(lines, k+" "+v)
				}
			}
			return Parse(strings.Join(lines, "\n"), l.Style)
		}
		from, to := draw("from"), draw("to")
		lines, err := l.Lead(from, to)
		require.NoError(t, err)
		got, err := l.Predict(from, lines)
		require.NoError(t, err)
		assert.Empty(t, Compare(got, to))
		d := Compare(from, to)
		assert.LessOrEqual(t, len(lines), len(d.Added)+len(d.Removed))
	})
}

func TestExplain(t *testing.T) {
	l := harbour()
	from := Parse("name a\nlan 20\nport 7\n lan 20\n label \"gate\"\nport 8\n shut\n", l.Style)
	to := Parse("name b\nlan 20\nlan 310\n title gates\nport 7\n label \"gate\"\n lan 310\nport 8\n shut\n", l.Style)
	assert.Equal(t, []string{"- name a", "+ name b", "+ lan 310", "+   title gates", "  port 7", "-   lan 20", "+   lan 310"}, Lines(Explain(from, to)))
	assert.Empty(t, Explain(from, from))
	changes := map[string][]Change{"a": Explain(from, to), "b": Explain(from, from), "c": Explain(from, to)}
	assert.Equal(t, [][]string{{"a", "c"}, {"b"}}, Together([]string{"a", "b", "c"}, func(n string) []Change { return changes[n] }))
	rapid.Check(t, func(t *rapid.T) {
		from, to := drawConfig(t, "from", 2), drawConfig(t, "to", 2)
		var goes, comes int
		for _, line := range Lines(Explain(from, to)) {
			switch Mark(line[0]) {
			case Goes:
				goes++
			case Comes:
				comes++
			}
		}
		d := Compare(from, to)
		assert.Equal(t, len(d.Removed), goes)
		assert.Equal(t, len(d.Added), comes)
	})
}

// big is a configuration of so many lines, and the same with a few of them changed.
func big(n int) (from, to Config, text string) {
	var a, b strings.Builder
	a.WriteString("name a\nlan 10\nlan 20\n")
	b.WriteString("name b\nlan 10\nlan 20\nlan 30\n title new\n")
	for i := range n / 4 {
		fmt.Fprintf(&a, "port %d\n label \"port %d\"\n lan 10\n shut\n", i, i)
		lan := "10"
		if i%50 == 0 {
			lan = "30"
		}
		fmt.Fprintf(&b, "port %d\n label \"port %d\"\n lan %s\n shut\n", i, i, lan)
	}
	l := harbour()
	return Parse(a.String(), l.Style), Parse(b.String(), l.Style), a.String()
}

func BenchmarkLanguage(b *testing.B) {
	l := harbour()
	for _, n := range []int{1000, 10_000, 50_000} {
		from, to, text := big(n)
		lines, err := l.Lead(from, to)
		require.NoError(b, err)
		for name, do := range map[string]func(){
			"parse":   func() { Parse(text, l.Style) },
			"predict": func() { _, _ = l.Predict(from, lines) },
			"lead":    func() { _, _ = l.Lead(from, to) },
			"explain": func() { Explain(from, to) },
			"compare": func() { Compare(from, to) },
		} {
			b.Run(fmt.Sprintf("%s/%d", name, n), func(b *testing.B) {
				for b.Loop() {
					do()
				}
			})
		}
	}
}

// A section, too, may need a line, and what needs others is found however its line begins.
func TestWhatASectionNeeds(t *testing.T) {
	l := &Language{Leave: "up", Takes: re("^drop "), Rules: []Rule{
		{Line: re(`^area (\d)$`), Section: true, Away: "drop $0", Needs: []string{"router $1"}},
		{In: re(`^area \d$`), Line: re(`^on (\S+)$`), Away: "drop $0", Needs: []string{"link $1"}},
		{Line: re(`^router (\d)$`), Away: "drop $0"}, {Line: re(`^link (\S+)$`), Away: "drop $0"}}}
	c := Parse("router 1\nlink a\narea 1\n  on a", Style{})
	_, err := l.Predict(c, []string{"area 2"})
	assert.EqualError(t, err, `line 1, "area 2": it needs "router 2", which is not there`)
	_, err = l.Predict(c, []string{"drop router 1"})
	assert.EqualError(t, err, `line 1, "drop router 1": "router 1" is needed by another line`)
	_, err = l.Predict(c, []string{"drop link a"})
	assert.EqualError(t, err, `line 1, "drop link a": "link a" is needed by another line`)
	got, err := l.Predict(c, []string{"area 1", "drop on a", "up", "drop link a", "drop area 1", "drop router 1"})
	require.NoError(t, err)
	assert.Empty(t, got.Lines)
}

// A line that stands there already is typed again, once it was counted who needs what.
func TestWhatIsThereIsTypedAgain(t *testing.T) {
	l := harbour()
	c := Parse("log host 1\nlan 10\nlan 20\nport 1\n  lan 10\n  shut", l.Style)
	got, err := l.Predict(c, []string{"drop lan 20", "log host 1", "port 1", "shut", "lan 10"})
	require.NoError(t, err)
	assert.Equal(t, []string{"lan 10", "log host 1", "port 1", "port 1 > lan 10", "port 1 > shut"}, got.Paths())
}

// What rules lead to is proven by carrying it out: lines that leave something are no way.
func TestAWayIsProven(t *testing.T) {
	l := harbour()
	from := Parse("name a\nlog host 198.51.100.1\nlog host 198.51.100.2\n", l.Style)
	to := Parse("name a\nlog host 198.51.100.1\n", l.Style)
	assert.NoError(t, l.proven(from, to, []string{"drop log host 198.51.100.2"}))
	assert.ErrorContains(t, l.proven(from, to, nil), "the lines found would leave")
	assert.ErrorContains(t, l.proven(from, to, []string{"drop log host 198.51.100.1"}), "the lines found would leave")
	assert.ErrorContains(t, l.proven(from, to, []string{"fly"}), "contradict themselves")
}
