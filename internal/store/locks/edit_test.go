package locks

import (
	"os"
	"path/filepath"
	"strconv"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is read, changed and written back by many at once is changed by each.
func TestEditingIsOneAtATime(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "n")
	require.NoError(t, os.WriteFile(file, []byte("0"), 0o600))
	var all sync.WaitGroup
	for range 50 {
		all.Go(func() {
			assert.NoError(t, Editing(dir, func() error {
				text, err := os.ReadFile(file)
				if err != nil {
					return err
				}
				n, err := strconv.Atoi(string(text))
				if err != nil {
					return err
				}
				return os.WriteFile(file, []byte(strconv.Itoa(n+1)), 0o600)
			}))
		})
	}
	all.Wait()
	text, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "50", string(text))
	assert.ErrorIs(t, Editing(filepath.Join(dir, "none"), func() error { return nil }), os.ErrNotExist)
}
