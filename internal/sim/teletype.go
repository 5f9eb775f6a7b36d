package sim

import (
	"bufio"
	"io"
	"strings"
)

// teletype is the device's side of a session: it prints, and reads what is typed.
type teletype struct {
	in   *bufio.Reader
	out  *bufio.Writer
	over bool // the session has ended
}

func newTeletype(rw io.ReadWriter) teletype {
	return teletype{in: bufio.NewReader(rw), out: bufio.NewWriter(rw)}
}

func (s *teletype) print(text string) {
	if _, err := s.out.WriteString(strings.ReplaceAll(text, "\n", "\r\n")); err != nil {
		s.over = true
	}
}

// readByte waits for the next byte, and shows first what is still unsent.
func (s *teletype) readByte() (byte, bool) {
	if s.in.Buffered() == 0 && s.out.Flush() != nil {
		s.over = true
	}
	c, err := s.in.ReadByte()
	if err != nil {
		s.over = true
	}
	return c, !s.over
}
