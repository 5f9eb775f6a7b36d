package escape

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func scanned(text string) string {
	var s Scanner
	var b strings.Builder
	for i := range len(text) {
		switch s.Put(text[i]) {
		case Text:
			b.WriteByte(text[i])
		case Control:
			fmt.Fprintf(&b, "<%x>", text[i])
		case Sequence:
			fmt.Fprintf(&b, "{%s%c}", s.Params(), text[i])
		case Nothing:
		}
	}
	return b.String()
}

func TestWhatBytesMean(t *testing.T) {
	for in, want := range map[string]string{
		"plain é":                     "plain é",
		"a\r\nb\x7f":                  "a<d><a>b<7f>",
		"\x1b[31mred\x1b[0m":          "{31m}red{0m}",
		"\x1b[2J\x1b[?25l\x1b[H":      "{2J}{?25l}{H}",
		"\x1b(Bafter a character set": "after a character set",
		"\x1b]0;title\x07x":           "x",
		"\x1b]0;title\x1b\\x":         "x",
		"\x1bPq\x1b[Am\x1b\\x":        "x",
		"\x1b[3\nx":                   "<a>x",
		"\x1b[3\x1b[4mx":              "{4m}x",
		"\x1b\x1b[4mx":                "{4m}x",
		"\x1b\nx":                     "<a>x",
		"\x1b[" + strings.Repeat("1;", 40) + "mx": "x",
		"\x9b31mnot begun\x9dnor this":            "\x9b31mnot begun\x9dnor this",
		"\x1b[3\x80x":                             "x",
		"\x1b7x\x1b8":                             "x",
	} {
		assert.Equal(t, want, scanned(in), "%q", in)
	}
}

// Whatever came, a bell ends it, and what comes then is text again.
func FuzzScanner(f *testing.F) {
	f.Add([]byte("\x1b]0;title\x1b[3"))
	f.Fuzz(func(t *testing.T, data []byte) {
		var s Scanner
		for _, c := range data {
			if s.Put(c) == Sequence && (c < 0x40 || c > 0x7e || len(s.Params()) > MostParams) {
				t.Fatalf("%q is no end of a sequence with %q", c, s.Params())
			}
		}
		s.Put(7)
		assert.Equal(t, Text, s.Put('x'))
	})
}
