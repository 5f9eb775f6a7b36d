package lines

import (
	"context"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/synctest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// heardIn feeds what a device draws to an echo.
func heardIn(line, prompt, drawn string, strict bool) echoState {
	e := newEcho(line, prompt, strict)
	for i := range len(drawn) {
		if e.put(drawn[i]) {
			break
		}
	}
	if e.state == echoPending && e.rows > 0 {
		return echoOther
	}
	return e.state
}

func TestEcho(t *testing.T) {
	const prompt = "[x edit] "
	const long = "banner Marrow Sound Ferries, crew only, all sessions are kept on file"
	for _, c := range []struct {
		what, line, drawn string
		want              echoState
	}{
		{"as it is", "log host 192.0.2.1", "log host 192.0.2.1\r\n", echoSame},
		{"blanks at the end", "log host 192.0.2.1  ", "log host 192.0.2.1  \r\n", echoSame},
		{"a character is missing", "^65001_.?$", "^65001_.$\r\n", echoOther},
		{"the last one is missing", "label a?", "label a\r\nset refuse\r\n", echoOther},
		{"one too many", "log host 192.0.2.1", "log host 192.0.2.11\r\n", echoOther},
		{"expanded", "lo ho 192.0.2.1", "lo ho 192.0.2.1\b\b\blog host\r\n", echoOther},
		{"help in between, then drawn without the key", "label a?b", "label a\r\n  TEXT  a label\r\n[x edit] label ab\r\n", echoOther},
		{"a message in between, then drawn in full", "label ab", "label\r\nport 3 is up\r\n[x edit] label ab\r\n", echoSame},
		{"nothing", "label ab", "", echoPending},
		{"wrapped by a new line", long, long[:31] + "\r\n" + long[31:] + "\r\n", echoSame},
		{"wrapped as some libraries do", long, long[:31] + " \r" + long[31:] + "\r\n", echoSame},
		{"wrapped, a character lost", long, long[:31] + "\r\n" + long[32:] + "\r\n", echoOther},
		{"drawn again from the start", "label ab", "label a\r\x1b[K[x edit] label ab\r\n", echoSame},
		{"scrolled sideways", long, long[:31] + "\r[x edit] <" + long[20:50] + "\r[x edit] <" + long[40:] + "\r\n", echoSame},
		{"scrolled, and a character lost", long, long[:31] + "\r[x edit] <" + long[20:50] + "\r[x edit] <" + long[51:] + "\r\n", echoOther},
		{"a tab as blanks", "label\ta", "label   a\r\n", echoSame},
		{"a tab as ^I", "label\ta", "label^Ia\r\n", echoSame},
		{"a tab lost", "label\ta", "labela\r\n", echoOther},
		{"a character taken back", "label ab", "label abc\b \b\r\n", echoOther},
		{"the last one taken back", "label ab", "label ab\b \b\r\n", echoOther},
		{"a blank behind the end", "label ab", "label ab \b\r\n", echoSame},
		{"erased", "label ab", "label ab\b\x1b[K\r\n", echoOther},
		{"in colour", "label ab", "\x1b[1mlabel\x1b[0m ab\r\n", echoSame},
	} {
		assert.Equal(t, c.want, heardIn(c.line, prompt, c.drawn, true), c.what)
	}
}

// However a line editor draws a line, it is known; and whatever it takes out of it,
// puts into it or changes in it is never taken for it.
func TestEchoHoweverDrawn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		line := rapid.StringMatching(`[a-c ]{0,3}[a-c]{1,40}`).Draw(t, "line")
		prompt := rapid.SampledFrom([]string{"> ", "[x edit] "}).Draw(t, "prompt")
		shown := line
		if i := rapid.IntRange(0, len(line)-1).Draw(t, "at"); rapid.Bool().Draw(t, "altered") {
			switch rapid.IntRange(0, 2).Draw(t, "how") {
			case 0:
				shown = line[:i] + line[i+1:]
			case 1:
				shown = line[:i] + "z" + line[i:]
			case 2:
				shown = line[:i] + "z" + line[i+1:]
			}
		}
		want := echoSame
		if strings.TrimRight(shown, " ") != line {
			want = echoOther
		}
		width := rapid.IntRange(4, 30).Draw(t, "width")
		drawn := drawers[rapid.SampledFrom([]string{"plain", "wrapped", "columns", "again"}).Draw(t, "drawn")](shown, prompt, width) + "\r\n"
		if got := heardIn(line, prompt, drawn, true); got != want && !(want == echoOther && got == echoPending) {
			t.Fatalf("%q sent, %q drawn: %v, wanted %v", line, drawn, got, want)
		}
	})
}

