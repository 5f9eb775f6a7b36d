package acts

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A file that is written to while it is carried is not noted to have arrived: what is there, nobody can say.
func TestAFileThatChangesWhileItIsCarried(t *testing.T) {
	d, err := Open(t.TempDir(), nil, nil)
	require.NoError(t, err)
	t.Setenv("METABASIS_CLAIMS", t.TempDir())
	file := filepath.Join(t.TempDir(), "new.img")
	require.NoError(t, os.WriteFile(file, []byte("an image"), 0o600))
	c, err := d.OpenLoad(Load{File: file})
	require.NoError(t, err)
	require.NoError(t, c.changed())
	require.NoError(t, os.WriteFile(file, []byte("AN IMAGE"), 0o600))
	require.NoError(t, os.Chtimes(file, time.Time{}, time.Now().Add(time.Minute)))
	assert.ErrorIs(t, c.changed(), errChanged)
	require.NoError(t, c.Close())
	for name, say := range map[string]string{"": "is empty", ".": "is no plain file", "no": "no such file"} {
		path := filepath.Join(t.TempDir(), "x")
		switch name {
		case "":
			require.NoError(t, os.WriteFile(path, nil, 0o600))
		case ".":
			path = t.TempDir()
		}
		_, err := d.OpenLoad(Load{File: path})
		assert.ErrorContains(t, err, say)
	}
	_, err = d.OpenLoad(Load{File: file, As: "x y"})
	assert.ErrorContains(t, err, "--as says how it is to be called there")
}
