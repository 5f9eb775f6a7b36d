package lines

import (
	"slices"
	"strings"
)

// echo follows how a device says back a line of ours while it arrives. A line
// editor may wrap a long line, draw it again or scroll it sideways: what it
// draws comes in fragments, and the line has arrived when the fragments cover
// all of it and nothing else was drawn.
type echo struct {
	line    string // as it should be shown
	prompt  string // what it is drawn behind
	state   echoState
	term    terminal
	frag    []byte
	covered int  // bytes of the line that fragments have covered
	at      int  // where in the line the next one is drawn
	wrapped bool // the last one filled its row
	typed   int  // bytes of the line that were sent so far
	rows    int  // rows that were ended
	strict  bool
}

type echoState byte

const (
	echoPending echoState = iota
	echoSame              // all of the line came back, and its row was ended
	echoOther             // something else did
)

// newEcho expects a line. Strict is for devices that are known to echo: where
// something else comes first, the line may still follow on a row of its own.
func newEcho(line, prompt string, strict bool) *echo {
	line = strings.TrimRight(line, " ")
	return &echo{line: line, prompt: prompt, strict: strict, typed: len(line)}
}

// put takes in a byte and tells whether the echo ended with it.
func (e *echo) put(c byte) bool {
	ev := e.term.put(c)
	if ev == char {
		if len(e.frag) < maxCur {
			e.frag = append(e.frag, c)
		}
		return false
	}
	if ev != nothing {
		e.fragment()
	}
	switch ev {
	case back:
		e.at = max(e.at-1, 0)
	case start:
		if !e.wrapped {
			e.at = somewhere
		}
	case control:
		if c == 'K' || c == 'J' { // erases what stands behind, and moves nothing
			e.erase()
		} else {
			e.at = somewhere
		}
	case feed:
		e.rows++
		e.at = e.covered
		if e.state == echoPending && e.covered == len(e.line) {
			e.state = echoSame
			return true
		}
	}
	return false
}

// somewhere is a place in the line that is not known.
const somewhere = -1

// fragment takes what was drawn since the last jump.
func (e *echo) fragment() {
	f := string(e.frag)
	e.frag, e.wrapped = e.frag[:0], false
	if f == "" || e.state == echoSame {
		return
	}
	if e.state == echoOther {
		// Something was printed in between; now it is drawn again, in full.
		if e.strict && (f == e.line || f == e.prompt+e.line) {
			e.state, e.covered = echoPending, len(e.line)
		}
		return
	}
	rest, again := strings.CutPrefix(f, e.prompt)
	if again && rest == "" {
		e.at, e.covered = 0, 0
		return
	}
	if again && e.drawn(rest, []int{0}, true) || !again && e.drawn(f, e.places(), false) || e.scrolled(rest) {
		return
	}
	if strings.Trim(f, " ") == "" && e.at != somewhere { // written over
		e.erase()
		e.at += len(f)
		return
	}
	e.state = echoOther
}

// shown is how much of the line has come back so far, with what is being drawn.
func (e *echo) shown() int {
	now := *e
	now.frag = slices.Clone(e.frag)
	now.fragment()
	return now.covered
}

// erase takes note that nothing of the line stands behind this place any more.
func (e *echo) erase() {
	if e.at != somewhere {
		e.covered = min(e.covered, e.at)
	}
}

// drawn takes a fragment that stands at one of these places; anew, it is all that
// stands there now. A line editor that wraps puts a blank behind a full row.
func (e *echo) drawn(f string, places []int, anew bool) bool {
	for _, try := range []string{f, strings.TrimRight(f, " "), shownControls(f)} {
		for _, at := range places {
			end, ok := e.drawnAt(try, at)
			if !ok || try == "" {
				continue
			}
			if anew {
				e.covered = 0
			}
			e.covered, e.at = max(e.covered, end), end
			e.wrapped = len(try) < len(f)
			return true
		}
	}
	return false
}

// leastScrolled is the least that a scrolled line must show, in bytes: less
// could stand anywhere.
const leastScrolled = 8

// scrolled takes a fragment in which a line editor marks, by a character of its
// own at the start or the end, that the line goes on out of sight there. Blanks at
// its end may wipe out what stood there.
func (e *echo) scrolled(f string) bool {
	body, before := cutMark(f, true)
	body, after := cutMark(body, false)
	text := strings.TrimRight(body, " ")
	if len(text) < leastScrolled || !before && !after {
		return false
	}
	wiped := len(body) - len(text)
	// It shows up to where we are, as a rule.
	places := []int{len(strings.TrimRight(e.line[:e.typed], " ")) - len(text)}
	for at := range e.covered + 1 {
		places = append(places, at)
	}
	for _, at := range places {
		if at < 0 || at > e.covered {
			continue
		}
		end, ok := e.drawnAt(text, at)
		if ok && (at > 0) == before && (!after || end < len(e.line)) {
			blanks := len(e.line[end:]) - len(strings.TrimLeft(e.line[end:], " "))
			e.covered, e.at = max(e.covered, end+min(blanks, wiped)), end+wiped
			return true
		}
	}
	return false
}

// cutMark takes the mark off one end of a fragment.
func cutMark(f string, front bool) (string, bool) {
	for _, mark := range []string{"<", ">", "$", "*", "+", "\u00ab", "\u00bb", "\u2026"} {
		rest, ok := strings.CutSuffix(f, mark)
		if front {
			rest, ok = strings.CutPrefix(f, mark)
		}
		if ok {
			return rest, true
		}
	}
	return f, false
}

// places are where a fragment may stand: where the last one ended, or, after a
// jump to somewhere, so that it shows as little more as can be. Text that repeats
// itself is never taken for more than it must be.
func (e *echo) places() (out []int) {
	if e.at != somewhere {
		return []int{e.at}
	}
	for at := 0; at <= e.covered; at++ {
		out = append(out, at)
	}
	return out
}

// drawnAt tells whether a fragment is what stands in the line at a place, and
// where it ends. A tab may be drawn as blanks.
func (e *echo) drawnAt(f string, at int) (int, bool) {
	i := at
	for j := 0; j < len(f); i++ {
		switch {
		case i >= len(e.line):
			return i, strings.Trim(f[j:], " ") == ""
		case f[j] == e.line[i]:
			j++
		case e.line[i] == '\t' && f[j] == ' ':
			blanks := len(f[j:]) - len(strings.TrimLeft(f[j:], " "))
			j += min(blanks, 8)
		default:
			return 0, false
		}
	}
	return i, true
}

// shownControls reads ^I and its like as the characters they stand for.
func shownControls(f string) string { return strings.ReplaceAll(f, "^I", "\t") }
