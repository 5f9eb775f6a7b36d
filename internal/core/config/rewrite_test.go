package config

import (
	"fmt"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is the same stays as it is written, comments and all; what is new is written as
// its neighbours are.
func TestRewriteLeavesTheRest(t *testing.T) {
	braces := Style{Layout: "braces", Volatile: []*regexp.Regexp{regexp.MustCompile(`^\s*#`)}}
	text := `# quay router, by Ada
router id 192.0.2.1;

protocol static fixed {
	# the depot
	ipv4;
	route 203.0.113.0/28 via "lo";   
}

protocol device { }
`
	want := Parse(text, braces)
	for i, l := range want.Lines {
		if strings.HasPrefix(l.Text, "protocol static") {
			want.Lines[i].Under = append([]Line{}, l.Under[0], Line{Text: `route 203.0.113.16/28 via "lo"`})
		}
	}
	want.Lines = append(want.Lines, Line{Text: "protocol kernel", Under: []Line{{Text: "ipv4", Under: []Line{{Text: "export all"}}}}})
	got, err := Rewrite(text, braces, ofLines(want.Lines, braces))
	require.NoError(t, err)
	assert.Equal(t, `# quay router, by Ada
router id 192.0.2.1;

protocol static fixed {
	# the depot
	ipv4;
	route 203.0.113.16/28 via "lo";
}

protocol device { }
protocol kernel {
	ipv4 {
		export all;
	}
}
`, got)
}

// tree draws lines with blocks.
func tree(t *rapid.T, style Style, depth int) (out []Line) {
	seen := map[string]bool{}
	for range rapid.IntRange(0, 5).Draw(t, "lines") {
		l := Line{Text: rapid.SampledFrom([]string{"a 1", "b", "lan 3", "port 7", "x y z", "log 192.0.2.1"}).Draw(t, "line")}
		if depth > 0 && style.Layout != "flat" && rapid.Bool().Draw(t, "opens") {
			l.Under = tree(t, style, depth-1)
		}
		if style.Ordered || !seen[l.Text] {
			out = append(out, l)
		}
		seen[l.Text] = true
	}
	return out
}

// Any text can be made to read as any other configuration, and what is not touched stays.
func TestRewriteToAnything(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		style := Style{Layout: rapid.SampledFrom([]string{"braces", "indented", "flat"}).Draw(t, "layout"), Ordered: rapid.Bool().Draw(t, "ordered"), Volatile: []*regexp.Regexp{regexp.MustCompile(`^\s*#`)}}
		w := &rewriter{style: style, ends: rapid.SampledFrom([]string{";", ""}).Draw(t, "ends"), unit: rapid.SampledFrom([]string{"\t", "  ", "     "}).Draw(t, "unit")}
		var lines []string
		for i, l := range tree(t, style, 3) {
			lines = append(lines, w.render(l, "")...)
			lines = append(lines, fmt.Sprintf("# remark %d", i))
		}
		text := ""
		if len(lines) > 0 {
			text = strings.Join(lines, "\n") + "\n"
		}
		to := ofLines(tree(t, style, 3), style)
		got, err := Rewrite(text, style, to)
		require.NoError(t, err)
		require.True(t, Equal(to, Parse(got, style)), got)
		require.Equal(t, strings.Count(text, "# remark"), strings.Count(got, "# remark"), "no remark is lost")
		same, err := Rewrite(text, style, Parse(text, style))
		require.NoError(t, err)
		require.Equal(t, text, same, "what is the same is not touched")
	})
}
