package docs

import (
	"os"
	"path/filepath"
	"regexp"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What the glossary says that something is called in the code is called that.
func TestTheGlossaryNamesWhatIsThere(t *testing.T) {
	text, err := os.ReadFile(root + "docs/glossary.md")
	require.NoError(t, err)
	named := regexp.MustCompile("`([a-z]+)\\.([A-Z]\\w+)`").FindAllStringSubmatch(string(text), -1)
	require.Greater(t, len(named), 4)
	for _, m := range named {
		dirs, err := filepath.Glob(root + "internal/*/" + m[1])
		require.NoError(t, err)
		more, err := filepath.Glob(root + "internal/" + m[1])
		require.NoError(t, err)
		found := false
		for _, dir := range append(dirs, more...) {
			files, err := filepath.Glob(dir + "/*.go")
			require.NoError(t, err)
			for _, f := range files {
				code, err := os.ReadFile(f)
				require.NoError(t, err)
				found = found || regexp.MustCompile(`(?m)^(type |\t)`+m[2]+`\b`).Match(code)
			}
		}
		assert.True(t, found, "there is no %s.%s", m[1], m[2])
	}
}
