package acts

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"runtime"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/record"
	"metabasis/internal/store"
)

// ofEach is the moment that a word such as @newest means of each device; it is false for a
// word that means one device, or a record.
func ofEach(word string) (when string, is bool) {
	when, is = strings.CutPrefix(word, "@")
	return strings.TrimSpace(when), is
}

// compareEach compares two sides, device by device: a moment of each device in scope, such as
// @newest, a record, or as the other one now.
func (d *Desk) compareEach(ctx context.Context, a, b string, words []string) (*Comparison, error) {
	e, err := d.Select("", words)
	if err != nil {
		return nil, err
	}
	was, err := d.eachOf(ctx, a, e.Scope.Devices)
	if err != nil {
		return nil, err
	}
	if b == Now || b == "@"+Now {
		return d.compareNow(ctx, was)
	}
	is, err := d.eachOf(ctx, b, e.Scope.Devices)
	if err != nil {
		return nil, err
	}
	return d.CompareRecords(ctx, was, is)
}

// eachOf is a side of many devices, as a record.
func (d *Desk) eachOf(ctx context.Context, word string, devices []fleet.Device) (*record.Record, error) {
	when, moment := ofEach(word)
	switch {
	case word == Now || moment && when == Now:
		return nil, fmt.Errorf("%s is the second of the two: what was, then what is", Now)
	case moment:
		return d.momentOfEach(ctx, when, devices)
	}
	rec, err := d.Records().Get(word)
	if errors.Is(err, store.ErrNoRecord) {
		return nil, fmt.Errorf("%s is no record; write @newest, @\"2026-11-20 03:00\", @\"night 21\", the name of a record, or %s", word, Now)
	}
	if err != nil {
		return nil, err
	}
	rec.Devices = slices.DeleteFunc(rec.Devices, func(one record.Device) bool {
		return !slices.ContainsFunc(devices, func(dev fleet.Device) bool { return dev.Name == one.Device })
	})
	return &rec, nil
}

// momentOfEach finds what each device had at a moment. One of which there is nothing says
// so: it is never the same as something.
func (d *Desk) momentOfEach(ctx context.Context, when string, devices []fleet.Device) (*record.Record, error) {
	m, err := d.moment(when)
	if err != nil {
		return nil, err
	}
	if m.night > 0 {
		if _, err := m.read(ctx); err != nil {
			return nil, err
		}
	} else if !m.predicted && m.word != Newest && m.at.IsZero() {
		return nil, fmt.Errorf("%q is no moment that every device had; write newest, a time such as 2026-11-20 03:00, night 21, after night 21, or predicted", when)
	}
	out := &record.Record{Name: m.title(), Of: m.origin(), Devices: make([]record.Device, len(devices))}
	var all errgroup.Group
	all.SetLimit(runtime.GOMAXPROCS(0))
	for i, dev := range devices {
		all.Go(func() error {
			out.Devices[i] = m.recorded(ctx, dev)
			return ctx.Err()
		})
	}
	return out, all.Wait()
}

// recorded is what a device had at the moment, as a record has it.
func (m *moment) recorded(ctx context.Context, dev fleet.Device) record.Device {
	out := record.Device{Device: dev.Name, Platform: dev.Platform, Site: dev.Site}
	f, err := m.find(ctx, dev.Name)
	if err == nil && m.predicted {
		out.Masked = true
		out.Text, err = f.from.Read(f.kept)
	}
	if err != nil {
		out.Failed = err.Error()
		return out
	}
	out.Who = f.kept.Who
	out.Platform, out.At = cmp.Or(f.kept.Platform, dev.Platform), f.kept.Last()
	if !m.predicted {
		out.Backup, out.SHA256 = f.kept.File, f.kept.SHA256
	}
	return out
}
