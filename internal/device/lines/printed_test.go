package lines

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestPrinted(t *testing.T) {
	for name, c := range map[string]struct{ in, lines, cur string }{
		"plain":         {"a\r\nb\r\nc", "a|b", "c"},
		"colour":        {"\x1b[31mred\x1b[0m\n", "red", ""},
		"title":         {"\x1b]0;owned\x07x\n\x1b]0;o\x1b\\y\n", "x|y", ""},
		"pager wiped":   {"-- more --\r          \rnext\n", "next", ""},
		"backspace":     {"abc\b\bX\n", "aX", ""},
		"lone return":   {"old\rnew\n", "new", ""},
		"bad utf8":      {"a\xff\xfeb\n", "a\ufffdb", ""},
		"c1 control":    {"a\u009bb\n", "ab", ""},
		"control chars": {"a\x00\x07\x0bb\n", "ab", ""},
		"tab":           {"a\tb\n", "a\tb", ""},
	} {
		var p printed
		assert.True(t, p.write([]byte(c.in)), name)
		assert.Equal(t, c.lines, strings.Join(p.lines, "|"), name)
		assert.Equal(t, c.cur, string(p.cur), name)
	}
}

// However output is cut into pieces, and whatever is in it, the same comes out,
// bounded and without anything a terminal would act on.
func FuzzPrinted(f *testing.F) {
	f.Add([]byte("\x1b[31mred\x1b[0m\r\n\x1b]0;t\x07[x look] "), 3)
	f.Add([]byte("a\rb\b\u009b\xff\n"), 1)
	f.Fuzz(func(t *testing.T, b []byte, cut int) {
		var whole, parts printed
		whole.write(b)
		cut = min(max(cut, 0), len(b))
		parts.write(b[:cut])
		parts.write(b[cut:])
		require.Equal(t, whole, parts)
		for _, l := range append(whole.lines, clean(whole.cur)) {
			require.False(t, strings.ContainsFunc(l, func(r rune) bool { return r != '\t' && r < ' ' || r >= 0x7f && r < 0xa0 }), "%q", l)
		}
	})
}
