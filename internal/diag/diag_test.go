package diag

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A secret is in no record, wherever in it it stands, and however it has to be quoted.
func TestSecretsAreMasked(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		secret := rapid.StringMatching(`[ -~äö\t\n"\\]{8,20}`).Draw(t, "secret")
		var out bytes.Buffer
		l := To(&out, true)
		l.Secrets.Add(secret)
		l.Secrets.Add(secret[:4])
		l.Info("said "+secret, "what", secret, secret, 1)
		l.With("at", secret).WithGroup("g").Debug("x", "err", errors.New("in "+secret+" there"))
		assert.NotContains(t, out.String(), secret)
		assert.Equal(t, 2, strings.Count(out.String(), "\n"))
	})
}

func TestTheLogIsItsOwnersAndBounded(t *testing.T) {
	file := filepath.Join(t.TempDir(), "state", "metabasis", "metabasis.log")
	l, err := Open(file, false)
	require.NoError(t, err)
	l.Debug("not wanted")
	l.Info("wanted")
	require.NoError(t, l.Close())
	b, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(b), "wanted")
	assert.NotContains(t, string(b), "not wanted")
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.Truncate(file, most+1))
	l, err = Open(file, true)
	require.NoError(t, err)
	require.NoError(t, l.Close())
	assert.FileExists(t, file+".1")
	_, err = Open(filepath.Join(file, "below", "a.log"), false)
	assert.ErrorContains(t, err, "diagnostic log")
}

func TestWhereTheLogIs(t *testing.T) {
	assert.Equal(t, "/var/s/metabasis/metabasis.log", File(func(string) string { return "/var/s" }))
	home := t.TempDir()
	from := func(dir string) func(string) string {
		return func(name string) string { return map[string]string{"XDG_STATE_HOME": "relative", "HOME": dir}[name] }
	}
	assert.Equal(t, filepath.Join(home, ".local/state/metabasis/metabasis.log"), File(from(home)))
	for _, none := range []string{"", filepath.Join(home, "none")} {
		assert.Empty(t, File(from(none)), "nothing is made, and nothing is kept where all can read it")
	}
	_, err := Open("", false)
	assert.ErrorContains(t, err, "there is no home directory")
}