// drawers are ways in which line editors draw a line that is longer than a row.
var drawers = map[string]func(line, prompt string, width int) string{
	"plain": func(line, _ string, _ int) string { return line },
	"wrapped": func(line, prompt string, width int) string {
		var b strings.Builder
		for i := range len(line) {
			if i > 0 && i%width == 0 {
				b.WriteString("\r\n")
			}
			b.WriteByte(line[i])
		}
		return b.String()
	},
	"columns": func(line, prompt string, width int) string {
		var b strings.Builder
		for i := range len(line) {
			b.WriteByte(line[i])
			if (i+1)%width == 0 && i < len(line)-1 {
				b.WriteString(" \r")
			}
		}
		return b.String()
	},
	"again": func(line, prompt string, width int) string {
		n := min(width, len(line))
		return line[:n] + "\r\x1b[K" + prompt + line
	},
}

// A device that has said a line back once says every line back; one that then
// draws something else has not been sent what we meant.
func TestWhatIsSaidBackIsWhatWasSent(t *testing.T) {
	for _, echo := range []string{"", profile.EchoYes, profile.EchoNo} {
		synctest.Test(t, func(t *testing.T) {
			conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
				fmt.Fprintf(out, "%s\r\n[x look] ", strings.ReplaceAll(line, "?", ""))
			})
			defer end()
			p := unprivileged(t)
			p.Connect.Echo, p.Config.Edit = echo, "look"
			if echo == profile.EchoNo {
				p.Pager.Off.Send = "" // what is said back would be taken for an answer
			}
			s, err := Start(context.Background(), p, conn, profile.Options{Log: &keeper{}})
			require.NoError(t, err)
			defer s.Close()
			require.NoError(t, s.Line(context.Background(), "label ab"))
			err = s.Line(context.Background(), "label a?b")
			if echo == profile.EchoNo {
				require.NoError(t, err)
				return
			}
			var unclear *driver.Unclear
			require.ErrorAs(t, err, &unclear)
			assert.Contains(t, unclear.Got, `not what was sent: label ab`)
			require.NoError(t, s.Line(context.Background(), "label c"), "the session is of use still")
		})
	}
}

// A line that is not said back at all costs the time of a prompt, and is told.
func TestNothingIsSaidBack(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		conn, end := stage(t, "[x look] ", func(line string, out io.Writer) { io.WriteString(out, "[x look] ") })
		defer end()
		p := unprivileged(t)
		p.Connect.Echo, p.Pager.Off.Send, p.Config.Edit = profile.EchoYes, "", "look"
		s, err := Start(context.Background(), p, conn, profile.Options{Log: &keeper{}})
		require.NoError(t, err)
		defer s.Close()
		assert.ErrorContains(t, s.Line(context.Background(), "label ab"), "not what was sent: nothing")
	})
}

// A secret that came back altered is not shown, nor kept.
func TestAnAlteredSecretIsNotShown(t *testing.T) {
	for what, back := range map[string]string{"altered": "%s\r\n", "drawn again": "login\r\n  secret SECRET\r\n[x look] %s\r\n"} {
		synctest.Test(t, func(t *testing.T) {
			conn, end := stage(t, "[x look] ", func(line string, out io.Writer) {
				if lost := strings.ReplaceAll(line, "?", ""); lost != line {
					fmt.Fprintf(out, back, lost)
				} else {
					fmt.Fprintf(out, "%s\r\n", line)
				}
				io.WriteString(out, "[x look] ")
			})
			defer end()
			p, log := unprivileged(t), &keeper{}
			p.Config.Edit = "look"
			s, err := Start(context.Background(), p, conn, profile.Options{Log: log})
			require.NoError(t, err)
			err = s.Line(context.Background(), "login crew secret s3a?cret")
			require.ErrorContains(t, err, "not what was sent", what)
			assert.NotContains(t, err.Error(), "s3acret", what)
			require.NoError(t, s.Close())
			assert.NotContains(t, log.text(), "s3acret", what)
		})
	}
}
