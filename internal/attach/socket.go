package attach

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"syscall"

	"golang.org/x/sys/unix"
)

// SocketName is the name of the socket in a workspace, which runs one night at a time.
const SocketName = "night.sock"

// longPath is how long the path of a socket may be, with some to spare: the system has room for
// 108 bytes of it.
const longPath = 100

// address is a path by which the socket in a directory can be named, however deep that lies. It is
// valid until release is called.
func address(dir string) (path string, release func(), err error) {
	path = filepath.Join(dir, SocketName)
	if len(path) <= longPath {
		return path, func() {}, nil
	}
	d, err := os.Open(dir)
	if err != nil {
		return "", nil, err
	}
	return fmt.Sprintf("/proc/self/fd/%d/%s", d.Fd(), SocketName), func() { _ = d.Close() }, nil
}

// Listen makes the socket of the night in a workspace's directory; only its owner can connect.
// Who calls it has the workspace to itself: a socket that is there was left by a process that is
// no more.
func Listen(ctx context.Context, dir string) (net.Listener, error) {
	if err := os.Remove(filepath.Join(dir, SocketName)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	path, release, err := address(dir)
	if err != nil {
		return nil, err
	}
	defer release()
	own := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error { // before it has a name
		var err error
		return errors.Join(c.Control(func(fd uintptr) { err = unix.Fchmod(int(fd), 0o600) }), err)
	}}
	l, err := own.Listen(ctx, "unix", path)
	if err != nil {
		return nil, err
	}
	file := filepath.Join(dir, SocketName)
	if err := os.Chmod(file, 0o600); err != nil {
		return nil, errors.Join(err, l.Close())
	}
	l.(*net.UnixListener).SetUnlinkOnClose(false) // its path may be one that is valid now only
	return &ownListener{l, file}, nil
}

// ownListener removes the socket when it is closed.
type ownListener struct {
	net.Listener
	file string
}

func (l *ownListener) Close() error {
	err := l.Listener.Close()
	if gone := os.Remove(l.file); !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// Connect connects to the night of a workspace. The error is fs.ErrNotExist where there is none,
// and [syscall.ECONNREFUSED] where its process is no more.
func Connect(ctx context.Context, dir string) (net.Conn, error) {
	path, release, err := address(dir)
	if err != nil {
		return nil, err
	}
	defer release()
	return (&net.Dialer{}).DialContext(ctx, "unix", path)
}
