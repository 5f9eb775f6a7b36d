package work

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"metabasis/internal/core/config"
)

// Whatever is begun, proven undone and begun again: the record has each step once, in the order
// in which it was begun, and a step that is begun counts its lines from its first.
func TestProgressKeepsTheOrderOfWhatMayRun(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 6).Draw(t, "steps")
		var p progress
		p.size(n)
		var want []int
		for range rapid.IntRange(0, 20).Draw(t, "acts") {
			i := rapid.IntRange(0, n-1).Draw(t, "step")
			switch rapid.SampledFrom([]string{"begin", "line", "undo", "forget", "forget from"}).Draw(t, "act") {
			case "begin":
				p.begin(i, nil)
				if !slices.Contains(want, i) {
					want = append(want, i)
				}
				assert.Zero(t, p.steps[i].sent)
				assert.False(t, p.steps[i].undone)
			case "line":
				p.steps[i].sent++
			case "undo":
				p.steps[i].undone = true
			case "forget":
				p.forget(func(j int) bool { return j == i })
				want = slices.DeleteFunc(want, func(j int) bool { return j == i })
			case "forget from":
				held := p.ran
				p.forget(func(j int) bool { return j >= i })
				assert.True(t, slices.Equal(want, held), "what others hold does not change")
				want = slices.DeleteFunc(slices.Clone(want), func(j int) bool { return j >= i })
			}
			assert.True(t, slices.Equal(want, p.ran), "%v, not %v", want, p.ran)
			for j := range n {
				assert.Equal(t, slices.Contains(want, j), p.begun(j))
			}
		}
	})
}

// What was not read before a step is nothing that it can be proven to be again.
func TestWhatWasNotReadBeforeAStepProvesNothing(t *testing.T) {
	now := config.Parse("lan 10\n", config.Style{})
	var p progress
	p.size(2)
	p.steps[1].before = &now
	assert.False(t, p.asBefore(0, now))
	assert.False(t, func() bool { d := p.unlikeBefore(0, now); return d.Empty() }())
	assert.True(t, p.asBefore(1, now))
	assert.True(t, func() bool { d := p.unlikeBefore(1, now); return d.Empty() }())
}
