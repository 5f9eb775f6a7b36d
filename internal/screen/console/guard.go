package console

import (
	"bytes"
	"strings"
	"sync"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"

	"metabasis/internal/device/escape"
)

// What a profile says no runbook may ever send, such as an immediate restart, a person may type, for a
// reason: the line stands there, and its end is not sent before the reason was given. What stands in
// the line is known by what was typed, and by what the device has printed back: a line that was
// called up again, or completed by the device, is seen, too.

// guard holds back the end of a line that is never sent.
type guard struct {
	never func(line string) bool
	least int // the shortest reason that says something, in bytes

	typed []rune // since the last end of a line, as far as it was typed as text
	other bool   // something else was: a key that completes a line, or calls one up again

	held    string // the line whose end is held back; "" where none is
	reason  []rune
	quiet   time.Time // until then what comes was pasted with that line, and is no reason
	dropped bool      // something was

	mu      sync.Mutex
	scan    escape.Scanner
	printed []byte // the line that the device has printed last
}

// saw takes in what the device has printed.
func (g *guard) saw(b []byte) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for _, c := range b {
		switch m := g.scan.Put(c); {
		case c == '\n', c == '\r':
			g.printed = g.printed[:0]
		case c == '\b':
			g.printed = g.printed[:max(len(g.printed)-1, 0)]
		case m == escape.Text && c >= ' ' && len(g.printed) < longestLine:
			g.printed = append(g.printed, c)
		}
	}
}

// longestLine bounds what is kept of a line.
const longestLine = 2000

// typing takes in what a person types, and returns what of it goes to the device. What stands behind
// the end of a line that is held back does not.
func (g *guard) typing(b []byte) (send []byte, remark string) {
	if g.held != "" {
		return g.giving(b)
	}
	for i, c := range b {
		if c != '\r' && c != '\n' {
			g.take(c)
			continue
		}
		if line := g.neverSent(); line != "" {
			g.held, g.reason, g.dropped = line, nil, false
			g.drop(b[i+1:])
			return b[:i], ""
		}
		g.typed, g.other = nil, false
	}
	return b, ""
}

// settles is how long nothing may have come behind the end of a line that is held back, before a reason
// is asked for: what is pasted comes in pieces, and one of them would be the reason, and its end the
// Enter that gives it.
const settles = 300 * time.Millisecond

// drop passes over what came with the line that is held back.
func (g *guard) drop(b []byte) {
	g.quiet = time.Now().Add(settles)
	g.dropped = g.dropped || len(bytes.Trim(b, "\r\n")) > 0
}

// settled tells whether a reason is asked for by now.
func (g *guard) settled() bool { return !time.Now().Before(g.quiet) }

// take takes in a byte of a line.
func (g *guard) take(c byte) {
	switch {
	case c == 0x7f || c == '\b':
		g.typed = g.typed[:max(len(g.typed)-1, 0)]
	case c == 0x15 || c == 0x03: // the line was taken away
		g.typed, g.other = nil, true
	case c >= ' ' && len(g.typed) < longestLine:
		g.typed = append(g.typed, rune(c))
	default:
		g.other = true
	}
}

// neverSent is the line that stands there, where it is one that is never sent; else "".
func (g *guard) neverSent() string {
	if g.never == nil {
		return ""
	}
	typed := strings.TrimSpace(string(g.typed))
	if typed != "" && g.never(typed) {
		return typed
	}
	g.mu.Lock()
	words := strings.Fields(string(g.printed))
	g.mu.Unlock()
	if line := strings.Join(words, " "); typed != "" && !g.other && strings.HasSuffix(line, strings.Join(strings.Fields(typed), " ")) {
		return "" // nothing but that was typed, and it stands there: "tell restart" restarts nothing
	}
	for i := range words { // behind the prompt, however long that is
		if line := strings.Join(words[i:], " "); g.never(line) {
			return line
		}
	}
	return ""
}

// giving takes in the reason for a line that is held back: Enter gives it, and Esc or Ctrl-C leaves
// the line as it stands.
func (g *guard) giving(b []byte) (send []byte, remark string) {
	if away := len(b) == 1 && (b[0] == 0x1b || b[0] == 0x03); !away && !g.settled() {
		g.drop(b)
		return nil, ""
	}
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		b = b[n:]
		switch {
		case r == 0x1b || r == 0x03: // the line stands there still, and its end is held back again
			g.held = ""
			return nil, ""
		case r == 0x7f || r == '\b':
			g.reason = g.reason[:max(len(g.reason)-1, 0)]
		case r == '\r' || r == '\n':
			why := strings.TrimSpace(string(g.reason))
			if len(why) < g.least {
				continue
			}
			line := g.held
			g.held, g.typed, g.other = "", nil, false
			return []byte("\r"), line + ", which its profile never has sent, was typed all the same: " + why
		case !unicode.IsControl(r) && len(g.reason) < longestLine:
			g.reason = append(g.reason, r)
		}
	}
	return nil, ""
}

// asks is what the person is asked now, in so many cells: what is held back and the reason so far, and
// the keys; "" for nothing. Of a long reason its end is seen.
func (g *guard) asks(cells int) (text, keys string) {
	if g.held == "" {
		return "", ""
	}
	lead, keys := " "+g.held+": its profile never has that sent. NOT SENT YET", "Enter sends it, Esc does not "
	if cells < ansi.StringWidth(lead)+76 {
		lead = " NOT SENT YET: " + ansi.Truncate(g.held, 24, "…")
	}
	if g.dropped {
		lead += ", nor what was pasted behind it"
	}
	if !g.settled() {
		return lead + ".", "Esc leaves it "
	}
	if lead += ". Why all the same? "; cells < ansi.StringWidth(lead+keys)+16 {
		lead = " NOT SENT YET. Why? "
	}
	reason, most := string(g.reason), max(cells-ansi.StringWidth(lead+keys)-3, 1)
	if over := ansi.StringWidth(reason) - most; over > 0 {
		reason = ansi.TruncateLeft(reason, over+1, "…")
	}
	return lead + reason + "▏", keys
}
