package profile

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"
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

// Quote is how a character is typed that the device's line editor would keep for
// itself: the key goes before it.
type Quote struct {
	Key        string `yaml:"key"`
	Characters string `yaml:"characters"`
}

// typed is what must be typed for a line to arrive. It is an error where a
// character cannot be.
func (p *Profile) typed(line string) (string, error) {
	if strings.ContainsAny(line, "\r\n") {
		return "", errors.New("a line must be one line")
	}
	var b strings.Builder
	for _, r := range line {
		switch {
		case p.Quote.Key != "" && strings.ContainsRune(p.Quote.Characters, r):
			b.WriteString(key(p.Quote.Key))
		case strings.ContainsRune(p.Connect.Unsent, r), r != '\t' && unicode.IsControl(r):
			return "", fmt.Errorf("%s cannot be sent to a %s, whose line editor keeps it for itself", character(r), p.Platform)
		}
		b.WriteRune(r)
	}
	return b.String(), nil
}

// typedText is what must be typed for lines to arrive.
func (p *Profile) typedText(text string) (string, error) {
	var b strings.Builder
	for l := range strings.Lines(text) {
		keys, err := p.typed(strings.TrimRight(l, "\r\n"))
		if err != nil {
			return "", fmt.Errorf("%w, and it stands in the line %q", err, strings.TrimSpace(l))
		}
		b.WriteString(keys + "\n")
	}
	return b.String(), nil
}

// character names a character in a message.
func character(r rune) string {
	switch {
	case r == '\t':
		return "a tab"
	case r < ' ':
		return "the key ^" + string(r+'@')
	}
	return fmt.Sprintf("the character %q", r)
}

// Unsendable says why a line cannot be sent; "" when it can.
func (p *Profile) Unsendable(line string) string {
	if !p.Typed() {
		return p.sayable(line)
	}
	if _, err := p.typed(line); err != nil {
		return err.Error()
	}
	return ""
}

// key reads a key as profiles write it: ^V is control and V, anything else
// stands for itself.
func key(text string) string {
	if len(text) == 2 && text[0] == '^' && text[1] >= '@' && text[1] <= '_' {
		return string(text[1] - '@')
	}
	return text
}
