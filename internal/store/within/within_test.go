package within

import (
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Whatever a name is, its path is one step below the directory, or there is none.
func TestNamesLeadNowhereElse(t *testing.T) {
	for _, name := range []string{"", ".", "..", "../x", "a/b", "/etc/passwd", "a\x00b", `a\b`, "a/..", "./a"} {
		_, err := Path("/w", name)
		assert.ErrorIs(t, err, ErrLeadsOut, "%q", name)
	}
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.String().Draw(t, "name")
		if path, err := Path("/w/x", name); err == nil && filepath.Dir(path) != "/w/x" {
			t.Fatalf("%q leads to %s", name, path)
		}
	})
	path, err := Path("/w", "ald-quay-1", "2026-12-02T013412Z.cfg")
	require.NoError(t, err)
	assert.Equal(t, "/w/ald-quay-1/2026-12-02T013412Z.cfg", path)
}

func TestNewFilesStayInTheirDirectory(t *testing.T) {
	dir, out := t.TempDir(), t.TempDir()
	require.NoError(t, os.Symlink(out, filepath.Join(dir, "maps")))
	for _, file := range []string{"maps/x.yaml", "../x.yaml", "a/../../x.yaml"} {
		_, err := Create(dir, dir+"/"+file, 0o600)
		assert.Error(t, err, file)
	}
	left, err := os.ReadDir(out)
	require.NoError(t, err)
	assert.Empty(t, left)

	f, err := Create(dir, filepath.Join(dir, "bases", "tern.txt"), 0o600)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	_, err = Create(dir, filepath.Join(dir, "bases", "tern.txt"), 0o600)
	assert.ErrorIs(t, err, fs.ErrExist)
}

// A workspace may be called as it likes: signs of a pattern in its path are none.
func TestAPatternIsOfNamesOnly(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "nights [old]?*")
	none, err := Match(dir, "*.runbook")
	require.NoError(t, err)
	assert.Empty(t, none)
	require.NoError(t, os.Mkdir(dir, 0o700))
	for _, name := range []string{"b.runbook", "a.runbook", "a.txt"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	found, err := Match(dir, "*.runbook")
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(dir, "a.runbook"), filepath.Join(dir, "b.runbook")}, found)
	_, err = Match(filepath.Join(dir, "a.txt"), "*")
	assert.Error(t, err, "it is no directory")
}
