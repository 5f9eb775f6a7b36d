package config

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What is put together from paths, and printed, reads the same again.
func TestOfPathsAndText(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		c := drawConfig(t, "c", 3)
		var paths [][]string
		var walk func(at []string, lines []Line)
		walk = func(at []string, lines []Line) {
			for _, l := range lines {
				here := append(append([]string{}, at...), l.Text)
				paths = append(paths, here)
				walk(here, l.Under)
			}
		}
		walk(nil, c.Lines)
		style := harbour().Style
		assert.Equal(t, c.Paths(), Of(paths, style).Paths())
		for _, layout := range []string{"indented", "braces"} {
			s := Style{Layout: layout}
			assert.Equal(t, c.Paths(), Parse(c.Text(s), s).Paths(), layout)
		}
	})
}

// Whatever ports a device has, lines lead to a configuration that does not speak of all of
// them; those it does not speak of are empty then.
func TestSectionsThatAreThereByThemselves(t *testing.T) {
	l := harbour()
	rapid.Check(t, func(t *rapid.T) {
		now, goal := drawConfig(t, "now", 4), drawConfig(t, "goal", 2)
		goal = l.WithFixed(goal, now)
		assert.Contains(t, goal.Paths(), "port 4")
		lines, err := l.Lead(now, goal)
		if err != nil {
			assert.NotContains(t, err.Error(), "port")
			return
		}
		got, err := l.Predict(now, lines)
		assert.NoError(t, err)
		assert.Equal(t, goal.Paths(), got.Paths())
	})
	assert.True(t, l.Fixed("port 1"))
	assert.False(t, l.Fixed("lan 10"))
	assert.True(t, l.Knows([]string{"port 1", "lan 10"}))
	assert.False(t, l.Knows([]string{"port 1", "colour red"}))
}
