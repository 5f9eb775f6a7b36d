package console

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func never(line string) bool { return strings.HasPrefix(line, "restart now") }

// The end of a line that is never sent is held back until a reason was given, whether it was typed,
// called up again, or completed by the device; other lines go to the device as they are typed.
func TestALineThatIsNeverSentWantsAReason(t *testing.T) {
	for name, c := range map[string]struct{ printed, typed string }{
		"typed":                    {"ald-quay-1# ", "restart now\r"},
		"typed with a slip":        {"ald-quay-1# ", "restartt\x7f now\r"},
		"called up again":          {"ald-quay-1# \x1b[A", "\r"},
		"completed by the device":  {"ald-quay-1# restart now", "rest\t\r"},
		"with blanks":              {"", "  restart now  \r"},
		"another was taken away":   {"", "show clock\x15restart now\n"},
		"several lines at once":    {"", "show clock\rrestart now\rshow ports\r"},
		"deep in a mode of a name": {"(config) lan 10 > restart now please", "\r"},
	} {
		g := &guard{never: never, least: 3}
		g.saw([]byte(c.printed))
		if strings.HasSuffix(c.printed, "\x1b[A") {
			g.saw([]byte("restart now"))
		}
		sent, remark := g.typing([]byte(c.typed))
		assert.Empty(t, remark, name)
		assert.NotEmpty(t, g.asks(), name)
		assert.False(t, strings.HasSuffix(strings.TrimRight(string(sent), "\r\n"), "show ports"), name)
		assert.False(t, len(sent) > 0 && (sent[len(sent)-1] == '\r' || sent[len(sent)-1] == '\n'), "%s: its end is held back: %q", name, sent)
		for _, too := range []string{"\r", "x\r"} { // too short a reason
			sent, _ = g.typing([]byte(too))
			assert.Empty(t, sent, name)
			assert.NotEmpty(t, g.asks(), name)
		}
		sent, remark = g.typing([]byte("the desk wants it\r"))
		assert.Equal(t, "\r", string(sent), name)
		assert.Contains(t, remark, "restart now", name)
		assert.True(t, strings.HasSuffix(remark, "xthe desk wants it"), name)
		assert.Empty(t, g.asks(), name)
	}
}

// Esc leaves the line as it stands, and what is typed then goes to the device.
func TestALineThatIsNotSentAfterAll(t *testing.T) {
	g := &guard{never: never, least: 3}
	g.typing([]byte("restart now\r"))
	sent, remark := g.typing([]byte("no\x1b"))
	assert.Empty(t, string(sent)+remark)
	sent, _ = g.typing([]byte("\x15show clock\r"))
	assert.Equal(t, "\x15show clock\r", string(sent))
	assert.Empty(t, g.asks())
}

// What is none of those is not touched, without a profile nothing is.
func TestOtherLinesAreSentAsTheyAreTyped(t *testing.T) {
	for _, g := range []*guard{{never: never}, {}} {
		for _, keys := range []string{"show restart\r", "\x1b[A\x1b[B\r", "r", "é\r\n", strings.Repeat("x", 5000) + "\r"} {
			sent, remark := g.typing([]byte(keys))
			assert.Equal(t, keys, string(sent))
			assert.Empty(t, remark+g.asks())
		}
	}
}
