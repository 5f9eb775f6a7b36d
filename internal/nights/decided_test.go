package nights

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// told is a decision, what was said of how long it takes, and how long it took.
type told struct {
	offer  night.Offer
	device string
	at     time.Time
	took   time.Duration
	dark   bool // a device that is taken back with it had no contact then
}

// decidedNight draws a night with a device that is held, others that are dark or kept, and a
// person who chooses one thing, once; it returns what was said and what was so.
func decidedNight(t *testing.T, seed uint64, dir string) *told {
	rng := rand.New(rand.NewPCG(seed, 22))
	g := &generator{rng: rng}
	specs := make([]sim.Spec, 3+rng.IntN(4))
	slow := time.Duration(100+rng.IntN(1900)) * time.Millisecond
	for i := range specs {
		specs[i].Faults = append(specs[i].Faults, sim.Fault{Kind: sim.Slow, By: slow + time.Duration(rng.IntN(300))*time.Millisecond})
	}
	held := 1 + rng.IntN(len(specs)-1)
	switch rng.IntN(3) {
	case 0:
		specs[held].Faults = append(specs[held].Faults, sim.Fault{Kind: sim.Rejects, Match: "^log host", Times: 1})
	case 1:
		specs[held].Faults = append(specs[held].Faults, sim.Fault{Kind: sim.Rejects, Match: "^title", Times: 1})
	default:
		specs[held].Faults = append(specs[held].Faults, sim.Fault{Kind: sim.NeverSettles})
	}
	if dark := 1 + rng.IntN(len(specs)-1); dark != held && g.chance(0.5) {
		specs[dark].Faults = append(specs[dark].Faults, sim.Fault{Kind: sim.CutsOff, Match: pick(g, []string{"^time source", "^log host", "^lan 310$"}), Times: 1})
	}
	w := simpleIn(t, dir, specs, func(b string) string {
		return swapIn(swapIn(b, "sizes     1, 4\n  together  4", "sizes     100%\n  together  "+fmt.Sprint(2+rng.IntN(5))), "within 40s", "within 20s")
	})
	defer w.sim.Close()
	wait := time.Duration(5+rng.IntN(40)) * time.Second
	var chosen atomic.Pointer[told]
	over, end := context.WithCancel(t.Context())
	defer end()
	w.run(t.Context(), func(r *run.Run, e night.Event) {
		if c := chosen.Load(); e.Kind == night.HoldAnew && c != nil && e.Device == c.device {
			for _, o := range e.Offers {
				if o.Choice == c.offer.Choice {
					again := *c
					again.offer, again.at = o, e.At
					chosen.Store(&again)
				}
			}
		}
		if e.Kind != night.HoldOpened {
			return
		}
		if e.Device == fmt.Sprintf("ald-quay-%d", held+1) && chosen.Load() == nil && len(e.Offers) > 2 {
			offers := slices.DeleteFunc(slices.Clone(e.Offers), func(o night.Offer) bool {
				return o.Reason || o.Open || o.Choice == night.Extend || o.Choice == night.BackBatch || o.Choice == night.AtConsole
			})
			o := pick(g, offers)
			chosen.Store(&told{offer: o, device: e.Device, at: e.At})
			answerLater(over, r, night.Command{Hold: e.Hold, Choice: o.Choice, By: "Ada"}, wait)
			return
		}
		later := time.Duration(0)
		if e.Device != "" && len(e.Offers) > 2 {
			later = time.Second
		}
		if i := slices.IndexFunc(e.Offers, func(o night.Offer) bool { return o.Choice == night.BackDevice || o.Choice == night.Stop }); i >= 0 {
			answerLater(over, r, night.Command{Hold: e.Hold, Choice: e.Offers[i].Choice, By: "Ada"}, later)
		}
	})
	c := chosen.Load()
	if c == nil {
		return nil
	}
	decided, dark := time.Time{}, map[string]bool{}
	for _, e := range w.seen {
		switch {
		case e.Kind == night.HoldClosed && e.Choice == c.offer.Choice && e.Device == c.device && decided.IsZero():
			decided = e.At
		case decided.IsZero():
			if e.Kind == night.Moved {
				if delete(dark, e.Device); e.State == night.Dark {
					dark[e.Device] = true
				}
			}
		case e.Kind == night.Lost && wide(c.offer.Choice): // after the decision: nobody can know that
			return nil
		case e.Kind == night.HoldOpened && e.Device == c.device: // it went otherwise than was hoped: that is no promise
			return nil
		case e.Kind == night.Moved && e.OK && (e.Device == c.device || wide(c.offer.Choice)):
			c.took = e.At.Sub(decided)
		}
	}
	if decided.IsZero() || c.took == 0 {
		return nil
	}
	c.dark = dark[c.device] || wide(c.offer.Choice) && len(dark) > 0
	if c.offer.Choice == night.LetFire { // it runs already, whatever is decided
		c.offer.Takes -= decided.Sub(c.at)
	}
	return c
}

