package lines

import (
	"metabasis/internal/device/profile"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// No file makes the loader panic, and what it accepts can be used.
func FuzzLoad(f *testing.F) {
	f.Add([]byte(ternFile(f)))
	f.Add([]byte("platform: [\n"))
	f.Add([]byte("modes: {a: {prompt: '^x$', login: true}}\nrefused: ['(']\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		p, err := profile.Load("x.yaml", data)
		if err == nil {
			p.Traits()
			p.Tables()
			p.Secrets()
			p.Mask("login crew secret x")
		}
	})
}

// Whatever a device draws, an echo is the line only if every character of it was
// drawn, and the state is one of three.
func FuzzEcho(f *testing.F) {
	f.Add("label ab", "[x edit] ", "label a\r\x1b[K[x edit] label ab\r\n")
	f.Add("label ab", "> ", "label\b\b\b\b\babel ab\r\n")
	f.Add("a\tb", "> ", "\r<x a   b\r\n")
	f.Fuzz(func(t *testing.T, line, prompt, drawn string) {
		e := newEcho(line, prompt, true)
		for i := range len(drawn) {
			if e.put(drawn[i]) {
				break
			}
		}
		require.LessOrEqual(t, e.covered, len(e.line))
		require.GreaterOrEqual(t, e.covered, 0)
		if e.state != echoSame {
			return
		}
		for _, r := range e.line {
			if r > ' ' {
				require.True(t, strings.ContainsRune(drawn, r), "%q was never drawn in %q", r, drawn)
			}
		}
	})
}
