package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
	_ "modernc.org/sqlite" // the driver "sqlite"

	"metabasis/internal/core/night"
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

// OpenJournal opens the journal in a file to write into it, or makes a new one;
// only its owner may read it. The caller must close it.
func OpenJournal(file string) (*Journal, error) {
	if err := private(file); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	j, err := open(file, "_pragma=journal_mode(WAL)&_pragma=synchronous(FULL)&_pragma=busy_timeout(5000)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	if _, err := j.db.Exec(schema + summarySchema + rehearsalSchema); err != nil {
		j.Close()
		return nil, fmt.Errorf("journal %s cannot be opened: %w", file, err)
	}
	return j, nil
}

// noJournal says that a journal, by its file, is not there.
type noJournal string

func (n noJournal) Error() string {
	if _, err := os.Stat(string(n)); err == nil {
		return "no night was ever run here: the journal " + string(n) + " is empty"
	}
	return "no night was ever run here: there is no journal " + string(n)
}

func (noJournal) Is(target error) bool { return target == fs.ErrNotExist }

// ReadJournal opens the journal in a file to read what is there. It needs no right
// to write. Where there is none, the error is fs.ErrNotExist.
func ReadJournal(file string) (*Journal, error) {
	switch _, err := os.Stat(file); {
	case errors.Is(err, fs.ErrNotExist):
		return nil, noJournal(file)
	case err != nil:
		return nil, err
	}
	how := "mode=ro&_pragma=busy_timeout(5000)"
	if unix.Access(filepath.Dir(file), unix.W_OK) != nil {
		// What a writer has not folded in yet cannot be read without the right to
		// write beside it: the journal is read as it stands in its file.
		if _, err := os.Stat(file + "-wal"); err != nil {
			how += "&immutable=1"
		}
	}
	j, err := open(file, how)
	if err != nil {
		return nil, err
	}
	if err := j.db.Ping(); err != nil {
		j.Close()
		return nil, fmt.Errorf("journal %s cannot be read: %w", file, err)
	}
	// A file without its tables is being made by the first night at this moment.
	var tables int
	if err := j.db.QueryRow(`SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = 'nights'`).Scan(&tables); err == nil && tables == 0 {
		j.Close()
		return nil, noJournal(file)
	}
	return j, nil
}

func open(file, how string) (*Journal, error) {
	db, err := sql.Open("sqlite", "file:"+(&url.URL{Path: file}).EscapedPath()+"?"+how)
	if err != nil {
		return nil, fmt.Errorf("journal %s: %w", file, err)
	}
	db.SetMaxOpenConns(1)
	return &Journal{db}, nil
}

// private makes a file that only its owner may read, and takes the right to read
// it from others where they have it. SQLite gives its further files the same
// rights.
func private(file string) error {
	for _, f := range []string{file, file + "-wal", file + "-shm"} {
		info, err := os.Stat(f)
		switch {
		case errors.Is(err, fs.ErrNotExist) && f == file:
			made, err := os.OpenFile(f, os.O_RDWR|os.O_CREATE, 0o600)
			if err != nil {
				return err
			}
			made.Close()
		case err == nil && info.Mode().Perm()&0o077 != 0:
			if err := os.Chmod(f, 0o600); err != nil {
				return err
			}
		}
	}
	return nil
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
	Damage  error  // why not all of it can be read; nil when it can
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
	return j.Writer(id)
}

// Writer writes the events of a night that was entered.
func (j *Journal) Writer(id int64) (*NightWriter, error) {
	insert, err := j.db.Prepare(insertEvents)
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
func (w *NightWriter) Append(events []night.Event) error {
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

// Nights lists the nights in the journal, newest first. A night that cannot be read
// is listed all the same, with what is wrong with it. With an error come those
// that could be read before it.
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
			return out, fmt.Errorf("journal: %w", err)
		}
		if h.Began, err = time.Parse(time.RFC3339Nano, began); err != nil {
			h.Damage = fmt.Errorf("the time at which it began cannot be read: %w", err)
		}
		out = append(out, h)
	}
	if err := rows.Err(); err != nil {
		return out, fmt.Errorf("journal: %w", err)
	}
	return out, nil
}

// Runbook is the text of a night's runbook as it was run.
func (j *Journal) Runbook(ctx context.Context, night int64) (text string, err error) {
	if err = j.db.QueryRowContext(ctx, `SELECT runbook FROM nights WHERE id = ?`, night).Scan(&text); err != nil {
		return "", fmt.Errorf("journal: the runbook of night %d: %w", night, err)
	}
	return text, nil
}

// ErrNoNight says that the journal has no such night.
var ErrNoNight = errors.New("there is no such night in the journal; metabasis journal check lists those there are")

// Damaged is a night of which not everything can be read.
type Damaged struct {
	Night int64
	Read  int // events that could be read before
	Err   error
}

func (e *Damaged) Error() string {
	return fmt.Sprintf("night %d is damaged behind event %d: %v", e.Night, e.Read, e.Err)
}

func (e *Damaged) Unwrap() error { return e.Err }

