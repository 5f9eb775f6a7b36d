package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"metabasis/internal/core/run"
)

// Journal is the durable record of all nights of a workspace. It has one
// writer; every append is one transaction, on disk when it returns.
type Journal struct {
	db *sql.DB
}

const schema = `
CREATE TABLE IF NOT EXISTS nights (
	id      INTEGER PRIMARY KEY,
	began   TEXT NOT NULL,
	title   TEXT NOT NULL,
	change  TEXT NOT NULL,
	file    TEXT NOT NULL,
	runbook TEXT NOT NULL
);
-- A row is one append: what became durable together. Body is a JSON array of
-- events, the first of which has the number seq.
CREATE TABLE IF NOT EXISTS events (
	night INTEGER NOT NULL REFERENCES nights(id),
	seq   INTEGER NOT NULL,
	body  TEXT NOT NULL,
	PRIMARY KEY (night, seq)
) WITHOUT ROWID;
PRAGMA user_version = 1;
`

// OpenJournal opens the journal in a file, or makes a new one. The caller must
// close it.
func OpenJournal(file string) (*Journal, error) {
	dsn := "file:" + (&url.URL{Path: file}).EscapedPath() +
		"?_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)&_txlock=immediate"
	db, err := sql.Open("sqlite", dsn)
	if err != nil {
		return nil, fmt.Errorf("journal %s: %w", file, err)
	}
	db.SetMaxOpenConns(1)
	if _, err := db.Exec(schema); err != nil {
		db.Close()
		return nil, fmt.Errorf("journal %s cannot be opened: %w", file, err)
	}
	return &Journal{db}, nil
}

// Close closes the journal.
func (j *Journal) Close() error { return j.db.Close() }

// NightHead describes a night in the journal.
type NightHead struct {
	ID      int64
	Began   time.Time
	Title   string
	Change  string
	File    string // of the runbook
	Runbook string // its text as it was run
}

// Begin enters a new night and returns the writer of its events.
func (j *Journal) Begin(h NightHead) (*NightWriter, error) {
	res, err := j.db.Exec(`INSERT INTO nights (began, title, change, file, runbook) VALUES (?, ?, ?, ?, ?)`,
		h.Began.UTC().Format(time.RFC3339Nano), h.Title, h.Change, h.File, h.Runbook)
	if err != nil {
		return nil, fmt.Errorf("journal: beginning a night: %w", err)
	}
	id, err := res.LastInsertId()
	if err != nil {
		return nil, fmt.Errorf("journal: beginning a night: %w", err)
	}
	insert, err := j.db.Prepare(`INSERT INTO events (night, seq, body) VALUES (?, ?, ?)`)
	if err != nil {
		return nil, fmt.Errorf("journal: beginning a night: %w", err)
	}
	return &NightWriter{id, insert}, nil
}

// NightWriter appends the events of one night. It implements [run.Journal].
type NightWriter struct {
	ID     int64
	insert *sql.Stmt
}

// Append implements [run.Journal]: all events are on disk when it returns, or
// none. They are one row, since SQLite's cost is by the row.
func (w *NightWriter) Append(events []run.Event) error {
	if len(events) == 0 {
		return nil
	}
	body, err := json.Marshal(events)
	if err != nil {
		return fmt.Errorf("journal: event %d: %w", events[0].Seq, err)
	}
	if _, err := w.insert.Exec(w.ID, events[0].Seq, body); err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	return nil
}

// Nights lists the nights in the journal, newest first.
func (j *Journal) Nights(ctx context.Context) ([]NightHead, error) {
	rows, err := j.db.QueryContext(ctx, `SELECT id, began, title, change, file, runbook FROM nights ORDER BY id DESC`)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []NightHead
	for rows.Next() {
		var h NightHead
		var began string
		if err := rows.Scan(&h.ID, &began, &h.Title, &h.Change, &h.File, &h.Runbook); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		if h.Began, err = time.Parse(time.RFC3339Nano, began); err != nil {
			return nil, fmt.Errorf("journal: night %d: %w", h.ID, err)
		}
		out = append(out, h)
	}
	return out, rows.Err()
}

// ErrNoNight says that the journal has no such night.
var ErrNoNight = errors.New("no such night in the journal")

// Events reads the events of a night, in order.
func (j *Journal) Events(ctx context.Context, night int64) ([]run.Event, error) {
	rows, err := j.db.QueryContext(ctx, `SELECT body FROM events WHERE night = ? ORDER BY seq`, night)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []run.Event
	for rows.Next() {
		var body string
		if err := rows.Scan(&body); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		var together []run.Event
		if err := json.Unmarshal([]byte(body), &together); err != nil {
			return nil, fmt.Errorf("journal: night %d, behind event %d: %w", night, len(out), err)
		}
		out = append(out, together...)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("night %d: %w", night, ErrNoNight)
	}
	return out, nil
}
