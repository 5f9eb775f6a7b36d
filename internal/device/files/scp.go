package files

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"metabasis/internal/device/profile"
)

// SCP is the files of a device that speaks nothing but the old copying protocol of SSH, which no document
// specifies: each side sends a line that says what comes, then that, and each is answered by a zero, or by a
// one or a two and a line that says what is wrong. There is a session for each file; nothing is gone on with,
// renamed or removed.
type SCP struct {
	// Open runs a command on the device.
	Open func(ctx context.Context, command string) (io.ReadWriteCloser, error)
}

// errNoSuch is a file that is not there.
var errNoSuch = errors.New("there is no such file")

// talk is one session.
type talk struct {
	io.ReadWriteCloser
	in   *bufio.Reader
	stop func() bool
}

// talk runs a command, and ends it with the context.
func (s *SCP) talk(ctx context.Context, command, file string) (*talk, error) {
	if why := profile.PathSafe(file); why != "" {
		return nil, errors.New(why)
	}
	rw, err := s.Open(ctx, command+" "+file)
	if err != nil {
		return nil, err
	}
	return &talk{rw, bufio.NewReaderSize(rw, 64<<10), context.AfterFunc(ctx, func() { _ = rw.Close() })}, nil
}

func (t *talk) end() {
	t.stop()
	_ = t.Close()
}

// answer reads whether what was sent was taken.
func (t *talk) answer() error {
	c, err := t.in.ReadByte()
	if err != nil {
		return fmt.Errorf("it ended without an answer: %w", err)
	}
	if c == 0 {
		return nil
	}
	return t.wrong(c)
}

// wrong reads what is wrong, behind a one or a two.
func (t *talk) wrong(c byte) error {
	text, _ := t.line()
	if c != 1 && c != 2 {
		return &said{fmt.Errorf("it answered %q", string(c)+text)}
	}
	if strings.Contains(strings.ToLower(text), "no such file") {
		return errNoSuch
	}
	return &said{errors.New(strings.TrimSpace(text))}
}

// line reads a line of bounded length.
func (t *talk) line() (string, error) {
	var b strings.Builder
	for b.Len() < 4096 {
		c, err := t.in.ReadByte()
		if err != nil {
			return b.String(), err
		}
		if c == '\n' {
			return b.String(), nil
		}
		b.WriteByte(c)
	}
	return b.String(), errors.New("a line without an end")
}

// comes asks for a file, and reads how large the one is that comes.
func (t *talk) comes() (size int64, err error) {
	if _, err := t.Write([]byte{0}); err != nil {
		return 0, err
	}
	for {
		c, err := t.in.ReadByte()
		switch {
		case err != nil:
			return 0, fmt.Errorf("it ended without an answer: %w", err)
		case c != 'C' && c != 'T' && c != 0:
			return 0, t.wrong(c)
		case c == 0:
			continue
		}
		text, err := t.line()
		if err != nil {
			return 0, err
		}
		if c == 'T' { // its times, which nobody wants
			if _, err := t.Write([]byte{0}); err != nil {
				return 0, err
			}
			continue
		}
		parts := strings.SplitN(text, " ", 3)
		if len(parts) != 3 {
			return 0, &said{fmt.Errorf("it announced %q", text)}
		}
		if size, err = strconv.ParseInt(parts[1], 10, 64); err != nil || size < 0 {
			return 0, &said{fmt.Errorf("it announced %q", text)}
		}
		return size, nil
	}
}

// Size implements [freight.Far]: a file is asked for, and none of it is taken.
func (s *SCP) Size(ctx context.Context, file string) (size int64, there bool, err error) {
	t, err := s.talk(ctx, "scp -f", file)
	if err != nil {
		return 0, false, err
	}
	defer t.end()
	size, err = t.comes()
	switch {
	case errors.Is(err, errNoSuch):
		return 0, false, nil
	case err != nil && ctx.Err() != nil:
		return 0, false, context.Cause(ctx)
	}
	return size, err == nil, err
}

// WriteWhole implements [freight.Plain].
func (s *SCP) WriteWhole(ctx context.Context, file string, size int64, r io.Reader) error {
	t, err := s.talk(ctx, "scp -t", file)
	if err != nil {
		return err
	}
	defer t.end()
	err = t.write(path.Base(file), size, r)
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

func (t *talk) write(name string, size int64, r io.Reader) error {
	if err := t.answer(); err != nil {
		return err
	}
	if _, err := fmt.Fprintf(t, "C0644 %d %s\n", size, name); err != nil {
		return err
	}
	if err := t.answer(); err != nil {
		return err
	}
	n, err := io.CopyN(t, r, size)
	if err != nil {
		return fmt.Errorf("%d of %d bytes: %w", n, size, err)
	}
	if _, err := t.Write([]byte{0}); err != nil {
		return err
	}
	return t.answer()
}

// Read implements [freight.Far].
func (s *SCP) Read(ctx context.Context, file string, from int64, w io.Writer) error {
	if from != 0 {
		return errors.New("a file is read from its beginning on only")
	}
	t, err := s.talk(ctx, "scp -f", file)
	if err != nil {
		return err
	}
	defer t.end()
	size, err := t.comes()
	if err == nil {
		_, err = t.Write([]byte{0})
	}
	if err == nil {
		_, err = io.CopyN(w, t.in, size)
	}
	if err == nil {
		err = t.answer()
	}
	if err == nil {
		_, err = t.Write([]byte{0})
	}
	if err != nil && ctx.Err() != nil {
		return context.Cause(ctx)
	}
	return err
}

// Write implements [freight.Far], and cannot.
func (*SCP) Write(context.Context, string, int64, io.Reader) error {
	return errors.New("a file is written as a whole only")
}

// Rename implements [freight.Far], and cannot.
func (*SCP) Rename(context.Context, string, string) error {
	return errors.New("no file is renamed by SCP")
}

// Remove implements [freight.Far], and cannot.
func (*SCP) Remove(context.Context, string) error { return errors.New("no file is removed by SCP") }

// Close ends nothing: each session is over by itself.
func (*SCP) Close() error { return nil }
