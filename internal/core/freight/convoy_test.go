package freight

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// A convoy says what is there, how fast it goes, and when the rest will be: from what was carried, and not from
// what was there before.
func TestAConvoyTellsHowFarItIs(t *testing.T) {
	now := time.Date(2026, 12, 4, 1, 0, 0, 0, time.UTC)
	c := NewConvoy("ada", File{Name: "tern-5.0.img", Size: 1000, SHA256: "ab"}, []string{"a", "b", "c", "d"}, now)
	p := c.Stands(now)
	assert.Equal(t, int64(4000), p.ToCome)
	assert.Zero(t, p.Likely)
	assert.Equal(t, []string{"a", "b", "c", "d"}, p.Waiting)
	c.Took("a", 500, now) // it was there
	for i := range 10 {
		c.Took("b", int64(i*100), now.Add(time.Duration(i)*time.Second))
	}
	now = now.Add(9 * time.Second)
	p = c.Stands(now)
	assert.Equal(t, int64(900), p.Sent, "what was there before was not carried")
	assert.Equal(t, int64(4000-500-900), p.ToCome)
	assert.InDelta(t, 100, p.Pace, 1)
	assert.Equal(t, now.Add(26*time.Second), p.Likely)
	c.Over("a", true)
	c.Over("c", false)
	p = c.Stands(now)
	assert.Equal(t, int64(1100), p.ToCome, "b has 900, and d nothing")
	assert.Contains(t, p.Said(now), "tern-5.0.img to 4 devices, by ada since")
	assert.Contains(t, p.Said(now), "1 there, 1 do not have it, 2 to come; there by")
	assert.Contains(t, p.Said(now.Add(time.Minute)), "it was cut off, and was heard of last at")
	assert.Contains(t, p.String(), "2 of 4 done with; 900 bytes carried, 1.1 KB to come, 100 bytes a second; there by")
}

// Whatever happens in whatever order, each device is counted once, and what is to come is never below nothing.
func TestAConvoyCounts(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		now := time.Unix(1e9, 0)
		devices := []string{"a", "b", "c"}
		c := NewConvoy("ada", File{Size: 100}, devices, now)
		over := map[string]bool{}
		for range rapid.IntRange(0, 40).Draw(t, "steps") {
			d := rapid.SampledFrom(devices).Draw(t, "device")
			now = now.Add(time.Duration(rapid.IntRange(0, 3000).Draw(t, "ms")) * time.Millisecond)
			switch {
			case over[d]:
			case rapid.Bool().Draw(t, "over"):
				c.Over(d, rapid.Bool().Draw(t, "there"))
				over[d] = true
			default:
				c.Took(d, int64(rapid.IntRange(0, 100).Draw(t, "bytes")), now)
			}
			p := c.Stands(now)
			if p.There+p.Failed != len(over) || p.ToCome < 0 || p.There+p.Failed+len(p.On)+len(p.Waiting) != 3 {
				t.Fatalf("%+v with %v over", p, over)
			}
		}
	})
}
