package away

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/pkg/sftp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func items(n int) (out []Item) {
	for i := range n {
		out = append(out, Item{Device: fmt.Sprintf("ald-quay-%d", i+1), File: "2026-12-02T013412Z.cfg", Data: []byte(strings.Repeat("lan 10\n", 2000+i))})
	}
	return out
}

// whole holds what stands under the names of backups in a directory against what was put
// there: nothing there is half a backup.
func whole(t *testing.T, root string, items []Item) (n int) {
	t.Helper()
	for _, i := range items {
		data, err := os.ReadFile(filepath.Join(root, i.Device, i.File))
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, len(i.Data), len(data), "%s is there, and not whole", i.Device)
		n++
	}
	return n
}

func TestADirectory(t *testing.T) {
	dir := t.TempDir()
	all := items(3)
	there, err := Directory{dir}.Put(t.Context(), "", all)
	require.NoError(t, err)
	assert.Len(t, there, 3)
	assert.Equal(t, 3, whole(t, dir, all))
	there, err = Directory{dir}.Put(t.Context(), "", all)
	require.NoError(t, err, "what is there already, and is equal, is there")
	assert.Len(t, there, 3)

	other := items(3)
	other[1].Data = []byte("another")
	there, err = Directory{dir}.Put(t.Context(), "", other)
	assert.ErrorIs(t, err, ErrDiffers, "it is never written over")
	assert.Len(t, there, 2, "and keeps no other from its place")
	assert.Equal(t, 3, whole(t, dir, all))

	_, err = Directory{filepath.Join(dir, "not-mounted")}.Put(t.Context(), "", all)
	assert.ErrorContains(t, err, "not-mounted")
	for _, name := range []string{"..", "a/b", "", `a\b`} {
		_, err = Directory{dir}.Put(t.Context(), "", []Item{{Device: name, File: "x.cfg"}})
		assert.ErrorContains(t, err, "cannot be the name of a file")
	}
}

// cut is a stream that breaks after so many bytes were sent.
type cut struct {
	net.Conn
	left int
}

func (c *cut) Write(p []byte) (int, error) {
	if c.left -= len(p); c.left < 0 {
		_ = c.Conn.Close()
		return 0, io.ErrClosedPipe
	}
	return c.Conn.Write(p)
}

// served is an SFTP server over a pipe.
func served(t *testing.T, root string) net.Conn {
	t.Helper()
	ours, theirs := net.Pipe()
	server, err := sftp.NewServer(theirs, sftp.WithServerWorkingDirectory(root))
	require.NoError(t, err)
	done := make(chan struct{})
	go func() { defer close(done); _ = server.Serve(); _ = theirs.Close() }()
	t.Cleanup(func() { _ = ours.Close(); <-done })
	return ours
}

func TestSFTP(t *testing.T) {
	root := t.TempDir()
	all := items(3)
	s, err := OpenSFTP(served(t, root), ".")
	require.NoError(t, err)
	there, err := s.Put(t.Context(), "", all)
	require.NoError(t, err)
	assert.Len(t, there, 3)
	assert.Equal(t, 3, whole(t, root, all))
	info, err := os.Stat(filepath.Join(root, "ald-quay-1", all[0].File))
	require.NoError(t, err)
	assert.Zero(t, info.Mode().Perm()&0o077, "only its owner may read it")
	there, err = s.Put(t.Context(), "", all)
	require.NoError(t, err)
	assert.Len(t, there, 3)
	other := items(1)
	other[0].Data = []byte("another")
	_, err = s.Put(t.Context(), "", other)
	assert.ErrorIs(t, err, ErrDiffers)
	require.NoError(t, s.Close())

	s, err = OpenSFTP(served(t, root), "no-such-directory")
	require.NoError(t, err)
	_, err = s.Put(t.Context(), "", all)
	assert.ErrorContains(t, err, "no-such-directory")
	require.NoError(t, s.Close())
}

// Wherever the connection is cut, nothing half-written bears the name of a backup, what is
// said to be there is there, and the next time the rest comes along.
func TestSFTPCutInTheMidst(t *testing.T) {
	all := items(3)
	for left := 100; left < 50_000; left += 1777 {
		root := t.TempDir()
		s, err := OpenSFTP(&cut{served(t, root), left}, ".")
		if err == nil {
			there, err := s.Put(context.Background(), "", all)
			assert.True(t, err != nil || len(there) == 3)
			assert.GreaterOrEqual(t, whole(t, root, all), len(there))
			for _, i := range there {
				assert.FileExists(t, filepath.Join(root, i.Device, i.File))
			}
			_ = s.Close()
		}
		s, err = OpenSFTP(served(t, root), ".")
		require.NoError(t, err)
		there, err := s.Put(context.Background(), "", all)
		require.NoError(t, err, "cut after %d", left)
		assert.Len(t, there, 3)
		assert.Equal(t, 3, whole(t, root, all))
		require.NoError(t, s.Close())
	}
}

func git(t *testing.T, dir string, args ...string) string {
	t.Helper()
	out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
	require.NoError(t, err, string(out))
	return strings.TrimSpace(string(out))
}

