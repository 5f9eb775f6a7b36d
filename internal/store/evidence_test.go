package store

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestEvidence(t *testing.T) {
	dir := t.TempDir()
	e := &Evidence{Dir: dir}
	evening := time.Date(2026, 12, 1, 22, 0, 0, 0, time.UTC)
	first, err := e.Put(evening, "ald-quay-1", "ald-1", "tell clock", []string{"time 1"})
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "night-of-2026-12-01", "ald-1", "tell-clock.txt"), first)
	again, err := e.Put(evening.Add(4*time.Hour), "ald-quay-1", "ald-1", "tell clock", []string{"time 2"})
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "night-of-2026-12-01", "ald-1", "tell-clock.2.txt"), again, "after midnight it is the same night, and nothing is overwritten")
	b, err := os.ReadFile(first)
	require.NoError(t, err)
	assert.Equal(t, "# ald-quay-1 asked at 2026-12-01T22:00:00Z\n# tell clock\n\ntime 1\n", string(b))
	other, err := e.Put(evening, "ald-quay-2", "ald-1", "tell clock", nil)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "night-of-2026-12-01", "ald-1.ald-quay-2", "tell-clock.txt"), other, "two devices of one name do not mix")
	byDay, err := e.Put(evening.Add(-8*time.Hour), "ald-quay-1", "ald-1", "tell clock", nil)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "2026-12-01", "ald-1", "tell-clock.txt"), byDay, "by day it is of no night")
	noName, err := e.Put(evening, "ald-quay-3", "", "tell clock", nil)
	require.NoError(t, err)
	assert.Contains(t, noName, "ald-quay-3")
}

// Names that devices give themselves lead nowhere else.
func TestEvidenceStaysInItsFolder(t *testing.T) {
	dir := t.TempDir()
	e := &Evidence{Dir: filepath.Join(dir, "evidence")}
	for _, host := range []string{"../../etc", "/etc/passwd", "..", ".", "a/../../b", strings.Repeat("x", 5000), "\x00\n", "-rf"} {
		for _, command := range []string{"../../x", "cat /etc/passwd", strings.Repeat("y", 5000), ";", ""} {
			path, err := e.Put(time.Now(), "ald-quay-1", host, command, []string{"x"})
			require.NoError(t, err, "%q %q", host, command)
			rel, err := filepath.Rel(e.Dir, path)
			require.NoError(t, err)
			assert.False(t, strings.HasPrefix(rel, ".."), path)
			assert.Len(t, strings.Split(rel, string(filepath.Separator)), 3, path)
			assert.False(t, strings.HasPrefix(filepath.Base(path), "-"))
		}
	}
}
