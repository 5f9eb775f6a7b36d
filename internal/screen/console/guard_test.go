package console

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func never(line string) bool { return strings.HasPrefix(line, "restart now") }

// asks is what the person is asked, in a wide window.
func asks(g *guard) string {
	text, keys := g.asks(160)
	return text + keys
}

// The end of a line that is never sent is held back until a reason was given, whether it was typed,
// called up again, or completed by the device; other lines go to the device as they are typed.
func TestALineThatIsNeverSentWantsAReason(t *testing.T) { synctest.Test(t, aReasonIsWanted) }

func aReasonIsWanted(t *testing.T) {
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
		assert.NotEmpty(t, asks(g), name)
		assert.False(t, strings.HasSuffix(strings.TrimRight(string(sent), "\r\n"), "show ports"), name)
		assert.False(t, len(sent) > 0 && (sent[len(sent)-1] == '\r' || sent[len(sent)-1] == '\n'), "%s: its end is held back: %q", name, sent)
		time.Sleep(settles)
		for _, too := range []string{"\r", "x\r"} { // too short a reason
			sent, _ = g.typing([]byte(too))
			assert.Empty(t, sent, name)
			assert.NotEmpty(t, asks(g), name)
		}
		sent, remark = g.typing([]byte("the desk wants it\r"))
		assert.Equal(t, "\r", string(sent), name)
		assert.Contains(t, remark, "restart now", name)
		assert.True(t, strings.HasSuffix(remark, "xthe desk wants it"), name)
		assert.Empty(t, asks(g), name)
	}
}

// Esc leaves the line as it stands, and what is typed then goes to the device.
func TestALineThatIsNotSentAfterAll(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := &guard{never: never, least: 3}
		g.typing([]byte("restart now\r"))
		time.Sleep(settles)
		sent, remark := g.typing([]byte("no\x1b"))
		assert.Empty(t, string(sent)+remark)
		sent, _ = g.typing([]byte("\x15show clock\r"))
		assert.Equal(t, "\x15show clock\r", string(sent))
		assert.Empty(t, asks(g))
	})
}

// After Esc the line stands there still: its end is held back once more, and a further Esc leaves it.
func TestALineThatStandsThereStillIsHeldBackAgain(t *testing.T) {
	g := &guard{never: never, least: 3}
	g.typing([]byte("restart now\r"))
	for range 3 {
		g.typing([]byte("\x1b"))
		require.Empty(t, asks(g))
		sent, _ := g.typing([]byte("\r"))
		require.Empty(t, sent)
		require.NotEmpty(t, asks(g))
	}
}

// What is pasted with a line that is never sent is no reason for it, in however many pieces it comes.
func TestWhatIsPastedIsNoReason(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := &guard{never: never, least: 3}
		for i, piece := range []string{"show clock\rrestart now\r", "show ports\r", "show lines\rsave all\r"} {
			sent, remark := g.typing([]byte(piece))
			require.Empty(t, remark, piece)
			if i > 0 {
				require.Empty(t, sent, piece)
				require.Contains(t, asks(g), "nor what was pasted behind it")
			}
			require.NotContains(t, asks(g), "Why", "nothing is asked while it comes in")
			time.Sleep(settles * 2 / 3)
		}
		time.Sleep(settles)
		require.Contains(t, asks(g), "Why all the same? ▏")
		sent, remark := g.typing([]byte("the desk wants it\r"))
		require.Equal(t, "\r", string(sent))
		require.True(t, strings.HasSuffix(remark, ": the desk wants it"), remark)
	})
}

// The end of a long reason is in sight, and so are the keys, in a narrow window, too.
func TestALongReasonIsSeenAtItsEnd(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := &guard{never: never, least: 3}
		g.typing([]byte("restart now and then whatever comes\r"))
		time.Sleep(settles)
		g.typing([]byte(strings.Repeat("because ", 40) + "of the desk"))
		for _, cells := range []int{60, 80, 100, 126, 160} {
			text, keys := g.asks(cells)
			require.Less(t, ansi.StringWidth(text+keys), cells, text)
			require.Contains(t, text, "desk▏")
			require.Contains(t, text, "NOT SENT YET")
			require.Contains(t, keys, "Enter sends it, Esc does not")
		}
	})
}

// A line that only has the words of one that is never sent at its end is another line, as long as it
// was typed as it stands there; where a key called it up or completed it, nobody knows where it begins.
func TestALineThatEndsAsOneThatIsNeverSent(t *testing.T) {
	for typed, held := range map[string]bool{
		"tell restart now\r":        false,
		"tell restart noww\x7f\r":   false,
		"  tell  restart now\r":     false,
		"tell rest\tart now\r":      true,
		"\x1b[Atell restart now\r":  true,
		"t\x15tell restart now\r":   true,
		"tell ports\rrestart now\r": true,
		"re\x15start now\r":         true, // on a device on which Ctrl-U takes nothing away
	} {
		g := &guard{never: never, least: 3}
		g.saw([]byte("ald-quay-1# tell restart now"))
		if strings.HasPrefix(typed, "re\x15") {
			g.saw([]byte("\rald-quay-1# restart now"))
		}
		g.typing([]byte(typed))
		assert.Equal(t, held, asks(g) != "", "%q", typed)
	}
}

// What is none of those is not touched, without a profile nothing is.
func TestOtherLinesAreSentAsTheyAreTyped(t *testing.T) {
	for _, g := range []*guard{{never: never}, {}} {
		for _, keys := range []string{"show restart\r", "\x1b[A\x1b[B\r", "r", "é\r\n", strings.Repeat("x", 5000) + "\r"} {
			sent, remark := g.typing([]byte(keys))
			assert.Equal(t, keys, string(sent))
			assert.Empty(t, remark+asks(g))
		}
	}
}
