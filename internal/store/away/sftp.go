package away

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"

	"github.com/pkg/sftp"
)

// SFTP is a place on a server. Files are written under another name, read back, and only
// then renamed.
type SFTP struct {
	Root   string // a directory on the server, which must be there
	client *sftp.Client
	stream io.Closer
}

// OpenSFTP speaks SFTP over a stream to a server, which Close closes.
func OpenSFTP(stream io.ReadWriteCloser, root string) (*SFTP, error) {
	c, err := sftp.NewClientPipe(stream, &closer{Writer: stream})
	if err != nil {
		_ = stream.Close()
		return nil, fmt.Errorf("sftp: %w", err)
	}
	return &SFTP{Root: root, client: c, stream: stream}, nil
}

// closer is the way to the server: it is closed with the stream.
type closer struct{ io.Writer }

func (closer) Close() error { return nil }

// Put implements [Place].
func (s *SFTP) Put(ctx context.Context, _ string, items []Item) ([]Item, error) {
	stop := context.AfterFunc(ctx, func() { _ = s.stream.Close() })
	defer stop()
	if _, err := s.client.Stat(s.Root); err != nil {
		return nil, fmt.Errorf("the directory %s on the server: %w", s.Root, err)
	}
	there, err := putAll(ctx, remote{s.client}, s.Root, items)
	return there, errors.Join(err, context.Cause(ctx))
}

// Missing implements [Place].
func (s *SFTP) Missing(ctx context.Context, items []Item) ([]Item, error) {
	stop := context.AfterFunc(ctx, func() { _ = s.stream.Close() })
	defer stop()
	if _, err := s.client.Stat(s.Root); err != nil {
		return nil, fmt.Errorf("the directory %s on the server: %w", s.Root, err)
	}
	out, err := missing(ctx, remote{s.client}, s.Root, items)
	return out, errors.Join(err, context.Cause(ctx))
}

// Close implements [Place].
func (s *SFTP) Close() error {
	err := s.stream.Close()
	_ = s.client.Close() // its stream is gone
	return err
}

// remote is the files of a server.
type remote struct{ *sftp.Client }

func (r remote) Open(name string) (io.ReadCloser, error) { return r.Client.Open(name) }
func (remote) Join(parts ...string) string               { return path.Join(parts...) }

func (r remote) Sizes(dir string) (map[string]int64, error) {
	list, err := r.Client.ReadDir(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	out := make(map[string]int64, len(list))
	for _, info := range list {
		out[info.Name()] = info.Size()
	}
	return out, err
}

func (r remote) MkdirAll(dir string) error {
	if err := r.Client.Mkdir(dir); err != nil {
		if info, statErr := r.Client.Stat(dir); statErr != nil || !info.IsDir() {
			return err
		}
	}
	return nil
}

func (r remote) Create(name string) (syncer, error) {
	f, err := r.Client.Create(name)
	if err != nil {
		return nil, err
	}
	if err := r.Client.Chmod(name, 0o600); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	_, can := r.Client.HasExtension("fsync@openssh.com")
	return &remoteFile{f, can}, nil
}

// Rename uses the protocol's own rename, which fails where the name is taken (draft-ietf-
// secsh-filexfer-02, section 6.5).
func (r remote) Rename(from, to string) error {
	if _, err := r.Client.Lstat(to); err == nil {
		return ErrDiffers
	} else if !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return r.Client.Rename(from, to)
}

// remoteFile is synced where the server can.
type remoteFile struct {
	*sftp.File
	syncs bool
}

func (f *remoteFile) Sync() error {
	if !f.syncs {
		return nil
	}
	return f.File.Sync()
}

var _ files = remote{}
