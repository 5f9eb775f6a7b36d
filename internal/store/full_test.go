package store

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A journal that is empty, or is being made at this moment, has no nights; it is not damaged.
func TestAnEmptyJournal(t *testing.T) {
	file := filepath.Join(t.TempDir(), "metabasis.db")
	_, err := ReadJournal(file)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.ErrorContains(t, err, "there is no journal "+file)
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = ReadJournal(file)
	assert.ErrorIs(t, err, fs.ErrNotExist)
	assert.ErrorContains(t, err, "the journal "+file+" is empty")
	j, err := OpenJournal(file)
	require.NoError(t, err, "it is taken as it is")
	require.NoError(t, j.Close())
	j, err = ReadJournal(file)
	require.NoError(t, err)
	require.NoError(t, j.Close())
}

// What cannot be kept of what is said is told while it is said, and at the end.
func TestATranscriptThatCannotBeKept(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "said")
	said, err := NewTranscripts(dir)
	require.NoError(t, err)
	said.For("ald-quay-1").Note("one")
	require.NoError(t, said.Kept())
	require.NoError(t, os.RemoveAll(dir))
	said.For("ald-quay-2").Note("two")
	assert.ErrorIs(t, said.Kept(), fs.ErrNotExist)
	assert.ErrorIs(t, said.Close(), fs.ErrNotExist)
}
