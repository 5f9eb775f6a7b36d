package files

import (
	"context"
	"errors"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// rude is a file server that says no to everything, in words that are meant for a terminal.
type rude struct{}

var errRude = errors.New("\x1b]0;yours\x07no\n" + strings.Repeat("x", 1000))

func (rude) Fileread(*sftp.Request) (io.ReaderAt, error)  { return nil, errRude }
func (rude) Filewrite(*sftp.Request) (io.WriterAt, error) { return nil, errRude }
func (rude) Filecmd(*sftp.Request) error                  { return errRude }
func (rude) Filelist(r *sftp.Request) (sftp.ListerAt, error) {
	if r.Filepath == "/dir" {
		return dir{}, nil
	}
	return nil, errRude
}

// dir is a listing of one directory.
type dir struct{ os.FileInfo }

func (dir) ListAt(into []os.FileInfo, _ int64) (int, error) { into[0] = dir{}; return 1, io.EOF }
func (dir) Name() string                                    { return "dir" }
func (dir) Size() int64                                     { return 4096 }
func (dir) Mode() os.FileMode                               { return os.ModeDir | 0o700 }
func (dir) ModTime() time.Time                              { return time.Time{} }
func (dir) IsDir() bool                                     { return true }
func (dir) Sys() any                                        { return nil }

func opened(t *testing.T) *SFTP {
	t.Helper()
	ours, theirs := net.Pipe()
	server := sftp.NewRequestServer(theirs, sftp.Handlers{FileGet: rude{}, FilePut: rude{}, FileCmd: rude{}, FileList: rude{}})
	served := make(chan struct{})
	go func() { defer close(served); _ = server.Serve() }()
	s, err := Open(t.Context(), ours)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close(); _ = theirs.Close(); <-served })
	return s
}

// What a file server says is data: a bounded line, without anything that moves a terminal.
func TestWhatAFileServerSaysIsData(t *testing.T) {
	s := opened(t)
	_, _, sized := s.Size(t.Context(), "/x")
	for what, err := range map[string]error{
		"size": sized, "write": s.Write(t.Context(), "/x", 0, strings.NewReader("x")), "read": s.Read(t.Context(), "/x", 0, io.Discard),
		"rename": s.Rename(t.Context(), "/x", "/y"), "remove": s.Remove(t.Context(), "/x"),
	} {
		require.Error(t, err, what)
		assert.NotRegexp(t, `[[:cntrl:]]`, err.Error(), what)
		assert.LessOrEqual(t, len(err.Error()), mostSaid, what)
	}
	_, _, err := s.Size(t.Context(), "/dir")
	assert.ErrorContains(t, err, "is no file there")
	_, known, err := s.Free(t.Context(), "/")
	assert.False(t, known, "it does not tell")
	assert.NoError(t, err)
}

// A server that says nothing costs as long as it is given, and no longer.
func TestAFileServerThatSaysNothing(t *testing.T) {
	ours, theirs := net.Pipe()
	defer theirs.Close()
	go func() { _, _ = io.Copy(io.Discard, theirs) }()
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	_, err := Open(ctx, ours)
	require.ErrorIs(t, err, context.DeadlineExceeded)
}
