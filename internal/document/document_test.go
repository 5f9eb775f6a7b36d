package document

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/extension"
	east "github.com/yuin/goldmark/extension/ast"
	"github.com/yuin/goldmark/text"
	"pgregory.net/rapid"
)

// Whatever stands in the parts, a reader of Markdown finds those parts and no others: no text
// begins a heading, ends a table or opens a fence.
func TestMarkdownIsThePartsAndNoOthers(t *testing.T) {
	words := rapid.StringMatching(`[a-z|*_<#\[\]` + "`" + `\\.-]{0,4}( [a-z|*_<#\[\]` + "`" + `]{1,5}){0,3}`)
	word := rapid.Map(words, func(s string) string { return "w " + s })
	rapid.Check(t, func(t *rapid.T) {
		var d Document
		d.Add(Title(word.Draw(t, "title")))
		counts := map[string]int{"heading": 1}
		for range rapid.IntRange(0, 6).Draw(t, "parts") {
			switch rapid.SampledFrom([]string{"section", "heading", "text", "items", "table", "code"}).Draw(t, "part") {
			case "section":
				d.Add(Section(word.Draw(t, "section")))
				counts["heading"]++
			case "heading":
				d.Add(Heading(word.Draw(t, "heading")))
				counts["heading"]++
			case "text":
				d.Add(Text(word.Draw(t, "text")))
			case "items":
				n := rapid.IntRange(1, 3).Draw(t, "n")
				for range n {
					d.Items(word.Draw(t, "item"))
				}
				d.Add(Text("w"))
				counts["item"] += n
			case "table":
				rows := rapid.SliceOfN(rapid.SliceOfN(word, 2, 2), 1, 3).Draw(t, "rows")
				d.Add(Table{[]string{"a", "b"}, rows})
				counts["row"] += len(rows)
			case "code":
				d.Add(Code(rapid.SliceOfN(words, 1, 3).Draw(t, "lines")))
				counts["code"]++
			}
		}
		source := []byte(strings.Join(d.Markdown(), "\n") + "\n")
		got := map[string]int{}
		root := goldmark.New(goldmark.WithExtensions(extension.Table)).Parser().Parse(text.NewReader(source))
		require.NoError(t, ast.Walk(root, func(n ast.Node, enter bool) (ast.WalkStatus, error) {
			if !enter {
				return ast.WalkContinue, nil
			}
			switch n.Kind() {
			case ast.KindHeading:
				got["heading"]++
			case ast.KindListItem:
				got["item"]++
			case east.KindTableRow:
				got["row"]++
			case ast.KindFencedCodeBlock:
				got["code"]++
			}
			return ast.WalkContinue, nil
		}))
		for what, n := range counts {
			assert.Equal(t, n, got[what], "%s of\n%s", what, source)
		}
		for what, n := range got {
			assert.Equal(t, counts[what], n, "%s of\n%s", what, source)
		}
	})
}

func TestMarkdown(t *testing.T) {
	var d Document
	d.Add(Title("Gates | and *clocks*"), Text("two kept"), Table{[]string{"", ""}, [][]string{{"a|b", "c"}}}, Section("Steps"))
	d.Counted("one", "two")
	d.Items("three")
	d.Add(Heading("1 device"), Code{"+ log host", "```"})
	assert.Equal(t, []string{`# Gates \| and \*clocks\*`, "", "two kept", "", "|  |  |", "|---|---|", `| a\|b | c |`, "", "## Steps", "", "1. one", "2. two", "", "- three",
		"", "### 1 device", "", "````text", "+ log host", "```", "````"}, d.Markdown())
}
