package config

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// What nobody touched since is as it was before the change.
func TestWithoutLeadsBack(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		before, after := drawConfig(t, "before", 3), drawConfig(t, "after", 3)
		got, clashes := harbour().Without(after, after, before)
		assert.Empty(t, clashes)
		assert.Equal(t, before.Paths(), got.Paths())
		got, clashes = (*Language)(nil).Without(after, after, before)
		assert.Empty(t, clashes)
		assert.Equal(t, before.Paths(), got.Paths())
	})
}

// A change that was none takes nothing out of what others made.
func TestWithoutNothingChangesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		before, now := drawConfig(t, "before", 3), drawConfig(t, "now", 3)
		got, clashes := harbour().Without(now, before, before)
		assert.Empty(t, clashes)
		assert.Equal(t, now.Paths(), got.Paths())
	})
}

// Where nothing clashes, what the change made is gone, what it took away is there, and all
// else is as others have left it.
func TestWithoutKeepsWhatOthersDid(t *testing.T) {
	clear := 0
	rapid.Check(t, func(t *rapid.T) {
		before, after, now := drawConfig(t, "before", 3), drawConfig(t, "after", 3), drawConfig(t, "now", 3)
		got, clashes := harbour().Without(now, after, before)
		if len(clashes) > 0 {
			return
		}
		clear++
		made := Compare(before, after)
		for _, p := range made.Added {
			assert.NotContains(t, got.Paths(), p)
		}
		for _, p := range made.Removed {
			assert.Contains(t, got.Paths(), p)
		}
		others := Compare(after, now)
		for _, p := range others.Added {
			if !slices.Contains(made.Removed, p) {
				assert.Contains(t, got.Paths(), p, "what others put there stays")
			}
		}
		for _, p := range others.Removed {
			if !slices.Contains(made.Added, p) && !slices.Contains(made.Removed, p) {
				assert.NotContains(t, got.Paths(), p, "what others took away stays away")
			}
		}
	})
	assert.NotZero(t, clear)
}

func TestWhereOthersChangedTheSame(t *testing.T) {
	parse := func(s string) Config { return Parse(s, harbour().Style) }
	for name, c := range map[string]struct{ before, after, now, clash string }{
		"another value": {"name a", "name b", "name c", `name b: it was changed since: name c`},
		"in a section": {"port 1\n  lan 10\nlan 10\nlan 20", "port 1\n  lan 20\nlan 10\nlan 20", "port 1\n  trunk\nlan 10\nlan 20",
			`port 1 > lan 20: it was changed since: port 1 > trunk`},
		"taken, and another": {"name a", "manage from any", "manage from any\nname c", `name a: something else was put in its place since: name c`},
		"into what is new":   {"name a", "name a\nlan 10", "name a\nlan 10\n  title crew", `lan 10: something was put into it since: lan 10 > title crew`},
		"its section":        {"lan 10", "lan 10\n  title gates", "name a", `lan 10: it is gone since, with all that stood in it`},
		"made anew":          {"lan 10\n  title office", "name a", "lan 10\n  title crew", `lan 10: it was put there again since, with something else in it: lan 10`},
		"changed what it is": {"log host 198.51.100.1", "log host 198.51.100.1\nlogin crew secret x", "log host 198.51.100.1\nlogin crew secret y", `login crew secret x: it was changed since: login crew secret y`},
	} {
		_, clashes := harbour().Without(parse(c.now), parse(c.after), parse(c.before))
		if assert.Len(t, clashes, 1, "%s: %v", name, clashes) {
			assert.Equal(t, c.clash, clashes[0].String(), name)
		}
	}
	// Others did by hand what was asked for: there is nothing left to do.
	got, clashes := harbour().Without(parse("name a\nmanage from any"), parse("name b\nlan 10"), parse("name a"))
	assert.Empty(t, clashes)
	assert.Equal(t, parse("name a\nmanage from any").Paths(), got.Paths())
}

func TestWithoutInATree(t *testing.T) {
	tree := &Language{Tree: true, Style: Style{Layout: "flat"}}
	parse := func(s string) Config { return Parse(s, tree.Style) }
	before := parse("/system/clock = 'a'\n/system/name = 'x'")
	after := parse("/system/clock = 'b'\n/system/name = 'x'")
	got, clashes := tree.Without(parse("/system/clock = 'b'\n/system/name = 'y'"), after, before)
	assert.Empty(t, clashes)
	assert.Equal(t, parse("/system/clock = 'a'\n/system/name = 'y'").Paths(), got.Paths())
	_, clashes = tree.Without(parse("/system/clock = 'c'\n/system/name = 'x'"), after, before)
	assert.Len(t, clashes, 1)
}
