package acts

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"metabasis/internal/core/config"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/record"
	"metabasis/internal/core/work"
	"metabasis/internal/report"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// Now is what devices are compared with as they are.
const Now = "now"

// Comparison is what differs between two records, or two configurations.
type Comparison struct {
	A, B string // what is compared, in words
	Note string // what else is to be known; "" for nothing
	// Devices are those that were compared, with what is different on each.
	Devices []record.Differing
	// Tree is the difference of two configurations, where two are compared; the texts are
	// the same with secrets masked.
	Tree         []config.Shown
	TextA, TextB string
	// Untouched tells of a night that it sent nothing to any device, so that there is nothing
	// to compare.
	Untouched bool
	// pairs are what two records hold of each device.
	pairs map[string][2]record.Device
}

// HasConfigs tells whether the configurations of devices can be compared by themselves.
func (c *Comparison) HasConfigs() bool { return c.pairs != nil }

// CompareConfigs compares the configurations of one device of two records that were
// compared.
func (d *Desk) CompareConfigs(c *Comparison, device string) (*Comparison, error) {
	pair, ok := c.pairs[device]
	if !ok {
		return nil, fmt.Errorf("%s is in only one of the two", device)
	}
	a, err := d.configOf(pair[0])
	if err != nil {
		return nil, err
	}
	b, err := d.configOf(pair[1])
	if err != nil {
		return nil, err
	}
	masked := pair[0].Masked || pair[1].Masked
	a, b = d.alike(pair[1].Platform, masked, a, b)
	one := slices.IndexFunc(c.Devices, func(one record.Differing) bool { return one.Device == device })
	return d.twoTexts(device+", "+c.A, device+", "+c.B, pair[1].Platform, a, b, c.Devices[one]).noted(masked), nil
}

// alike are two texts that can be compared: where one of them is masked, both are.
func (d *Desk) alike(platform string, masked bool, a, b string) (string, string) {
	if !masked {
		return a, b
	}
	return d.maskText(platform, a), d.maskText(platform, b)
}

// noted says of a comparison with what is masked that secrets are not compared.
func (c *Comparison) noted(masked bool) *Comparison {
	if masked {
		c.Note = strings.TrimPrefix(c.Note+"; "+secretsMasked, "; ")
	}
	return c
}

const secretsMasked = "secrets are not compared: predictions are kept without them"

// twoTexts is the difference of two configurations.
func (d *Desk) twoTexts(labelA, labelB, platform, a, b string, one record.Differing) *Comparison {
	style, mask := d.styleOf(platform), d.maskPaths(platform)
	from, to := config.Parse(a, style), config.Parse(b, style)
	one.Config = config.Compare(from, to).Lines(mask)
	out := &Comparison{A: labelA, B: labelB, Devices: []record.Differing{one}, Tree: config.Differing(from, to)}
	for i := range out.Tree {
		out.Tree[i].Text = mask([]string{out.Tree[i].Text})[0]
	}
	out.TextA, out.TextB = d.maskText(platform, a), d.maskText(platform, b)
	return out
}

// Same tells whether nothing is different, of all that was compared.
func (c *Comparison) Same() bool {
	return (len(c.Devices) > 0 || c.Untouched) && !slices.ContainsFunc(c.Devices, func(d record.Differing) bool { return !d.Same() })
}

// Unknown tells whether something could not be read, so that nobody knows; where nothing
// was, nobody knows anything.
func (c *Comparison) Unknown() bool {
	return len(c.Devices) == 0 && !c.Untouched || slices.ContainsFunc(c.Devices, func(d record.Differing) bool {
		return slices.ContainsFunc(d.Changes, func(ch record.Change) bool { return ch.Kind == record.Unknown })
	})
}

