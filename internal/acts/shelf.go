package acts

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/keep"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/run"
	"metabasis/internal/settings"
	"metabasis/internal/store"
)

// Origins of backups that no night has taken.
const (
	ByHand    = "by hand"
	Scheduled = "schedule"
)

// BackedUp is what became of the backup of one device.
type BackedUp struct {
	Device string `json:"device"`
	File   string `json:"file,omitempty"`
	Same   bool   `json:"same,omitempty"` // as the newest one: it is noted that it was seen again
	SHA256 string `json:"sha256,omitempty"`
	Error  string `json:"error,omitempty"`
}

// BackUp backs up every device in scope. Each is told of as it is done, one at a time; it
// may be nil. The results come in the fleet's order.
func (e *Evening) BackUp(ctx context.Context, origin string, each func(BackedUp)) []BackedUp {
	began := time.Now()
	defer func() { e.did("backup", began, ctx.Err(), "devices", len(e.Scope.Devices)) }()
	var mu sync.Mutex
	done := map[string]BackedUp{}
	take := func(one BackedUp) {
		mu.Lock()
		defer mu.Unlock()
		done[one.Device] = one
		if each != nil {
			each(one)
		}
	}
	shelf := e.Backups(origin, e.Scope.Devices...)
	reach.Sweep(ctx, e.Scope.Devices, e.Together(), func(ctx context.Context, d fleet.Device) {
		b, err := e.backUp(ctx, shelf, d)
		one := BackedUp{Device: d.Name, Same: b.Same, SHA256: b.SHA256}
		if err != nil {
			one = BackedUp{Device: d.Name, Error: err.Error()}
		} else {
			one.File = filepath.Base(b.Path)
		}
		take(one)
	}, func(_ context.Context, d fleet.Device) { take(BackedUp{Device: d.Name, Error: notBegun}) })
	var out []BackedUp
	for _, d := range e.Scope.Devices {
		out = append(out, done[d.Name])
	}
	return out
}

// backUp backs up one device.
func (e *Evening) backUp(ctx context.Context, shelf store.Backups, d fleet.Device) (run.Backup, error) {
	s, err := e.open(ctx, d)
	if err != nil {
		return run.Backup{}, e.unreached(err)
	}
	defer s.Close()
	text, err := wholeConfig(ctx, s, e.Profiles[d.Platform].Style())
	if err != nil {
		return run.Backup{}, errors.New(s.Mask(err.Error()))
	}
	return shelf.Put(d.Name, text, time.Now())
}

// unreached says why a device could not be worked on, and takes note of it.
func (e *Evening) unreached(err error) error {
	if errors.Is(err, ErrInChange) {
		return err
	}
	f := reach.AsFailure(err)
	e.failed(f)
	return fmt.Errorf("%s: %w", f.Stage, f)
}

// configured reads configurations.
type configured interface {
	Config(ctx context.Context, which run.Which) (string, error)
}

// wholeConfig reads what runs on a device, twice: one that was cut short looks like any
// other.
func wholeConfig(ctx context.Context, s configured, style config.Style) (string, error) {
	text, err := s.Config(ctx, run.Running)
	if err != nil {
		return "", fmt.Errorf("reading the configuration: %w", err)
	}
	again, err := s.Config(ctx, run.Running)
	if err != nil {
		return "", fmt.Errorf("reading the configuration again: %w", err)
	}
	first, second := config.Parse(text, style), config.Parse(again, style)
	switch d := config.Compare(first, second); {
	case len(first.Lines) == 0:
		return "", errors.New("no line of its configuration is left to compare: see what its profile calls volatile")
	case !d.Empty():
		return "", fmt.Errorf("its configuration reads differently the second time (%s): no backup can be trusted", d)
	}
	return text, nil
}

// ShelfRow is a backup as it stands in a list: with what changed since the one before.
type ShelfRow struct {
	store.Shelved
	Before         bool // there is one before it, and both can be read
	Added, Removed int
	Wrong          error // it cannot be read
}

// ShelfOf lists the backups of a device, the newest first. Platform may be "": its lines
// are then compared as they stand.
func (d *Desk) ShelfOf(device, platform string) ([]ShelfRow, error) {
	shelf := d.Backups("")
	all, err := shelf.Shelf(device)
	if err != nil {
		return nil, err
	}
	style := d.styleOf(platform)
	out := make([]ShelfRow, len(all))
	var before *config.Config
	for i := len(all) - 1; i >= 0; i-- {
		out[i].Shelved = all[i]
		text, err := shelf.Read(all[i])
		if err != nil {
			out[i].Wrong, before = err, nil
			continue
		}
		now := config.Parse(text, style)
		if before != nil {
			diff := config.Compare(*before, now)
			out[i].Before, out[i].Added, out[i].Removed = true, len(diff.Added), len(diff.Removed)
		}
		before = &now
	}
	return out, nil
}

