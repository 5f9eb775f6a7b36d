package acts

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
	"metabasis/internal/store"
)

// side is one configuration that is compared.
type side struct {
	device, platform string
	label            string
	text             string
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
	x, y := sides[0], sides[1]
	one := record.Differing{Device: y.device}
	if x.now != nil && y.now != nil {
		one.Changes = record.Tables(*x.now, *y.now, func(table string) record.Manner {
			return d.Profiles[y.platform].Readers[table].Manner()
		})
	}
	return d.twoTexts(x.label, y.label, y.platform, x.text, y.text, one), nil
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
	if by, is := strings.CutPrefix(when, Predicted); is {
		s, err = d.predictedText(ctx, device, strings.TrimSpace(by))
		s.platform = cmp.Or(s.platform, dev.Platform)
		return s, false, err
	}
	k, err := d.shelvedAt(ctx, device, when, shelf)
	if err != nil {
		return s, false, err
	}
	s.platform = cmp.Or(k.Platform, s.platform)
	s.label = fmt.Sprintf("%s, %s", device, k.Last().Local().Format("Mon 2 Jan 2006 15:04:05"))
	s.text, err = d.Backups("").Read(k)
	return s, false, err
}

// shelvedAt finds the backup of a device that is meant.
func (d *Desk) shelvedAt(ctx context.Context, device, when string, shelf []store.Shelved) (store.Shelved, error) {
	if when == "newest" && len(shelf) > 0 {
		return shelf[0], nil
	}
	for _, k := range shelf {
		if k.File == when || strings.TrimSuffix(strings.TrimSuffix(k.File, ".age"), ".cfg") == when {
			return k, nil
		}
	}
	rest, after := strings.CutPrefix(when, "after ")
	id, night, err := nightNumber(rest)
	if err != nil {
		return store.Shelved{}, err
	}
	if night {
		p, err := d.Open(ctx, id)
		if err != nil {
			return store.Shelved{}, err
		}
		dev := p.Night.Get(device)
		switch {
		case dev == nil:
			return store.Shelved{}, fmt.Errorf("night %d was not for %s", id, device)
		case after && dev.Left == "":
			return store.Shelved{}, fmt.Errorf("night %d kept nothing that it left on %s: it is %s", id, device, dev.State)
		case after:
			return d.Backups("").Find(device, filepath.Base(dev.Left))
		case dev.Backup == "":
			return store.Shelved{}, fmt.Errorf("night %d took no backup of %s: it is %s", id, device, dev.State)
		}
		return d.Backups("").Find(device, filepath.Base(dev.Backup))
	}
	at, err := runbook.ParseRestoreTime(when)
	switch {
	case len(shelf) == 0:
		return store.Shelved{}, fmt.Errorf("%s has no backup: metabasis backup %s makes one", device, device)
	case err != nil:
		return store.Shelved{}, fmt.Errorf("%q is no backup of %s; write a time such as 2026-11-20 03:00, newest, night 21, after night 21, predicted, or the name of a backup", when, device)
	}
	k, _, err := d.Backups("").AsOf(device, at)
	return k, err
}

// Predicted is how what was computed that a device would have is named.
const Predicted = "predicted"

// predictedText is what was computed that a device would have: by "night 21", by
// "rehearsal", or "" for the newest.
func (d *Desk) predictedText(ctx context.Context, device, by string) (s side, err error) {
	id, isNight, err := nightNumber(by)
	if err != nil {
		return s, err
	}
	if by != "" && by != "rehearsal" && !isNight {
		return s, fmt.Errorf("%q predicts nothing; write predicted, predicted night 21 or predicted rehearsal", by)
	}
	if isNight {
		by = fmt.Sprintf("night %d", id) // as it was noted
	}
	kept := d.Predictions("")
	all, err := kept.Shelf(device)
	if err != nil {
		return s, err
	}
	var k store.Shelved
	var seen store.Sighting
	for _, one := range all {
		for _, at := range one.Seen {
			if (by == "" || at.Origin == by) && at.At.After(seen.At) {
				k, seen = one, at
			}
		}
	}
	switch {
	case seen.At.IsZero() && isNight:
		return s, d.notPredicted(ctx, id, device)
	case seen.At.IsZero():
		return s, fmt.Errorf("nothing is kept that a %s predicted of %s", cmp.Or(by, "night or a rehearsal"), device)
	}
	if s.text, err = kept.Read(k); err != nil {
		return s, fmt.Errorf("what was predicted: %w", err)
	}
	if by = seen.Origin; !strings.HasPrefix(by, "night ") {
		by = "a rehearsal" // nothing else predicts
	}
	s.device, s.platform = device, k.Platform
	s.label = fmt.Sprintf("%s, as %s predicted it, %s", device, by, seen.At.Local().Format("Mon 2 Jan 2006 15:04:05"))
	return s, nil
}

// notPredicted says why there is no prediction of a device by a night.
func (d *Desk) notPredicted(ctx context.Context, id int64, device string) error {
	p, err := d.Open(ctx, id)
	if err != nil {
		return err
	}
	dev := p.Night.Get(device)
	switch {
	case dev == nil:
		return fmt.Errorf("night %d was not for %s", id, device)
	case dev.Computed && dev.Unknown != "":
		return fmt.Errorf("night %d could not tell what %s would have: %s", id, device, dev.Unknown)
	case !dev.Computed:
		return fmt.Errorf("night %d computed nothing for %s: it is %s", id, device, dev.State)
	}
	return fmt.Errorf("what night %d predicted of %s is not kept", id, device)
}

// nightNumber reads "night 21"; it is false for what is no night at all.
func nightNumber(word string) (id int64, is bool, err error) {
	number, is := strings.CutPrefix(word, "night ")
	if !is {
		return 0, false, nil
	}
	if id, err = strconv.ParseInt(strings.TrimSpace(number), 10, 64); err != nil {
		return 0, true, fmt.Errorf("%q is not the number of a night", number)
	}
	return id, true, nil
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
	_, when, _ := strings.Cut(word, "@")
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
