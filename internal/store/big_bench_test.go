package store

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
)

// aLongNight writes a night of so many devices into a journal, with some 200 events a device, and
// without an end.
func aLongNight(b testing.TB, file string, devices int) (id int64, events int) {
	j, err := OpenJournal(file)
	require.NoError(b, err)
	defer j.Close()
	w, err := j.Begin(NightHead{Began: time.Now(), Title: "Clocks"})
	require.NoError(b, err)
	seq, at := int64(0), time.Now()
	var told night.Night
	var batch []night.Event
	add := func(e night.Event) {
		seq++
		e.Seq, e.At = seq, at.Add(time.Duration(seq)*time.Millisecond)
		if batch = append(batch, e); len(batch) == 64 {
			require.NoError(b, w.Append(batch))
			told = night.Fold(told, batch...)
			if told.Seq/40_000 > (told.Seq-64)/40_000 {
				require.NoError(b, j.Stand(w.ID, &told))
			}
			batch = nil
		}
	}
	o := &night.Outline{Title: "Clocks", Batches: make([][]night.OutlineDevice, 1)}
	for i := range devices {
		o.Batches[0] = append(o.Batches[0], night.OutlineDevice{Name: fmt.Sprintf("d%05d", i), Site: "ALD", Platform: "tern", Steps: []string{"Clocks", "Logs"}})
	}
	add(night.Event{Kind: night.Planned, Outline: o})
	for round := range 50 {
		for _, d := range o.Batches[0] {
			for _, e := range []night.Event{{Kind: night.Doing, Note: "sending the lines"}, {Kind: night.Intent, What: night.ToSend, Step: 1, Lines: []string{"log host 198.51.100.14"}},
				{Kind: night.Sent, Step: 1, Line: 1, Lines: []string{"log host 198.51.100.14"}}, night.Is(night.Changing, fmt.Sprint("round ", round))} {
				e.Device = d.Name
				add(e)
			}
		}
	}
	require.NoError(b, w.Append(batch))
	return w.ID, int(seq)
}

func BenchmarkAMillionEvents(b *testing.B) {
	file := filepath.Join(b.TempDir(), "j.db")
	id, n := aLongNight(b, file, 5000)
	j, err := ReadJournal(file)
	require.NoError(b, err)
	defer j.Close()
	for b.Loop() {
		told, err := j.Standing(b.Context(), id)
		require.NoError(b, err)
		require.Equal(b, int64(n), told.Seq)
	}
}
