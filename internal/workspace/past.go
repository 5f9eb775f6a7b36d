package workspace

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/runbook"
	"metabasis/internal/store"
)

// past finds what devices had, for runbooks that restore. A night is read once.
func (w *Workspace) past() func(runbook.Restore, string) (runbook.Was, error) {
	var mu sync.Mutex
	nights := map[int64]*night.Night{}
	night := func(id int64) (*night.Night, error) {
		mu.Lock()
		defer mu.Unlock()
		if n, read := nights[id]; read {
			return n, nil
		}
		p, err := w.Standing(context.Background(), id)
		if err != nil {
			return nil, err
		}
		if by, runs := w.Running(p.NightHead); runs {
			return nil, fmt.Errorf("night %d runs now: %s; what it will leave is not known yet", id, by)
		}
		nights[id] = &p.Night
		return &p.Night, nil
	}
	return func(r runbook.Restore, device string) (runbook.Was, error) {
		if r.From != "" {
			return w.carried(r, device)
		}
		if r.Night == 0 {
			return w.asOf(r, device)
		}
		n, err := night(r.Night)
		if err != nil {
			return runbook.Was{}, err
		}
		return w.beforeNight(r, n.Get(device), device)
	}
}

// asOf finds what a device had at a time.
func (w *Workspace) asOf(r runbook.Restore, device string) (runbook.Was, error) {
	shelf := w.Backups("")
	kept, seen, err := shelf.AsOf(device, r.At)
	if errors.Is(err, store.ErrNoBackup) {
		return runbook.Was{}, &runbook.NoPast{Why: err.Error()}
	}
	if err != nil {
		return runbook.Was{}, err
	}
	text, err := shelf.Read(kept)
	origin := ""
	for _, s := range kept.Seen {
		if s.At.Equal(seen) {
			origin = s.Origin
		}
	}
	return runbook.Was{Name: kept.File, At: seen, Origin: origin, SHA256: kept.SHA256, Text: text, Platform: kept.Platform, Who: kept.Who}, err
}

// withoutWhatWasToBe finds what a device had before a night of which nobody read what it left
// on the device: what it was to have then stands in for that, so that what others did stays.
// Of what was not done, nothing is found, and nothing taken away.
func (w *Workspace) withoutWhatWasToBe(r runbook.Restore, d *night.Device) (was runbook.Was, err error) {
	why := fmt.Sprintf("night %d was cut off while it was %s", r.Night, d.State)
	if !d.CutOff() {
		why = fmt.Sprintf("night %d left it %s", r.Night, d.State)
	}
	shelf := w.Backups("")
	kept, text, err := shelf.ReadNoted(d.Name, d.Backup, d.SHA256)
	if err != nil {
		return was, &runbook.NoPast{Why: why + ", and what was before cannot be read: " + err.Error(), Open: true}
	}
	left, known := w.predictedBy(fmt.Sprintf("night %d", r.Night), d.Name)
	if !known {
		return was, &runbook.NoPast{
			Why:  fmt.Sprintf("%s, and what it was to have is not known: restore --before %d puts back what was", why, r.Night),
			Open: true,
		}
	}
	return runbook.Was{
		Name:     kept.File,
		SHA256:   d.SHA256,
		Text:     text,
		Platform: kept.Platform,
		Who:      kept.Who,
		At:       kept.At(),
		Origin:   kept.Origin(),
		Left:     left,
		Guessed:  why,
	}, nil
}

// predictedBy is what a device was to have, as something predicted it last; false where that
// is not kept.
func (w *Workspace) predictedBy(origin, device string) (text string, known bool) {
	shelf := w.Predictions("")
	all, err := shelf.Shelf(device)
	if err != nil {
		return "", false
	}
	var newest time.Time
	for _, k := range all {
		for _, at := range k.Seen {
			if at.Origin != origin || !at.At.After(newest) {
				continue
			}
			if read, err := shelf.Read(k); err == nil {
				text, newest = read, at.At
			}
		}
	}
	return text, !newest.IsZero()
}

// beforeNight finds what a device had before a night, and where only what that night did is
// taken back, what it left.
func (w *Workspace) beforeNight(r runbook.Restore, d *night.Device, device string) (was runbook.Was, err error) {
	none := func(format string, args ...any) (runbook.Was, error) {
		return was, &runbook.NoPast{Why: fmt.Sprintf("night %d ", r.Night) + fmt.Sprintf(format, args...)}
	}
	switch {
	case d == nil:
		return none("was not for it")
	case r.Without && d.State != night.Kept && !d.MayRun():
		return none("did not keep it: it is %s", d.State)
	case d.Backup == "" && d.CutOff():
		return none("was cut off before it had a backup of it, and sent nothing: it was %s", d.State)
	case d.Backup == "":
		return none("took no backup of it: it is %s", d.State)
	case r.Without && d.MayRun():
		return w.withoutWhatWasToBe(r, d)
	case r.Without && d.Left == "":
		return none(
			"did not keep what it left on it, so nobody can tell that from what others did since; restore what was before it: before night %d",
			r.Night,
		)
	}
	shelf := w.Backups("")
	kept, text, err := shelf.ReadNoted(device, d.Backup, d.SHA256)
	if errors.Is(err, store.ErrNoBackup) {
		return was, &runbook.NoPast{Why: err.Error()}
	}
	was = runbook.Was{Name: kept.File, SHA256: d.SHA256, Text: text, Platform: kept.Platform, Who: kept.Who}
	if err != nil {
		return was, err
	}
	was.At, was.Origin = kept.At(), kept.Origin()
	if r.Without {
		_, was.Left, err = shelf.ReadNoted(device, d.Left, d.LeftSum)
		if errors.Is(err, store.ErrNoBackup) {
			return was, &runbook.NoPast{Why: err.Error()}
		}
	}
	return was, err
}
