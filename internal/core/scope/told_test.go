package scope

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/runbook"
)

// tables are what the platform of the harbour reads.
var tables = runbook.Schema{Tables: map[string]runbook.Table{
	"version": {Columns: map[string]runbook.ColumnType{"version": runbook.TextColumn, "feature": runbook.YesNoColumn}},
	"ports":   {Many: true, Columns: map[string]runbook.ColumnType{"port": runbook.NumberColumn, "state": runbook.TextColumn}},
	"floor":   {Many: true, Columns: map[string]runbook.ColumnType{"plan": runbook.TextColumn}},
}}

// harbourTold is what devices of the harbour told: the first an hour ago, the second ten days
// ago, the third never, and the last as another one.
func harbourTold(now time.Time) runbook.Teller {
	return func(device, platform, table string) runbook.Told {
		out := runbook.Told{Table: table, At: now.Add(-time.Hour)}
		version := map[string]any{"version": "4.1", "feature": nil}
		switch device {
		case "ald-quay-2":
			out.At, version["version"] = now.Add(-240*time.Hour), "4.0"
		case "brm-quay-1":
			out.Not = table + " was never read of it"
		case "ops-desk-1":
			out.Not = table + " was read of another device of its name: serial T-1"
		}
		if out.Rows = any(version); table == "ports" {
			out.Rows = []map[string]any{{"port": 7.0, "state": "up"}}
		}
		return out
	}
}

func TestScopeGoesByWhatWasTold(t *testing.T) {
	for name, c := range map[string]struct {
		words string
		want  []string
		err   string
	}{
		"a value":               {`version.version == "4.1"`, []string{"ald-quay-1"}, ""},
		"of few":                {`version.version == "4.0" and site == "ALD"`, []string{"ald-quay-2"}, ""},
		"rows":                  {`any(ports, .port == 7 and .state == "up")`, []string{"ald-quay-1", "ald-quay-2"}, ""},
		"not too old":           {`version.version in ["4.0", "4.1"] and version read within 7d`, []string{"ald-quay-1"}, ""},
		"old enough":            {`version read within 11d`, []string{"ald-quay-1", "ald-quay-2"}, ""},
		"hours":                 {`version read within 30m`, nil, "selects no device"},
		"to be read":            {`not version read within 7d`, []string{"ald-quay-2", "brm-quay-1", "ops-desk-1"}, ""},
		"never, or another one": {`not version read within 7d or version.version != "4.1"`, []string{"ald-quay-2", "brm-quay-1", "ops-desk-1"}, ""},
		"the fleet's own name":  {`floor == 1`, []string{"ald-quay-1", "brm-quay-1"}, ""},
		"what nobody told":      {`version.version == "5"`, nil, "version was never read of it"},
		"a value that is not":   {`version.feature`, nil, "feature is missing in what the device said"},
		"no such table":         {`versions read within 7d`, nil, "version"},
		"no age":                {`version read within`, nil, "version read within 7d"},
		"no length of time":     {`version read within 7x`, nil, `"7x" is not how long ago`},
		"no such column":        {`version.release == "4"`, nil, `there is no column "release"`},
		"the configuration":     {`config has "lan 7"`, nil, "a scope can look at the fleet, at asked values, and at tables as they were last read"},
		"in quotes it is text":  {`name == "version read within 7d"`, nil, "wanted version read within 7d"},
	} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				s, err := Select(harbour(t), []string{c.words}, From{Schema: tables, Told: harbourTold(time.Now())})
				if c.err != "" {
					require.ErrorContains(t, err, c.err)
					return
				}
				require.NoError(t, err)
				var got []string
				for _, d := range s.Devices {
					got = append(got, d.Name)
				}
				assert.Equal(t, c.want, got)
			})
		})
	}
}

func TestWhatAScopeGoesByIsSaid(t *testing.T) {
	now := time.Date(2026, 12, 2, 14, 0, 0, 0, time.Local)
	from := From{Schema: tables, Told: harbourTold(now), Saved: map[string]Selection{
		"new": {Where: `version.version == "4.1"`}, "old": {Where: `version.version == "4.0"`},
	}}
	s, err := Select(harbour(t), []string{"@new", "@old"}, from)
	require.NoError(t, err)
	assert.Len(t, s.Devices, 2)
	assert.Equal(t, []string{"version is as it was read between Sun 22 Nov 2026 14:00 (ald-quay-2) and Wed 2 Dec 2026 13:00; " +
		"version of 2 devices is not known; metabasis read version reads it anew"}, s.Told.Says(), "each device is counted once")

	s, err = Select(harbour(t), []string{`site == "ALD"`}, from)
	require.NoError(t, err)
	assert.Empty(t, s.Told.Says(), "what is not looked at is not told")

	part, err := Choose(harbour(t), []string{"@new"}, from)
	require.NoError(t, err)
	assert.Len(t, part.Told.Says(), 1)
}

func TestJoinedLooksAreThoseOfAll(t *testing.T) {
	at := func(hour int) time.Time { return time.Date(2026, 12, 2, hour, 0, 0, 0, time.Local) }
	a := Looks{{Table: "version", Read: 2, Oldest: at(3), Newest: at(5), Of: "a"}}
	b := Looks{{Table: "version", Not: 4}, {Table: "ports", Read: 1, Oldest: at(1), Newest: at(1), Of: "c"}}
	c := Looks{{Table: "version", Read: 1, Not: 1, Oldest: at(2), Newest: at(6), Of: "b"}}
	all := Looks{}.Join(a).Join(b).Join(c)
	require.Len(t, all, 2)
	assert.Equal(t, []any{3, 5, "b", at(2), at(6)}, []any{all[0].Read, all[0].Not, all[0].Of, all[0].Oldest, all[0].Newest})
	assert.Equal(t, "ports is as it was read at Wed 2 Dec 2026 01:00; metabasis read ports reads it anew", all.Says()[1])
}
