package config

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func lines(text string) []Line { return Parse(text, harbour().Style).Lines }

// drawWant draws what could be wanted of a harbour: some lines of another configuration
// with what they need, some that shall be gone, and patterns of which none other shall be.
func drawWant(t *rapid.T) Want {
	u := drawConfig(t, "wanted", 3)
	var w Want
	for _, l := range u.Lines {
		if !rapid.Bool().Draw(t, "wanted?") && !strings.HasPrefix(l.Text, "lan ") {
			continue
		}
		l.Under = slices.DeleteFunc(slices.Clone(l.Under), func(Line) bool { return rapid.Bool().Draw(t, "not in it?") })
		w.Lines = append(w.Lines, l)
	}
	for _, l := range drawConfig(t, "gone", 3).Lines {
		section := strings.HasPrefix(l.Text, "port ")
		if rapid.IntRange(0, 3).Draw(t, "gone?") == 0 && (!section || len(l.Under) > 0) {
			w.Gone = append(w.Gone, l)
		}
	}
	for _, p := range []string{"log host *", "time source *", "login *", "port * > label *", "lan *", "port 2 > lan *"} {
		if rapid.IntRange(0, 3).Draw(t, "no other?") == 0 {
			w.NoOther = append(w.NoOther, p)
		}
	}
	return w
}

// Where a want can be fulfilled, all that it says holds, once and for all, lines lead
// there, and nothing that it does not speak of has changed.
func TestWhatIsWantedIsSo(t *testing.T) {
	l := harbour()
	fulfilled := 0
	rapid.Check(t, func(t *rapid.T) {
		c, w := drawConfig(t, "now", 3), drawWant(t)
		if len(l.Refuses(w)) > 0 {
			return
		}
		u, err := l.Wanted(c, w)
		if err != nil {
			return
		}
		way, err := l.Lead(c, u)
		if err != nil {
			assert.Contains(t, err.Error(), "cannot be taken away")
			return
		}
		fulfilled++
		got, err := l.Predict(c, way)
		require.NoError(t, err)
		assert.Empty(t, Compare(got, u))
		have := got.Paths()
		for _, p := range paths(w.Lines) {
			assert.Contains(t, have, p)
		}
		for _, p := range leaves(w.Gone) {
			assert.NotContains(t, have, p)
			if f := strings.Fields(p); f[0] == "time" {
				assert.NotContains(t, strings.Join(have, "\n"), strings.Join(f[:3], " ")+" ")
			}
		}
		for _, pattern := range w.NoOther {
			for _, p := range have {
				if globbed(pattern).MatchString(p) && strings.Count(p, " > ") == strings.Count(pattern, " > ") {
					assert.Contains(t, paths(w.Lines), p, pattern)
				}
			}
		}
		again, err := l.Wanted(u, w)
		require.NoError(t, err)
		assert.Empty(t, Compare(u, again), "wanted once more, nothing is to do")
		d := Compare(c, got)
		for _, p := range d.Added {
			if !strings.HasPrefix(p, "time source") && !strings.Contains(p, " > title l") { // places move on, titles come by themselves
				assert.Contains(t, paths(w.Lines), p)
			}
		}
		assert.Subset(t, got.Paths(), untouched(c, w), "what nothing was said of stays")
	})
	assert.Positive(t, fulfilled)
}

// untouched are lines of kinds that a want says nothing of.
func untouched(c Config, w Want) (out []string) {
	said := strings.Join(slices.Concat(paths(w.Lines), paths(w.Gone), w.NoOther), "\n")
	for _, kind := range []string{"name", "log host", "manage", "login", "port 1", "port 2", "port 3"} {
		if strings.Contains(said, kind) || strings.Contains(said, "port *") {
			continue
		}
		for _, p := range c.Paths() {
			if strings.HasPrefix(p, kind) {
				out = append(out, p)
			}
		}
	}
	return out
}

func TestWanted(t *testing.T) {
	l := harbour()
	now := Parse("time source 192.0.2.1 first\ntime source 192.0.2.2 second\nlog host 198.51.100.9\nlog host 198.51.100.8\nlan 20\n  title office\nport 7\n  label \"gate\"\n  lan 20\nport 8\n  lan 20", l.Style)
	for _, c := range []struct {
		name string
		want Want
		way  []string
	}{
		{"a list that shall be exactly so", Want{Lines: lines("log host 198.51.100.9\nlog host 198.51.100.14"), NoOther: []string{"log host *"}},
			[]string{"log host 198.51.100.14", "drop log host 198.51.100.8"}},
		{"an order", Want{Lines: lines("time source 192.0.2.2 first\ntime source 192.0.2.40 second"), NoOther: []string{"time source *"}},
			[]string{"time source 192.0.2.40 third", "drop time source 192.0.2.1"}},
		{"a port moves to a lan that is made", Want{Lines: lines("lan 310\n  title gates\nport 7\n  lan 310")},
			[]string{"lan 310", "title gates", "up", "port 7", "lan 310"}},
		{"all of a kind, in sections", Want{NoOther: []string{"port * > lan *", "lan *"}},
			[]string{"port 7", "drop lan", "up", "port 8", "drop lan", "up", "drop lan 20"}},
		{"only what stands in a section", Want{Gone: lines("port 7\n  label \"gate\"")}, []string{"port 7", "drop label"}},
		{"all of it is so", Want{Lines: lines("port 7\n  lan 20"), Gone: lines("port 7\n  trunk\nlog host 198.51.100.1")}, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Empty(t, l.Refuses(c.want))
			u, err := l.Wanted(now, c.want)
			require.NoError(t, err)
			way, err := l.Lead(now, u)
			require.NoError(t, err)
			assert.Equal(t, c.way, way)
		})
	}
}

