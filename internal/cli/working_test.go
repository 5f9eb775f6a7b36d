package cli

import (
	"bytes"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

// What takes long is said to be going on, and nothing of that is left behind.
func TestWhatTakesLongIsSaid(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var b bytes.Buffer
		done := tellWorking(&b, "planning for a fleet of 3 devices")
		time.Sleep(500 * time.Millisecond)
		done()
		assert.Empty(t, b.String(), "nothing is said of what is quick")

		done = tellWorking(&b, "planning for a fleet of 3 devices")
		time.Sleep(2500 * time.Millisecond)
		done()
		done()
		assert.Equal(t, "\r\x1b[Kplanning for a fleet of 3 devices: 1 s\r\x1b[Kplanning for a fleet of 3 devices: 2 s\r\x1b[K", b.String())
	})
}
