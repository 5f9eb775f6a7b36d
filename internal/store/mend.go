package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"time"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"

	"metabasis/internal/core/night"
)

// Broken tells whether an error says that a journal's file itself is damaged, and
// not that it is in use, or that the disk is full.
func Broken(err error) bool {
	if errors.Is(err, errUnsound) {
		return true
	}
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return false
	}
	switch e.Code() & 0xff { // the primary code
	case sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB:
		return true
	}
	return false
}

// Sound looks quickly whether a journal's file is sound. The error is one for
// [Broken] when it is not.
func (j *Journal) Sound(ctx context.Context) error { return j.sound(ctx, "PRAGMA quick_check(1)") }

// Whole looks whether a journal's file is sound, beside the nights in it.
func (j *Journal) Whole(ctx context.Context) error { return j.sound(ctx, "PRAGMA integrity_check(1)") }

func (j *Journal) sound(ctx context.Context, ask string) error {
	var said string
	if err := j.db.QueryRowContext(ctx, ask).Scan(&said); err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	if said != "ok" {
		return fmt.Errorf("journal: %w: %s", errUnsound, said)
	}
	return nil
}

var errUnsound = errors.New("its file is not sound")

// SetAside puts a damaged journal aside and makes a new one in its place with every
// night that can still be read, so that a new night can be run. It returns where
// the damaged one is, and how many nights came along. Nothing else may have the
// journal open.
func SetAside(ctx context.Context, file string, now time.Time) (aside string, saved int, err error) {
	aside = fmt.Sprintf("%s.damaged-%s", file, now.Format("2006-01-02T150405"))
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(file+end, aside+end); err != nil && !errors.Is(err, os.ErrNotExist) {
			return aside, 0, fmt.Errorf("setting the damaged journal aside: %w", err)
		}
	}
	fresh, err := OpenJournal(file)
	if err != nil {
		return aside, 0, err
	}
	defer fresh.Close()
	old, err := ReadJournal(aside)
	if err != nil {
		return aside, 0, nil // nothing of it can be read
	}
	defer old.Close()
	heads, _ := old.Nights(ctx)
	for i := len(heads) - 1; i >= 0; i-- {
		events, err := old.Events(ctx, heads[i].ID)
		if len(events) == 0 || heads[i].Damage != nil {
			continue
		}
		if fresh.take(heads[i], events) == nil && err == nil {
			saved++
		}
	}
	return aside, saved, nil
}

// take writes a night of another journal into this one, under its number there.
func (j *Journal) take(h NightHead, events []night.Event) error {
	return j.in(func(tx *sql.Tx) error {
		if _, err := tx.Exec(`INSERT INTO nights (id, began, title, change, file, runbook) VALUES (?, ?, ?, ?, ?, ?)`,
			h.ID, h.Began.UTC().Format(time.RFC3339Nano), h.Title, h.Change, h.File, h.Runbook); err != nil {
			return err
		}
		insert, err := tx.Prepare(insertEvents)
		if err != nil {
			return err
		}
		return (&NightWriter{h.ID, insert}).Append(events)
	})
}

// in does something in one transaction.
func (j *Journal) in(do func(*sql.Tx) error) error {
	tx, err := j.db.Begin()
	if err != nil {
		return err
	}
	if err := do(tx); err != nil {
		return errors.Join(err, tx.Rollback())
	}
	return tx.Commit()
}
