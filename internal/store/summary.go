package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Summary is what a night came to, in few words: it is written at the night's end, so
// that nobody has to read a whole journal to list its nights.
type Summary struct {
	Ended   time.Time     `json:"ended,omitzero"` // zero: it never saw its end
	Last    time.Time     `json:"last,omitzero"`  // of its last event
	Outcome night.Outcome `json:"outcome"`
	Text    string        `json:"text"`
	// Needs are the devices that a person must look at, with what is known of each.
	Needs []string `json:"needs,omitempty"`
	// Times is how long things took; nil where none was kept.
	Times *plan.Times `json:"times,omitempty"`
}

// Seen says that a person has seen to what a night left.
type Seen struct {
	At  time.Time `json:"at"`
	By  string    `json:"by"`
	Why string    `json:"why"`
}

// Listed is a night as it stands in a list.
type Listed struct {
	NightHead          // without the runbook's text
	Summary   *Summary // nil: not written yet
	Runs      string   // who runs it now; "" for nobody
	Seen      *Seen    // nil: nobody has
	Empty     bool     // it was entered and never begun
}

const summarySchema = `
-- What a night came to, written at its end, or by whoever read it first without one.
CREATE TABLE IF NOT EXISTS summaries (
	night INTEGER PRIMARY KEY REFERENCES nights(id),
	body  TEXT NOT NULL
);
-- How a night stood after the event of that number, for whoever need not read all of them.
CREATE TABLE IF NOT EXISTS standings (
	night INTEGER PRIMARY KEY REFERENCES nights(id),
	body  TEXT NOT NULL
);
-- Nights whose remains a person has seen to.
CREATE TABLE IF NOT EXISTS seen (
	night INTEGER PRIMARY KEY REFERENCES nights(id),
	body  TEXT NOT NULL
);
`

// List lists the nights, newest first, without reading their events. With an error
// come those that could be read before it.
func (j *Journal) List(ctx context.Context) ([]Listed, error) {
	var has int
	if err := j.db.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_master WHERE name IN ('summaries', 'seen')`).Scan(&has); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	ask := `SELECT id, began, title, change, file, EXISTS (SELECT 1 FROM events e WHERE e.night = n.id), NULL, NULL FROM nights n ORDER BY id DESC`
	if has == 2 {
		ask = `SELECT id, began, title, change, file, EXISTS (SELECT 1 FROM events e WHERE e.night = n.id), s.body, k.body
			FROM nights n LEFT JOIN summaries s ON s.night = n.id LEFT JOIN seen k ON k.night = n.id ORDER BY id DESC`
	}
	rows, err := j.db.QueryContext(ctx, ask)
	if err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	defer rows.Close()
	var out []Listed
	for rows.Next() {
		l, err := listed(rows)
		if err != nil {
			return out, fmt.Errorf("journal: %w", err)
		}
		out = append(out, l)
	}
	if err := rows.Err(); err != nil {
		return out, fmt.Errorf("journal: %w", err)
	}
	return out, nil
}

func listed(rows *sql.Rows) (l Listed, err error) {
	var began string
	var events bool
	var summary, seen sql.NullString
	if err := rows.Scan(&l.ID, &began, &l.Title, &l.Change, &l.File, &events, &summary, &seen); err != nil {
		return l, err
	}
	l.Empty = !events
	if l.Began, err = time.Parse(time.RFC3339Nano, began); err != nil {
		l.Damage = fmt.Errorf("the time at which it began cannot be read: %w", err)
	}
	var s Summary
	if summary.Valid && json.Unmarshal([]byte(summary.String), &s) == nil { // one that cannot be read is made anew
		l.Summary = &s
	}
	var k Seen
	if seen.Valid && json.Unmarshal([]byte(seen.String), &k) == nil {
		l.Seen = &k
	}
	return l, nil
}

// Summarise writes what a night came to.
func (j *Journal) Summarise(night int64, s Summary) error { return j.put("summaries", night, s) }

// String says who has seen to it, when, and what was found and done.
func (s Seen) String() string {
	return fmt.Sprintf("seen to by %s, %s: %s", s.By, s.At.Local().Format("Mon 2 Jan 2006 15:04"), s.Why)
}

// Settle writes that a person has seen to what a night left.
func (j *Journal) Settle(night int64, s Seen) error { return j.put("seen", night, s) }

// Stand writes how a night stands after the newest event that it has taken in.
func (j *Journal) Stand(id int64, n *night.Night) error {
	body, err := night.Standing(n)
	if err != nil {
		return err
	}
	return j.put("standings", id, stood{n.Seq, body})
}

// stood is how a night stood after an event.
type stood struct {
	Seq  int64           `json:"seq"`
	Body json.RawMessage `json:"body"`
}

// Standing reads how a night stands, by how it stood last and what came then: what was written long
// before is not read. Whoever tells of all that happened reads [Journal.Events].
func (j *Journal) Standing(ctx context.Context, id int64) (night.Night, error) {
	var body []byte
	var s stood
	err := j.db.QueryRowContext(ctx, `SELECT body FROM standings WHERE night = ?`, id).Scan(&body)
	if err == nil && json.Unmarshal(body, &s) == nil { // of an older journal there is none, and none is needed
		if n, err := j.since(ctx, id, s); err == nil {
			return n, nil
		}
	}
	events, err := j.Events(ctx, id)
	return night.Fold(night.Night{}, events...), err
}

// since is how a night stands by how it stood.
func (j *Journal) since(ctx context.Context, id int64, s stood) (night.Night, error) {
	first, err := j.First(ctx, id)
	if len(first) == 0 { // else its plan is there, whatever comes behind it
		return night.Night{}, errors.Join(err, fmt.Errorf("night %d: %w", id, ErrNoNight))
	}
	n, err := night.FromStanding(first[0], s.Body)
	if err != nil {
		return night.Night{}, err
	}
	events, err := j.EventsAfter(ctx, id, s.Seq)
	if err != nil {
		return night.Night{}, err
	}
	return night.Fold(n, events...), nil
}

func (j *Journal) put(table string, night int64, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("journal: %w", err)
	}
	if _, err := j.db.Exec(`INSERT OR REPLACE INTO `+table+` (night, body) VALUES (?, ?)`, night, body); err != nil {
		return fmt.Errorf("journal: night %d: %w", night, err)
	}
	return nil
}