// PlatformOf is the platform of a device by the workspace's fleet; "" where it is not in it.
func (d *Desk) PlatformOf(f *fleet.Fleet, device string) string {
	if f != nil {
		if dev, ok := f.Get(device); ok {
			return dev.Platform
		}
	}
	return ""
}

// Shelves are the devices that have backups, those of the fleet and others, and of those
// named only. None named are all.
func (d *Desk) Shelves(names []string) ([]string, error) {
	known, err := d.Backups("").Devices()
	if err != nil || len(names) == 0 {
		return known, err
	}
	for _, name := range names {
		if _, inFleet := d.fleetDevice(name); !inFleet && !slices.Contains(known, name) {
			return nil, fmt.Errorf("there is no device %q, and no backup of one", name)
		}
	}
	return names, nil
}

// Clearing is what a rule would clear from the shelf.
type Clearing struct {
	Rule   keep.Rule
	Go     []store.Shelved
	Stay   int
	Needed int   // of those that stay, how many only because a night may need them
	Bytes  int64 // of those that go
	// Predicted are the predictions that the rule does not keep: no night needs them.
	Predicted []store.Shelved
}

// Clear finds out what the rule of the setting clears from the shelf. Nothing is touched.
// What a night may need stays, whatever the rule says: the backups of nights that run, that
// have no end, or that left devices somebody must see to; and what the newest night that
// kept a device found on it and left on it.
func (d *Desk) Clear(ctx context.Context, devices []string) (*Clearing, error) {
	rule, err := keep.Parse(d.Settings.Get(settings.Keep))
	if err != nil {
		return nil, err
	}
	needed, err := d.needed(ctx)
	if err != nil {
		return nil, fmt.Errorf("what nights may need is not known, so nothing is cleared: %w", err)
	}
	c := &Clearing{Rule: rule}
	shelf := d.Backups("")
	for _, device := range devices {
		all, err := shelf.Shelf(device)
		if err != nil {
			return nil, err
		}
		c.Stay += len(all)
		out := rule.Superfluous(items(all), time.Now())
		for _, s := range all {
			if !slices.Contains(out, s.File) {
				continue
			}
			if needed[device+"/"+s.File] {
				c.Needed++
				continue
			}
			c.Go = append(c.Go, s)
			c.Stay--
			c.Bytes += s.Size
		}
		if err := d.clearPredicted(c, device); err != nil {
			return nil, err
		}
	}
	return c, nil
}

func (d *Desk) clearPredicted(c *Clearing, device string) error {
	all, err := d.Predictions("").Shelf(device)
	if err != nil {
		return fmt.Errorf("predictions: %w", err)
	}
	out := c.Rule.Superfluous(items(all), time.Now())
	for _, s := range all {
		if slices.Contains(out, s.File) {
			c.Predicted = append(c.Predicted, s)
			c.Bytes += s.Size
		}
	}
	return nil
}

// items are backups as a rule looks at them.
func items(shelf []store.Shelved) (out []keep.Item) {
	for _, s := range shelf {
		i := keep.Item{Name: s.File}
		for _, one := range s.Seen {
			i.Seen = append(i.Seen, one.At)
		}
		out = append(out, i)
	}
	return out
}

// needed are the backups that a night may need, as DEVICE/FILE.
func (d *Desk) needed(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	nights, err := d.Listed(ctx)
	if err != nil {
		return nil, err
	}
	kept := map[string]bool{} // devices of which the newest night that kept them is known
	for _, l := range nights {
		p, err := d.Workspace.Past(ctx, l.ID)
		if err != nil && p.Night.Outline == nil {
			return nil, err
		}
		open := p.Night.Ended.IsZero() || l.Seen == nil && p.Night.Outcome() == run.NeedsPerson
		for _, dev := range p.Night.Devices {
			if dev.Backup == "" {
				continue
			}
			newest := dev.State == run.Kept && !kept[dev.Name]
			if newest || open {
				out[dev.Name+"/"+filepath.Base(dev.Backup)] = true
				if dev.Left != "" {
					out[dev.Name+"/"+filepath.Base(dev.Left)] = true
				}
			}
			kept[dev.Name] = kept[dev.Name] || newest
		}
	}
	return out, nil
}

// Cleared clears from the shelf what was found, and notes by whom.
func (d *Desk) Cleared(c *Clearing) error {
	shelf, predicted, why := d.Backups(""), d.Predictions(""), "cleared by "+Who()
	for i, s := range c.Go {
		if err := shelf.Remove(s, why, time.Now()); err != nil {
			return fmt.Errorf("%w; %d of %d are cleared", err, i, len(c.Go))
		}
	}
	for i, s := range c.Predicted {
		if err := predicted.Remove(s, why, time.Now()); err != nil {
			return fmt.Errorf("predictions: %w; %d of %d are cleared", err, i, len(c.Predicted))
		}
	}
	return nil
}
