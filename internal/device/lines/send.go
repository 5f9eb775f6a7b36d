package lines

import (
	"fmt"
	"io"
	"slices"
	"time"
)

// write sends text. A device that takes none of it for as long as a prompt may
// take is given up: whoever does not read must not keep us.
func (s *Session) write(text string) error { return s.writeWithin(text, s.p.Connect.Prompt) }

func (s *Session) writeWithin(text string, within time.Duration) error {
	stuck := time.AfterFunc(within, func() { _ = s.rw.Close() })
	_, err := io.WriteString(s.rw, text)
	switch {
	case !stuck.Stop():
		return fmt.Errorf("it takes no more of what we send for %s", within)
	case err != nil:
		return fmt.Errorf("the session ended: %w", err)
	}
	return nil
}

// pour sends a long text, and takes in meanwhile what the device echoes: if
// nobody did, it would at last stop reading, too.
func (s *Session) pour(text string) error {
	sent := make(chan error, 1)
	go func() {
		for chunk := range slices.Chunk([]byte(text), 4<<10) {
			if err := s.write(string(chunk)); err != nil {
				sent <- err
				return
			}
		}
		sent <- nil
	}()
	for {
		select {
		case err := <-sent:
			return err
		case b, open := <-s.chunks:
			if open && s.out.write(b) {
				continue
			}
			_ = s.rw.Close() // nothing more is sent
			<-sent
			if open {
				return fmt.Errorf("it printed more than %d MB", maxPrinted>>20)
			}
			return fmt.Errorf("the session ended: %w", orEOF(s.readErr))
		}
	}
}
