package night

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/plan"
)

func outline(devices int) *Outline {
	o := &Outline{Title: "x", Batches: [][]OutlineDevice{nil}}
	for i := range devices {
		o.Batches[0] = append(o.Batches[0], OutlineDevice{Name: fmt.Sprint("d", i), Steps: []string{"a", "b"}})
	}
	return o
}

// drawEvents draws events as they could come, and some that could not: a fold
// must stand anything that an old journal may hold.
func drawEvents(t *rapid.T) []Event {
	states := []State{Waiting, Checking, Recording, Armed, Changing, Verifying, Soaking, Held, Reverting, Dark, Kept, Already, Blocked, Skipped, Reverted, Stranded}
	kinds := []Kind{Moved, Doing, Contact, Lost, Prechecked, BackedUp, Intent, Sent, Refusal, TimerSeen, TimerGone, Stepped, Expected, Rung, Differs,
		HoldOpened, HoldClosed, BatchBegan, Forecast, Aborted, LetGo, Ended, Began, "a kind of a later version"}
	events := []Event{{Kind: Planned, Outline: outline(3)}}
	for i := range rapid.IntRange(0, 40).Draw(t, "events") {
		e := Event{Seq: int64(i + 2), Kind: rapid.SampledFrom(kinds).Draw(t, "kind"), State: rapid.SampledFrom(states).Draw(t, "state"),
			Device: rapid.SampledFrom([]string{"", "d0", "d1", "d2", "unknown"}).Draw(t, "device"), Step: rapid.IntRange(-1, 5).Draw(t, "step"),
			Hold: rapid.IntRange(0, 3).Draw(t, "hold"), OK: rapid.Bool().Draw(t, "ok"), What: rapid.SampledFrom([]string{"", StepDone, StepLeft, ToSend}).Draw(t, "what"),
			Choice: rapid.SampledFrom([]Choice{"", GoOn, BackAll}).Draw(t, "choice"), At: time.Unix(int64(i), 0)}
		events = append(events, e)
	}
	return events
}

// The fold is pure: however events are cut into groups, the same night comes
// out, and a night that was handed out is never changed afterwards.
func TestFoldIsPure(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		events := drawEvents(t)
		all := Fold(Night{}, events...)
		cut := rapid.IntRange(0, len(events)).Draw(t, "cut")
		before := Fold(Night{}, events[:cut]...)
		again := Fold(Night{}, events[:cut]...)
		require.Equal(t, all, Fold(before, events[cut:]...))
		require.Equal(t, again, before, "folding on changed a night that was handed out")
	})
}

func TestOutcome(t *testing.T) {
	for _, c := range []struct {
		states []State
		want   Outcome
	}{
		{[]State{Kept, Already}, AllKept},
		{[]State{Kept, Blocked}, SomeBlocked},
		{[]State{Skipped, Kept}, SomeBlocked},
		{[]State{Blocked, Reverted}, SomeBack},
		{[]State{Reverted, Dark}, NeedsPerson},
		{[]State{Stranded, Kept}, NeedsPerson},
	} {
		n := Fold(Night{}, Event{Kind: Planned, Outline: outline(len(c.states))})
		for i, s := range c.states {
			n = Fold(n, Event{Kind: Moved, Device: fmt.Sprint("d", i), State: s, OK: true})
		}
		assert.Equal(t, c.want, n.Outcome(), c.states)
	}
	left := Fold(Night{}, Event{Kind: Planned, Outline: outline(1)}, Event{Kind: Stepped, Device: "d0", Step: 1, What: StepLeft},
		Event{Kind: Moved, Device: "d0", State: Kept, OK: true})
	assert.Equal(t, SomeBack, left.Outcome(), "a step that was left out was taken back")
}

func TestScheduleOfAnEmptyForecast(t *testing.T) {
	n := Fold(Night{}, Event{Kind: Planned, Outline: outline(1)})
	slots, likely, late := n.Schedule(time.Now())
	assert.Empty(t, slots)
	assert.True(t, likely.IsZero() && late.IsZero())
	n = Fold(n, Event{Kind: Forecast, Slots: []plan.Slot{{Start: time.Unix(10, 0), End: time.Unix(20, 0)}}, Due: time.Unix(20, 0)})
	slots, likely, _ = n.Schedule(time.Unix(15, 0))
	assert.Equal(t, time.Unix(15, 0), slots[0].Start)
	assert.Equal(t, time.Unix(25, 0), likely)
}

