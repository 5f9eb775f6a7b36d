package textfile

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file is replaced whole, keeps who may read it, and nothing is left beside it.
func TestReplace(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "fleet.csv")
	mode := func() os.FileMode {
		info, err := os.Stat(file)
		require.NoError(t, err)
		return info.Mode().Perm()
	}
	require.NoError(t, Replace(file, []byte("one"), 0o640))
	assert.EqualValues(t, 0o640, mode())
	require.NoError(t, os.Chmod(file, 0o600))
	require.NoError(t, Replace(file, []byte("two"), 0o644))
	assert.EqualValues(t, 0o600, mode())
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "two", string(data))

	require.NoError(t, os.Mkdir(filepath.Join(dir, "d"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "d", "x"), nil, 0o600))
	assert.Error(t, Replace(filepath.Join(dir, "d"), []byte("three"), 0o600), "a directory is no file")
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, left, 2, "what could not take its place is gone")
}