// Compare compares two sides. Each is the name of a record, or a configuration: DEVICE as
// it is now, or DEVICE@WHEN, where WHEN is a time, newest, the name of a backup, "night 21"
// for what was before it, "after night 21", or "predicted night 21" for what that computed
// that the device would have. A record is compared with a record, or with now. @WHEN is
// that of each device, and words then say which devices.
func (d *Desk) Compare(ctx context.Context, a, b string, words ...string) (*Comparison, error) {
	_, eachA := ofEach(a)
	if _, eachB := ofEach(b); eachA || eachB || len(words) > 0 {
		return d.compareEach(ctx, a, b, words)
	}
	if recA, recB, err := d.Records().Both(a, b); err == nil {
		return d.CompareRecords(ctx, &recA, &recB)
	}
	recA, errA := d.Records().Get(a)
	if errA != nil && !errors.Is(errA, store.ErrNoRecord) {
		return nil, errA
	}
	isRecord := errA == nil
	if !isRecord && b == Now {
		return d.compareConfigs(ctx, a, strings.SplitN(a, "@", 2)[0])
	}
	if isRecord && b == Now {
		return d.compareNow(ctx, &recA)
	}
	_, errB := d.Records().Get(b)
	switch {
	case isRecord && errB != nil && !errors.Is(errB, store.ErrNoRecord):
		return nil, errB
	case isRecord:
		return nil, fmt.Errorf("%s is a record, and %s is none; a record is compared with another, or with %s", a, b, Now)
	case errB == nil:
		return nil, fmt.Errorf("%s is a record, and %s is none; a record is compared with another, or with %s", b, a, Now)
	}
	return d.compareConfigs(ctx, a, b)
}

// CompareRecords compares two records, device by device.
func (d *Desk) CompareRecords(ctx context.Context, a, b *record.Record) (*Comparison, error) {
	out := &Comparison{A: recordTitle(a), B: recordTitle(b)}
	predicted, held, err := d.predictedBetween(ctx, a, b)
	if err != nil {
		return nil, err
	}
	was := map[string]record.Device{}
	for _, dev := range a.Devices {
		was[dev.Device] = dev
	}
	out.Devices = make([]record.Differing, len(b.Devices))
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	for i, is := range b.Devices {
		all.Go(func() error {
			one := d.compareRecorded(was, is, b.Name, predicted)
			one.Changes = record.Expect(one.Changes, held[is.Device])
			out.Devices[i] = one
			return nil
		})
	}
	_ = all.Wait() // what cannot be read is a difference, and no error
	out.pairs = make(map[string][2]record.Device, len(was))
	for _, is := range b.Devices {
		if before, both := was[is.Device]; both {
			out.pairs[is.Device] = [2]record.Device{before, is}
		}
		delete(was, is.Device)
	}
	for _, dev := range a.Devices {
		if _, left := was[dev.Device]; left {
			out.Devices = append(out.Devices, onlyIn(dev.Device, a.Name))
		}
	}
	out.Note = report.Apart(out.Devices)
	masked := func(one record.Device) bool { return one.Masked }
	return out.noted(slices.ContainsFunc(a.Devices, masked) || slices.ContainsFunc(b.Devices, masked)), nil
}

// compareRecorded compares a device of one record with itself in another.
func (d *Desk) compareRecorded(
	all map[string]record.Device,
	is record.Device,
	name string,
	predicted func(string) ([]string, bool),
) record.Differing {
	was, both := all[is.Device]
	if !both {
		return onlyIn(is.Device, name)
	}
	apart, shared := record.Apart(was, is)
	if !shared {
		return nothingShared(is.Device)
	}
	out := d.compareDevice(was, is, predicted)
	out.Apart = apart
	return out
}

func recordTitle(r *record.Record) string {
	if r.At.IsZero() {
		return r.Name
	}
	return fmt.Sprintf("%s, %s", r.Name, r.At.Local().Format("Mon 2 Jan 2006 15:04"))
}

func onlyIn(device, name string) record.Differing {
	return record.Differing{Device: device, Changes: []record.Change{{Table: "device", What: "is only in " + name, Kind: record.Unknown}}}
}

// untold is a device of which it cannot be told what is different.
func untold(device, why string) record.Differing {
	return record.Differing{Device: device, Changes: []record.Change{{Table: "device", What: "cannot be told: " + why, Kind: record.Unknown}}}
}

func nothingShared(device string) record.Differing {
	return record.Differing{
		Device:  device,
		Changes: []record.Change{{Table: "device", What: "the two hold nothing of it that could be compared", Kind: record.Unknown}},
	}
}

