package store

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/identity"
)

func TestIdentities(t *testing.T) {
	file := filepath.Join(t.TempDir(), "identities.jsonl")
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	ids, err := OpenIdentities(file)
	require.NoError(t, err)
	assert.Equal(t, identity.Last{}, ids.Last("quay"), "nobody was seen")
	seen := identity.Seen{Name: "quay", Serial: "T-1"}
	require.NoError(t, ids.Saw("quay", seen, at, true))
	require.NoError(t, ids.Saw("quay", identity.Seen{Name: "gate", Serial: "T-9"}, at, false))
	assert.Equal(t, seen, ids.Last("quay").Seen, "another device than is meant is not taken down")
	assert.Equal(t, "T-9", ids.Met("quay").Serial, "and was met")
	size := func() int64 {
		info, err := os.Stat(file)
		require.NoError(t, err)
		return info.Size()
	}
	before := size()
	require.NoError(t, ids.Saw("quay", identity.Seen{Serial: "T-1"}, at.Add(time.Hour), true))
	assert.Equal(t, before, size(), "what says no more is not written again")

	other, err := OpenIdentities(file) // another process
	require.NoError(t, err)
	require.NoError(t, other.Accept("quay", identity.Seen{Name: "quay", Serial: "T-2"}, at, "ada", "its board was exchanged"))
	require.NoError(t, ids.Refresh())
	assert.Equal(t, "T-2", ids.Last("quay").Serial)
	assert.Empty(t, ids.Damaged())
}

// A process that was killed while it wrote leaves half a line: what stood before it counts,
// what comes after it is whole, and that line is told of.
func TestIdentitiesCutOff(t *testing.T) {
	file := filepath.Join(t.TempDir(), "identities.jsonl")
	require.NoError(t, os.WriteFile(file, []byte(`{"device":"quay","at":"2026-12-02T01:30:00Z","serial":"T-1"}`+"\n\n"+`{"device":"quay","at":"2026-1`), 0o600))
	ids, err := OpenIdentities(file)
	require.NoError(t, err)
	assert.Equal(t, "T-1", ids.Last("quay").Serial)
	assert.Equal(t, file+": line 3 cannot be read, so whoever it tells of counts as not seen then", ids.Damaged())
	require.NoError(t, ids.Saw("gate", identity.Seen{Serial: "G-1"}, time.Now(), true))
	again, err := OpenIdentities(file)
	require.NoError(t, err)
	assert.Equal(t, "G-1", again.Last("gate").Serial)
	assert.Equal(t, "T-1", again.Last("quay").Serial)

	require.NoError(t, os.WriteFile(file, []byte("somebody's\nown notes\n"), 0o600))
	require.NoError(t, again.Refresh())
	assert.Contains(t, again.Damaged(), "2 lines cannot be read, the first is line 1")
}
