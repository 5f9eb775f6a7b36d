package work

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// What is done after the ladder back was climbed, whatever came of it and however the device
// stands. Where nothing is known to lead back, it is left to its timer if one is pending, and
// stranded if none is; never neither.
func TestAfterTheLadder(t *testing.T) {
	refused, lost := error(&driver.Refused{Said: "no"}), errors.New("EOF")
	type at struct{ pends, saved, trial, last bool }
	for name, c := range map[string]struct {
		err  error
		want func(at) (next, time.Duration)
	}{
		"equal":          {nil, func(at) (next, time.Duration) { return isBack, 0 }},
		"let go":         {errLetGo, func(at) (next, time.Duration) { return letsGo, 0 }},
		"changed since":  {fmt.Errorf("%w: 1 added", errDrifts), func(at) (next, time.Duration) { return climbs, 0 }},
		"lost":           {lost, func(at) (next, time.Duration) { return waits, 0 }},
		"lost in a mode": {fmt.Errorf("leaving the mode: %w", lost), func(at) (next, time.Duration) { return waits, 0 }},
		"no journal": {fmt.Errorf("%w: full", ErrJournal), func(a at) (next, time.Duration) {
			if a.pends {
				return leavesIt, 0
			}
			return strands, 0
		}},
		"refused": {refused, func(a at) (next, time.Duration) {
			switch {
			case !a.last && (a.saved || !a.pends):
				return climbs, backPause
			case a.pends:
				return letsItFire, 0
			}
			return strands, 0
		}},
		"no rung left": {fmt.Errorf("%w: no", errExhausted), func(a at) (next, time.Duration) {
			switch {
			case a.pends:
				return letsItFire, 0
			case a.trial && !a.last:
				return climbs, candidatePause
			}
			return strands, 0
		}},
		"reads like the backup, and proves nothing": {errUnseen, func(a at) (next, time.Duration) {
			if a.pends {
				return letsItFire, 0
			}
			return strands, 0
		}},
		"armed, and not pending": {errNotPending, func(a at) (next, time.Duration) {
			if a.pends {
				return letsItFire, 0
			}
			return strands, 0
		}},
	} {
		for n := range 16 {
			a := at{n&1 > 0, n&2 > 0, n&4 > 0, n&8 > 0}
			do, after := climbed{c.err, a.pends, a.saved, a.trial, a.last}.next()
			wantDo, wantAfter := c.want(a)
			assert.Equal(t, wantDo, do, "%s: %+v", name, a)
			assert.Equal(t, wantAfter, after, "%s: %+v", name, a)
		}
	}
}

// What becomes of a device that answers again with nothing pending. It counts as taken back
// only where both what runs and what is saved were read and are its backup; it is given up only
// where a timer of ours must have fired, and it is not what was backed up.
func TestADeviceThatIsBack(t *testing.T) {
	for n := range 1 << 9 {
		bit := func(i int) bool { return n>>i&1 > 0 }
		r := returned{bit(0), bit(1), bit(2), bit(3), bit(4), bit(5), bit(6), bit(7), bit(8)}
		state, note := r.end()
		switch state {
		case night.Reverted:
			assert.True(t, r.guarded && !r.restarting && r.equal && r.savedEqual, "%+v", r)
		case night.Stranded:
			assert.True(t, r.guarded && !r.trial && !r.alone && !r.proven && !(r.equal && r.savedEqual), "%+v", r)
		default:
			assert.Empty(t, state, "%+v", r)
		}
		assert.Equal(t, state == "", note == "", "%+v", r)
		if r.trial && r.early && !r.reverting {
			assert.Empty(t, state, "somebody has confirmed it or ended it, and that is for a person to see: %+v", r)
		}
	}
}
