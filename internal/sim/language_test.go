package sim

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/config"
	"metabasis/profiles"
)

// language is that of a platform, as its profile says it.
func language(t *testing.T, platform string) *config.Language {
	set, err := profiles.Shipped()
	require.NoError(t, err)
	return set[platform].Language()
}

func drawTern(t *rapid.T, name string) *ternConfig {
	pick := func(n int) int { return rapid.IntRange(0, n-1).Draw(t, name) }
	c := newTernConfig(4)
	c.name = []string{"a", "b"}[pick(2)]
	for _, i := range rapid.Permutation([]int{1, 2, 3, 4}).Draw(t, name)[:pick(5)] {
		c.times = append(c.times, fmt.Sprintf("192.0.2.%d", i))
	}
	for _, i := range rapid.Permutation([]int{1, 2, 3}).Draw(t, name)[:pick(4)] {
		c.logs = append(c.logs, fmt.Sprintf("198.51.100.%d", i))
	}
	c.manage = []string{"any", "203.0.113.0/24"}[pick(2)]
	for _, u := range []string{"crew", "pilot"}[:pick(3)] {
		c.logins[u] = []string{"x", "y"}[pick(2)]
	}
	for _, n := range []int{10, 20, 30}[:pick(4)] {
		c.lans[n] = []string{"", "office"}[pick(2)]
	}
	for p := range c.ports {
		port := ternPort{label: []string{"", "gate"}[pick(2)], trunk: pick(3) == 0, shut: pick(2) == 0}
		if lans := slices.Sorted(maps.Keys(c.lans)); !port.trunk && len(lans) > 0 {
			port.lan = lans[pick(len(lans))]
		}
		c.ports[p] = port
	}
	return c
}

// The lines that the language finds are all taken by the device, and leave it as was
// predicted, line by line.
func TestTheLanguageIsThatOfTheDevice(t *testing.T) {
	l := language(t, "tern")
	rapid.Check(t, func(t *rapid.T) {
		from, to := drawTern(t, "from"), drawTern(t, "to")
		parse := func(c *ternConfig) config.Config { return config.Parse(c.String(), l.Style) }
		lines, err := l.Lead(parse(from), parse(to))
		require.NoError(t, err)
		device, section := from.clone(), ""
		for i, line := range lines {
			if line == "up" {
				section = ""
				continue
			}
			var err error
			section, err = device.apply(section, line)
			require.NoError(t, err, "%q", lines)
			predicted, err := l.Predict(parse(from), lines[:i+1])
			require.NoError(t, err)
			assert.Empty(t, config.Explain(predicted, parse(device)), "behind %q", lines[:i+1])
		}
		assert.ElementsMatch(t, strings.Split(to.String(), "\n"), strings.Split(device.String(), "\n"))
	})
}

// Lines that a person might type, in any order: what the device takes is predicted, and
// what it refuses is not taken.
func TestWhateverIsTypedIsPredicted(t *testing.T) {
	l := language(t, "tern")
	typed := []string{"up", "name c", "log host 198.51.100.9", "log host 198.51.100.1", "log host 198.51.100.2", "drop log host 198.51.100.1", "time source 192.0.2.1 first", "time source 192.0.2.9 second", "drop time source 192.0.2.2",
		"manage from any", "login crew secret z", "lan 10", "lan 40", "drop lan 10", "drop lan 40", "title t", "drop title", "port 1", "port 2", "port 9",
		`label "x"`, "drop label", "trunk", "drop trunk", "drop lan", "shut"}
	rapid.Check(t, func(t *rapid.T) {
		from := drawTern(t, "from")
		device, section := from.clone(), ""
		var taken []string
		for range rapid.IntRange(1, 12).Draw(t, "lines") {
			line := rapid.SampledFrom(typed).Draw(t, "line")
			before := device.clone()
			var into string
			var err error
			if line == "up" {
				if section == "" {
					continue
				}
			} else {
				into, err = device.apply(section, line)
			}
			predicted, wrong := l.Predict(config.Parse(from.String(), l.Style), append(slices.Clone(taken), line))
			if wrong != nil { // what is predicted to be refused is refused, or does nothing
				assert.True(t, err != nil || device.String() == before.String(), "%q behind %q: %v", line, taken, wrong)
				return
			}
			require.NoError(t, err, "%q behind %q", line, taken)
			section = into
			taken = append(taken, line)
			assert.Empty(t, config.Explain(predicted, config.Parse(device.String(), l.Style)), "behind %q", taken)
		}
	})
}

// The same for a plover, which knows no sections.
func TestTheLanguageIsThatOfThePlover(t *testing.T) {
	l := language(t, "plover")
	rapid.Check(t, func(t *rapid.T) {
		draw := func(name string) (lines []string) {
			for _, key := range []string{"name", "gate 1 open", "gate 2 open", "clock source", "report host"} {
				if v := rapid.SampledFrom([]string{"", "x", "y"}).Draw(t, name); v != "" {
					lines = append(lines, key+" "+v)
				}
			}
			return lines
		}
		from, to := draw("from"), draw("to")
		parse := func(lines []string) config.Config { return config.Parse(strings.Join(lines, "\n"), l.Style) }
		lines, err := l.Lead(parse(from), parse(to))
		require.NoError(t, err)
		device := slices.Clone(from)
		for _, line := range lines {
			switch w := strings.Fields(line); w[0] {
			case "set":
				device = with(device, w[1:])
			case "clear":
				device = without(device, strings.Join(w[1:], " "))
			default:
				t.Fatalf("%q", line)
			}
		}
		assert.ElementsMatch(t, to, device)
	})
}