// compareDevice compares what two records hold of a device.
func (d *Desk) compareDevice(was, is record.Device, predicted func(string) ([]string, bool)) record.Differing {
	out := record.Differing{Device: is.Device}
	p := d.Profiles[is.Platform]
	if was.Platform != is.Platform {
		out.Changes = []record.Change{
			{Table: "device", What: fmt.Sprintf("is of platform %s, was %s", is.Platform, was.Platform), Kind: record.Other},
		}
		return out
	}
	if two := identity.Differ(was.Who, is.Who); two != "" {
		out.Changes = []record.Change{{Table: "device", What: "what is compared is of two devices: " + two, Kind: record.Unknown}}
		return out
	}
	out.Changes = record.Tables(was, is, func(table string) record.Manner {
		if p == nil {
			return record.Manner{}
		}
		return p.Readers[table].Manner()
	})
	if was.Failed != "" || is.Failed != "" || !was.HasConfig() || !is.HasConfig() {
		return out
	}
	if was.SHA256 != is.SHA256 || was.SHA256 == "" {
		lines, err := d.configLines(was, is)
		if err != nil {
			out.Changes = append(out.Changes, record.Change{Table: record.Config, What: "could not be read: " + err.Error(), Kind: record.Unknown})
			return out
		}
		out.Config = lines
	}
	lines, known := predicted(is.Device)
	if !known {
		return out
	}
	for _, l := range lines {
		if slices.Contains(out.Config, l) {
			out.Predicted = append(out.Predicted, l)
		} else {
			out.Missed = append(out.Missed, l)
		}
	}
	return out
}

// configLines are the lines by which two configurations of a device differ, secrets masked.
func (d *Desk) configLines(was, is record.Device) ([]string, error) {
	a, err := d.configOf(was)
	if err != nil {
		return nil, err
	}
	b, err := d.configOf(is)
	if err != nil {
		return nil, err
	}
	a, b = d.alike(is.Platform, was.Masked || is.Masked, a, b)
	style := d.styleOf(is.Platform)
	return config.Compare(config.Parse(a, style), config.Parse(b, style)).Lines(d.maskPaths(is.Platform)), nil
}

// configOf is the configuration of a device in a record.
func (d *Desk) configOf(dev record.Device) (string, error) {
	if dev.Text != "" {
		return dev.Text, nil
	}
	_, text, err := d.Backups("").ReadNoted(dev.Device, dev.Backup, dev.SHA256)
	return text, err
}

func (d *Desk) styleOf(platform string) (s config.Style) {
	if p := d.Profiles[platform]; p != nil {
		s = p.Style()
	}
	return s
}

// maskPaths takes the secrets out of paths of a platform's configuration. Where nobody
// knows the platform, every profile's secrets are taken out.
func (d *Desk) maskPaths(platform string) func([]string) []string {
	mask := func(line string) string {
		for _, p := range d.Profiles {
			line = p.Mask(line)
		}
		return line
	}
	if p := d.Profiles[platform]; p != nil {
		mask = p.Mask
	}
	return func(paths []string) []string {
		out := make([]string, len(paths))
		for i, path := range paths {
			parts := strings.Split(path, " > ")
			for j, part := range parts {
				parts[j] = mask(part)
			}
			out[i] = strings.Join(parts, " > ")
		}
		return out
	}
}

// predictedBetween is what was predicted of each device, where the two records are those of
// before and after one night.
func (d *Desk) predictedBetween(ctx context.Context, a, b *record.Record) (func(string) ([]string, bool), map[string][]string, error) {
	none := func(string) ([]string, bool) { return nil, false }
	night, before := strings.CutSuffix(a.Of, ", before")
	if night2, after := strings.CutSuffix(b.Of, ", after"); !before || !after || night != night2 {
		return none, nil, nil
	}
	id, err := strconv.ParseInt(strings.TrimPrefix(night, "night "), 10, 64)
	if err != nil {
		return none, nil, nil
	}
	p, err := d.Open(ctx, id)
	if err != nil {
		return none, nil, err
	}
	return predictedOf(&p.Night), heldIn(p.Events), nil
}

// heldIn are the conditions that were expected of each device in a night, and that held.
func heldIn(events []night.Event) map[string][]string {
	out := map[string][]string{}
	for _, e := range events {
		if e.Kind == night.Expected && e.OK && !slices.Contains(out[e.Device], e.What) {
			out[e.Device] = append(out[e.Device], e.What)
		}
	}
	return out
}

// predictedOf is what was predicted of the devices of a night. Of one that was not changed
// in the end, nothing is predicted.
func predictedOf(n *night.Night) func(string) ([]string, bool) {
	return func(device string) ([]string, bool) {
		dev := n.Get(device)
		if dev == nil || !dev.Computed || dev.Unknown != "" {
			return nil, false
		}
		if dev.State != night.Kept {
			return nil, true
		}
		if dev.LeftSteps() > 0 && dev.Predicted {
			return dev.Diff, true // as was predicted once a step was left out
		}
		return dev.WillDiffer, true
	}
}

