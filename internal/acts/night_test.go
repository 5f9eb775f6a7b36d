package acts

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/run"
)

// A device that a night works on is not disturbed by anything else that is asked for;
// one that waits, is held or is over may be looked at.
func TestANightIsNotDisturbed(t *testing.T) {
	d, _ := desk(t, nil)
	n := newNight(d, nil, nil)
	n.began = true
	d.nights = append(d.nights, n)
	e, err := d.Select("", nil)
	require.NoError(t, err)
	o := &run.Outline{Batches: [][]run.OutlineDevice{{{Name: "ald-quay-1"}}}}
	for state, free := range map[run.State]bool{run.Waiting: true, run.Changing: false, run.Soaking: false, run.Reverting: false, run.Armed: false,
		run.Held: true, run.Dark: true, run.Stranded: true, run.Kept: true, run.Blocked: true} {
		night := run.Fold(run.Night{}, run.Event{Kind: run.Planned, Outline: o}, run.Event{Kind: run.Moved, Device: "ald-quay-1", State: state})
		n.now.Store(&night)
		assert.Equal(t, free, e.free(fleet.Device{Name: "ald-quay-1"}) == nil, state)
		assert.NoError(t, e.free(fleet.Device{Name: "ald-quay-2"}), "another device")
		if !free {
			assert.Equal(t, []string{"ald-quay-1"}, e.Reach(t.Context(), []string{"ald-quay-1"}, func(reach.Event) { t.Error("it was reached") }))
			_, err := e.open(t.Context(), fleet.Device{Name: "ald-quay-1"})
			assert.ErrorContains(t, err, "not tried: the night that runs works on it")
		}
	}
	close(n.over)
	assert.NoError(t, e.free(fleet.Device{Name: "ald-quay-1"}), "once it is over")
	d.nights = nil
}
