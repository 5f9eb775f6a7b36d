package store

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"
)

// Evidence keeps what devices answered: a folder a night, in it one a device, in
// it a file a command. What it is given is masked already.
type Evidence struct {
	Dir string

	mu    sync.Mutex
	hosts map[string]string // folder to the device it is for
}

// FolderOf is what something of a time is kept under: by day its date, and by night
// "night-of-" and the date of the evening on which that night began.
func FolderOf(t time.Time) string {
	switch {
	case t.Hour() >= evening:
		return "night-of-" + t.Format("2006-01-02")
	case t.Hour() < morning:
		return "night-of-" + t.AddDate(0, 0, -1).Format("2006-01-02")
	}
	return t.Format("2006-01-02")
}

// The hours between which it is day.
const (
	morning = 8
	evening = 18
)

var notInName = regexp.MustCompile(`[^A-Za-z0-9._-]+`)

// FileName makes a name that is safe as that of a file.
func FileName(s string) string {
	s = strings.Trim(notInName.ReplaceAllString(s, "-"), "-.")
	if len(s) > 80 {
		s = strings.TrimRight(s[:80], "-.")
	}
	if s == "" {
		return "unnamed"
	}
	return s
}

// Put keeps one answer and returns its file. Host is the device's own name; two
// devices that call themselves the same get folders of their own. An answer to
// the same command in the same night gets a number.
func (e *Evidence) Put(at time.Time, device, host, command string, answer []string) (string, error) {
	dir := filepath.Join(e.Dir, FolderOf(at), e.folder(device, host))
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", fmt.Errorf("evidence: %w", err)
	}
	text := fmt.Sprintf("# %s asked at %s\n# %s\n\n%s\n", device, at.Format(time.RFC3339), command, strings.Join(answer, "\n"))
	for n := 1; n < 10_000; n++ {
		path := filepath.Join(dir, FileName(command)+".txt")
		if n > 1 {
			path = filepath.Join(dir, fmt.Sprintf("%s.%d.txt", FileName(command), n))
		}
		f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
		if errors.Is(err, fs.ErrExist) {
			continue
		}
		if err != nil {
			return "", fmt.Errorf("evidence: %w", err)
		}
		_, err = f.WriteString(text)
		if err := errors.Join(err, f.Sync(), f.Close()); err != nil {
			return "", fmt.Errorf("evidence: %w", err)
		}
		return path, nil
	}
	return "", fmt.Errorf("evidence: %s is full", dir)
}

func (e *Evidence) folder(device, host string) string {
	if host == "" {
		host = device
	}
	name := FileName(host)
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.hosts == nil {
		e.hosts = map[string]string{}
	}
	if of, taken := e.hosts[name]; taken && of != device {
		name += "." + FileName(device)
	}
	e.hosts[name] = device
	return name
}
