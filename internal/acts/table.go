package acts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/record"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/table"
)

// Reading is one table to be read from devices.
type Reading struct {
	*Evening
	// Table has the columns that the profiles give it, and no rows yet.
	Table table.Table
	// By is the column to sum up by; "" for those that tell devices apart.
	By string
}

// Reading makes a table to be read from the devices in scope. Those whose profile
// has no such table are left out of it.
func (e *Evening) Reading(name, by string) (*Reading, error) {
	part := *e
	part.part = true
	r := &Reading{Evening: &part, Table: table.Table{Name: name}, By: by}
	all := map[string]bool{}
	s := scope.Scope{Source: e.Scope.Source, LeftOut: slices.Clone(e.Scope.LeftOut)}
	for _, d := range e.Scope.Devices {
		p := e.Profiles[d.Platform]
		for n := range p.Readers {
			all[n] = true
		}
		reader, ok := p.Readers[name]
		if !ok {
			s.LeftOut = append(s.LeftOut, scope.LeftOut{Device: d.Name, Why: "the profile of " + d.Platform + " reads no " + name})
			continue
		}
		s.Devices = append(s.Devices, d)
		for _, c := range reader.TableColumns() {
			if r.Table.Column(c.Name) < 0 {
				r.Table.Columns = append(r.Table.Columns, c)
			}
		}
	}
	if len(s.Devices) == 0 {
		return nil, fmt.Errorf("no profile of these devices reads %q%s", name, problem.Write(name, slices.Sorted(maps.Keys(all))))
	}
	if by != "" && r.Table.Column(by) < 0 {
		var names []string
		for _, c := range r.Table.Columns {
			names = append(names, c.Name)
		}
		return nil, fmt.Errorf("table %s has no column %q%s", name, by, problem.Write(by, names))
	}
	part.Scope = &s
	return r, nil
}

// With is the reading over an evening that was made ready, with the same devices.
func (r *Reading) With(e *Evening) *Reading {
	part := *e
	part.part, part.Scope = true, r.Scope
	out := *r
	out.Evening = &part
	return &out
}

// Read reads the table from every device. Each is told how many are done, one at a
// time; it may be nil. It returns when all are done, or given up because ctx has
// ended; the devices that were not read are in the table's Failed.
func (r *Reading) Read(ctx context.Context, each func(done int)) *table.Table {
	type got struct {
		v   any
		err error
	}
	var mu sync.Mutex
	results := map[string]got{}
	take := func(d fleet.Device, v any, err error) {
		mu.Lock()
		defer mu.Unlock()
		results[d.Name] = got{v, err}
		if each != nil {
			each(len(results))
		}
	}
	reach.Sweep(ctx, r.Scope.Devices, r.Together(), func(ctx context.Context, d fleet.Device) {
		v, err := r.readOne(ctx, d)
		take(d, v, err)
	}, func(_ context.Context, d fleet.Device) { take(d, nil, errors.New(notBegun)) })
	t := r.Table
	t.Sites = map[string]string{}
	for _, d := range r.Scope.Devices { // in the fleet's order, whoever was first
		one := results[d.Name]
		if one.err != nil {
			t.Failed = append(t.Failed, table.Failed{Device: d.Name, Why: one.err.Error()})
			continue
		}
		t.Sites[d.Name] = d.Site
		t.Add(d.Name, d.Platform, one.v)
	}
	return &t
}

func (r *Reading) readOne(ctx context.Context, d fleet.Device) (any, error) {
	s, err := r.open(ctx, d)
	if err != nil {
		return nil, r.unreached(err)
	}
	defer s.Close()
	v, err := s.Read(ctx, r.Table.Name)
	if err != nil {
		return nil, errors.New(told(s, err))
	}
	kept := record.Device{Device: d.Name, Platform: d.Platform, At: time.Now(), Tables: map[string][]record.Row{
		r.Table.Name: record.Masked(record.Rows(v), s.Mask),
	}}
	if ids, err := r.Identities(); err == nil {
		kept.Who = ids.Met(d.Name)
	}
	r.keepTold("read", kept)
	return v, nil
}

// WriteCSV writes a table into a new file in the workspace and returns its name.
func (d *Desk) WriteCSV(t *table.Table) (string, error) {
	path := filepath.Join(d.Dir, t.Name+"-"+time.Now().Format("2006-01-02T150405")+".csv")
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	return path, errors.Join(t.WriteCSV(f), f.Close())
}
