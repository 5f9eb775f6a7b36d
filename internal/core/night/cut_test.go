package night

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/plan"
)

// Of a device whose night was cut off it is said what was last to be done, and whether
// anything takes the change back by itself: what was intended may have been done, or not.
func TestWhereADeviceWasWhenItsNightWasCutOff(t *testing.T) {
	at := time.Date(2026, 12, 2, 1, 30, 0, 0, time.Local)
	due := at.Add(10 * time.Minute)
	moved := func(s State) Event { return Event{Kind: Moved, State: s} }
	arm := []Event{moved(Checking), moved(Recording), {Kind: Intent, What: ToArm, For: 10 * time.Minute}}
	then := func(events []Event, more ...Event) []Event { return slices.Concat(events, more) }
	armed := then(arm, Event{Kind: TimerSeen, Due: due, For: 10 * time.Minute}, moved(Armed), moved(Changing))
	sending := then(armed, Event{Kind: Intent, What: ToSend, Step: 1, Lines: []string{"a", "b"}}, Event{Kind: Sent, Step: 1, Line: 1, Lines: []string{"a"}})
	soaking := then(sending, Event{Kind: Stepped, Step: 1, What: StepDone}, moved(Soaking))
	disarming := then(soaking, Event{Kind: Intent, What: ToDisarm})
	disarmed := then(disarming, Event{Kind: TimerGone})
	saving := then(disarmed, Event{Kind: Intent, What: ToSave})
	applying := []Event{moved(Changing), {Kind: Intent, What: ToApply, Step: 1, For: time.Minute}}
	doing := then(armed, Event{Kind: Looked, What: "tell counts", OK: true}, Event{Kind: Intent, What: ToDo, Step: 1, Lines: []string{"renew links"}})
	done := func(ok bool) []Event { return then(doing, Event{Kind: Done, Step: 1, What: "renew links", OK: ok}) }
	for name, c := range map[string]struct {
		way    plan.TimerKind
		events []Event
		want   string
		begun  bool
	}{
		"before anything":  {plan.RestartTimer, arm[:2], "recording, and nothing of the change was sent to it", false},
		"arming":           {plan.RestartTimer, arm, "recording: its timer was being armed, and no line was sent; it was to restart at 01:40:00 by itself, if that came through", true},
		"armed":            {plan.PutBackTimer, armed, "changing: its timer was armed, and no line was sent; it was to put back what is saved at 01:40:00 by itself", true},
		"sending":          {plan.RestartTimer, sending, `changing: 1 of 2 lines of "Log" had been sent, as far as was written down; it was to restart at 01:40:00 by itself`, true},
		"extended":         {plan.RestartTimer, then(sending, Event{Kind: Intent, What: ToExtend, For: time.Hour}, Event{Kind: TimerSeen, Due: at.Add(time.Hour)}), `changing: 1 of 2 lines of "Log" had been sent, as far as was written down; it was to restart at 02:30:00 by itself`, true},
		"armed anew":       {plan.RestartTimer, then(sending, Event{Kind: TimerGone}, Event{Kind: Intent, What: ToArm, For: time.Hour}), "changing: its timer was being armed anew; lines were sent, and nothing was saved; it was to restart at 02:30:00 by itself, if that came through", true},
		"disarming":        {plan.RestartTimer, disarming, "soaking: its timer was being disarmed; nothing was saved yet; it was to restart at 01:40:00 by itself, unless it was disarmed", true},
		"disarmed":         {plan.RestartTimer, disarmed, "soaking: its timer was disarmed, and nothing was saved yet; nothing takes it back by itself: its timer is gone", true},
		"saving":           {plan.RestartTimer, saving, "soaking: what runs was being saved; nothing takes it back by itself: its timer is gone", true},
		"applying":         {plan.TrialTimer, applying, `changing: the lines of "Log" were applied, or were about to be; its trial was to end at 01:31:00, and the device to take it back by itself, if that came through`, true},
		"doing":            {plan.RestartTimer, doing, `changing: "renew links" of "Log" was given, or was about to be: whether it was done is not known; it was to restart at 01:40:00 by itself`, true},
		"done":             {plan.RestartTimer, done(true), `changing: "renew links" of "Log" was done, which cannot be undone; it was to restart at 01:40:00 by itself`, true},
		"done, perhaps":    {plan.RestartTimer, done(false), `changing: "renew links" of "Log" was given, or was about to be: whether it was done is not known; it was to restart at 01:40:00 by itself`, true},
		"doing again":      {plan.RestartTimer, then(done(false), doing[len(doing)-1]), `changing: "renew links" of "Log" was given, or was about to be: whether it was done is not known; it was to restart at 01:40:00 by itself`, true},
		"no way back":      {plan.NoTimer, []Event{moved(Changing), {Kind: Intent, What: ToSend, Step: 1, Lines: []string{"a"}}}, `changing: 0 of 1 line of "Log" had been sent, as far as was written down; nothing takes it back by itself`, true},
		"being taken back": {plan.NoTimer, []Event{moved(Reverting), {Kind: Intent, What: ToUndo, Step: 1}}, "reverting: it was being taken back; nothing takes it back by itself", true},
	} {
		events := []Event{{Kind: Planned, Outline: &Outline{Batches: [][]OutlineDevice{{{Name: "a", Way: c.way, Steps: []string{"Log"}}}}}}}
		for _, e := range c.events {
			e.Device, e.At = "a", at
			events = append(events, e)
		}
		n := Fold(Night{}, events...)
		d := n.Get("a")
		assert.Equal(t, c.want, d.WasAt(), name)
		assert.Equal(t, c.begun, d.Begun(), name)
		assert.True(t, d.CutOff(), name)
	}
}

// A command that was to be given when the night was cut off stands with those that were: nobody
// knows whether it was done.
func TestWhatWasGivenWhenANightWasCutOff(t *testing.T) {
	intent := Event{Kind: Intent, Device: "a", What: ToDo, Step: 1, Lines: []string{"renew links"}}
	did := Event{Kind: Done, Device: "a", Step: 1, What: "renew links", OK: true}
	over := Event{Kind: Moved, Device: "a", State: Reverted}
	for name, c := range map[string]struct {
		events []Event
		given  int
		known  bool
	}{
		"cut off in it":         {[]Event{intent}, 1, false},
		"cut off behind it":     {[]Event{intent, did}, 1, true},
		"cut off in the second": {[]Event{intent, did, intent}, 2, false},
		"not cut off":           {[]Event{intent, did, over}, 1, true},
	} {
		events := []Event{{Kind: Planned, Outline: &Outline{Batches: [][]OutlineDevice{{{Name: "a", Steps: []string{"Renew"}}}}}}}
		n := Fold(Night{}, slices.Concat(events, []Event{{Kind: Moved, Device: "a", State: Changing}}, c.events)...)
		given := n.Get("a").Given()
		require.Len(t, given, c.given, name)
		last := given[len(given)-1]
		assert.Equal(t, "renew links", last.Command, name)
		assert.Equal(t, c.known, last.OK, name)
	}
}
