package acts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/work"
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
	// Equal names the backup before it where nothing differs but what does not count, such
	// as a time that the device writes in.
	Equal  string `json:"equal_to,omitempty"`
	SHA256 string `json:"sha256,omitempty"`
	Error  string `json:"error,omitempty"`
}

// Said is what came of it, in a line.
func (b BackedUp) Said() string {
	switch {
	case b.Error != "":
		return "NOT backed up: " + b.Error
	case b.Same:
		return "as in " + b.File
	case b.Equal != "":
		return "backed up: " + b.File + " (equal to " + b.Equal + ")"
	}
	return "backed up: " + b.File
}

// BackUp backs up every device in scope. Each is told of as it is done, one at a time; it
// may be nil. The results come in the fleet's order.
func (e *Evening) BackUp(ctx context.Context, origin string, each func(BackedUp)) []BackedUp {
	began := time.Now()
	defer func() { e.did("backup", began, ctx.Err(), "devices", len(e.Scope.Devices)) }()
	shelf := e.Backups(origin, e.Scope.Devices...)
	return sweep(ctx, e, each, func(ctx context.Context, d fleet.Device) BackedUp {
		b, equal, err := e.backUp(ctx, shelf, d)
		if err != nil {
			return BackedUp{Device: d.Name, Error: err.Error()}
		}
		return BackedUp{Device: d.Name, File: filepath.Base(b.Path), Same: b.Same, SHA256: b.SHA256, Equal: equal}
	}, func(d fleet.Device) BackedUp { return BackedUp{Device: d.Name, Error: notBegun} })
}

// backUp backs up one device, and names the backup before it where it is equal.
func (e *Evening) backUp(ctx context.Context, shelf store.Backups, d fleet.Device) (b work.Backup, equal string, err error) {
	s, err := e.open(ctx, d)
	if err != nil {
		return b, "", e.unreached(err)
	}
	defer s.Close()
	style := e.Profiles[d.Platform].Style()
	text, err := wholeConfig(ctx, s, style)
	if err != nil {
		return b, "", errors.New(told(s, err))
	}
	before, _ := shelf.Shelf(d.Name)
	b, err = shelf.Put(d.Name, text, time.Now())
	if err != nil || b.Same || len(before) == 0 {
		return b, "", err
	}
	if old, wrong := shelf.Read(before[0]); wrong == nil && config.Compare(config.Parse(old, style), config.Parse(text, style)).Empty() {
		equal = before[0].File
	}
	return b, equal, nil
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
	Config(ctx context.Context, which driver.Which) (string, error)
}

// wholeConfig reads what runs on a device, twice: one that was cut short looks like any
// other.
func wholeConfig(ctx context.Context, s configured, style config.Style) (string, error) {
	text, err := s.Config(ctx, driver.Running)
	if err != nil {
		return "", fmt.Errorf("reading the configuration: %w", err)
	}
	again, err := s.Config(ctx, driver.Running)
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

// ShelfOf lists the backups of a device, the newest first. Platform is that of backups that
// do not say theirs; where it is "", their lines are compared as they stand.
func (d *Desk) ShelfOf(device, platform string) ([]ShelfRow, error) {
	shelf := d.Backups("")
	all, err := shelf.Shelf(device)
	if err != nil {
		return nil, err
	}
	out := make([]ShelfRow, len(all))
	var before *config.Config
	for i := len(all) - 1; i >= 0; i-- {
		out[i].Shelved = all[i]
		text, err := shelf.Read(all[i])
		if err != nil {
			out[i].Wrong, before = err, nil
			continue
		}
		now := config.Parse(text, d.styleOf(cmp.Or(all[i].Platform, platform)))
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
