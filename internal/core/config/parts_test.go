package config

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestParts(t *testing.T) {
	style := Style{Layout: "flat", Ordered: true}
	read := func(daemon ...string) Config {
		return Parse(Join("route a\nroute b\n", []Part{{"daemon", daemon}, {"rules", nil}}), style)
	}
	saved := Parse("route a\nroute b\n", style)
	up := read("quays up", "", "east up")
	assert.True(t, Equal(up, read("east up", "quays up")), "a part has no order")
	down := read("quays up", "east down")
	assert.False(t, Equal(up, down))
	assert.True(t, OnlyParts(up, down))
	assert.Equal(t, Diff{Removed: []string{"daemon: east up"}, Added: []string{"daemon: east down"}}, Compare(up, down))
	assert.True(t, Equal(saved, up), "what is saved has no parts")
	assert.True(t, Compare(saved, down).Empty())
	other := Parse("route a\n", style)
	assert.False(t, Equal(other, up))
	assert.False(t, OnlyParts(other, up))
	assert.False(t, up.Has("quays up"), "a condition looks at the configuration alone")
	assert.Equal(t, "route a\nroute b\n", Alone(Join("route a\nroute b\n", []Part{{"daemon", []string{"x"}}})))
	assert.Equal(t, "route a\n", Alone("route a\n"))
}
