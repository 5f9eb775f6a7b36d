package plan

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/identity"
)

// lined is a plan over so many devices, each with a place of its own.
func lined(n int) *Plan {
	p := &Plan{byName: map[string]*Target{}}
	var in []*Target
	for i := range n {
		t := &Target{Device: fleet.Device{Name: fmt.Sprintf("quay-%d", i)}}
		p.byName[t.Device.Name], in = t, append(in, t)
	}
	p.number(in)
	p.Batches = [][]*Target{in}
	return p
}

func seenAs(s func(device string) identity.Seen) func(string) identity.Last {
	return func(device string) identity.Last { return identity.Last{Seen: s(device)} }
}

// Lines of a fleet that lead to one device are told once, and are never in change together,
// however many they are; what is forgotten of it keeps nobody apart.
func TestLinesOfOneDevice(t *testing.T) {
	p := lined(6)
	one := func(device string) identity.Seen {
		if device == "quay-5" {
			return identity.Seen{Name: device, Serial: "T-5"}
		}
		return identity.Seen{Serial: "T-1"}
	}
	known := p.Known(seenAs(one))
	assert.Equal(t, []string{"quay-0, quay-1, quay-2, quay-3 and 1 more are one device (serial T-1): they are never changed side by side"}, known.Warnings)
	busy := known.Busy()
	busy.Begin(p.byName["quay-3"])
	assert.Equal(t, "it is the same device as one that is in change", busy.Keeps(p.byName["quay-0"]))
	assert.Empty(t, busy.Keeps(p.byName["quay-5"]))
	busy.End(p.byName["quay-3"])
	assert.Empty(t, busy.Keeps(p.byName["quay-0"]))

	known = p.Known(seenAs(func(device string) identity.Seen { return identity.Seen{Name: device, Key: "SHA256:a"} }))
	assert.Empty(t, known.Warnings, "copied hosts share a key")
	busy = known.Busy()
	busy.Begin(p.byName["quay-3"])
	assert.Empty(t, busy.Keeps(p.byName["quay-0"]))
}

// BenchmarkKnown holds ten thousand hosts against one another that were all copied from one.
func BenchmarkKnown(b *testing.B) {
	p := lined(10_000)
	for b.Loop() {
		p.Known(seenAs(func(device string) identity.Seen { return identity.Seen{Name: device, Key: "SHA256:a"} }))
	}
}
