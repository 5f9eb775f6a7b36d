package work

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
)

// bare is a session that can do nothing but what all can.
type bare struct{ driver.Session }

// What a profile claims and the way to the device cannot do is found out as soon as it is
// connected to, not in the midst of its change.
func TestWhatAWayLacks(t *testing.T) {
	for name, c := range map[string]struct {
		traits plan.Traits
		lacks  string
	}{
		"nothing claimed": {plan.Traits{Timer: plan.NoTimer}, ""},
		"a timer":         {plan.Traits{Timer: plan.RestartTimer}, "a rollback timer"},
		"a trial":         {plan.Traits{Timer: plan.TrialTimer}, "a rollback timer"},
		"whole files":     {plan.Traits{Timer: plan.NoTimer, Whole: true}, "whole configurations"},
		"restoring":       {plan.Traits{Timer: plan.NoTimer, Restores: true}, "restoring a backup"},
		"saving":          {plan.Traits{Timer: plan.NoTimer, Saves: true}, "saving"},
	} {
		l, err := newLink(bare{}, &plan.Target{Device: fleet.Device{Platform: "plover"}, Traits: c.traits}, &clock{}, nil)
		if c.lacks == "" {
			assert.NoError(t, err, name)
			continue
		}
		assert.Nil(t, l, name)
		assert.ErrorIs(t, err, driver.ErrLacks, name)
		assert.ErrorContains(t, err, "the profile of plover has "+c.lacks+"; mend the profile", name)
	}
}

// Where there is no timer, none is pending; what cannot be done is refused, and the device is not
// taken for lost.
func TestAWayWithoutATimer(t *testing.T) {
	l, err := newLink(bare{}, &plan.Target{}, &clock{}, nil)
	require.NoError(t, err)
	ctx := context.Background()
	_, pending, err := l.Pending(ctx)
	assert.False(t, pending)
	assert.NoError(t, err)
	for name, err := range map[string]error{"arm": l.Arm(ctx, time.Minute), "disarm": l.Disarm(ctx), "take back": l.TakeBack(ctx),
		"put": l.Put(ctx, "x"), "save": l.Save(ctx), "restore": l.Restore(ctx, "x")} {
		var refused *driver.Refused
		assert.ErrorAs(t, err, &refused, name)
	}
}
