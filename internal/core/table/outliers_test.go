package table

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/runbook"
)

// What is said to be unlike most is what few devices have where most have another.
func TestOnlyFewAreUnlikeMost(t *testing.T) {
	many := func(values map[string]int) (out []string) {
		for _, v := range []string{"a", "b", "c"} {
			for range values[v] {
				out = append(out, v)
			}
		}
		return out
	}
	for name, c := range map[string]struct {
		values []string // one of each device
		sites  []string // where each is; none is one site
		odd    int
	}{
		"one of twenty":              {values: many(map[string]int{"a": 19, "b": 1}), odd: 1},
		"one of four":                {values: many(map[string]int{"a": 3, "b": 1}), odd: 1},
		"a quarter":                  {values: many(map[string]int{"a": 15, "b": 5}), odd: 5},
		"two equal groups":           {values: many(map[string]int{"a": 10, "b": 10})},
		"two devices":                {values: []string{"a", "b"}},
		"nothing is usual":           {values: []string{"a", "a", "b", "b", "c", "d", "e", "f", "g"}},
		"two sites of another value": {values: []string{"a", "a", "a", "a", "a", "a", "b", "b"}, sites: []string{"1", "1", "2", "2", "3", "3", "4", "4"}},
		"one device of a site":       {values: []string{"a", "a", "a", "a", "a", "a", "a", "b"}, sites: []string{"1", "1", "2", "2", "3", "3", "4", "4"}, odd: 1},
		"all the same":               {values: many(map[string]int{"a": 5})},
		"none":                       {},
	} {
		t.Run(name, func(t *testing.T) {
			got := &Table{Columns: []Column{{"kind", runbook.TextColumn, false}}}
			got.Sites = map[string]string{}
			for i, v := range c.values {
				device := fmt.Sprintf("d%02d", i)
				if len(c.sites) > 0 {
					got.Sites[device] = c.sites[i]
				}
				got.Add(device, "plover", map[string]any{"kind": v})
			}
			assert.Equal(t, c.odd, got.OutliersFirst())
		})
	}
}
