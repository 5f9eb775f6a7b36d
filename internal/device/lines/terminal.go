package lines

import "metabasis/internal/device/escape"

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
type terminal struct{ scan escape.Scanner }

func (t *terminal) put(c byte) event {
	switch t.scan.Put(c) {
	case escape.Text:
		return char
	case escape.Sequence:
		if c != 'm' { // colours move nothing
			return control
		}
	case escape.Control:
		switch c {
		case '\n':
			return feed
		case '\r':
			return start
		case '\b':
			return back
		case '\t':
			return char
		}
	}
	return nothing
}
