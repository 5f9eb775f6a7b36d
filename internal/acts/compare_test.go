package acts

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/record"
)

// morningDesk is a workspace of n terns, each with two configurations on the shelf, and the
// records before and after.
func morningDesk(t testing.TB, n int, configs bool) *Desk {
	dir := t.TempDir()
	csv := "name,address,platform,site\n"
	for i := range n {
		csv += fmt.Sprintf("q-%04d,q-%04d.example,tern,ALD\n", i, i)
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fleet.csv"), []byte(csv), 0o600))
	d, err := Open(dir, nil, nil)
	require.NoError(t, err)
	was := record.Record{Name: "before", At: time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)}
	is := record.Record{Name: "after", At: was.At.Add(time.Hour)}
	for i := range n {
		name := fmt.Sprintf("q-%04d", i)
		text := "name " + name + "\ntime source 192.0.2.9 first\n" + strings.Repeat("port 1\n  lan 10\n", 60)
		before, err := d.Backups("test").Put(name, text, was.At)
		require.NoError(t, err)
		after := before
		if configs {
			after, err = d.Backups("test").Put(name, text+"log host 198.51.100.14\n", is.At)
			require.NoError(t, err)
		}
		one := record.Device{Device: name, Platform: "tern", Site: "ALD", At: was.At, Tables: tables(i), Backup: before.Path, SHA256: before.SHA256}
		two := record.Device{Device: name, Platform: "tern", Site: "ALD", At: is.At, Tables: tables(i), Backup: after.Path, SHA256: after.SHA256}
		two.Tables["clock"][0]["time"] = float64(is.At.Unix())
		if i == 3 {
			two.Tables["neighbours"] = two.Tables["neighbours"][1:]
		}
		was.Devices, is.Devices = append(was.Devices, one), append(is.Devices, two)
	}
	require.NoError(t, d.KeepRecord(&was))
	require.NoError(t, d.KeepRecord(&is))
	return d
}

func tables(i int) map[string][]record.Row {
	out := map[string][]record.Row{"clock": {{"time": 1.0, "source": "192.0.2.9", "settled": true, "offset": 0.01}}, "version": {{"version": "4.2", "serial": fmt.Sprintf("T-%d", i)}}}
	for p := range 24 {
		out["ports"] = append(out["ports"], record.Row{"port": float64(p + 1), "state": "up", "lan": "10", "label": "gate"})
	}
	for p := range 3 {
		out["neighbours"] = append(out["neighbours"], record.Row{"port": float64(p + 1), "name": fmt.Sprintf("brm-gate-%d", p), "their_port": 1.0})
		out["routes"] = append(out["routes"], record.Row{"to": fmt.Sprintf("198.51.100.%d/32", p), "via": "192.0.2.1", "port": 1.0})
	}
	return out
}

func TestRecordsAreComparedByTheirProfile(t *testing.T) {
	d := morningDesk(t, 6, false)
	c, err := d.Compare(context.Background(), "before", "after")
	require.NoError(t, err)
	assert.False(t, c.Same(), "the clock moves by itself, and a neighbour is gone")
	groups := record.Fold(c.Devices)
	require.Len(t, groups, 1)
	assert.Equal(t, "neighbours: port 1 is gone (name brm-gate-0, their_port 1)", groups[0].Text)
	assert.Equal(t, []string{"q-0003"}, groups[0].Devices)
	_, err = d.Compare(context.Background(), "before", "q-0001")
	assert.ErrorContains(t, err, "before is a record, and q-0001 is none")
	_, err = d.Compare(context.Background(), "befor", "q-0001")
	assert.ErrorContains(t, err, "neither a record nor a device")

	one, err := d.CompareConfigs(c, "q-0003")
	require.NoError(t, err)
	assert.Len(t, one.Tree, strings.Count(one.TextA, "\n"))
	assert.Equal(t, c.Devices[3].Changes, one.Devices[0].Changes, "what its tables say stays beside it")
	assert.Contains(t, one.A, "q-0003, before")
	_, err = d.CompareConfigs(c, "q-9999")
	assert.ErrorContains(t, err, "only one of the two")

	again, err := d.Records().Get("before")
	require.NoError(t, err)
	assert.ErrorContains(t, d.KeepRecord(&again), "never written over")
}

