package docs

import (
	"bufio"
	"context"
	"io"
	"net"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim/pipe"
)

// heron plays the device that docs/profiles.md teaches: it answers as the
// session shown there.
func heron(c net.Conn) {
	defer c.Close()
	mode, back := "view", false
	say := func(text string) { io.WriteString(c, text) }
	say("Tide gauge of Alder Quay.\r\ngauge-1 view: ")
	in := bufio.NewScanner(c)
	for in.Scan() {
		line := in.Text()
		said := "?? " + strings.TrimPrefix(line, "what ") + "\r\n"
		switch line {
		case "what":
			said = "config, kept, time, back\r\n"
		case "what config", "what kept":
			said = "gauge every 60 s\r\nword of crew is s3cret-tide\r\n"
		case "what time":
			said = "time is 2026-12-02T01:34:12Z from 192.0.2.40\r\n"
		case "screen endless":
			said = ""
		case "alter":
			mode, said = "alter", ""
		case "enough":
			mode, said = "view", ""
		case "keep":
			said = "Kept.\r\n"
		case "when back":
			if said = "Not going back.\r\n"; back {
				said = "Will go back at 02:10:00 (600 s left)\r\n"
			}
		case "go back in 600":
			back, said = true, "Will go back at 02:10:00 (600 s left)\r\n"
		case "stay":
			back, said = false, "Staying.\r\n"
		case "bye":
			return
		}
		say(line + "\r\n" + said + "gauge-1 " + mode + ": ")
	}
}

func dialHeron(t *testing.T) net.Conn {
	c, device := pipe.New(64 << 10)
	go heron(device)
	return c
}

type nowhere struct{}

func (nowhere) Sent(string, string) {}
func (nowhere) Got([]string)        {}
func (nowhere) Note(string)         {}

// The profiles that docs/profiles.md makes work on the device it shows, line by
// line, with and without changing anything.
func TestTheProfileMadeFromNothing(t *testing.T) {
	for _, kind := range []string{"yaml-start", "yaml-profile"} {
		for _, text := range blocks(t, "docs/profiles.md", kind) {
			p, err := profile.Load("heron.yaml", []byte(text))
			require.NoError(t, err)
			for _, change := range []bool{false, true} {
				n := lines.Try(context.Background(), p, dialHeron(t), profile.Options{Log: nowhere{}}, change, func(f lines.Finding) {
					assert.Empty(t, f.Not, "%s: %v", f.Line, f.Got)
					assert.NotContains(t, strings.Join(f.Got, " "), map[bool]string{true: "s3cret-tide", false: "no such"}[kind == "yaml-profile"])
				})
				assert.Zero(t, n)
			}
			if kind == "yaml-profile" {
				assert.Len(t, p.Lacks(), 3, "nothing is missing but a way to restore, to call off a line, and a language")
			}
		}
	}
}

// The session shown is one that the device really has.
func TestTheSessionShown(t *testing.T) {
	for _, text := range blocks(t, "docs/profiles.md", "text-session") {
		c := dialHeron(t)
		var typed []string
		for line := range strings.Lines(text) {
			if _, sent, ok := strings.Cut(strings.TrimSpace(line), ": "); ok && strings.HasPrefix(line, "gauge-1") {
				typed = append(typed, sent)
			}
		}
		for _, l := range append(typed, "bye") {
			_, err := io.WriteString(c, l+"\n")
			require.NoError(t, err)
		}
		got, err := io.ReadAll(c)
		require.NoError(t, err)
		plain := strings.ReplaceAll(string(got), "\r", "")
		assert.Contains(t, plain, strings.TrimSpace(text))
	}
}
