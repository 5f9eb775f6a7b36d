package lines

import (
	"strings"
	"unicode/utf8"
)

// printed is what a device printed, as a person would read it: terminal control
// sequences are taken out, a carriage return begins the line anew, a backspace
// takes a character back. It is bounded.
type printed struct {
	lines []string
	cur   []byte // the line that is not complete
	size  int    // bytes taken in since the last reset
	term  terminal
	cr    bool
}

// Bounds on what one command may print.
const (
	maxPrinted = 8 << 20
	maxCur     = 64 << 10
)

// reset forgets what is complete and what is not.
func (p *printed) reset() {
	p.lines, p.cur, p.size, p.cr = nil, p.cur[:0], 0, false
}

// write takes in what arrived. It is false once there is too much.
func (p *printed) write(b []byte) bool {
	p.size += len(b)
	for _, c := range b {
		p.put(c)
	}
	return p.size <= maxPrinted
}

func (p *printed) put(c byte) {
	e := p.term.put(c)
	if e == nothing {
		return
	}
	if p.cr && e != feed && e != start {
		p.cur = p.cur[:0]
	}
	p.cr = e == start
	switch e {
	case feed:
		p.lines = append(p.lines, clean(p.cur))
		p.cur = p.cur[:0]
	case back:
		if len(p.cur) > 0 {
			_, n := utf8.DecodeLastRune(p.cur)
			p.cur = p.cur[:len(p.cur)-n]
		}
	case char:
		if len(p.cur) < maxCur {
			p.cur = append(p.cur, c)
		}
	}
}

// clean makes valid text of a line; what is left of eight-bit control
// characters goes, too.
func clean(b []byte) string {
	s := strings.ToValidUTF8(string(b), "\ufffd")
	return strings.Map(func(r rune) rune {
		if r >= 0x80 && r < 0xa0 {
			return -1
		}
		return r
	}, s)
}