// A record that was cut off is read up to there; one that is damaged in its midst is not
// taken for one with fewer devices.
func TestHalfARecord(t *testing.T) {
	d := morningDesk(t, 6, false)
	file := filepath.Join(d.Dir, "records", "after.jsonl")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, data[:len(data)-20], 0o600))
	rec, err := d.Records().Get("after")
	require.NoError(t, err)
	assert.Len(t, rec.Devices, 5)
	c, err := d.Compare(context.Background(), "before", "after")
	require.NoError(t, err)
	assert.True(t, c.Unknown(), "of one device nobody knows")
	broken := append([]byte{}, data...)
	broken[len(data)/2] = '\n'
	require.NoError(t, os.WriteFile(file, broken, 0o600))
	_, err = d.Records().Get("after")
	assert.ErrorContains(t, err, "is damaged: line")
}

// Two records that hold different things are not called the same.
func TestRecordsOfDifferentThings(t *testing.T) {
	d := morningDesk(t, 3, false)
	before, err := d.Records().Get("before")
	require.NoError(t, err)
	only := func(name string, mend func(*record.Device)) {
		rec := before
		rec.Name, rec.Devices = name, slices.Clone(before.Devices)
		for i := range rec.Devices {
			mend(&rec.Devices[i])
		}
		require.NoError(t, d.KeepRecord(&rec))
	}
	only("configs", func(d *record.Device) { d.Tables = nil })
	only("tables", func(d *record.Device) { d.Backup, d.SHA256 = "", "" })
	only("unread", func(d *record.Device) {
		d.Backup, d.SHA256, d.Wrong = "", "", map[string]string{record.Config: "the session was lost"}
	})
	for _, sides := range [][2]string{{"unread", "before"}, {"before", "unread"}, {"unread", "unread"}} {
		c, err := d.Compare(context.Background(), sides[0], sides[1])
		require.NoError(t, err)
		assert.True(t, c.Unknown(), "a configuration that was not read is never the same: %v", sides)
	}
	c, err := d.Compare(context.Background(), "configs", "tables")
	require.NoError(t, err)
	assert.True(t, c.Unknown())
	assert.Contains(t, record.Fold(c.Devices)[0].Text, "nothing of it that could be compared")
	c, err = d.Compare(context.Background(), "before", "tables")
	require.NoError(t, err)
	assert.True(t, c.Same(), "%+v", c.Devices)
	assert.Equal(t, "not compared, since only one of the two holds it: config (3 devices)", c.Note)
}

// Secrets of configurations are compared and never shown.
func TestSecretsAreComparedAndNotShown(t *testing.T) {
	d := morningDesk(t, 1, false)
	at := time.Date(2026, 12, 2, 2, 30, 0, 0, time.UTC)
	for i, secret := range []string{"k3lp-one", "k3lp-two"} {
		_, err := d.Backups("test").Put("q-0000", "name q-0000\nlogin crew secret "+secret+"\n", at.Add(time.Duration(i)*time.Hour))
		require.NoError(t, err)
	}
	c, err := d.Compare(context.Background(), "q-0000@2026-12-02T023000Z", "q-0000@newest")
	require.NoError(t, err)
	assert.False(t, c.Same())
	assert.Equal(t, []string{"- login crew secret ▒▒▒▒", "+ login crew secret ▒▒▒▒"}, c.Devices[0].Config)
	assert.NotContains(t, fmt.Sprint(c.Tree, c.TextA, c.TextB), "k3lp")
	text, err := d.ShelfText(context.Background(), "q-0000", false)
	require.NoError(t, err)
	assert.NotContains(t, text, "k3lp")
}

func BenchmarkCompare5000(b *testing.B) {
	d := morningDesk(b, 5000, true)
	for b.Loop() {
		c, err := d.Compare(context.Background(), "before", "after")
		require.NoError(b, err)
		require.Len(b, c.Devices, 5000)
	}
}

// BenchmarkCompareMoments5000 compares what each of 5,000 devices had with what it had later.
func BenchmarkCompareMoments5000(b *testing.B) {
	d := morningDesk(b, 5000, true)
	for b.Loop() {
		c, err := d.Compare(context.Background(), "@2026-12-02 01:45", "@newest")
		require.NoError(b, err)
		require.Len(b, c.Devices, 5000)
		require.False(b, c.Unknown())
	}
}
