package cli

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/acts"
)

// What is told of a file on its way counts what was carried: what was there before, and what a device that
// failed, or that had it already, does not need, make it no faster.
func TestHowFarAFileIs(t *testing.T) {
	var shown bytes.Buffer
	u := (&app{err: &shown, stderr: &shown}).underWay(4, 100_000_000)
	now := time.Now()
	u.take(acts.UnderWay{Device: "a", Done: 60_000_000, Of: 100_000_000}) // gone on with
	u.take(acts.UnderWay{Device: "a", Done: 70_000_000, Of: 100_000_000})
	assert.Contains(t, u.line(now), "0 of 4 done with; 10.0 MB carried, 330.0 MB to come")
	u.over("b") // it had it already
	u.over("c") // it was not reached
	assert.Contains(t, u.line(now), "2 of 4 done with; 10.0 MB carried, 130.0 MB to come")
	u.take(acts.UnderWay{Device: "a", Done: 66_000_000, Of: 100_000_000}) // it broke off, and some is carried again
	assert.Contains(t, u.line(now), "10.0 MB carried, 134.0 MB to come")
	u.over("a")
	u.over("d")
	assert.Contains(t, u.line(now), "4 of 4 done with; 10.0 MB carried, 0 bytes to come")
	assert.Empty(t, shown.String(), "it is no terminal")
}
