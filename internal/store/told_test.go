package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/record"
)

func TestToldIsWhatWasReadLast(t *testing.T) {
	told := Told{Dir: filepath.Join(t.TempDir(), "told")}
	at := time.Date(2026, 11, 29, 1, 30, 0, 0, time.UTC)
	_, err := told.Get("quay", "version")
	require.ErrorIs(t, err, fs.ErrNotExist)
	none, wrong := told.Of("quay")
	assert.Empty(t, none)
	assert.Empty(t, wrong)

	version := func(hour int, v string) ToldTable {
		return ToldTable{Table: "version", At: at.Add(time.Duration(hour) * time.Hour), Platform: "tern", By: "read",
			Who: identity.Seen{Serial: "T-1"}, Rows: []record.Row{{"version": v, "free": 7.0, "settled": true, "note": nil}}}
	}
	require.NoError(t, told.Put("quay", version(2, "4.2")))
	require.NoError(t, told.Put("quay", version(1, "4.1")), "one that was read before, and is kept later")
	got, err := told.Get("quay", "version")
	require.NoError(t, err)
	assert.Equal(t, version(2, "4.2"), got)

	require.NoError(t, told.PutRecord("record day", record.Device{Device: "quay", Platform: "tern", At: at, Tables: map[string][]record.Row{
		"ports": {{"port": 7.0}}, "neighbours": {},
	}, Wrong: map[string]string{"clock": "it does not answer"}}))
	all, wrong := told.Of("quay")
	assert.Empty(t, wrong)
	var names []string
	for _, one := range all {
		names = append(names, one.Table)
	}
	assert.Equal(t, []string{"neighbours", "ports", "version"}, names, "what could not be read is nothing that it told")

	require.NoError(t, os.WriteFile(filepath.Join(told.Dir, "quay", "ports.json"), []byte(`{"table":"clock"}`), 0o600))
	all, wrong = told.Of("quay")
	assert.Len(t, all, 2)
	require.Len(t, wrong, 1)
	require.ErrorContains(t, wrong[0], "ports.json is damaged")

	_, err = told.Get("../quay", "version")
	require.Error(t, err)
	assert.False(t, errors.Is(err, fs.ErrNotExist))
	require.Error(t, told.Put("quay", ToldTable{Table: "../../version", At: at}))
}

// A clock that was wrong when something was read must not keep out what is read from then on.
func TestToldOfTheFutureGivesWay(t *testing.T) {
	told := Told{Dir: t.TempDir()}
	now := time.Now()
	require.NoError(t, told.Put("quay", ToldTable{Table: "version", At: now.Add(24 * time.Hour)}))
	require.NoError(t, told.Put("quay", ToldTable{Table: "version", At: now}))
	got, err := told.Get("quay", "version")
	require.NoError(t, err)
	assert.WithinDuration(t, now, got.At, 0)
}

func TestManyKeepWhatOneTold(t *testing.T) {
	told := Told{Dir: t.TempDir()}
	at := time.Date(2026, 11, 29, 1, 30, 0, 0, time.UTC)
	var all sync.WaitGroup
	for i := range 16 {
		all.Go(func() {
			assert.NoError(t, told.Put("quay", ToldTable{Table: "version", At: at, Rows: []record.Row{{"n": float64(i)}}}))
		})
	}
	all.Wait()
	got, err := told.Get("quay", "version")
	require.NoError(t, err)
	assert.Len(t, got.Rows, 1)
	files, err := os.ReadDir(filepath.Join(told.Dir, "quay"))
	require.NoError(t, err)
	assert.Len(t, files, 1, "nothing half written stays")
}
