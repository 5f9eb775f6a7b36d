package netconf

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
)

// framer marks where messages end on a stream: by a mark behind each at first (RFC 6242,
// section 4.3), in chunks of announced sizes once both sides know version 1.1 (section
// 4.2).
type framer struct {
	r       *bufio.Reader
	w       io.Writer
	chunked bool
}

// maxMessage bounds a message, in bytes: a peer that never ends one costs no more.
const maxMessage = 64 << 20

var endMark = []byte("]]>]]>")

var errTooLong = fmt.Errorf("a message of more than %d MB", maxMessage>>20)

// write sends one message.
func (f *framer) write(msg []byte) error {
	var out []byte
	if f.chunked {
		out = append(fmt.Appendf(nil, "\n#%d\n", len(msg)), msg...)
		out = append(out, "\n##\n"...)
	} else {
		out = append(bytes.Clone(msg), endMark...)
	}
	_, err := f.w.Write(out)
	return err
}

// read takes one message.
func (f *framer) read() ([]byte, error) {
	if f.chunked {
		return f.readChunks()
	}
	var msg []byte
	for {
		part, err := f.r.ReadSlice('>')
		msg = append(msg, part...)
		switch {
		case len(msg) > maxMessage:
			return nil, errTooLong
		case bytes.HasSuffix(msg, endMark):
			return msg[:len(msg)-len(endMark)], nil
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return nil, cut(err, len(msg) > 0)
		}
	}
}

// cut tells the end of a stream in the midst of a message from one between two.
func cut(err error, within bool) error {
	if errors.Is(err, io.EOF) && within {
		return io.ErrUnexpectedEOF
	}
	return err
}

func (f *framer) readChunks() ([]byte, error) {
	var msg []byte
	for {
		n, err := f.chunkHead(len(msg) > 0)
		if err != nil {
			return nil, err
		}
		switch {
		case n == 0 && len(msg) == 0:
			return nil, errors.New("a message without a chunk")
		case n == 0:
			return msg, nil
		case n > maxMessage-len(msg):
			return nil, errTooLong
		}
		// What is announced is believed as it comes: a size alone takes no memory.
		var b bytes.Buffer
		if _, err := io.CopyN(&b, f.r, int64(n)); err != nil {
			return nil, cut(err, true)
		}
		msg = append(msg, b.Bytes()...)
	}
}

// chunkHead reads what stands before a chunk; 0 is the end of the message.
func (f *framer) chunkHead(within bool) (int, error) {
	var head [2]byte
	if n, err := io.ReadFull(f.r, head[:]); err != nil {
		return 0, cut(err, within || n > 0)
	}
	if head != [2]byte{'\n', '#'} {
		return 0, fmt.Errorf("a chunk that begins with %q", head[:])
	}
	var size []byte
	for {
		c, err := f.r.ReadByte()
		switch {
		case err != nil:
			return 0, cut(err, true)
		case c == '\n' && string(size) == "#":
			return 0, nil
		case c == '\n':
			n, err := strconv.ParseUint(string(size), 10, 32)
			if err != nil || n == 0 || size[0] == '0' {
				return 0, fmt.Errorf("a chunk of size %q", size)
			}
			return int(n), nil
		}
		if size = append(size, c); len(size) > 10 {
			return 0, fmt.Errorf("a chunk of size %q…", size)
		}
	}
}