func TestWantedThatCannotBe(t *testing.T) {
	l := harbour()
	now := Parse("lan 20\nport 7\n  lan 20", l.Style)
	for _, c := range []struct{ want, gone, why string }{
		{"port 9\n  shut", "", `"port 9" is not there, and no line makes it`},
		{"port 7\n  lan 310", "", `"port 7 > lan 310": it needs "lan 310", which is not there and is not wanted`},
		{"", "lan 20", `"lan 20" cannot go: "port 7 > lan 20" needs it`},
		{"time source 192.0.2.1 second", "", `"time source 192.0.2.1 second" cannot be so together with what else is wanted there: it would be "time source 192.0.2.1 first"`},
		{"port 7\n  lan 20\n  trunk", "", `"port 7 > lan 20" cannot be so together with what else is wanted there: it would be "trunk"`},
		{"time source 192.0.2.1 first\ntime source 192.0.2.2 second\ntime source 192.0.2.3 third\ntime source 192.0.2.4 fourth\ntime source 192.0.2.5 first", "",
			`"time source 192.0.2.5 first": the list has no more than 4 entries`},
		{"port 7\n  paint red", "", `"port 7 > paint red": no rule of the language knows it`},
	} {
		_, err := l.Wanted(now, Want{Lines: lines(c.want), Gone: lines(c.gone)})
		assert.EqualError(t, err, c.why)
	}
}

// What no device could fulfil is told before one is reached.
func TestRefuses(t *testing.T) {
	l := harbour()
	for _, c := range []struct {
		w   Want
		why []string
	}{
		{Want{Lines: lines("log host 192.0.2.1"), Gone: lines("lan 20\nport 7\n  lan 20"), NoOther: []string{"login *"}}, nil},
		{Want{Lines: lines("colour red\nport 7\n  paint red\nlog host 1\n  deep")}, []string{
			`"colour red": no rule of the language knows it`,
			`"port 7 > paint red": no rule of the language knows it`,
			`"log host 1": no rule of the language says that it is a section`}},
		{Want{Lines: lines("port 7\nlan 310\ntitle gates\nshut")}, []string{
			`"port 7": it is there by itself, and nothing is said of what shall stand in it: indent that below it`,
			`"title gates": no rule of the language knows it here; it belongs into "lan 310": indent it below that`,
			`"shut": no rule of the language knows it here; it belongs into "port 7": indent it below that`}},
		{Want{Gone: lines("manage from any")}, []string{`"manage from any": it cannot be taken away, only replaced: want what shall stand in its place`}},
		{Want{Lines: lines("manage from 203.0.113.0/24"), Gone: lines("manage from any")}, nil},
		{Want{Gone: lines("port 7")}, []string{`"port 7": it cannot be taken away`}},
		{Want{NoOther: []string{"colour *", "port 7 > paint *", "port *"}}, []string{
			`"colour *": no rule of the language takes such a line away`,
			`"port 7 > paint *": no rule of the language takes such a line away`,
			`"port *": no rule of the language takes such a line away`}},
		{Want{Lines: lines("lan 20"), Gone: lines("lan 20")}, []string{`"lan 20" is wanted, and shall be gone`}},
	} {
		assert.Equal(t, c.why, l.Refuses(c.w))
	}
}

func TestLeadsBack(t *testing.T) {
	l := harbour()
	require.NoError(t, l.LeadsBack([]string{"lan 310", "title gates", "up", "port 7", "drop lan", "lan 310", "open", "up", "drop log host 192.0.2.1", "name x"}))
	for _, c := range []struct {
		lines []string
		why   string
	}{
		{[]string{"log host 1", "paint red"}, `line 2, "paint red": the rules of the language do not know it`},
		{[]string{"up"}, `line 1, "up": the rules of the language do not know it`},
		{[]string{"port 7", "drop log host 1"}, `line 2, "drop log host 1": it stands at the top, and not in "port 7"`},
	} {
		assert.EqualError(t, l.LeadsBack(c.lines), c.why)
	}
	flat := &Language{Takes: re("^clear "), Rules: []Rule{{Line: re(`^(beam) (\S+)$`), Put: "set $0", Away: "clear $1", Key: "$1"}, {Line: re("^sealed$"), Put: "set $0"}}}
	require.NoError(t, flat.LeadsBack([]string{"set beam 3", "clear beam"}))
	assert.EqualError(t, flat.LeadsBack([]string{"set sealed"}), `line 1, "set sealed": no rule of the language takes it away again`)
}

