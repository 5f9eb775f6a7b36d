package runbook

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What an unattended run does is written as it is read, all of it.
func TestUnattendedAsItIsRead(t *testing.T) {
	for tries := range 10 {
		for _, then := range actions {
			for _, on := range []bool{false, true} {
				u := Unattended{Given: true, Tries: tries, Then: Action(then), GoOn: on}
				if tries%2 == 1 {
					u.After = time.Duration(tries) * 11 * time.Second
				}
				rb, err := Parse("x.runbook", []byte("runbook \"X\"\n  window now for 1h\n\nscope\n  true\n\ntimer 5m\n\nunattended "+u.String()+"\n\nstep \"A\"\n  send\n    | a\n  undo\n    | b\n"))
				require.NoError(t, err, u.String())
				u.Line = rb.Unattended.Line
				assert.Equal(t, u, rb.Unattended, u.String())
			}
		}
	}
}
