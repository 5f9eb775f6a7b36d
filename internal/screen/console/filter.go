// Package console lets a person work a device by hand in the terminal.
//
// What a device prints is untrusted: of the control sequences it sends, only
// those pass that move the cursor, clear and colour. Whatever could change the
// terminal's title or modes, or make it answer, is dropped (ECMA-48).
package console

import (
	"bytes"
	"metabasis/internal/core/textfile"
)

// filter takes dangerous control sequences out of a stream.
type filter struct {
	state state
	seq   []byte
	utf   int    // bytes that belong to the rune begun
	kept  []byte // what may be the beginning of a sign that turns text, until the rest is there
}

type state byte

const (
	plain  state = iota
	escape       // after ESC
	csi          // in a control sequence
	str          // in a control string, which ST or BEL ends
	strEsc       // after ESC in a control string
)

// maxSeq bounds a control sequence; a longer one is dropped.
const maxSeq = 24

// harmlessFinals are the final bytes of control sequences that only move the
// cursor, clear, insert, delete or colour.
const harmlessFinals = "ABCDEFGHJKLMPX@dfm"

// pass returns what of b the terminal may see.
func (f *filter) pass(b []byte) []byte {
	out := append(make([]byte, 0, len(b)+len(f.kept)), f.kept...)
	for _, c := range b {
		out = f.put(out, c)
	}
	n := textfile.Turning(out)
	f.kept = append(f.kept[:0], out[len(out)-n:]...)
	return []byte(textfile.Straight(string(out[:len(out)-n])))
}

func (f *filter) put(out []byte, c byte) []byte {
	switch f.state {
	case escape:
		switch {
		case c == '[':
			f.state, f.seq = csi, f.seq[:0]
		case bytes.IndexByte([]byte("]P_^X"), c) >= 0:
			f.state = str
		case c >= 0x20 && c < 0x30: // an intermediate byte: one more follows
		default:
			f.state = plain
		}
		return out
	case csi:
		return f.sequence(out, c)
	case str, strEsc:
		switch {
		case c == 7, f.state == strEsc && c == '\\':
			f.state = plain
		case c == 0x1b:
			f.state = strEsc
		default:
			f.state = str
		}
		return out
	}
	switch {
	case c == 0x1b:
		f.state = escape
		return out
	case c == '\r', c == '\n', c == '\b', c == '\t', c == 7, c >= ' ' && c < 127:
		f.utf = 0
		return append(out, c)
	case c >= 0xc2 && c < 0xf5:
		f.utf, f.seq = runeLen(c)-1, append(f.seq[:0], c)
		return out
	case c >= 0x80 && c < 0xc0 && f.utf > 0:
		f.utf--
		if f.seq = append(f.seq, c); f.utf > 0 {
			return out
		}
		if len(f.seq) == 2 && f.seq[0] == 0xc2 && f.seq[1] < 0xa0 { // an eight-bit control character
			return out
		}
		return append(out, f.seq...)
	}
	f.utf = 0
	return out
}

func runeLen(c byte) int {
	switch {
	case c < 0xe0:
		return 2
	case c < 0xf0:
		return 3
	}
	return 4
}

func (f *filter) sequence(out []byte, c byte) []byte {
	switch {
	case c == 0x1b:
		f.state = escape
	case c < 0x20 || c > 0x7e: // not part of any: it ends here
		f.state = plain
	case c < 0x40:
		if len(f.seq) <= maxSeq {
			f.seq = append(f.seq, c)
		}
	default:
		f.state = plain
		if len(f.seq) <= maxSeq && f.harmless(c) {
			out = append(out, 0x1b, '[')
			out = append(out, f.seq...)
			out = append(out, c)
		}
	}
	return out
}

func (f *filter) harmless(final byte) bool {
	if final == 'h' || final == 'l' {
		return string(f.seq) == "?25" // the cursor shown or hidden
	}
	for _, c := range f.seq {
		if (c < '0' || c > '9') && c != ';' {
			return false
		}
	}
	return bytes.IndexByte([]byte(harmlessFinals), final) >= 0
}
