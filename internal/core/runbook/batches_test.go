package runbook

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// The rules of the batches, written as lines, mean the same when they are read again.
func TestRulesAsLines(t *testing.T) {
	for _, text := range []string{
		"sizes 1, 4, 25%\n  together 8\n  per site 2\n  pairs apart, standby first\n  order far first\n  hold after batch 1, 3\n  stop after 2 failures",
		"canaries one of each platform and role\n  sizes 3\n  per role 4\n  per uplink 1\n  hold after every batch\n  while held go on\n  stop never",
		"canaries a, b\n  sizes 100%\n  stop after 1 failures",
	} {
		read := func(text string) Batches {
			rb, err := Parse("x", []byte("runbook \"x\"\n  window none\nscope\n  true\nbatches\n  "+text+"\ntimer 5m\nstep \"x\"\n  send\n    | x\n  undo\n    | y\n"))
			require.NoError(t, err, text)
			rb.Batches.CanaryLine = 0
			return rb.Batches
		}
		b := read(text)
		assert.Equal(t, strings.Split(text, "\n  "), b.Lines())
		assert.Equal(t, b, read(strings.Join(b.Lines(), "\n  ")))
	}
}
