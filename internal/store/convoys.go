package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"

	"metabasis/internal/core/freight"
)

// Convoys keeps how far files are that are carried now, so that others see it: a file each in a directory,
// written anew all the time, and gone at the end.
type Convoys struct{ Dir string }

// file is where the convoy of this process is kept.
func (c Convoys) file() string { return filepath.Join(c.Dir, fmt.Sprintf("%d.json", os.Getpid())) }

// Write keeps how far the convoy of this process is.
func (c Convoys) Write(p freight.Progress) error {
	data, err := json.Marshal(p)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(c.Dir, 0o700); err != nil {
		return err
	}
	part := c.file() + ".new"
	if err := os.WriteFile(part, data, 0o600); err != nil {
		return err
	}
	return os.Rename(part, c.file())
}

// Remove takes the convoy of this process away.
func (c Convoys) Remove() error {
	if err := os.Remove(c.file()); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// All are those of which something is kept, the oldest first. One that cannot be read is passed over: it may be
// on its way.
func (c Convoys) All() (out []freight.Progress) {
	files, _ := filepath.Glob(filepath.Join(c.Dir, "*.json"))
	for _, f := range files {
		data, err := os.ReadFile(f)
		var p freight.Progress
		if err == nil && json.Unmarshal(data, &p) == nil && p.File != "" {
			out = append(out, p)
		}
	}
	slices.SortFunc(out, func(a, b freight.Progress) int { return a.Began.Compare(b.Began) })
	return out
}
