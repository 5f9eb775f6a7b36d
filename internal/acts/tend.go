package acts

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"metabasis/internal/core/keep"
	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/store"
)

// Verified is what came of holding backups against their checksums.
type Verified struct {
	Devices, Whole int
	Unnoted        int     // that have no checksum to be held against
	Wrong          []error // those that are damaged or not there
}

// Verify holds every backup of devices against its checksum. None named are all.
func (d *Desk) Verify(ctx context.Context, names []string) (*Verified, error) {
	devices, err := d.Shelves(names)
	if err != nil {
		return nil, err
	}
	out := &Verified{Devices: len(devices)}
	for _, device := range devices {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		whole, unnoted, wrong, err := d.Backups("").Check(device)
		if err != nil {
			return nil, err
		}
		out.Whole, out.Unnoted, out.Wrong = out.Whole+whole, out.Unnoted+unnoted, append(out.Wrong, wrong...)
	}
	return out, nil
}

func (v *Verified) String() string {
	text := fmt.Sprintf(
		"%s of %s: %d whole",
		report.Count(v.Whole+v.Unnoted+len(v.Wrong), "backup"),
		report.Count(v.Devices, "device"),
		v.Whole,
	)
	if v.Unnoted > 0 {
		text += fmt.Sprintf(", %d without a checksum to be held against", v.Unnoted)
	}
	if len(v.Wrong) > 0 {
		text += fmt.Sprintf(", %d damaged or not there", len(v.Wrong))
	}
	return text
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

// Empty tells whether nothing goes.
func (c *Clearing) Empty() bool { return len(c.Go)+len(c.Predicted) == 0 }

// Rows are what goes, a line each.
func (c *Clearing) Rows() (out []string) {
	row := func(s store.Shelved, what string) {
		out = append(out, fmt.Sprintf("%-14s  %s  %7d B  %s%s", s.Device, s.At().Local().Format("2006-01-02 15:04:05"), s.Size, s.File, what))
	}
	for _, s := range c.Go {
		row(s, "")
	}
	for _, s := range c.Predicted {
		row(s, "  predicted")
	}
	return out
}

// Sum says what goes and what stays; done is what became of it, such as "to be cleared".
func (c *Clearing) Sum(done string) string {
	text := report.Count(len(c.Go), "backup")
	if n := len(c.Predicted); n > 0 {
		text += " and " + report.Count(n, "prediction")
	}
	text += fmt.Sprintf(" %s, %d bytes; %s stay", done, c.Bytes, report.Count(c.Stay, "backup"))
	if c.Needed > 0 {
		text += fmt.Sprintf(", %d of them only because a night may need them", c.Needed)
	}
	return text
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
		p, err := d.Standing(ctx, l.ID)
		if err != nil && p.Night.Outline == nil {
			return nil, err
		}
		open := p.Night.Ended.IsZero() || l.Seen == nil && p.Night.Outcome() == night.NeedsPerson
		for _, dev := range p.Night.Devices {
			if dev.Backup == "" {
				continue
			}
			newest := dev.State == night.Kept && !kept[dev.Name]
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
