package console

import (
	"bytes"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestFilter(t *testing.T) {
	for name, c := range map[string]struct{ in, want string }{
		"plain":              {"quay ä ▲\r\n", "quay ä ▲\r\n"},
		"colour and cursor":  {"\x1b[31mred\x1b[0m\x1b[2K\x1b[5D", "\x1b[31mred\x1b[0m\x1b[2K\x1b[5D"},
		"title":              {"a\x1b]0;owned\x07b\x1b]2;x\x1b\\c", "abc"},
		"asks the terminal":  {"a\x1b[6n\x1b[c\x1b[>0qb", "ab"},
		"device control":     {"a\x1bP+q544e\x1b\\b", "ab"},
		"mouse and screens":  {"\x1b[?1000h\x1b[?1049h\x1b[?25la", "\x1b[?25la"},
		"charset":            {"\x1b(0a\x1b=b\x1bcc", "abc"},
		"eight-bit controls": {"a\u009b31mb\x9bc", "a31mbc"},
		"window operations":  {"\x1b[8;1;1ta", "a"},
		"too long":           {"\x1b[1;1;1;1;1;1;1;1;1;1;1;1;1;1;1ma", "a"},
		"cut off":            {"a\x1b[3", "a"},
	} {
		var f filter
		assert.Equal(t, c.want, string(f.pass([]byte(c.in))), name)
	}
}

// Whatever a device prints, in whatever pieces, only harmless sequences pass.
func FuzzFilter(f *testing.F) {
	f.Add([]byte("a\u202eb\u2066"), 2)
	f.Add([]byte("\x1b]0;x\x07\x1b[31m\xc2\x9b6n\x1b[6n"), 3)
	f.Fuzz(func(t *testing.T, b []byte, cut int) {
		var whole, parts filter
		out := whole.pass(b)
		cut = min(max(cut, 0), len(b))
		require.Equal(t, string(out), string(append(parts.pass(b[:cut]), parts.pass(b[cut:])...)))
		require.False(t, bytes.ContainsRune(out, '\u009b'))
		require.False(t, bytes.ContainsAny(out, "\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069"))
		for rest := out; ; {
			i := bytes.IndexByte(rest, 0x1b)
			if i < 0 {
				break
			}
			rest = rest[i+1:]
			require.Equal(t, byte('['), rest[0])
			end := bytes.IndexFunc(rest[1:], func(r rune) bool { return r >= 0x40 && r <= 0x7e })
			require.GreaterOrEqual(t, end, 0)
			require.Contains(t, harmlessFinals+"hl", string(rest[1+end]))
		}
		if utf8.Valid(b) {
			require.True(t, utf8.Valid(out))
		}
	})
}
