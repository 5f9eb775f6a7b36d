package acts

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// Past is a night that is looked at: one that is over, has crashed, or runs in another
// process.
type Past struct {
	workspace.Past
	// Elsewhere says who runs it now; "" when nobody does.
	Elsewhere string

	dir string // of its transcripts
}

// Open opens a night of the journal, from the journal alone. One of which only a part
// can be read comes with what is wrong with it; what can be read of it is there, when
// it has an outline.
func (d *Desk) Open(ctx context.Context, id int64) (*Past, error) {
	return d.open(ctx, id, d.Workspace.Past)
}

// Stands is Open without what happened: how the night stands, without reading all of it.
func (d *Desk) Stands(ctx context.Context, id int64) (*Past, error) {
	return d.open(ctx, id, d.Standing)
}

func (d *Desk) open(ctx context.Context, id int64, read func(context.Context, int64) (workspace.Past, error)) (*Past, error) {
	p, err := read(ctx, id)
	if p.Night.Outline == nil {
		return nil, err
	}
	past := &Past{Past: p, dir: d.Transcripts(id)}
	if h, now := d.Running(p.NightHead); now {
		past.Elsewhere = h.String()
	} else if p.Night.Ended.IsZero() { // it may have ended since it was read: what has crashed reads the same again
		if again, err := read(ctx, id); err == nil {
			past.Past = again
		}
	}
	return past, err
}

// nowOrThen begins what is said of a device whose night has no end.
func (p *Past) nowOrThen() string {
	if p.Elsewhere != "" {
		return "the night runs now, and it is "
	}
	return "the night was cut off, and it was "
}

// Transcript returns what was said with a device; fs.ErrNotExist where nothing was.
func (p *Past) Transcript(device string) ([]string, error) {
	return store.ReadTranscript(p.dir, device)
}

// Tail returns the last lines of that.
func (p *Past) Tail(device string, n int) []string {
	lines, err := p.Transcript(device)
	if err != nil {
		return nil
	}
	return lines[max(0, len(lines)-n):]
}

// Nights lists the nights of the workspace, newest first, without reading their events.
// An error says that not all could be listed; those that could are there.
func (d *Desk) Nights(ctx context.Context) ([]store.Listed, error) {
	all, err := d.Listed(ctx)
	for i, l := range all {
		if l.Summary != nil {
			continue // it is over
		}
		if by, now := d.Running(l.NightHead); now {
			all[i].Runs = fmt.Sprintf("%s, process %d", by.Who, by.PID)
			all[i].Summary = &store.Summary{Outcome: night.NeedsPerson, Text: "runs now: " + all[i].Runs}
		}
	}
	return all, err
}

// Sum reads a night that has no summary yet, says what it came to, and writes that down
// where it can, so that it is read once.
func (d *Desk) Sum(ctx context.Context, id int64) store.Summary {
	p, err := d.Standing(ctx, id)
	if err != nil {
		return store.Summary{Outcome: night.NeedsPerson, Text: "damaged: " + strings.ReplaceAll(err.Error(), "\n", " ")}
	}
	s := workspace.Summed(&p.Night)
	if !s.Ended.IsZero() {
		_ = d.write(func(j *store.Journal) error { return j.Summarise(id, s) }) // one that may not be written is read again
	}
	return s
}

// LeastReason is the least that a reason can say, in bytes.
const LeastReason = 3

// Settle writes into the journal that a person has seen to what a night left: it is not
// among what needs somebody any more.
func (d *Desk) Settle(id int64, why string) error {
	why = strings.TrimSpace(why)
	if len(why) < LeastReason {
		return errors.New("write what was found and done: it stands in the journal")
	}
	if err := d.needsSomebody(id); err != nil {
		return err
	}
	err := d.write(func(j *store.Journal) error { return j.Settle(id, store.Seen{At: time.Now(), By: Who(), Why: why}) })
	if err != nil {
		return fmt.Errorf("night %d stays among what needs somebody: %w", id, err)
	}
	return nil
}

// needsSomebody says why a night is none that a person must see to.
func (d *Desk) needsSomebody(id int64) error {
	p, err := d.Stands(context.Background(), id)
	switch {
	case p == nil:
		return fmt.Errorf("night %d: %w", id, err)
	case p.Elsewhere != "":
		return fmt.Errorf("night %d runs now: %s; there is nothing to see to yet", id, p.Elsewhere)
	case err == nil && !p.Night.Ended.IsZero() && len(report.Needs(&p.Night)) == 0:
		return fmt.Errorf("night %d needs nobody: %s", id, report.Summary(&p.Night))
	}
	return nil
}

// write writes into the journal there is.
func (d *Desk) write(do func(*store.Journal) error) error {
	if j, err := d.ReadJournal(); err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			err = store.ErrNoNight
		}
		return err
	} else if err := j.Close(); err != nil {
		return err
	}
	j, err := store.OpenJournal(d.JournalFile())
	if err != nil {
		return err
	}
	return errors.Join(do(j), j.Close())
}

// NightDevices is who ran a night, and over which devices.
type NightDevices struct {
	By      string
	Devices []string
}

// DevicesOf tells who ran a night and over which devices, without reading all of it.
func (d *Desk) DevicesOf(ctx context.Context, id int64) (NightDevices, error) {
	j, err := d.ReadJournal()
	if err != nil {
		return NightDevices{}, err
	}
	defer j.Close()
	events, err := j.First(ctx, id)
	var out NightDevices
	for _, e := range events {
		switch {
		case e.Kind == night.Began:
			out.By = e.By
		case e.Outline != nil:
			for _, batch := range e.Outline.Batches {
				for _, dev := range batch {
					out.Devices = append(out.Devices, dev.Name)
				}
			}
		}
	}
	return out, err
}
