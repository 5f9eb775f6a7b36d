// Package diag is the diagnostic log: what is needed to understand a mistake of ours,
// for whoever reports it and whoever mends it. It is no record of a night; that is the
// journal. What was found out as a secret is masked in it.
package diag

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"

	"metabasis/internal/core/veil"
)

// File is where the log is: in the person's state directory (XDG Base Directory
// Specification, "XDG_STATE_HOME").
func File(getenv func(string) string) string {
	dir := getenv("XDG_STATE_HOME")
	if !filepath.IsAbs(dir) { // the specification has relative ones ignored
		home := getenv("HOME")
		if info, err := os.Stat(home); err != nil || !info.IsDir() { // no home is made, and none is a place that all share
			return ""
		}
		dir = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(dir, "metabasis", "metabasis.log")
}

// most is the size, in bytes, from which on the log is begun anew; the one before it
// is kept.
const most = 4 << 20

// Log is an open log. It is closed by its owner.
type Log struct {
	*slog.Logger
	Secrets *Secrets
	out     io.Closer
}

// Open opens the log in a file, to be written on; with debug, more is written. Only
// its owner may read it.
func Open(file string, debug bool) (*Log, error) {
	if file == "" {
		return nil, errors.New("diagnostic log: there is no home directory to keep it in")
	}
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return nil, fmt.Errorf("diagnostic log: %w", err)
	}
	if info, err := os.Stat(file); err == nil && info.Size() > most {
		if err := os.Rename(file, file+".1"); err != nil {
			return nil, fmt.Errorf("diagnostic log: %w", err)
		}
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, fmt.Errorf("diagnostic log: %w", err)
	}
	l := To(f, debug)
	l.out = f
	return l, nil
}

// To makes a log that is written to w.
func To(w io.Writer, debug bool) *Log {
	level := slog.LevelInfo
	if debug {
		level = slog.LevelDebug
	}
	s := &Secrets{}
	h := slog.NewTextHandler(masked{w, s}, &slog.HandlerOptions{Level: level})
	return &Log{Logger: slog.New(h).With("pid", os.Getpid()), Secrets: s}
}

// None is a log that takes nothing.
func None() *Log { return &Log{Logger: slog.New(slog.DiscardHandler), Secrets: &Secrets{}} }

// Close closes the log.
func (l *Log) Close() error {
	if l.out == nil {
		return nil
	}
	return l.out.Close()
}

// Secrets are what must not be written. It is safe for concurrent use.
type Secrets struct {
	mu     sync.Mutex
	values []string
	veil   *veil.Veil
}

// Add adds a secret.
func (s *Secrets) Add(value string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if value == "" || slices.Contains(s.values, value) {
		return
	}
	s.values = append(s.values, value)
	s.veil = veil.Of(s.values...)
}

// Mask takes secrets out of text, however they are written in it.
func (s *Secrets) Mask(text []byte) []byte {
	s.mu.Lock()
	defer s.mu.Unlock()
	return []byte(s.veil.Mask(string(text)))
}

// masked masks every record; the handler writes each in one piece.
type masked struct {
	w io.Writer
	s *Secrets
}

func (m masked) Write(p []byte) (int, error) {
	if _, err := m.w.Write(m.s.Mask(p)); err != nil {
		return 0, errors.Join(err)
	}
	return len(p), nil
}