// The timers that a night may have left are those of devices it never saw the end of,
// whether they were seen or only intended.
func TestTimersLeft(t *testing.T) {
	at := time.Unix(1000, 0)
	var devices []OutlineDevice
	for _, name := range []string{"armed", "intended", "sent", "disarmed", "kept", "dark", "held", "stranded"} {
		devices = append(devices, OutlineDevice{Name: name})
	}
	events := []Event{
		{At: at, Kind: Planned, Outline: &Outline{Batches: [][]OutlineDevice{devices}}},
		{At: at, Kind: Intent, Device: "armed", What: ToArm, For: time.Minute},
		{At: at, Kind: TimerSeen, Device: "armed", Due: at.Add(61 * time.Second)},
		{At: at, Kind: Intent, Device: "intended", What: ToExtend, For: time.Hour},
		{At: at, Kind: Intent, Device: "sent", What: ToSend, For: time.Hour},
		{At: at, Kind: TimerSeen, Device: "disarmed", Due: at.Add(time.Minute)},
		{At: at, Kind: TimerGone, Device: "disarmed"},
		{At: at, Kind: TimerSeen, Device: "kept", Due: at.Add(time.Minute)},
		{At: at, Kind: Moved, Device: "kept", State: Kept, OK: true},
		{At: at, Kind: TimerSeen, Device: "dark", Due: at.Add(time.Minute)},
		{At: at, Kind: Moved, Device: "dark", State: Dark, OK: true},
		{At: at, Kind: TimerSeen, Device: "held", Due: at.Add(time.Minute)},
		{At: at, Kind: Moved, Device: "held", State: Held},
		{At: at, Kind: TimerSeen, Device: "stranded", Due: at.Add(time.Minute)},
		{At: at, Kind: Moved, Device: "stranded", State: Stranded, OK: true},
	}
	minute, told := []time.Time{at.Add(time.Minute)}, Fold(Night{}, events...)
	assert.Equal(t, map[string][]time.Time{"armed": {at.Add(time.Minute), at.Add(61 * time.Second)}, "intended": {at.Add(time.Hour)},
		"dark": minute, "held": minute, "stranded": minute}, told.TimersLeft())
}

func TestWhichStatesAreEnds(t *testing.T) {
	ends := map[State]bool{Kept: true, Already: true, Blocked: true, Skipped: true, Reverted: true, Stranded: true}
	for _, s := range []State{Waiting, Checking, Recording, Armed, Changing, Verifying, Soaking, Held, Reverting, Dark, Kept, Already, Blocked, Skipped, Reverted, Stranded, "a state of a later version"} {
		assert.Equal(t, ends[s], s.Ended(), s)
	}
}

// What has begun keeps its beginning; what has not moves on with the clock, and all
// that comes after it.
func TestScheduleOfARunningBatch(t *testing.T) {
	at := func(s int64) time.Time { return time.Unix(s, 0) }
	o := outline(1)
	o.Batches = append(o.Batches, nil, nil)
	n := Fold(Night{}, Event{Kind: Planned, Outline: o}, Event{Kind: BatchBegan, Batch: 1},
		Event{Kind: Forecast, Slots: []plan.Slot{{Start: at(10), End: at(20)}, {Start: at(20), End: at(30)}, {Start: at(30), End: at(40)}}, Due: at(40), Late: at(50)})
	for now, want := range map[int64][]int64{15: {10, 20, 20, 30, 30, 40, 40, 50}, 24: {10, 24, 24, 34, 34, 44, 44, 54}} {
		slots, likely, late := n.Schedule(at(now))
		var got []int64
		for _, s := range slots {
			got = append(got, s.Start.Unix(), s.End.Unix())
		}
		assert.Equal(t, want, append(got, likely.Unix(), late.Unix()), now)
	}
}

