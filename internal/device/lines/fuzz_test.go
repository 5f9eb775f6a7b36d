package lines

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

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
