package store

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/run"
)

// Backups keeps configurations as plain files, one directory a device. It
// implements [run.Backups].
type Backups struct {
	Dir string
}

// Put stores a configuration. It is on disk and was read back equal when Put
// returns. When the device's newest backup is identical, that one is named
// instead. A configuration holds secrets: only its owner may read the file.
func (b Backups) Put(device, text string, at time.Time) (run.Backup, error) {
	sum := sha256.Sum256([]byte(text))
	out := run.Backup{SHA256: hex.EncodeToString(sum[:])}
	dir, fresh, err := b.directory(device)
	if err != nil {
		return out, fmt.Errorf("backup of %s: %w", device, err)
	}
	if fresh {
		// There is nothing to compare with.
	} else if newest, err := b.newest(device); err != nil {
		return out, err
	} else if newest != "" {
		if old, err := os.ReadFile(newest); err == nil && string(old) == text {
			out.Path, out.Same = newest, true
			return out, nil
		}
	}
	path, err := writeNew(dir, at.UTC().Format("2006-01-02T150405Z"), text)
	if err != nil {
		return out, fmt.Errorf("backup of %s: %w", device, err)
	}
	back, err := os.ReadFile(path)
	if err != nil {
		return out, fmt.Errorf("backup of %s: reading it back: %w", device, err)
	}
	if !bytes.Equal(back, []byte(text)) {
		return out, fmt.Errorf("backup of %s: %s reads back differently from what was written", device, path)
	}
	out.Path = path
	return out, nil
}

// directory makes the device's directory, durably, or finds it.
func (b Backups) directory(device string) (dir string, fresh bool, err error) {
	dir = filepath.Join(b.Dir, device)
	err = os.Mkdir(dir, 0o700)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.MkdirAll(b.Dir, 0o700); err == nil {
			err = os.Mkdir(dir, 0o700)
		}
	}
	switch {
	case errors.Is(err, fs.ErrExist):
		return dir, false, nil
	case err != nil:
		return dir, false, err
	}
	return dir, true, syncDir(b.Dir)
}

// newest is the path of the device's newest backup, "" when there is none.
func (b Backups) newest(device string) (string, error) {
	paths, err := filepath.Glob(filepath.Join(b.Dir, device, "*.cfg"))
	if err != nil || len(paths) == 0 {
		return "", err
	}
	return slices.MaxFunc(paths, func(a, b string) int { return strings.Compare(key(a), key(b)) }), nil
}

// key orders 2026-12-02T013412Z.cfg before 2026-12-02T013412Z-2.cfg.
func key(path string) string { return strings.TrimSuffix(filepath.Base(path), ".cfg") }

// writeNew writes text to a new file and makes the file and its name durable.
func writeNew(dir, name, text string) (string, error) {
	for n := 1; ; n++ {
		path := filepath.Join(dir, name+".cfg")
		if n > 1 {
			path = filepath.Join(dir, fmt.Sprintf("%s-%d.cfg", name, n))
		}
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) && n < 100 {
			continue
		}
		if err != nil {
			return "", err
		}
		_, err = f.WriteString(text)
		if err2 := f.Sync(); err == nil {
			err = err2
		}
		if err2 := f.Close(); err == nil {
			err = err2
		}
		if err == nil {
			err = syncDir(dir)
		}
		if err != nil {
			os.Remove(path)
			return "", err
		}
		return path, nil
	}
}

func syncDir(dir string) error {
	d, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer d.Close()
	return d.Sync()
}