func TestGit(t *testing.T) {
	bare := filepath.Join(t.TempDir(), "quays.git")
	require.NoError(t, os.Mkdir(bare, 0o700))
	git(t, bare, "init", "--quiet", "--bare")
	g := &Git{Remote: bare, Branch: "backups", Dir: filepath.Join(t.TempDir(), "tree"), Author: "ada", Env: os.Environ()}
	all := items(2)
	there, err := g.Put(t.Context(), "night 21: 2 devices", all)
	require.NoError(t, err)
	assert.Len(t, there, 2)
	assert.Equal(t, string(all[0].Data), git(t, bare, "show", "backups:ald-quay-1.cfg")+"\n")

	all[1].Data = []byte("lan 20\n")
	_, err = g.Put(t.Context(), "night 22: 2 devices", all)
	require.NoError(t, err)
	_, err = g.Put(t.Context(), "nothing new", all)
	require.NoError(t, err)
	assert.Equal(t, "night 22: 2 devices\nnight 21: 2 devices", git(t, bare, "log", "--format=%s", "backups"), "a commit each time that something changed")

	// Somebody else pushes, and this machine's work tree is gone: both go on.
	h := &Git{Remote: bare, Branch: "backups", Dir: filepath.Join(t.TempDir(), "another"), Author: "ben", Env: os.Environ()}
	_, err = h.Put(t.Context(), "by ben", []Item{{Device: "brm-quay-1", File: "x.cfg", Data: []byte("x\n")}})
	require.NoError(t, err)
	_, err = g.Put(t.Context(), "night 23, where nothing changed", items(1))
	require.NoError(t, err)
	assert.Equal(t, "3", git(t, bare, "rev-list", "--count", "backups"))
	assert.Equal(t, "x", git(t, bare, "show", "backups:brm-quay-1.cfg"))

	// A repository that takes the push and keeps nothing is noticed; one that is not there, too.
	hook := filepath.Join(bare, "hooks", "pre-receive")
	require.NoError(t, os.WriteFile(hook, []byte("#!/bin/sh\nexit 1\n"), 0o700))
	all[0].Data = []byte("lan 30\n")
	_, err = g.Put(t.Context(), "night 24", all)
	assert.Error(t, err)
	_, err = (&Git{Remote: filepath.Join(bare, "nowhere"), Branch: "backups", Dir: filepath.Join(t.TempDir(), "x"), Author: "ada", Env: os.Environ()}).Put(t.Context(), "m", all)
	assert.Error(t, err)
}

// A place is asked what it has: what was deleted there, or set back, is missing, however it
// was noted here.
func TestAPlaceIsAskedWhatItHas(t *testing.T) {
	bare := filepath.Join(t.TempDir(), "quays.git")
	require.NoError(t, os.Mkdir(bare, 0o700))
	git(t, bare, "init", "--quiet", "--bare")
	vault := t.TempDir()
	repo := &Git{Remote: bare, Branch: "backups", Dir: filepath.Join(t.TempDir(), "tree"), Author: "ada", Env: os.Environ()}
	for name, c := range map[string]struct {
		place  Place
		remove func()
	}{
		"a directory":  {Directory{Dir: vault}, func() { require.NoError(t, os.RemoveAll(filepath.Join(vault, "ald-quay-2"))) }},
		"a repository": {repo, func() { git(t, bare, "update-ref", "refs/heads/backups", "refs/heads/backups~1") }},
	} {
		t.Run(name, func(t *testing.T) {
			all := items(2)
			gone, err := c.place.Missing(t.Context(), all)
			require.NoError(t, err)
			assert.Len(t, gone, 2, "nothing was put there yet")
			for _, i := range all { // a commit each
				_, err := c.place.Put(t.Context(), "one", []Item{i})
				require.NoError(t, err)
			}
			gone, err = c.place.Missing(t.Context(), all)
			require.NoError(t, err)
			assert.Empty(t, gone)
			c.remove()
			gone, err = c.place.Missing(t.Context(), all)
			require.NoError(t, err)
			require.Len(t, gone, 1)
			assert.Equal(t, "ald-quay-2", gone[0].Device)
			_, err = c.place.Put(t.Context(), "again", gone)
			require.NoError(t, err)
			gone, err = c.place.Missing(t.Context(), all)
			require.NoError(t, err)
			assert.Empty(t, gone)
		})
	}
	git(t, bare, "update-ref", "-d", "refs/heads/backups")
	gone, err := repo.Missing(t.Context(), items(2))
	require.NoError(t, err)
	assert.Len(t, gone, 2, "the branch is gone")
}

// A repository whose hook sleeps holds nobody up for longer than there is time, and what git
// has started does not outlast it.
func TestAHookThatSleeps(t *testing.T) {
	bare := filepath.Join(t.TempDir(), "quays.git")
	require.NoError(t, os.Mkdir(bare, 0o700))
	git(t, bare, "init", "--quiet", "--bare")
	started := filepath.Join(bare, "started")
	require.NoError(t, os.WriteFile(filepath.Join(bare, "hooks", "pre-receive"), []byte("#!/bin/sh\necho $$ > "+started+"\nexec sleep 600\n"), 0o700))
	g := &Git{Remote: bare, Branch: "backups", Dir: filepath.Join(t.TempDir(), "tree"), Author: "ada", Env: os.Environ()}
	ctx, stop := context.WithCancel(t.Context())
	defer stop()
	over := make(chan error, 1)
	go func() {
		_, err := g.Put(ctx, "night 21", items(1))
		over <- err
	}()
	require.Eventually(t, func() bool { _, err := os.Stat(started); return err == nil }, 20*time.Second, 10*time.Millisecond)
	stop()
	select {
	case err := <-over:
		assert.ErrorIs(t, err, context.Canceled)
	case <-time.After(20 * time.Second):
		t.Fatal("it is waited for")
	}
	pid, err := os.ReadFile(started)
	require.NoError(t, err)
	assert.Eventually(t, func() bool { return exec.Command("kill", "-0", strings.TrimSpace(string(pid))).Run() != nil }, 20*time.Second, 10*time.Millisecond, "the hook goes on")
}
