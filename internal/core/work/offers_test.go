package work

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

func TestWhatIsOfferedAtAHold(t *testing.T) {
	at := time.Unix(1000, 0)
	due := timer{due: at.Add(3 * time.Minute)}
	step := situation{now: at, by: plan.RestartTimer, guarded: true, saves: true, title: "Gates", changes: true, timer: due,
		again: span{10 * time.Second, time.Minute}, skip: span{8 * time.Second, 50 * time.Second}, accept: span{5 * time.Second, 30 * time.Second},
		back: 4 * time.Second, fire: 4 * time.Minute, extend: time.Second}
	with := func(change func(*situation)) situation {
		s := step
		change(&s)
		return s
	}
	const other = `other lines 0s, with a reason: sends nothing yet: what they would do is shown first`
	for name, c := range map[string]struct {
		at   situation
		want []string
	}{
		"nothing sent": {step, []string{
			`try again 10s to 1m0s: sends "Gates" once more from its first line; then cancels its timer and saves`,
			`skip the step 8s to 50s: nothing of it was sent; then cancels its timer and saves`,
			`take back the device 4s: compares with its backup, and sends nothing if it is equal; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `, other}},
		"a line was refused": {with(func(s *situation) { s.begun, s.touched, s.later = true, true, 2 }), []string{
			`try again 10s to 1m0s: sends "Gates" once more from its first line; then sends 2 steps more, cancels its timer and saves`,
			`skip the step 8s to 50s: undoes "Gates" and proves that; then sends 2 steps more, cancels its timer and saves`,
			`take back the device 4s: undoes what was sent, and compares with its backup; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `, other}},
		"sent, not as predicted, the timer is short": {with(func(s *situation) {
			s.sent, s.begun, s.touched, s.unlike, s.later, s.due = true, true, true, true, 1, at.Add(5*time.Second)
		}), []string{
			`try again 10s to 1m0s: looks once more at "Gates" and sends none of its lines; once it is so, its timer is extended first; then sends 1 step more, cancels its timer and saves`,
			`skip the step 8s to 50s: undoes "Gates" and proves that; then sends 1 step more, cancels its timer and saves`,
			`take back the device 4s: undoes what was sent, and compares with its backup; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `,
			`keep what runs 5s to 30s, with a reason: sends nothing for it; then sends 1 step more, cancels its timer and saves`, other}},
		"in the reserve": {with(func(s *situation) { s.late = true }), []string{
			`go on all the same 10s to 1m0s, with a reason: sends "Gates" once more from its first line; then cancels its timer and saves`,
			`skip the step 8s to 50s: nothing of it was sent; then cancels its timer and saves`,
			`take back the device 4s: compares with its backup, and sends nothing if it is equal; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `}},
		"while soaking": {with(func(s *situation) { s.over, s.soaks, s.touched, s.saved = true, true, true, true }), []string{
			`try again 10s to 1m0s: watches anew that it holds; then cancels its timer and saves`,
			`take back the device 4s: undoes what was sent, and compares with its backup; then cancels its timer; saves again, since the change may be saved`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `}},
		"on trial, all at once": {with(func(s *situation) { s.by, s.once, s.touched, s.sent = plan.TrialTimer, true, true, true }), []string{
			`try again 10s to 1m0s: looks once more at "Gates" and sends none of its lines; once it is so, then confirms it, which keeps it`,
			`take back the device 4s: ends its trial, and compares with its backup`,
			`wait for the timer 4m0s: `}},
		"no timer": {with(func(s *situation) { s.guarded, s.timer, s.saves = false, timer{}, false }), []string{
			`try again 10s to 1m0s: sends "Gates" once more from its first line; then keeps it`,
			`skip the step 8s to 50s: nothing of it was sent; then keeps it`,
			`take back the device 4s: compares with its backup, and sends nothing if it is equal`, other}},
		"what was sealed": {with(func(s *situation) { s.sealed, s.guarded, s.timer, s.saves = true, false, timer{}, false }), []string{
			`try again 10s to 1m0s: sends "Gates" once more from its first line; then keeps it`,
			`skip the step 8s to 50s: nothing of it was sent; then keeps it`,
			`take back the device 4s: compares with its backup, and sends nothing if it is equal`}},
		"a step by console": {with(func(s *situation) { s.kind, s.changes, s.hears = plan.ConsoleStep, false, true }), []string{
			`work it by hand 0s: opens the console; what was changed is read and shown when you leave it; its timer is watched and put off meanwhile`,
			`skip the step 8s to 50s: nobody has said that it is done; then cancels its timer and saves`,
			`take back the device 4s: compares with its backup, and sends nothing if it is equal; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `}},
		"worked by hand": {with(func(s *situation) {
			s.kind, s.changes, s.hears, s.worked, s.byHanded, s.unlike, s.touched = plan.ConsoleStep, false, true, true, true, true, true
		}), []string{
			`adopt it 5s to 30s, with a reason: what runs is as it is meant; sends nothing for it; then cancels its timer and saves`,
			`take back the device 4s: undoes what was done by hand, and what was sent before, and compares with its backup; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `,
			`work it by hand 0s: opens the console; what was changed is read and shown when you leave it; its timer is watched and put off meanwhile`}},
		"worked by hand in a step of lines": {with(func(s *situation) {
			s.byHanded, s.unlike, s.touched, s.begun, s.guarded, s.timer = true, true, true, true, false, timer{}
		}), []string{
			`adopt it 5s to 30s, with a reason: what runs stands for "Gates"; sends none of its lines; then saves`,
			`try again 10s to 1m0s, with a reason: adopts what was done by hand, and then sends "Gates" from its first line; then saves`,
			`take back the device 4s: undoes what was done by hand, and what was sent before, and compares with its backup`, other}},
		"worked by hand, nothing changed": {with(func(s *situation) { s.kind, s.changes, s.worked = plan.ConsoleStep, false, true }), []string{
			`it is done 10s to 1m0s: sends nothing for it, and looks at what is expected of it; then cancels its timer and saves`,
			`skip the step 8s to 50s: nobody has said that it is done; then cancels its timer and saves`,
			`take back the device 4s: compares with its backup, and sends nothing if it is equal; then cancels its timer`,
			`wait for the timer 4m0s: `, `extend the timer 1s: `}},
	} {
		var got []string
		for _, o := range c.at.offers() {
			line := string(o.Choice) + " " + o.Takes.String()
			if o.Most > o.Takes {
				line += " to " + o.Most.String()
			}
			if o.Reason {
				line += ", with a reason"
			}
			got = append(got, line+": "+o.Does)
		}
		assert.Equal(t, c.want, got, name)
	}
}

// Whatever the situation: going on is the first of what is offered, taking back is always one,
// and none is offered that the device cannot do.
func TestOffersAreWhatCanBeDone(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		yes := func(what string) bool { return rapid.Bool().Draw(t, what) }
		at := time.Unix(1000, 0)
		s := situation{now: at, by: rapid.SampledFrom([]plan.TimerKind{plan.NoTimer, plan.RestartTimer, plan.PutBackTimer, plan.TrialTimer}).Draw(t, "timer"),
			guarded: yes("guarded"), extends: yes("extends"), once: yes("once"), saves: yes("saves"), one: yes("one"), over: yes("over"), soaks: yes("soaks"),
			late: yes("late"), unlike: yes("unlike"), touched: yes("touched"), saved: yes("saved"), title: "Gates", changes: yes("changes"), begun: yes("begun"),
			later: rapid.IntRange(0, 3).Draw(t, "later")}
		if yes("pends") {
			s.due = at.Add(time.Minute)
		}
		offers := map[night.Choice]night.Offer{}
		for _, o := range s.offers() {
			assert.NotContains(t, offers, o.Choice, "offered twice")
			assert.Equal(t, 1, o.Touches)
			offers[o.Choice] = o
		}
		first := s.offers()[0]
		assert.Equal(t, s.late, first.Choice == night.GoOnLate)
		assert.Equal(t, !s.late, first.Choice == night.TryAgain)
		assert.Equal(t, s.late, first.Reason, "what breaks a rule wants a reason")
		assert.Contains(t, offers, night.BackDevice)
		offered := func(c night.Choice) bool { _, is := offers[c]; return is }
		assert.Equal(t, s.pends(), offered(night.LetFire))
		assert.Equal(t, s.pends() && (s.by != plan.TrialTimer || s.extends), offered(night.Extend))
		assert.Equal(t, !s.over && !s.once, offered(night.SkipStep))
		assert.Equal(t, s.unlike, offered(night.Accept))
		assert.Equal(t, s.unlike, offers[night.Accept].Reason)
		if !s.touched {
			assert.Contains(t, offers[night.BackDevice].Does, "sends nothing if it is equal")
		}
		if !s.pends() {
			assert.NotContains(t, offers[night.BackDevice].Does, "timer", "none is pending")
		}
		assert.Equal(t, s.saved, strings.Contains(offers[night.BackDevice].Does, "saves again"))
	})
}
