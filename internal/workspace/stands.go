package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
)

// stands is a journal that takes nothing any more once what the night needs on disk is gone:
// a file that was removed can be written on for hours, and nothing of it is kept.
type stands struct {
	run.Journal
	dir  string                 // the workspace's
	what map[string]os.FileInfo // by path, as it was when the night began
}

// standing remembers what a night needs on disk: its journal, the backups and its
// transcripts. Those directories are made where they are not there yet.
func (n *OpenNight) standing(j run.Journal, transcripts string) (*stands, error) {
	s := &stands{Journal: j, dir: n.w.Dir, what: map[string]os.FileInfo{}}
	backups := n.w.Backups("").Dir
	if err := os.MkdirAll(backups, 0o700); err != nil {
		return nil, err
	}
	for _, path := range []string{n.w.JournalFile(), backups, transcripts} {
		is, err := os.Stat(path)
		if err != nil {
			return nil, err
		}
		s.what[path] = is
	}
	return s, nil
}

// Append implements [run.Journal].
func (s *stands) Append(events []night.Event) error {
	for path, was := range s.what {
		is, err := os.Stat(path)
		if errors.Is(err, fs.ErrNotExist) || err == nil && !os.SameFile(was, is) {
			if near, err := filepath.Rel(s.dir, path); err == nil {
				path = near
			}
			return fmt.Errorf("%s was removed while the night ran, or another one put in its place", path)
		}
	}
	return s.Journal.Append(events)
}
