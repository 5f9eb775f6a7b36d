// Package files reaches the files of a device by SFTP (draft-ietf-secsh-filexfer-02), which OpenSSH and
// most devices that have files speak: as a subsystem of the SSH connection by which they are worked.
package files

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"

	"github.com/pkg/sftp"
)

// SFTP is the files of a device. Close ends it; so does a context that ends while something is asked.
type SFTP struct {
	client *sftp.Client
	stream io.Closer
}

// together is how many requests are under way together. What they carry is what may have arrived in any
// order when the connection ends: 2 MB.
const together = 64

// Open speaks SFTP over a stream, which Close closes.
func Open(ctx context.Context, stream io.ReadWriteCloser) (*SFTP, error) {
	stop := context.AfterFunc(ctx, func() { _ = stream.Close() })
	defer stop()
	c, err := sftp.NewClientPipe(stream, whole{stream},
		sftp.UseConcurrentWrites(true), sftp.MaxConcurrentRequestsPerFile(together))
	if err != nil {
		_ = stream.Close()
		return nil, fmt.Errorf("it was let in, and then did not speak SFTP: %w", errors.Join(err, context.Cause(ctx)))
	}
	return &SFTP{c, stream}, nil
}

// whole is the way to the device: it is closed with the stream.
type whole struct{ io.Writer }

func (whole) Close() error { return nil }

// Close ends the session.
func (s *SFTP) Close() error {
	err := s.stream.Close()
	_ = s.client.Close() // its stream is gone
	return err
}

// during does something that ends with the context: then the session is of no more use.
func (s *SFTP) during(ctx context.Context, do func() error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	stop := context.AfterFunc(ctx, func() { _ = s.stream.Close() })
	defer stop()
	err := do()
	switch {
	case err != nil && ctx.Err() != nil:
		return context.Cause(ctx)
	case err != nil:
		return &said{err}
	}
	return nil
}

// said is an error with what the other end said of it, which is data: a line of bounded length, without
// anything that a terminal would take for more than text.
type said struct{ err error }

const mostSaid = 300 // of it, in signs

func (s *said) Error() string {
	text := []rune(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || r == utf8.RuneError {
			return ' '
		}
		return r
	}, s.err.Error()))
	return string(text[:min(len(text), mostSaid)])
}

func (s *said) Unwrap() error { return s.err }

// Size implements [freight.Far]. What is no plain file is an error.
func (s *SFTP) Size(ctx context.Context, path string) (size int64, there bool, err error) {
	err = s.during(ctx, func() error {
		info, err := s.client.Stat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return nil
		case err != nil:
			return fmt.Errorf("%s: %w", path, err)
		case !info.Mode().IsRegular():
			return fmt.Errorf("%s is no file there", path)
		}
		size, there = info.Size(), true
		return nil
	})
	return size, there, err
}

// Write implements [freight.Far].
func (s *SFTP) Write(ctx context.Context, path string, from int64, r io.Reader) error {
	return s.during(ctx, func() (err error) {
		f, err := s.client.OpenFile(path, os.O_WRONLY|os.O_CREATE)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		defer func() { err = errors.Join(err, f.Close()) }()
		if _, err := f.Seek(from, io.SeekStart); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		if _, err := f.ReadFrom(sized{r, many}); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		return nil
	})
}

// many is the size that a file is told to have, so that as much as may be is under way together: the
// library goes by it, and reads to the end all the same.
const many = 1 << 40

// sized is a reader whose size is told.
type sized struct {
	io.Reader
	n int64
}

func (s sized) Size() int64 { return s.n }

// Read implements [freight.Far].
func (s *SFTP) Read(ctx context.Context, path string, from int64, w io.Writer) error {
	return s.during(ctx, func() error {
		f, err := s.client.Open(path)
		if err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		defer f.Close()
		if _, err := f.Seek(from, io.SeekStart); err != nil {
			return fmt.Errorf("%s: %w", path, err)
		}
		_, err = f.WriteTo(w)
		return err
	})
}

// Rename implements [freight.Far].
func (s *SFTP) Rename(ctx context.Context, from, to string) error {
	return s.during(ctx, func() error { return s.client.Rename(from, to) })
}

// Remove implements [freight.Far].
func (s *SFTP) Remove(ctx context.Context, path string) error {
	return s.during(ctx, func() error { return s.client.Remove(path) })
}

// Free is how much room there is where a file would be put, in bytes, where the other end tells that
// (statvfs@openssh.com).
func (s *SFTP) Free(ctx context.Context, path string) (free int64, known bool, err error) {
	err = s.during(ctx, func() error {
		if _, can := s.client.HasExtension("statvfs@openssh.com"); !can {
			return nil
		}
		vfs, err := s.client.StatVFS(path)
		if err != nil {
			return nil //nolint:nilerr // it does not tell of that place
		}
		free, known = int64(min(vfs.FreeSpace(), 1<<62)), true //nolint:gosec // bounded
		return nil
	})
	return free, known, err
}
