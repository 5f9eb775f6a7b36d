package docs

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/screen/keys"
	"metabasis/internal/settings"
)

// docs/keys.md is the table of keys that the views take theirs from.
func TestKeysAreThoseOfTheTable(t *testing.T) {
	b, err := os.ReadFile(root + "docs/keys.md")
	require.NoError(t, err)
	var written, real [][2]string
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (.+) \\|$").FindAllStringSubmatch(string(b), -1) {
		written = append(written, [2]string{m[1], m[2]})
	}
	for _, g := range keys.All() {
		assert.Contains(t, string(b), "## "+g.Name+"\n")
		for _, k := range g.Keys {
			real = append(real, [2]string{k.Help().Key, k.Help().Desc})
		}
	}
	assert.Equal(t, real, written)
}

// No view has a key that is not in the table.
func TestViewsTakeTheirKeysFromTheTable(t *testing.T) {
	files, err := filepath.Glob(root + "internal/screen/*/*.go")
	require.NoError(t, err)
	for _, f := range files {
		src, err := os.ReadFile(f)
		require.NoError(t, err)
		if filepath.Base(filepath.Dir(f)) != "keys" {
			assert.NotContains(t, string(src), "key.NewBinding", f)
		}
	}
	assert.NotEmpty(t, files)
}

// Every variable that the program looks at is in the list, and every setting.
func TestEnvironmentVariables(t *testing.T) {
	b, err := os.ReadFile(root + "docs/command-line.md")
	require.NoError(t, err)
	_, list, found := strings.Cut(string(b), "## Environment variables")
	require.True(t, found)
	list, _, _ = strings.Cut(list, "\n## ")
	for _, s := range settings.All() {
		assert.Contains(t, list, "`"+s.Env()+"`")
	}
	require.NoError(t, filepath.WalkDir(root+"internal", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		src, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`[Gg]etenv\("([A-Z_]+)"\)`).FindAllStringSubmatch(string(src), -1) {
			if m[1] != "TERM" {
				assert.Contains(t, list, "`"+m[1]+"`", path)
			}
		}
		return err
	}))
}
