// Package console lets a person work a device by hand in the terminal.
//
// What a device prints is untrusted: of the control sequences it sends, only
// those pass that move the cursor, clear and colour. Whatever could change the
// terminal's title or modes, or make it answer, is dropped (ECMA-48).
package console

import (
	"bytes"

	"metabasis/internal/core/textfile"
	"metabasis/internal/device/escape"
)

// filter takes dangerous control sequences out of a stream.
type filter struct {
	scan escape.Scanner
	rune []byte // what has come of a character
	utf  int    // bytes of it that are still to come
	kept []byte // what may be the beginning of a sign that turns text, until the rest is there
}

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
	m := f.scan.Put(c)
	if m != escape.Text {
		f.utf = 0
	}
	switch m {
	case escape.Text:
		return f.text(out, c)
	case escape.Sequence:
		if f.harmless(c) {
			out = append(append(append(out, 0x1b, '['), f.scan.Params()...), c)
		}
	case escape.Control:
		if bytes.IndexByte([]byte("\r\n\b\t\a"), c) >= 0 {
			out = append(out, c)
		}
	}
	return out
}

// text takes in a byte of a character. What is no UTF-8 (RFC 3629) is dropped, and so are the
// control characters of eight bits.
func (f *filter) text(out []byte, c byte) []byte {
	switch {
	case c < 0x80:
		f.utf = 0
		return append(out, c)
	case c >= 0xc2 && c < 0xf5:
		f.utf, f.rune = runeLen(c)-1, append(f.rune[:0], c)
		return out
	case c < 0xc0 && f.utf > 0:
		f.utf--
		if f.rune = append(f.rune, c); f.utf > 0 {
			return out
		}
		if len(f.rune) == 2 && f.rune[0] == 0xc2 && f.rune[1] < 0xa0 { // an eight-bit control character
			return out
		}
		return append(out, f.rune...)
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

func (f *filter) harmless(final byte) bool {
	params := f.scan.Params()
	if final == 'h' || final == 'l' {
		return string(params) == "?25" // the cursor shown or hidden
	}
	for _, c := range params {
		if (c < '0' || c > '9') && c != ';' {
			return false
		}
	}
	return bytes.IndexByte([]byte(harmlessFinals), final) >= 0
}
