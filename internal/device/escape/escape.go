// Package escape tells what the bytes of a device mean to a terminal, one at a time: what is
// text, what is a control character, and what belongs to a control sequence (ECMA-48, sections 5
// and 8.3.16). It is the one place that knows; what is done about it is up to who reads.
//
// Only sequences that begin with ESC are known. A byte from 0x80 on is always text: it is a part
// of a character in UTF-8, or one of an older encoding, and were it taken for the beginning of a
// control string, what comes behind it, the prompt too, would be gone.
package escape

// Meaning is what a byte is.
type Meaning byte

// What a byte may be.
const (
	Nothing  Meaning = iota // a part of a sequence that is not complete, or of one that means nothing
	Text                    // a character to show, or a part of one
	Control                 // a control character (C0, and DEL)
	Sequence                // the end of a control sequence; see [Scanner.Params]
)

// MostParams is how many bytes of parameters a control sequence may have; one with more means
// nothing.
const MostParams = 24

// Scanner takes bytes in, in order. The zero value is at the beginning.
type Scanner struct {
	state  state
	params []byte
}

type state byte

const (
	plain     state = iota
	escape          // after ESC
	sequence        // in a control sequence
	str             // in a control string, which ST or BEL ends
	strEscape       // after ESC in a control string
)

// Put takes a byte in.
func (s *Scanner) Put(c byte) Meaning {
	switch s.state {
	case escape:
		return s.escaped(c)
	case sequence:
		return s.sequence(c)
	case str, strEscape:
		switch {
		case c == 7, s.state == strEscape && c == '\\':
			s.state = plain
		case c == 0x1b:
			s.state = strEscape
		default:
			s.state = str
		}
		return Nothing
	}
	switch {
	case c == 0x1b:
		s.state = escape
		return Nothing
	case c < ' ', c == 127:
		return Control
	}
	return Text
}

// escaped takes in what comes behind ESC.
func (s *Scanner) escaped(c byte) Meaning {
	switch {
	case c == '[':
		s.state, s.params = sequence, s.params[:0]
	case c == ']', c == 'P', c == '_', c == '^', c == 'X':
		s.state = str
	case c == 0x1b, c >= 0x20 && c < 0x30: // begun anew; or an intermediate byte: one more follows
	case c < ' ': // what was begun is no sequence
		s.state = plain
		return Control
	default:
		s.state = plain
	}
	return Nothing
}

// sequence takes in what belongs to a control sequence.
func (s *Scanner) sequence(c byte) Meaning {
	switch {
	case c == 0x1b:
		s.state = escape
	case c < ' ': // it is cut off by that
		s.state = plain
		return Control
	case c > 0x7e:
		s.state = plain
	case c >= 0x40:
		s.state = plain
		if len(s.params) <= MostParams {
			return Sequence
		}
	case len(s.params) <= MostParams:
		s.params = append(s.params, c)
	}
	return Nothing
}

// Params are the parameters and intermediate bytes of the sequence that has just ended. They are
// good until the next byte is taken in.
func (s *Scanner) Params() []byte { return s.params }
