package decide

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// An abort says of each device what becomes of it, and when: one that has no contact counts with the
// time at which its timer brings it back.
func TestWhatBecomesOfEachWhenARunIsAborted(t *testing.T) {
	now := time.Date(2026, 12, 2, 1, 30, 0, 0, time.Local)
	device := func(name string) night.OutlineDevice {
		return night.OutlineDevice{Name: name, Steps: []string{"x"}, Way: plan.RestartTimer, Boot: 20 * time.Second, Back: 8 * time.Second}
	}
	o := &night.Outline{Title: "Quays", Window: plan.Window{Open: now, Close: now.Add(5 * time.Minute)}, Batches: [][]night.OutlineDevice{{
		device("waits"), device("checks"), device("changes"), device("held"), device("dark"), device("lost"), device("kept"), device("back"),
	}}}
	n := night.Fold(night.Night{}, night.Event{Kind: night.Planned, At: now, Outline: o}, night.Event{Kind: night.Began, At: now})
	is := func(name string, s night.State, more ...night.Event) {
		moved := night.Is(s, "")
		if s == night.Kept {
			moved = night.EndsIn(s, "", true)
		}
		for _, e := range append(more, moved) {
			e.Device, e.At = name, now
			n = night.Fold(n, e)
		}
	}
	sent := night.Event{Kind: night.Intent, What: night.ToSend, Step: 1, Lines: []string{"x"}}
	timer := night.TimerPending(now.Add(2*time.Minute), 2*time.Minute)
	is("checks", night.Checking)
	is("changes", night.Changing, timer, sent)
	is("held", night.Held, timer, sent)
	is("dark", night.Dark, timer, sent)
	is("lost", night.Dark, sent)
	is("kept", night.Kept)
	is("back", night.Reverting, timer, sent)

	said := func(c night.Choice) map[string]string {
		out := map[string]string{}
		for _, f := range fates(&n, c, now) {
			out[f.Device] = f.Does
			if !f.By.IsZero() {
				out[f.Device] += " by " + f.By.Format("15:04:05")
			}
			if f.Open {
				out[f.Device] += " open"
			}
		}
		return out
	}
	back := "is taken back after the line in flight by 01:30:08"
	dark := "has no contact: its timer restarts it with what is saved, and it is looked at then by 01:32:20"
	lost := "has no contact and no timer: it is taken back once it answers open"
	being := "is being taken back by 01:30:08"
	untouched := "is left as it is: nothing was sent by 01:30:00"
	assert.Equal(t, map[string]string{"checks": untouched, "changes": back, "held": back, "dark": dark, "lost": lost, "back": being}, said(night.BackDevice))
	assert.Equal(t, map[string]string{"checks": untouched, "changes": back, "held": back, "dark": dark, "lost": lost, "back": being,
		"kept": "is taken back, and saved as it was by 01:30:08"}, said(night.BackAll))
	assert.Equal(t, map[string]string{"checks": untouched, "changes": "goes on to its end", "held": "stays held, to be decided open", "dark": dark, "lost": lost, "back": being}, said(night.Finish))
	let := "is left to its timer, which restarts it with what is saved by 01:32:20"
	assert.Equal(t, map[string]string{"checks": "is left as it is: nothing was sent", "changes": let, "held": let, "dark": let, "back": let,
		"lost": "STAYS with what was changed: nothing takes it back by itself open"}, said(night.Release))

	q := OfAbort(&n, now)
	assert.Equal(t, 140*time.Second, q.Offers[0].Takes, "the dark one counts")
	assert.True(t, q.Offers[0].Open, "and the one of which nobody knows")
	assert.True(t, q.Offers[0].Fits)
	assert.False(t, OfAbort(&n, now.Add(4*time.Minute+55*time.Second)).Offers[2].Fits, "it is not done before the window closes")
}

// A device that restarts is taken back once it is there again: when it usually is, or, where it is late, when
// it is given up.
func TestWhatBecomesOfADeviceThatRestarts(t *testing.T) {
	now := time.Date(2026, 12, 2, 1, 30, 0, 0, time.UTC)
	o := &night.Outline{Window: plan.Window{Open: now, Close: now.Add(time.Hour)}, Batches: [][]night.OutlineDevice{{{Name: "a", Back: 8 * time.Second}}}}
	e := night.IsAway("", now.Add(20*time.Second), time.Time{}, now.Add(4*time.Minute))
	e.Device, e.At = "a", now
	n := night.Fold(night.Night{}, night.Event{Kind: night.Planned, At: now, Outline: o}, night.Event{Kind: night.Began, At: now},
		night.Event{Kind: night.Intent, Device: "a", At: now, What: night.ToDo, Step: 1, Line: 1, Lines: []string{"restart"}}, e)
	for after, by := range map[time.Duration]time.Time{0: now.Add(28 * time.Second), time.Minute: now.Add(4*time.Minute + 8*time.Second)} {
		all := fates(&n, night.BackDevice, now.Add(after))
		require.Len(t, all, 1)
		assert.Equal(t, by, all[0].By)
	}
	assert.Equal(t, "goes on to its end", fates(&n, night.Finish, now)[0].Does)
	assert.Equal(t, "restarts, and is not looked for any more", fates(&n, night.Release, now)[0].Does)
}
