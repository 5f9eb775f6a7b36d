package workspace

import (
	"context"
	"fmt"
	"slices"
	"sync"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/store"
)

// Unfinished finds, of a device, the newest night that did something to it, where nobody has
// written down how that ended; nil where it is known, or no night did. Except is the night
// that asks, 0 for none. What cannot be read is not known. Nights are read when they are
// asked for first, from the newest on.
func (w *Workspace) Unfinished(ctx context.Context, except int64) func(device string) *work.Unfinished {
	ctx = context.WithoutCancel(ctx) // it is asked for later on
	var mu sync.Mutex
	var heads []store.NightHead
	var read []*night.Night // as far as they were asked for
	listed := false
	nights := func(i int) *night.Night {
		if !listed {
			listed = true
			if j, err := w.ReadJournal(); err == nil {
				heads, _ = j.Nights(ctx)
				_ = j.Close()
			}
			slices.SortFunc(heads, func(a, b store.NightHead) int { return b.Began.Compare(a.Began) })
			heads = slices.DeleteFunc(heads, func(h store.NightHead) bool {
				_, runs := w.Running(h)
				return h.ID == except || h.Damage != nil || runs
			})
		}
		for len(read) <= i && len(read) < len(heads) {
			p, err := w.Standing(ctx, heads[len(read)].ID)
			if err != nil {
				p.Night = night.Night{}
			}
			night := p.Night // without its events, which are many
			read = append(read, &night)
		}
		if i >= len(read) {
			return nil
		}
		return read[i]
	}
	return func(device string) *work.Unfinished {
		mu.Lock()
		defer mu.Unlock()
		for i := 0; ; i++ {
			n := nights(i)
			if n == nil {
				return nil
			}
			d := n.Get(device)
			switch {
			case d == nil || !d.Begun():
				continue
			case !d.MayRun():
				return nil
			}
			return w.unfinished(heads[i], d)
		}
	}
}

func (w *Workspace) unfinished(h store.NightHead, d *night.Device) *work.Unfinished {
	u := &work.Unfinished{
		ID:    h.ID,
		Night: fmt.Sprintf("night %d, %q of %s", h.ID, h.Title, h.Began.Local().Format("Mon 2 Jan 15:04")),
		Was:   string(d.State),
	}
	if _, text, err := w.Backups("").ReadNoted(d.Name, d.Backup, d.SHA256); err == nil {
		u.Had = text
	}
	if text, known := w.predictedBy(fmt.Sprintf("night %d", h.ID), d.Name); known {
		u.WouldHave = text
	}
	return u
}
