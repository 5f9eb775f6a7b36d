package console

import (
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

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

	held   string // the line whose end is held back; "" where none is
	reason []rune

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
			g.held, g.reason = line, nil
			return b[:i], ""
		}
		g.typed = nil
	}
	return b, ""
}

// take takes in a byte of a line.
func (g *guard) take(c byte) {
	switch {
	case c == 0x7f || c == '\b':
		g.typed = g.typed[:max(len(g.typed)-1, 0)]
	case c == 0x15 || c == 0x03: // the line was taken away
		g.typed = nil
	case c >= ' ' && len(g.typed) < longestLine:
		g.typed = append(g.typed, rune(c))
	}
}

// neverSent is the line that stands there, where it is one that is never sent; else "".
func (g *guard) neverSent() string {
	if g.never == nil {
		return ""
	}
	if line := strings.TrimSpace(string(g.typed)); line != "" && g.never(line) {
		return line
	}
	g.mu.Lock()
	words := strings.Fields(string(g.printed))
	g.mu.Unlock()
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
	for len(b) > 0 {
		r, n := utf8.DecodeRune(b)
		b = b[n:]
		switch {
		case r == 0x1b || r == 0x03:
			g.held, g.typed = "", nil
			return nil, ""
		case r == 0x7f || r == '\b':
			g.reason = g.reason[:max(len(g.reason)-1, 0)]
		case r == '\r' || r == '\n':
			why := strings.TrimSpace(string(g.reason))
			if len(why) < g.least {
				continue
			}
			line := g.held
			g.held, g.typed = "", nil
			return []byte("\r"), line + ", which its profile never has sent, was typed all the same: " + why
		case !unicode.IsControl(r) && len(g.reason) < longestLine:
			g.reason = append(g.reason, r)
		}
	}
	return nil, ""
}

// asks is what the person is asked now; "" for nothing.
func (g *guard) asks() string {
	if g.held == "" {
		return ""
	}
	return " " + g.held + ": its profile never has that sent. NOT SENT YET. Why all the same? " + string(slices.Clone(g.reason)) + "▏  Enter sends it, Esc does not "
}
