package device

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
)

// tryModels goes through the profile of a platform that is not worked over a terminal, on
// a live device: all that can be read of it is read. It returns how many things were not
// well.
func tryModels(ctx context.Context, p *profile.Profile, s Session, report func(lines.Finding)) (bad int) {
	tell := func(line, sent string, got []string, err error) {
		f := lines.Finding{Line: line, Sent: sent, Got: got, Fits: "it answered"}
		if err != nil {
			bad++
			f.Fits, f.Not = "", s.Mask(err.Error())
		}
		report(f)
	}
	if name := s.Host(); name != "" {
		tell("its name", p.Models.Name+p.Snmp.Name, []string{name}, nil)
	}
	for _, which := range []driver.Which{driver.Running, driver.Saved} {
		if which == driver.Saved && !p.Traits().TellsSaved {
			continue
		}
		text, err := s.Config(ctx, which)
		lines := strings.Split(strings.TrimRight(s.Mask(text), "\n"), "\n")
		if len(lines) > 6 {
			lines = append(lines[:5], fmt.Sprintf("… %d lines more", len(lines)-5))
		}
		tell("configuration, "+string(which), "", lines, err)
	}
	if lacks := driver.Lacks(s, p.Traits()); lacks != "" {
		tell("the way to it", "", nil, fmt.Errorf("%w: the profile has %s", driver.ErrLacks, lacks))
	}
	if t, ok := s.(driver.Timer); ok && p.Timer.Kind.Guards() {
		left, pending, err := t.Pending(ctx)
		got := []string{"nothing is on trial"}
		switch {
		case err != nil:
			got = nil
		case pending && left < 0:
			got = []string{"something is on trial, and it does not say until when"}
		case pending:
			got = []string{"something is on trial, for " + left.String() + " more"}
		}
		tell("timer", "", got, err)
	}
	for _, name := range slices.Sorted(maps.Keys(p.Readers)) {
		v, err := s.Read(ctx, name)
		r := p.Readers[name]
		var got []string
		switch rows := v.(type) {
		case map[string]any:
			got = []string{s.Mask(r.RowText(rows))}
		case []map[string]any:
			for _, row := range rows[:min(len(rows), 3)] {
				got = append(got, s.Mask(r.RowText(row)))
			}
			if n := len(rows) - len(got); n > 0 || len(rows) == 0 {
				got = append(got, fmt.Sprintf("%d rows more", n))
			}
		}
		tell("readers."+name, r.Asks(), got, err)
	}
	return bad
}