// While all that is left of a batch waits for a person, its end does not come nearer; as long as
// anything is done about one of its devices, it does.
func TestScheduleOfABatchThatIsHeld(t *testing.T) {
	at := func(s int64) time.Time { return time.Unix(s, 0) }
	n := Fold(Night{}, Event{Kind: Planned, Outline: outline(2)}, Event{Kind: BatchBegan, Batch: 1},
		Event{At: at(10), Kind: Forecast, Slots: []plan.Slot{{Start: at(10), End: at(100)}}, Due: at(100), Late: at(150)},
		Event{At: at(12), Kind: Moved, Device: "d0", State: Changing},
		Event{At: at(15), Kind: Moved, Device: "d1", State: Held})
	_, likely, _ := n.Schedule(at(30))
	assert.Equal(t, at(100), likely, "d0 is worked on")
	n = Fold(n, Event{At: at(30), Kind: Moved, Device: "d0", State: Kept, OK: true})
	for _, now := range []int64{40, 60, 90, 400} {
		_, likely, late := n.Schedule(at(now))
		assert.Equal(t, 70*time.Second, likely.Sub(at(now)), now)
		assert.Equal(t, 50*time.Second, late.Sub(likely), now)
	}
	n = Fold(n, Event{At: at(400), Kind: Forecast, Slots: []plan.Slot{{Start: at(10), End: at(480)}}, Due: at(480), Late: at(500)})
	_, likely, _ = n.Schedule(at(410))
	assert.Equal(t, at(490), likely, "it was reckoned meanwhile, with what was held")
}

func TestSitesInOrderOfAppearance(t *testing.T) {
	n := Night{}
	for _, site := range []string{"BRM", "ALD", "BRM"} {
		n.Devices = append(n.Devices, &Device{OutlineDevice: OutlineDevice{Site: site}})
	}
	assert.Equal(t, []string{"BRM", "ALD"}, n.Sites())
}

// What is reckoned anew at one question leaves the others as they were asked.
func TestOffersThatAreReckonedAnew(t *testing.T) {
	at := func(s int64) time.Time { return time.Unix(s, 0) }
	n := Fold(Night{}, Event{Kind: Planned, Outline: outline(2)},
		Event{Kind: HoldOpened, Device: "d0", Hold: 1, At: at(1), Offers: []Offer{{Choice: TryAgain}}},
		Event{Kind: HoldOpened, Device: "d1", Hold: 2, At: at(2), Offers: []Offer{{Choice: TryAgain}}})
	anew := Fold(n, Event{Kind: HoldAnew, Device: "d1", Hold: 2, At: at(9), Offers: []Offer{{Choice: BackDevice}}})
	require.Len(t, anew.Holds, 2)
	assert.Equal(t, n.Holds[0], anew.Holds[0])
	assert.Equal(t, []Offer{{Choice: BackDevice}}, anew.Holds[1].Offers)
	assert.Equal(t, at(9), anew.Holds[1].Told)
	assert.Equal(t, at(2), anew.Holds[1].Since)
}

// A device that waited for a person, or for contact, says nothing of how long things take.
func TestTimesAreOfWhatWentByItself(t *testing.T) {
	at := func(s int64) time.Time { return time.Unix(s, 0) }
	for _, between := range []State{Verifying, Held, Dark, Reverting} {
		n := Fold(Night{}, Event{Kind: Planned, Outline: outline(1)})
		for i, s := range []State{Checking, Recording, Armed, between, Soaking, Kept} {
			n = Fold(n, Event{Kind: Moved, Device: "d0", State: s, At: at(int64(10 * i)), OK: s == Kept})
		}
		assert.Equal(t, between == Verifying, len(n.Times().Parts) > 0, between)
	}
}

// Every state stands in the one table, once, with a shape of its own; of one that a later
// version wrote nothing good is said.
func TestTheTableOfStates(t *testing.T) {
	all := []State{Waiting, Checking, Recording, Armed, Changing, Verifying, Soaking, Held, Reverting, Dark, Absent, Kept, Already, Blocked, Skipped, Reverted, Stranded}
	assert.ElementsMatch(t, all, States())
	shapes := map[string]State{}
	for _, s := range all {
		assert.Empty(t, shapes[s.Shape()], "%s is drawn as %s is", s, shapes[s.Shape()])
		shapes[s.Shape()] = s
		assert.True(t, !s.Good() || s.Ended(), s)
		assert.Equal(t, s.Good(), s.of().outcome == AllKept, s)
	}
	later := State("a state of a later version")
	assert.False(t, later.Good() || later.Ended())
	assert.Equal(t, SomeBlocked, later.of().outcome)
}