// realistic is a configuration of a quay switch and what a change makes of it: a few ports
// move, lists are renewed, lans come and go.
func realistic(t *rapid.T) (from, to Config) {
	var a, b strings.Builder
	both := func(s string) { a.WriteString(s); b.WriteString(s) }
	draw := func(n int) int { return rapid.IntRange(0, n-1).Draw(t, "n") }
	both("name quay\n")
	for i := range 4 {
		if draw(2) == 0 {
			fmt.Fprintf(&a, "log host 198.51.100.%d\n", i)
		}
		if draw(2) == 0 {
			fmt.Fprintf(&b, "log host 198.51.100.%d\n", i)
		}
	}
	both("lan 10\n title office\nlan 20\n title crew\n")
	if draw(2) == 0 {
		b.WriteString("lan 310\n title gates\n")
	} else {
		both("lan 310\n title gates\n")
	}
	for p := range 24 {
		both(fmt.Sprintf("port %d\n label \"p%d\"\n", p+1, p))
		lan := []string{"10", "20"}[draw(2)]
		fmt.Fprintf(&a, " lan %s\n", lan)
		if draw(6) == 0 {
			lan = "310"
		}
		fmt.Fprintf(&b, " lan %s\n", lan)
		if draw(8) == 0 {
			a.WriteString(" shut\n")
		} else if draw(8) == 0 {
			b.WriteString(" shut\n")
		}
	}
	return Parse(a.String(), harbour().Style), Parse(b.String(), harbour().Style)
}

// fewest is a number of lines that no way can do without: one for each line that comes or
// goes, or takes the place of another, one to enter each section that anything is done in,
// and one to leave each but the last.
func fewest(l *Language, from, to Config) int {
	n, sections := 0, map[string]bool{}
	replaced := map[string]int{}
	d := Compare(from, to)
	for _, p := range d.Added {
		parts := strings.Split(p, " > ")
		section := strings.Join(parts[:len(parts)-1], " > ")
		if len(parts) > 1 {
			sections[section] = true
		}
		in := ""
		if len(parts) > 1 {
			in = parts[len(parts)-2]
		}
		k, _ := l.know(in, parts[len(parts)-1])
		if k.rule.Section {
			sections[p] = true // entering it makes it
			continue
		}
		if k.keyed() {
			replaced[section+"\x00"+k.key()]++
		}
		n++
	}
	for _, p := range d.Removed {
		parts := strings.Split(p, " > ")
		section, in := strings.Join(parts[:len(parts)-1], " > "), ""
		if len(parts) > 1 {
			in = parts[len(parts)-2]
		}
		k, _ := l.know(in, parts[len(parts)-1])
		if k.keyed() && replaced[section+"\x00"+k.key()] > 0 {
			continue
		}
		if len(parts) > 1 {
			sections[section] = true
		}
		n++
	}
	if len(sections) > 0 {
		n += 2*len(sections) - 1
	}
	return n
}

// On 200 realistic changes hardly a line more is sent than no way could do without.
func TestFewLinesOnRealisticChanges(t *testing.T) {
	l := harbour()
	sent, least, changes := 0, 0, 0
	draw := rapid.Custom(func(t *rapid.T) [2]Config { a, b := realistic(t); return [2]Config{a, b} })
	for seed := range 200 {
		c := draw.Example(seed)
		way, err := l.Lead(c[0], c[1])
		require.NoError(t, err)
		sent, least, changes = sent+len(way), least+fewest(l, c[0], c[1]), changes+1
		assert.LessOrEqual(t, float64(len(way)), 1.05*float64(fewest(l, c[0], c[1]))+1, "%q", way)
	}
	t.Logf("%d changes: %d lines, at least %d", changes, sent, least)
	assert.LessOrEqual(t, float64(sent), 1.05*float64(least))
}

func TestUnknownLinesInTheirSections(t *testing.T) {
	l := harbour()
	c := Parse("colour red\nport 7\n  label \"x\"\n  paint red\nlog host 1\n  deep", l.Style)
	assert.Equal(t, []string{"colour red", "port 7 > paint red", "log host 1", "log host 1 > deep"}, l.Unknown(c))
}

// What a person writes reads the same in braces and indented.
func TestWrittenInBracesOrIndented(t *testing.T) {
	style := Style{Layout: "braces"}
	braced := Written([]string{"clock {", "    source 192.0.2.40 rank 1;", "}", "name a;"}, style)
	indented := Written([]string{"clock", "  source 192.0.2.40 rank 1;", "name a"}, style)
	want := []Line{{Text: "clock", Under: []Line{{Text: "source 192.0.2.40 rank 1"}}}, {Text: "name a"}}
	for _, got := range [][]Line{braced, indented} {
		if len(got) != 2 || got[0].Text != want[0].Text || len(got[0].Under) != 1 || got[0].Under[0].Text != want[0].Under[0].Text || got[1].Text != "name a" {
			t.Errorf("got %v", got)
		}
	}
}
