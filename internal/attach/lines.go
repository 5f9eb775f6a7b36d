package attach

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"strings"
	"time"
	"unicode"
)

// patience is how long the other end may take for an answer, and readPatience for its first word:
// a viewer reads the journal before it.
const (
	patience     = 10 * time.Second
	readPatience = 2 * time.Minute
)

// longest is the longest line that is read: the outline of a night over ten thousand devices is a
// few megabytes.
const longest = 64 << 20

// ErrTooLong is a line that is longer than any that is spoken.
var ErrTooLong = errors.New("a line that is longer than any of this protocol")

// reader reads messages, a line each.
type reader struct{ in *bufio.Reader }

func newReader(r io.Reader) *reader { return &reader{bufio.NewReaderSize(r, 64<<10)} }

// next reads one. What is no message is an error: what comes behind it cannot be trusted.
func (r *reader) next() (m Message, err error) {
	var line []byte
	for {
		part, err := r.in.ReadSlice('\n')
		line = append(line, part...)
		switch {
		case len(line) > longest:
			return m, ErrTooLong
		case errors.Is(err, bufio.ErrBufferFull):
			continue
		case err != nil:
			return m, err
		}
		break
	}
	if err := json.Unmarshal(line, &m); err != nil {
		return m, fmt.Errorf("a line that is no message: %w", err)
	}
	return m, nil
}

func write(c net.Conn, m Message) error {
	data, err := json.Marshal(m)
	if err != nil {
		return err
	}
	_, err = c.Write(append(data, '\n'))
	return err
}

// label is who looks, and from where, in so many characters as a line has room for. What a viewer
// says of itself is its own idea.
func label(who, from string) string {
	from = strings.Map(func(r rune) rune {
		if unicode.IsPrint(r) && r != '(' && r != ')' {
			return r
		}
		return -1
	}, from)
	if from = strings.TrimSpace(from); from == "" {
		return who
	}
	if runes := []rune(from); len(runes) > 40 {
		from = string(runes[:40])
	}
	return who + " (" + from + ")"
}
