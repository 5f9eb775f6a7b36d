package config

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// The tree has every line of both: without those that are new it is the first, without
// those that are gone it is the second.
func TestDifferingHasBoth(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a, b := drawConfig(t, "a", 3), drawConfig(t, "b", 3)
		all := Differing(a, b)
		without := func(mark byte) string {
			var s strings.Builder
			for _, l := range all {
				if l.Mark != mark {
					s.WriteString(strings.Repeat("  ", l.Depth) + l.Text + "\n")
				}
			}
			return s.String()
		}
		style := harbour().Style
		assert.Equal(t, a.Paths(), Parse(without('+'), style).Paths())
		assert.Equal(t, b.Paths(), Parse(without('-'), style).Paths())
		d := Compare(a, b)
		assert.Equal(t, len(d.Removed)+len(d.Added), differ1(all))
		for i, l := range all {
			below := all[i+1 : i+1+l.Below]
			assert.False(t, slices.ContainsFunc(below, func(x Shown) bool { return x.Depth <= l.Depth }))
			own := 0
			if l.Mark != ' ' {
				own = 1
			}
			assert.Equal(t, differ1(below)+own, l.Differ)
		}
	})
}
