package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
)

// Rehearsal is what a rehearsal of a night found, device by device, in the order of the
// plan. No secret is in it.
type Rehearsal struct {
	ID      int64            `json:"-"`
	Began   time.Time        `json:"began"`
	Ended   time.Time        `json:"ended"`
	By      string           `json:"by"`
	Title   string           `json:"title"`
	Change  string           `json:"change,omitempty"`
	File    string           `json:"file"`
	Runbook string           `json:"runbook"` // its text
	Values  []plan.Value     `json:"values,omitempty"`
	Devices []work.Rehearsed `json:"devices"`
}

// Of returns what was found of a device, nil when it was not rehearsed.
func (r *Rehearsal) Of(device string) *work.Rehearsed {
	for i := range r.Devices {
		if r.Devices[i].Device == device {
			return &r.Devices[i]
		}
	}
	return nil
}

// Times is what the rehearsal shows of how long things take: reaching and checking.
func (r *Rehearsal) Times() plan.Times {
	var parts []plan.Part
	for _, d := range r.Devices {
		if d.Took > 0 {
			parts = append(parts, plan.Part{Device: d.Device, Platform: d.Platform, Name: plan.Before, Took: d.Took})
		}
	}
	return plan.Times{Parts: plan.Sum(parts).Parts, Rehearsed: true}
}

// Stale says why the rehearsal is not one of this runbook with these values; "" when it is.
// Spaces at the ends of a text say nothing: no file keeps them well.
func (r *Rehearsal) Stale(runbook string, values []plan.Value) string {
	on := r.Ended.Local().Format("Mon 2 Jan 15:04")
	if strings.TrimSpace(r.Runbook) != strings.TrimSpace(runbook) {
		return "the runbook is not the one that was rehearsed on " + on
	}
	for _, now := range values {
		for _, was := range r.Values {
			if was.Name == now.Name && was.Value != now.Value {
				return fmt.Sprintf("%s was %q when it was rehearsed, and is %q now", now.Name, was.Value, now.Value)
			}
		}
	}
	return ""
}

// Seen is what devices told of their neighbours in the newest rehearsals since that time,
// each in the newest that it was read in.
func (j *Journal) Seen(ctx context.Context, since time.Time) (fleet.Seen, error) {
	out := fleet.Seen{Neighbours: map[string][]string{}}
	for id := int64(0); ; {
		r, err := j.Rehearsal(ctx, id, "")
		switch {
		case errors.Is(err, ErrNoRehearsal) && id > 0: // it was taken out
		case errors.Is(err, ErrNoRehearsal):
			return out, nil
		case err != nil:
			return fleet.Seen{}, err
		case r.Ended.Before(since):
			return out, nil
		default:
			id = r.ID
			for _, d := range r.Devices {
				if _, newer := out.Neighbours[d.Device]; !newer && len(d.Neighbours) > 0 {
					out.Neighbours[d.Device] = d.Neighbours
					if out.At.IsZero() || r.Ended.Before(out.At) {
						out.At = r.Ended
					}
				}
			}
		}
		if id--; id < 1 {
			return out, nil
		}
	}
}

const rehearsalSchema = `
-- Rehearsals: the whole night without the change, and what was found.
CREATE TABLE IF NOT EXISTS rehearsals (
	id    INTEGER PRIMARY KEY AUTOINCREMENT,
	title TEXT NOT NULL,
	body  TEXT NOT NULL
);
`

// ErrNoRehearsal says that there is no such rehearsal.
var ErrNoRehearsal = errors.New("there is no such rehearsal")

// Rehearsed keeps a rehearsal and returns its number.
func (j *Journal) Rehearsed(r Rehearsal) (int64, error) {
	body, err := json.Marshal(r)
	if err != nil {
		return 0, fmt.Errorf("journal: %w", err)
	}
	res, err := j.db.Exec(`INSERT INTO rehearsals (title, body) VALUES (?, ?)`, r.Title, body)
	if err != nil {
		return 0, fmt.Errorf("journal: the rehearsal is not kept: %w", err)
	}
	return res.LastInsertId()
}

// Rehearsal returns a rehearsal by its number, or with 0 the newest of that title, "" for
// any.
func (j *Journal) Rehearsal(ctx context.Context, id int64, title string) (*Rehearsal, error) {
	var has int
	if err := j.db.QueryRowContext(ctx, `SELECT count(*) FROM sqlite_master WHERE name = 'rehearsals'`).Scan(&has); err != nil {
		return nil, fmt.Errorf("journal: %w", err)
	}
	if has == 0 {
		return nil, ErrNoRehearsal
	}
	row := j.db.QueryRowContext(ctx, `SELECT id, body FROM rehearsals WHERE (? = 0 OR id = ?) AND (? = '' OR title = ?) ORDER BY id DESC LIMIT 1`, id, id, title, title)
	var body string
	r := &Rehearsal{}
	switch err := row.Scan(&r.ID, &body); {
	case errors.Is(err, sql.ErrNoRows):
		return nil, ErrNoRehearsal
	case err != nil:
		return nil, fmt.Errorf("journal: %w", err)
	}
	n := r.ID
	if err := json.Unmarshal([]byte(body), r); err != nil {
		return nil, fmt.Errorf("journal: rehearsal %d cannot be read: %w", n, err)
	}
	r.ID = n
	return r, nil
}
