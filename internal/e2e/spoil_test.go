package e2e

import (
	"database/sql"
	"path/filepath"
	"syscall"
	"testing"

	"os"

	"github.com/stretchr/testify/require"
	_ "modernc.org/sqlite"
)

// spoil changes a journal behind its back.
func spoil(t *testing.T, ws, statement string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(ws, "metabasis.db"))
	require.NoError(t, err)
	defer db.Close()
	_, err = db.Exec(statement)
	require.NoError(t, err)
}

// readOnly shows a directory at another place, where it cannot be written.
func readOnly(t *testing.T, dir, at string) {
	t.Helper()
	require.NoError(t, os.MkdirAll(at, 0o700))
	if err := syscall.Mount(dir, at, "", syscall.MS_BIND, ""); err != nil {
		t.Skipf("this needs the right to mount a directory read-only: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(at, syscall.MNT_DETACH) })
	require.NoError(t, syscall.Mount("", at, "", syscall.MS_BIND|syscall.MS_REMOUNT|syscall.MS_RDONLY, ""))
}
