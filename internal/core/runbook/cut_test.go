package runbook

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// inDocuments are all runbooks that stand in the documents and the demo: every production of
// the language is in one of them.
func inDocuments(t testing.TB) (out []string) {
	t.Helper()
	for _, pattern := range []string{"../../../demo/*.runbook", "../../../docs/examples/*.runbook"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, f := range files {
			data, err := os.ReadFile(f)
			require.NoError(t, err)
			out = append(out, string(data))
		}
	}
	doc, err := os.ReadFile("../../../docs/runbook.md")
	require.NoError(t, err)
	for i, block := range strings.Split(string(doc), "```") {
		if i%2 == 1 {
			_, text, _ := strings.Cut(block, "\n")
			out = append(out, text)
		}
	}
	return append(out, string(quays(t)))
}

// cutAtEachWord is every such runbook with one line cut behind each of its words, and with
// each of its words left out.
func cutAtEachWord(t testing.TB) (out [][]byte) {
	seen := map[string]bool{}
	for _, text := range inDocuments(t) {
		lines := strings.Split(text, "\n")
		for i, line := range lines {
			indent := line[:len(line)-len(strings.TrimLeft(line, " "))]
			words := strings.Fields(line)
			for k := range words {
				for _, with := range []string{indent + strings.Join(words[:k], " "), indent + strings.Join(append(words[:k:k], words[k+1:]...), " ")} {
					if seen[with] {
						continue
					}
					seen[with] = true
					cut := append(append(append([]string{}, lines[:i]...), with), lines[i+1:]...)
					out = append(out, []byte(strings.Join(cut, "\n")))
				}
			}
		}
	}
	return out
}

// No line that is cut off, or has lost a word, panics; what is wrong is told at its place.
func TestNoLineThatIsCutPanics(t *testing.T) {
	all := cutAtEachWord(t)
	assert.Greater(t, len(all), 900)
	for _, src := range all {
		assert.NotPanics(t, func() {
			rb, err := Parse("f", src)
			if err != nil {
				assert.NotEmpty(t, err.Error())
				return
			}
			_ = rb.Compile(schema)
			_, _ = Format("f", src)
		}, "%s", src)
	}
	for _, line := range []string{"for p where p.port > 3", "for p in where p.port > 3", "for where", "for p where", "for p in ports where", "for p in \"a where b\""} {
		src := "runbook \"x\"\n  window  now for 3m\nscope\n  site == \"ALD\"\nstep \"s\"\n  " + line + "\n  send\n    | lan\n"
		assert.NotPanics(t, func() {
			if rb, err := Parse("f", []byte(src)); err == nil {
				_ = rb.Compile(schema)
			}
		}, line)
	}
}
