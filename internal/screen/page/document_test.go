package page

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"metabasis/internal/document"
)

// Whatever stands in a document and however narrow the screen is: no row of its texts and tables
// is wider than that, and every letter of them is there.
func TestADocumentIsDrawnInFull(t *testing.T) {
	word := rapid.StringMatching(`[a-z0-9é宿]{1,30}`)
	text := rapid.Map(rapid.SliceOfN(word, 1, 12), func(w []string) string { return strings.Join(w, " ") })
	rapid.Check(t, func(t *rapid.T) {
		var d document.Document
		want := map[rune]int{}
		add := func(s string) string {
			for _, r := range strings.ReplaceAll(s, " ", "") {
				want[r]++
			}
			return s
		}
		columns := rapid.IntRange(1, 6).Draw(t, "columns")
		for range rapid.IntRange(1, 4).Draw(t, "parts") {
			if rapid.Bool().Draw(t, "table") {
				table := document.Table{}
				for range rapid.IntRange(1, 3).Draw(t, "rows") {
					var row []string
					for range columns {
						row = append(row, add(text.Draw(t, "cell")))
					}
					table.Rows = append(table.Rows, row)
				}
				d.Add(table)
			} else {
				d.Items(add(text.Draw(t, "item")))
			}
		}
		cells := rapid.IntRange(60, 140).Draw(t, "cells")
		got := map[rune]int{}
		for _, r := range documentRows(&d, cells) {
			assert.LessOrEqual(t, r.Width(), cells, r.Text())
			for _, c := range strings.NewReplacer(" ", "", "·", "").Replace(r.Text()) {
				got[c]++
			}
		}
		assert.Equal(t, want, got)
	})
}
