package acts

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/record"
)

// side is one configuration that is compared.
type side struct {
	device, platform string
	label            string
	text             string
	who              identity.Seen
	masked           bool           // its secrets are
	now              *record.Device // as it was read now; nil where it is of the shelf
}

// compareConfigs compares two configurations; of two devices that are read now, their
// tables, too.
func (d *Desk) compareConfigs(ctx context.Context, a, b string) (*Comparison, error) {
	sides := make([]side, 2)
	var live []string
	for i, word := range []string{a, b} {
		s, isNow, err := d.sideOf(ctx, word)
		if err != nil {
			return nil, err
		}
		if sides[i] = s; isNow && !slices.Contains(live, s.device) {
			live = append(live, s.device)
		}
	}
	if x, y := sides[0], sides[1]; x.platform != y.platform {
		return nil, fmt.Errorf("%s, is of platform %s, and %s, of platform %s: they write their configurations in different ways",
			x.label, cmp.Or(x.platform, "unknown"), y.label, cmp.Or(y.platform, "unknown"))
	}
	if err := d.readSides(ctx, sides, live); err != nil {
		return nil, err
	}
	if x, y := sides[0], sides[1]; x.device == y.device {
		if two := identity.Differ(x.who, y.who); two != "" {
			return nil, fmt.Errorf("%s and %s are of two devices, both called %s: %s", x.label, y.label, x.device, two)
		}
	}
	x, y := sides[0], sides[1]
	one := record.Differing{Device: y.device}
	if x.now != nil && y.now != nil {
		one.Changes = record.Tables(*x.now, *y.now, func(table string) record.Manner {
			return d.Profiles[y.platform].Readers[table].Manner()
		})
	}
	masked := x.masked || y.masked
	a, b = d.alike(y.platform, masked, x.text, y.text)
	return d.twoTexts(x.label, y.label, y.platform, a, b, one).noted(masked), nil
}

// maskText is a configuration without secrets.
func (d *Desk) maskText(platform, text string) string {
	return strings.Join(d.maskPaths(platform)(strings.Split(text, "\n")), "\n")
}

// sideOf finds what a word means. It is true where the device is to be read now.
func (d *Desk) sideOf(ctx context.Context, word string) (s side, now bool, err error) {
	device, when, given := strings.Cut(word, "@")
	dev, inFleet := d.fleetDevice(device)
	shelf, err := d.Backups("").Shelf(device)
	if err != nil {
		return s, false, err
	}
	if !inFleet && len(shelf) == 0 {
		return s, false, fmt.Errorf("%q is neither a record nor a device; metabasis record --list shows the records", device)
	}
	s = side{device: device, platform: dev.Platform}
	if !given || when == Now {
		if !inFleet {
			return s, false, fmt.Errorf("%s is not in the fleet: it cannot be read now; name one of its backups with %s@newest", device, device)
		}
		s.label = device + ", now"
		return s, true, nil
	}
	m, err := d.moment(when)
	if err != nil {
		return s, false, fmt.Errorf("%s: %w", device, err)
	}
	f, err := m.find(ctx, device)
	if err == nil {
		s.text, err = f.from.Read(f.kept)
	}
	if err != nil {
		return s, false, fmt.Errorf("%s: %w", device, err)
	}
	s.platform = cmp.Or(f.kept.Platform, s.platform)
	s.who = f.kept.Who
	s.label, s.masked = device+", "+f.label, m.predicted
	return s, false, nil
}

// readSides reads the sides that are meant as they are now.
func (d *Desk) readSides(ctx context.Context, sides []side, live []string) error {
	if len(live) == 0 {
		return nil
	}
	rec, err := d.readNow(ctx, live, nil)
	if err != nil {
		return err
	}
	for i := range sides {
		if sides[i].text != "" {
			continue
		}
		at := slices.IndexFunc(rec.Devices, func(dev record.Device) bool { return dev.Device == sides[i].device })
		dev := &rec.Devices[at]
		if dev.Failed != "" {
			return fmt.Errorf("%s: %s", dev.Device, dev.Failed)
		}
		if why := dev.Wrong[record.Config]; why != "" {
			return fmt.Errorf("%s: its configuration: %s", dev.Device, why)
		}
		if sides[i].text, err = d.configOf(*dev); err != nil {
			return err
		}
		sides[i].who = dev.Who
		sides[i].now, sides[i].label = dev, sides[i].label+" ("+dev.At.Local().Format(time.TimeOnly)+")"
	}
	return nil
}

// ShelfText is the text of a backup, as DEVICE@WHEN names it; with secrets only where they
// are asked for. Without WHEN it is the newest.
func (d *Desk) ShelfText(ctx context.Context, word string, secrets bool) (string, error) {
	if !strings.Contains(word, "@") {
		word += "@newest"
	}
	device, when, _ := strings.Cut(word, "@")
	if _, err := d.Shelves([]string{device}); err != nil {
		return "", err
	}
	s, now, err := d.sideOf(ctx, word)
	switch {
	case err != nil:
		return "", err
	case now, strings.HasPrefix(when, Predicted):
		return "", fmt.Errorf("%s is no backup: write newest, a time or the name of a backup behind the @", word)
	case secrets:
		return s.text, nil
	}
	return d.maskText(s.platform, s.text), nil
}
