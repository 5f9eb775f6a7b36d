package store

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
)

// Nights are listed without their events, with what they came to where that is written,
// and from a journal that has no summaries, too.
func TestListing(t *testing.T) {
	file := filepath.Join(t.TempDir(), "metabasis.db")
	j, err := OpenJournal(file)
	require.NoError(t, err)
	began := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	var ids []int64
	for _, title := range []string{"one", "two", "empty"} {
		w, err := j.Begin(NightHead{Began: began, Title: title, Runbook: "text"})
		require.NoError(t, err)
		ids = append(ids, w.ID)
		if title != "empty" {
			require.NoError(t, w.Append([]night.Event{{Seq: 1, Kind: night.Planned, Outline: &night.Outline{}}}))
		}
	}
	s := Summary{Ended: began.Add(time.Hour), Outcome: night.NeedsPerson, Text: "1 stranded", Needs: []string{"ald-quay-1 stranded"}}
	require.NoError(t, j.Summarise(ids[0], s))
	require.NoError(t, j.Summarise(ids[0], s), "again is the same")
	require.NoError(t, j.Settle(ids[0], Seen{At: began, By: "ada", Why: "replaced"}))
	assert.Error(t, j.Summarise(99, s), "of a night that is not there")
	list, err := j.List(t.Context())
	require.NoError(t, err)
	require.Len(t, list, 3)
	assert.True(t, list[0].Empty)
	assert.Nil(t, list[1].Summary)
	assert.Equal(t, s.Text, list[2].Summary.Text)
	assert.Equal(t, s.Needs, list[2].Summary.Needs)
	assert.Equal(t, "replaced", list[2].Seen.Why)

	_, err = j.db.Exec(`UPDATE summaries SET body = 'x'; DROP TABLE seen`)
	require.NoError(t, err)
	require.NoError(t, j.Close())
	j, err = ReadJournal(file)
	require.NoError(t, err)
	defer j.Close()
	list, err = j.List(t.Context())
	require.NoError(t, err)
	assert.Len(t, list, 3)
	assert.Nil(t, list[2].Summary)
}