// Events reads the events of a night, in order. Of a night that is damaged it
// returns those before the damage, and a [Damaged].
func (j *Journal) Events(ctx context.Context, id int64) ([]night.Event, error) {
	rows, err := j.db.QueryContext(ctx, `SELECT body FROM events WHERE night = ? ORDER BY seq`, id)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []night.Event
	damaged := func(err error) ([]night.Event, error) { return out, &Damaged{id, len(out), err} }
	for rows.Next() {
		var body string
		if err := rows.Scan(&body); err != nil {
			return damaged(err)
		}
		var together []night.Event
		if err := json.Unmarshal([]byte(body), &together); err != nil {
			return damaged(err)
		}
		for _, e := range together {
			if e.Seq != int64(len(out)+1) {
				return damaged(fmt.Errorf("event %d follows", e.Seq))
			}
			out = append(out, e)
		}
	}
	if err := rows.Err(); err != nil {
		return damaged(err)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("night %d: %w", id, ErrNoNight)
	}
	if out[0].Kind != night.Planned || out[0].Outline == nil {
		out = nil
		return damaged(errors.New("it does not begin with its plan"))
	}
	return out, nil
}

// EventsAfter reads the events of a night behind one, in order.
func (j *Journal) EventsAfter(ctx context.Context, id, after int64) (out []night.Event, err error) {
	rows, err := j.db.QueryContext(ctx, `SELECT body FROM events WHERE night = ? AND seq >=
		COALESCE((SELECT MAX(seq) FROM events WHERE night = ? AND seq <= ?), 0) ORDER BY seq`, id, id, after)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		var body []byte
		var together []night.Event
		if err := rows.Scan(&body); err != nil {
			return nil, fmt.Errorf("journal: %w", err)
		}
		if err := json.Unmarshal(body, &together); err != nil {
			return nil, &Damaged{id, int(after) + len(out), err}
		}
		for _, e := range together {
			switch want := after + int64(len(out)) + 1; {
			case e.Seq < want && len(out) == 0:
			case e.Seq != want:
				return nil, &Damaged{id, int(want) - 1, fmt.Errorf("event %d follows", e.Seq)}
			default:
				out = append(out, e)
			}
		}
	}
	return out, rows.Err()
}

// EventsOf reads of a night its plan and what happened on one device, in order: a small part of
// a large night, found by the device's name before anything is taken apart.
func (j *Journal) EventsOf(ctx context.Context, id int64, device string) ([]night.Event, error) {
	named, err := json.Marshal(device)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	rows, err := j.db.QueryContext(ctx,
		`SELECT body FROM events WHERE night = ? AND (seq = 1 OR instr(body, ?) > 0) ORDER BY seq`, id, string(named))
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []night.Event
	damaged := func(err error) ([]night.Event, error) { return out, &Damaged{id, len(out), err} }
	for rows.Next() {
		var body []byte
		var together []night.Event
		if err := rows.Scan(&body); err != nil {
			return damaged(err)
		}
		if err := json.Unmarshal(body, &together); err != nil {
			return damaged(err)
		}
		for _, e := range together {
			if e.Kind == night.Planned || e.Device == device {
				out = append(out, e)
			}
		}
	}
	if err := rows.Err(); err != nil {
		return damaged(err)
	}
	switch {
	case len(out) == 0:
		return nil, fmt.Errorf("night %d: %w", id, ErrNoNight)
	case out[0].Kind != night.Planned || out[0].Outline == nil:
		return damaged(errors.New("it does not begin with its plan"))
	}
	return out, nil
}

const insertEvents = `INSERT INTO events (night, seq, body) VALUES (?, ?, ?)`

// Sum is the SHA-256 of the events of a night as they stand in the journal, one append
// after the other, in hex.
func (j *Journal) Sum(ctx context.Context, night int64) (string, error) {
	rows, err := j.db.QueryContext(ctx, `SELECT body FROM events WHERE night = ? ORDER BY seq`, night)
	if err != nil {
		return "", fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	h := sha256.New()
	for rows.Next() {
		var body []byte
		if err := rows.Scan(&body); err != nil {
			return "", fmt.Errorf("journal: night %d: %w", night, err)
		}
		h.Write(append(body, '\n'))
	}
	return hex.EncodeToString(h.Sum(nil)), rows.Err()
}

// Ended tells whether the last event of a night is its end.
func (j *Journal) Ended(ctx context.Context, id int64) (bool, error) {
	var body []byte
	var together []night.Event
	err := j.db.QueryRowContext(ctx, `SELECT body FROM events WHERE night = ? ORDER BY seq DESC LIMIT 1`, id).Scan(&body)
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return false, nil
	case err != nil:
		return false, fmt.Errorf("journal: night %d: %w", id, err)
	}
	if err := json.Unmarshal(body, &together); err != nil {
		return false, fmt.Errorf("journal: night %d: its last events: %w", id, err)
	}
	return len(together) > 0 && together[len(together)-1].Kind == night.Ended, nil
}

// First reads the first events of a night, those that became durable together with its
// plan.
func (j *Journal) First(ctx context.Context, id int64) ([]night.Event, error) {
	rows, err := j.db.QueryContext(ctx, `SELECT body FROM events WHERE night = ? ORDER BY seq LIMIT 3`, id)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []night.Event
	for rows.Next() {
		var body []byte
		var together []night.Event
		if err := rows.Scan(&body); err != nil {
			return out, fmt.Errorf("journal: night %d: %w", id, err)
		}
		if err := json.Unmarshal(body, &together); err != nil {
			return out, &Damaged{id, len(out), err}
		}
		out = append(out, together...)
	}
	return out, rows.Err()
}
