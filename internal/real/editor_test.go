//go:build real

package real

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const bashProfile = `platform: bash
like: bird
quote: {key: ^V, characters: "\t"}
lines: []
configuration:
  whole: false
  edit: shell
  running: {in: shell, send: cat notes}
  saved: {in: shell, send: cat notes}
language: ~
restore: ~
timer: {kind: none}
trial: ~
readers: ~
continued: {prompt: '^> $', cancel: ^C}
`

// A shell whose line editor wraps, scrolls and completes: what is sent is what
// arrives, or it is told.
func TestALineEditor(t *testing.T) {
	l := newLab(t)
	home := l.user("mb-ed", "harbour-lamp-ed")
	l.run("usermod", "-s", "/bin/bash", "mb-ed")
	require.NoError(t, os.WriteFile(filepath.Join(home, ".profile"), []byte("PS1='mb-ed$ '\n"), 0o644))
	port := l.sshd("editor", []string{loopback(60)}, "PasswordAuthentication yes")
	l.write("ws/profiles/bash.yaml", bashProfile)
	l.fleet("name,address,port,platform,login,calls itself", "ed,"+loopback(60)+","+port+",bash,mb-ed,mb-ed")
	t.Setenv("METABASIS_MB_ED_PASSWORD", "harbour-lamp-ed")
	t.Setenv("METABASIS_HOST_KEYS", "remember")

	long := ""
	for i := range 90 {
		long += " " + strings.Repeat(string(rune('a'+i%26)), 3) + string(rune('A'+i%26))
	}
	for what, line := range map[string]string{
		"short":              "echo tide",
		"as long as a row":   "echo" + long[:235],
		"longer than a row":  "echo" + long[:300],
		"longer than two":    "echo" + long,
		"with a key in it":   "echo 'a\tb?c'",
		"beyond its charset": "echo 'quai für Möwen'",
	} {
		code, out, errOut := l.metabasis("", "ask", "--any", line, "--json")
		assert.Zero(t, code, "%s: %s%s", what, out, errOut)
		assert.NotContains(t, out, "not what was sent", what)
		if what == "longer than two" {
			assert.Contains(t, out, strings.TrimSpace(long))
		}
		if what == "with a key in it" {
			assert.Contains(t, out, `a\tb?c`)
		}
	}

	// Without the quoting key, the tab is a key of its own, and that is told.
	l.write("ws/profiles/bash.yaml", strings.Replace(bashProfile, "quote:", "#", 1))
	code, out, _ := l.metabasis("", "ask", "--any", "echo 'a\tb'", "--json")
	assert.NotZero(t, code)
	assert.Contains(t, out, "not what was sent")
}
