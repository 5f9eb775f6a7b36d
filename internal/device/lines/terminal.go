package lines

// event is what one byte from a device means to a terminal.
type event byte

const (
	nothing event = iota
	char          // a character to show, or a part of one
	feed          // a new line
	start         // back to the start of the line
	back          // one place back
	control       // a control sequence that moves or erases
)

// terminal tells what the bytes of a device mean, one at a time.
type terminal struct{ state escState }

type escState byte

const (
	plain      escState = iota
	escape              // after ESC
	sequence            // in a CSI sequence (ECMA-48, 5.4)
	text                // in an OSC, DCS, APC or PM string, which ST or BEL ends
	textEscape          // after ESC inside such a string
)

func (t *terminal) put(c byte) event {
	switch t.state {
	case escape:
		switch c {
		case '[':
			t.state = sequence
		case ']', 'P', '_', '^', 'X':
			t.state = text
		default:
			t.state = plain
		}
		return nothing
	case sequence:
		if c >= 0x40 && c <= 0x7e {
			t.state = plain
			if c != 'm' { // colours move nothing
				return control
			}
		}
		return nothing
	case text, textEscape:
		switch {
		case c == 7, t.state == textEscape && c == '\\':
			t.state = plain
		case c == 0x1b:
			t.state = textEscape
		default:
			t.state = text
		}
		return nothing
	}
	switch {
	case c == 0x1b:
		t.state = escape
	case c == '\n':
		return feed
	case c == '\r':
		return start
	case c == '\b':
		return back
	case c == '\t' || c >= ' ' && c != 127:
		return char
	}
	return nothing
}
