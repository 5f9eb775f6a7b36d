package runbook

import (
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A moment that is written into a runbook is the same when it is read again.
func TestMomentsOfARestore(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		part := rapid.OneOf(rapid.Int64Range(0, 999_999_999), rapid.SampledFrom([]int64{0, 1, 500_000_000, 999_999_998, 999_999_999})).Draw(rt, "part")
		at := time.Unix(rapid.Int64Range(1_700_000_000, 1_900_000_000).Draw(rt, "seconds"), part)
		text, err := strconv.Unquote(Restore{At: at}.String())
		require.NoError(rt, err)
		again, err := ParseRestoreTime(text)
		require.NoError(rt, err, text)
		assert.True(rt, again.Equal(at), "%s: %v, was %v", text, again, at)
	})
	at := time.Date(2026, 11, 20, 3, 0, 0, 0, time.Local)
	for text, want := range map[string]time.Time{
		"2026-11-20 03:00":       at.Add(time.Minute - 1),
		"2026-11-20 03:00:07":    at.Add(8*time.Second - 1),
		"2026-11-20 03:00:07.25": at.Add(7250 * time.Millisecond),
	} {
		got, err := ParseRestoreTime(text)
		require.NoError(t, err)
		assert.True(t, got.Equal(want), "%s: %v", text, got)
	}
	assert.Equal(t, `"2026-11-20 03:00:59"`, Restore{At: at.Add(time.Minute - 1)}.String())
	assert.Equal(t, `"2026-11-20 03:00:00.0"`, Restore{At: at}.String())
}
