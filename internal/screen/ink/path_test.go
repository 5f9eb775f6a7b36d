package ink

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAPathIsCutInItsMidst(t *testing.T) {
	const line = "+ /ietf-interfaces:interfaces/interface[name='port3']/description = gate"
	for cells, want := range map[int]string{
		72: line,
		60: "+ /…/interface[name='port3']/description = gate",
		30: "+ /…/description = gate",
		15: "+ /…/descripti…",
	} {
		got := Fit(line, cells)
		assert.Len(t, []rune(got), cells)
		assert.Equal(t, want, got[:len(want)])
	}
	assert.Equal(t, "reading /var/lib/quays/ald-…", Fit("reading /var/lib/quays/ald-quay-1.cfg", 28))
	assert.Equal(t, "/…/text = a value that is l…", Fit("/skerry:core/lan[number='310']/text = a value that is longer than the row", 28))
}