// CompareNight compares what devices were before a night with what it left: the tables it
// recorded, and the configurations.
func (d *Desk) CompareNight(ctx context.Context, id int64) (*Comparison, error) {
	p, err := d.Open(ctx, id)
	if err != nil {
		return nil, err
	}
	before, errA := d.Records().Get(workspace.RecordName(id, work.Before))
	after, errB := d.Records().Get(workspace.RecordName(id, work.After))
	for _, err := range []error{errA, errB} {
		if err != nil && !errors.Is(err, store.ErrNoRecord) {
			return nil, err
		}
	}
	find := func(r record.Record, dev *night.Device) record.Device {
		for _, one := range r.Devices {
			if one.Device == dev.Name {
				return one
			}
		}
		return record.Device{Device: dev.Name}
	}
	out := &Comparison{A: fmt.Sprintf("before night %d, %s", id, p.Began.Local().Format("Mon 2 Jan 2006 15:04")), B: "after it"}
	predicted, held := predictedOf(&p.Night), heldIn(p.Events)
	untouched := map[night.State]int{}
	for _, dev := range p.Night.Devices {
		if dev.CutOff() && dev.Begun() {
			out.Devices = append(out.Devices, untold(dev.Name, p.nowOrThen()+dev.WasAt()))
			continue
		}
		if dev.Backup == "" || dev.CutOff() {
			untouched[dev.State]++ // nothing was read that could be compared
			continue
		}
		was, is := find(before, dev), find(after, dev)
		was.Platform, is.Platform = dev.Platform, dev.Platform
		was.Backup, was.SHA256, is.Backup, is.SHA256 = dev.Backup, dev.SHA256, dev.Left, dev.LeftSum
		if dev.State != night.Kept {
			is.Backup, is.SHA256 = "", ""
		}
		one := d.compareDevice(was, is, predicted)
		one.Changes = record.Expect(one.Changes, held[dev.Name])
		if dev.State == night.Stranded || dev.State == night.Dark {
			one.Changes = append(
				one.Changes,
				record.Change{Table: "device", What: fmt.Sprintf("is %s: nobody knows what it has", dev.State), Kind: record.Unknown},
			)
		}
		if dev.State == night.Kept && dev.Left == "" {
			one.Config = dev.Diff // of before what it left was kept
		}
		out.Devices = append(out.Devices, one)
	}
	out.Note = report.NotCompared(untouched)
	if len(out.Devices) == 0 && !slices.ContainsFunc(p.Night.Devices, (*night.Device).Begun) {
		out.Untouched = true
		out.Note += ": nothing of the change was sent to any"
	}
	for _, dev := range p.Night.Devices {
		if left := dev.LeftTitles(); dev.State == night.Kept && left != nil {
			out.Note = strings.TrimPrefix(out.Note+"; "+dev.Name+" was kept WITHOUT "+strings.Join(left, ", "), "; ")
		}
	}
	return out, nil
}

// compareNow compares a record with its devices as they are now.
func (d *Desk) compareNow(ctx context.Context, rec *record.Record) (*Comparison, error) {
	var names, tables []string
	for _, dev := range rec.Devices {
		if _, known := d.fleetDevice(dev.Device); known {
			names = append(names, dev.Device)
		}
		for t := range dev.Tables {
			if !slices.Contains(tables, t) {
				tables = append(tables, t)
			}
		}
		if dev.HasConfig() && !slices.Contains(tables, record.Config) {
			tables = append(tables, record.Config)
		}
	}
	if len(names) == 0 {
		return nil, fmt.Errorf("no device of the record %s is in the fleet", rec.Name)
	}
	now, err := d.readNow(ctx, names, tables)
	if err != nil {
		return nil, err
	}
	return d.CompareRecords(ctx, rec, now)
}

// readNow reads devices as they are.
func (d *Desk) readNow(ctx context.Context, names, tables []string) (*record.Record, error) {
	e, err := d.Select("", names)
	if err != nil {
		return nil, err
	}
	if err := e.Ready(ctx, "compare"); err != nil {
		return nil, err
	}
	defer e.Close()
	return e.Record(ctx, Now, tables, nil)
}

// MayRecord refuses tables that no profile of the devices in scope reads.
func (e *Evening) MayRecord(tables []string) error {
	_, err := e.tablesOf(tables)
	return err
}

// MaskPath takes the secrets of a platform out of a line with its sections.
func (d *Desk) MaskPath(platform string) func(string) string {
	mask := d.maskPaths(platform)
	return func(path string) string { return mask([]string{path})[0] }
}
