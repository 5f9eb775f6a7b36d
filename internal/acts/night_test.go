package acts

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/reach"
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
	o := &night.Outline{Batches: [][]night.OutlineDevice{{{Name: "ald-quay-1"}}}}
	for state, free := range map[night.State]bool{night.Waiting: true, night.Changing: false, night.Soaking: false, night.Reverting: false, night.Armed: false,
		night.Held: true, night.Dark: true, night.Stranded: true, night.Kept: true, night.Blocked: true} {
		night := night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: o}, night.Event{Kind: night.Moved, Device: "ald-quay-1", State: state})
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
