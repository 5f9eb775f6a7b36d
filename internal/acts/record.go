package acts

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/record"
	"metabasis/internal/store"
)

// tablesOf tells what a record has in it, by platform: the tables that are asked for, or all that
// are no matter of the moment, and the configuration. A table that no profile reads is
// refused.
func (e *Evening) tablesOf(asked []string) (map[string][]string, error) {
	out, all := map[string][]string{}, map[string]bool{record.Config: true}
	for _, d := range e.Scope.Devices {
		if out[d.Platform] != nil {
			continue
		}
		list := []string{}
		for _, name := range slices.Sorted(maps.Keys(e.Profiles[d.Platform].Readers)) {
			all[name] = true
			momentary := e.Profiles[d.Platform].Readers[name].Momentary
			if slices.Contains(asked, name) || len(asked) == 0 && !momentary {
				list = append(list, name)
			}
		}
		if len(asked) == 0 || slices.Contains(asked, record.Config) {
			list = append(list, record.Config)
		}
		out[d.Platform] = list
	}
	for _, name := range asked {
		if !all[name] {
			return nil, fmt.Errorf("no profile of these devices reads %q%s", name, problem.Write(name, slices.Sorted(maps.Keys(all))))
		}
	}
	return out, nil
}

// Record reads tables and configurations from every device in scope into a record. Asked
// are the tables; none are all that are no matter of the moment, with the configuration.
// Each is told of as it is done; it may be nil. Nothing is written but the configurations,
// on the shelf; see [Desk.KeepRecord].
func (e *Evening) Record(ctx context.Context, name string, asked []string, each func(record.Device)) (*record.Record, error) {
	tables, err := e.tablesOf(asked)
	if err != nil {
		return nil, err
	}
	began := time.Now()
	defer func() { e.did("record", began, ctx.Err(), "devices", len(e.Scope.Devices)) }()
	rec := &record.Record{Name: name, At: began, By: Who(), Of: ByHand}
	var mu sync.Mutex
	done := map[string]record.Device{}
	take := func(d record.Device) {
		mu.Lock()
		defer mu.Unlock()
		done[d.Device] = d
		if each != nil {
			each(d)
		}
	}
	reach.Sweep(ctx, e.Scope.Devices, e.Together(), func(ctx context.Context, d fleet.Device) {
		take(e.recordOne(ctx, d, tables[d.Platform], name))
	}, func(_ context.Context, d fleet.Device) {
		take(record.Device{Device: d.Name, Platform: d.Platform, Site: d.Site, Failed: notBegun})
	})
	for _, d := range e.Scope.Devices {
		rec.Devices = append(rec.Devices, done[d.Name])
	}
	return rec, nil
}

// recordOne reads one device.
func (e *Evening) recordOne(ctx context.Context, d fleet.Device, tables []string, rec string) record.Device {
	out := record.Device{Device: d.Name, Platform: d.Platform, Site: d.Site, At: time.Now()}
	s, err := e.open(ctx, d)
	if err != nil {
		out.Failed = e.unreached(err).Error()
		return out
	}
	defer s.Close()
	if ids, err := e.Identities(); err == nil {
		out.Who = ids.Met(d.Name)
	}
	wrong := func(table string, err error) {
		if out.Wrong == nil {
			out.Wrong = map[string]string{}
		}
		out.Wrong[table] = told(s, err)
	}
	for _, name := range tables {
		if name == record.Config {
			if err := e.recordConfig(ctx, s, d, rec, &out); err != nil {
				wrong(name, err)
			}
			continue
		}
		v, err := s.Read(ctx, name)
		if err != nil {
			wrong(name, err)
			continue
		}
		if out.Tables == nil {
			out.Tables = map[string][]record.Row{}
		}
		out.Tables[name] = record.Masked(record.Rows(v), s.Mask)
	}
	by := "record " + rec
	if rec == Now { // to be compared, and kept as no record
		by = "compare"
	}
	e.keepTold(by, out)
	return out
}

// keepTold keeps what a device told, as what it told last; that it cannot is no reason not to
// show it.
func (e *Evening) keepTold(by string, d record.Device) {
	if err := e.Told().PutRecord(by, d); err != nil {
		e.Log.Warn("what a device told is not kept", "device", d.Device, "err", err)
		e.notKept.Store(&err)
	}
}

// NotKept says why what devices told was not kept, so that a scope would go by what they told
// before; nil where all of it was.
func (d *Desk) NotKept() error {
	if err := d.notKept.Load(); err != nil {
		return *err
	}
	return nil
}

// recordConfig puts the configuration on the shelf. What is read only to be compared with
// what is there stays off it: the newest backup would be another after each look.
func (e *Evening) recordConfig(ctx context.Context, s driver.Session, d fleet.Device, rec string, out *record.Device) error {
	text, err := wholeConfig(ctx, s, e.Profiles[d.Platform].Style())
	if err != nil {
		return err
	}
	if rec == Now {
		sum := sha256.Sum256([]byte(text))
		out.Text, out.SHA256 = text, hex.EncodeToString(sum[:])
		return nil
	}
	b, err := e.Backups("record "+rec, d).Put(d.Name, text, time.Now())
	if err != nil {
		return err
	}
	out.Backup, out.SHA256 = filepath.Base(b.Path), b.SHA256
	return nil
}

// KeepRecord writes a record into the workspace. A record is never written over.
func (d *Desk) KeepRecord(rec *record.Record) error {
	err := d.Records().Put(*rec)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("there is a record %s already: choose another name; a record is never written over", rec.Name)
	}
	return err
}

// RecordFree refuses a name that a record cannot have, or has already, before anything is
// read.
func (d *Desk) RecordFree(name string) error {
	if err := store.CheckRecordName(name); err != nil {
		return err
	}
	if strings.EqualFold(name, Now) {
		return fmt.Errorf("a record cannot be called %s: that is what devices are compared with as they are", name)
	}
	if _, ok := d.fleetDevice(name); ok {
		return fmt.Errorf("%s is a device: a record of that name could not be told from it", name)
	}
	if _, err := d.Records().Get(name); !errors.Is(err, store.ErrNoRecord) {
		if err != nil {
			return err
		}
		return fmt.Errorf("there is a record %s already: choose another name; a record is never written over", name)
	}
	return nil
}

// fleetDevice finds a device of the workspace's fleet.
func (d *Desk) fleetDevice(name string) (fleet.Device, bool) {
	f, err := d.FleetOfAny("")
	if err != nil {
		return fleet.Device{}, false
	}
	return f.Get(name)
}