// What is said at a hold of how long a choice takes is so: nine in ten are within a quarter
// of it (or between the shortest and the longest that were said), and none takes more than
// twice as long.
func TestWhatIsSaidOfTimesAtAHold(t *testing.T) {
	nights := max(*count*2, 300)
	var good, all, dark atomic.Int64
	t.Run("nights", func(t *testing.T) {
		for i := range nights {
			seed := *firstSeed + uint64(i)
			t.Run(fmt.Sprint(seed), func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				synctest.Test(t, func(t *testing.T) {
					c := decidedNight(t, seed, dir)
					if c == nil {
						return
					}
					all.Add(1)
					if c.dark {
						dark.Add(1)
					}
					said, took := c.offer.Takes, c.took
					most := max(c.offer.Most, said)
					near := took <= most*5/4 && took >= said*3/4
					if near {
						good.Add(1)
					} else {
						t.Logf("off: %s: said %s to %s, took %s", c.offer.Choice, said, most, took)
					}
					assert.LessOrEqual(t, took, 2*most+time.Second, "%s: said %s to %s", c.offer.Choice, said, most)
				})
			})
		}
	})
	t.Logf("%d of %d, %d with dark devices", good.Load(), all.Load(), dark.Load())
	assert.Greater(t, dark.Load(), int64(nights/40))
	assert.Greater(t, all.Load(), int64(nights/3))
	assert.GreaterOrEqual(t, 10*good.Load(), 9*all.Load(), "%d of %d are near", good.Load(), all.Load())
}

// A note stands in the journal in its place, as one line and without secrets, and decides
// nothing.
func TestANoteDecidesNothing(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		w := simple(t, []sim.Spec{{}, {}}, nil)
		defer w.sim.Close()
		said := false
		w.run(t.Context(), func(r *run.Run, e night.Event) {
			if e.Kind == night.Sent && !said {
				said = true
				for _, text := range []string{"the light in hut 3\nis\x1b[2J out", "   ", strings.Repeat("x", 4000)} {
					assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Remark, By: "ada", Reason: text}))
				}
			}
		})
		w.checkLaws()
		for _, d := range w.night.Devices {
			assert.Equal(t, night.Kept, d.State, d.Note)
		}
		require.Len(t, w.night.Notes, 2, "one that says nothing is none")
		assert.Equal(t, "ada notes: the light in hut 3 is [2J out", w.night.Notes[0].String())
		assert.Len(t, []rune(w.night.Notes[1].Text), 501)
		assert.Empty(t, w.night.Aborted)
		assert.Empty(t, w.night.Decided)
	})
}

// A night that is let stand begins no new device, takes what is in change to its end, and goes on
// when somebody says so.
func TestANightIsLetStand(t *testing.T) {
	for name, c := range map[string]struct {
		answer night.Choice
		kept   int
	}{"and goes on": {night.GoOn, 5}, "and is stopped": {night.Stop, 1}, "and is taken back": {night.BackAll, 0}} {
		t.Run(name, func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, make([]sim.Spec, 5), func(b string) string {
					return swapIn(b, "sizes     1, 4\n  together  4", "sizes     100%\n  together  1")
				})
				defer w.sim.Close()
				ctx, end := context.WithCancel(t.Context())
				defer end()
				stood, holds := false, 0
				w.run(ctx, func(r *run.Run, e night.Event) {
					switch {
					case e.Kind == night.Sent && !stood:
						stood = true
						for range 2 { // once is enough
							assert.NoError(t, r.Do(ctx, night.Command{Choice: night.Stand, By: "ada", Reason: "the crew asks for it"}))
						}
					case e.Kind == night.HoldOpened:
						holds++
						assert.Equal(t, "let stand by ada", e.Note)
						assert.Contains(t, e.Lines, "the crew asks for it")
						go func() {
							time.Sleep(10 * time.Minute)
							assert.NoError(t, r.Do(ctx, night.Command{Hold: e.Hold, Choice: c.answer, By: "ada"}))
						}()
					}
				})
				w.checkLaws()
				assert.Equal(t, 1, holds)
				kept, standing := 0, false
				for _, e := range w.seen {
					switch {
					case e.Kind == night.HoldOpened:
						standing = true
					case e.Kind == night.HoldClosed:
						standing = false
					case e.Kind == night.Moved && e.State == night.Checking:
						assert.False(t, standing, "%s begins while the night stands", e.Device)
					}
				}
				for _, d := range w.night.Devices {
					if d.State == night.Kept {
						kept++
					}
				}
				assert.Equal(t, c.kept, kept)
			})
		})
	}
	synctest.Test(t, func(t *testing.T) { // nobody would let it go on
		w := simple(t, []sim.Spec{{}, {}}, nil)
		defer w.sim.Close()
		r := run.New(w.plan, run.Options{Journal: w.journal, Unattended: true, By: "test", Outside: work.Outside{Connector: w.reached(), Backups: w.backups}})
		done := make(chan error, 1)
		go func() { done <- r.Go(t.Context()) }()
		assert.NoError(t, r.Do(t.Context(), night.Command{Choice: night.Stand, By: "ada"}))
		var told night.Night
		for events := range r.Events() {
			told = night.Fold(told, events...)
		}
		assert.NoError(t, <-done)
		require.Len(t, told.Notes, 1)
		assert.Contains(t, told.Notes[0].Text, "nobody would let it go on")
		for _, d := range told.Devices {
			assert.Equal(t, night.Kept, d.State, d.Note)
		}
		require.NoError(t, w.scripts.Close())
	})
}

// wide tells a choice that takes back all devices: here they are of one site.
func wide(c night.Choice) bool { return c == night.BackAll || c == night.BackSite }
