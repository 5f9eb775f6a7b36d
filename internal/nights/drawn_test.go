package nights

import (
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/device/profile"
	"metabasis/internal/report"
	"metabasis/internal/sim"
)

// TestDrawnManners runs nights over a platform whose manners are drawn at random,
// with the profile that fits them: the laws hold, and every word that is said of
// saved, equal and kept is true.
func TestDrawnManners(t *testing.T) {
	var met tally
	t.Run("nights", func(t *testing.T) {
		eachSeed(t, func(t *testing.T, seed uint64, dir string) {
			rng := rand.New(rand.NewPCG(seed, 7))
			m := sim.DrawManners(rng)
			met.add(drawnNight(t, rng, m, m.Profile(), 0.5, false, dir))
		})
	})
	t.Log(met.of)
	if *count >= 200 { // what is never met is never proven
		for _, what := range []string{"kept", "reverted", "already", "blocked", "stranded", "put back", "fired", "kept, unread", "reverted, unread"} {
			assert.NotZero(t, met.of[what], what)
		}
	}
}

// tally counts what many nights met.
type tally struct {
	mu sync.Mutex
	of map[string]int
}

func (c *tally) add(w *world) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil {
		c.of = map[string]int{}
	}
	for _, d := range w.night.Devices {
		c.of[string(d.State)]++
		if d.SavedUnread {
			c.of[string(d.State)+", unread"]++
		}
		for _, tr := range w.sim.Device(d.Name).Truth() {
			if tr.What == sim.Fired || tr.What == sim.PutBack {
				c.of[string(tr.What)]++
			}
		}
	}
}

// TestDrawnTried tries the profile that fits on a device with such manners: every
// line of it fits.
func TestDrawnTried(t *testing.T) {
	eachSeed(t, func(t *testing.T, seed uint64, _ string) {
		m := sim.DrawManners(rand.New(rand.NewPCG(seed, 7)))
		p, err := profile.Load("dunlin.yaml", []byte(m.Profile()))
		require.NoError(t, err)
		assert.Empty(t, tryDunlin(t, m, p), m.Profile())
	})
}

// drawnNight runs one night over dunlins.
func drawnNight(t *testing.T, rng *rand.Rand, m sim.Manners, text string, faulty float64, misled bool, dir string) *world {
	p, err := profile.Load("dunlin.yaml", []byte(text))
	require.NoError(t, err, text)
	g := &generator{rng: rng}
	s := sim.Scenario{Manners: &m, Boot: time.Duration(2+rng.IntN(15)) * time.Second, Settle: time.Duration(rng.IntN(15)) * time.Second}
	csv := "name,address,platform,site,role,pair,via,login\n"
	for i := range 1 + rng.IntN(4) {
		spec := sim.Spec{Name: fmt.Sprintf("ald-%d", i+1), Address: fmt.Sprintf("192.0.2.%d", 60+i), Site: "ALD", Platform: "dunlin"}
		if g.chance(0.2) {
			spec.Config = strings.Replace(intendedConfig, "port 2\n", "port 2\n  label \""+drawnLabel(m)+"\"\n", 1)
		}
		if g.chance(0.3) {
			spec.Faults = append(spec.Faults, sim.Fault{Kind: sim.SlowLogin, By: time.Duration(rng.IntN(25)) * time.Second})
		}
		if g.chance(faulty) {
			g.spoilDunlin(&spec)
		}
		s.Devices = append(s.Devices, spec)
		csv += fmt.Sprintf("%s,%s,dunlin,ALD,quay,,,crew\n", spec.Name, spec.Address)
	}
	if misled && refusedByPlan(t, profile.Set{"dunlin": p}, csv, drawnBook(m)) {
		return nil
	}
	w := newWorldOf(t, profile.Set{"dunlin": p}, s, csv, drawnBook(m), nil, dir)
	t.Cleanup(w.sim.Close)
	w.noTimer, w.drawn, w.misled = p.Timer.Kind == plan.NoTimer, &m, misled
	var who person
	if g.chance(0.3) {
		over, end := context.WithCancel(context.Background())
		defer end()
		who = g.person(over, func() {}, w)
	}
	w.run(context.Background(), who)
	w.checkLaws()
	if t.Failed() {
		t.Logf("%s\n%s\n%s", text, csv, w.story())
	}
	return w
}

// refusedByPlan tells whether the check of a runbook finds what is wrong.
func refusedByPlan(t *testing.T, set profile.Set, csv, book string) bool {
	fl, err := fleet.Read("fleet.csv", []byte(csv), set.Platforms())
	require.NoError(t, err)
	rb, err := runbook.Parse("night.runbook", []byte(book))
	require.NoError(t, err)
	if err := rb.Compile(set.Schema(fl)); err != nil {
		return true
	}
	_, err = plan.Make(rb, fl, nil, set.Traits(), time.Now())
	return err != nil
}

// drawnLabel is a text with a key of the line editor in it, where that can be sent.
func drawnLabel(m sim.Manners) string {
	if !m.Help || m.Quotes {
		return "lost?"
	}
	return "lost"
}

// drawnBook is the standard runbook as far as a dunlin can do it.
func drawnBook(m sim.Manners) string {
	b := standardBook
	if !m.Timer {
		b = strings.Replace(b, "timer       4m", "timer       none", 1)
	}
	if !m.Tells {
		b = strings.Replace(b, "  saved\n", "", 1)
	}
	label := drawnLabel(m)
	return strings.Replace(b, "finish\n", `step "Label"
  already   when config has "port 2 > label \"`+label+`\""
  send
    | port 2
    | label "`+label+`"
    | up
  undo
    | port 2
    | drop label
    | up

finish
`, 1)
}

// spoilDunlin gives a dunlin a fault that has nothing to do with its manners.
func (g *generator) spoilDunlin(spec *sim.Spec) {
	for range 1 + g.rng.IntN(2) {
		f := sim.Fault{Kind: pick(g, []string{sim.Rejects, sim.Rejects, sim.Drops, sim.Hangs, sim.NoSave, sim.QuietSave, sim.LostUndo, sim.Refusing, sim.HalfLoad,
			sim.NoTimer, sim.QuietTimer, sim.StuckTimer, sim.Restarts, sim.CutsOff, sim.NeverSettles, sim.Spoils, sim.Balks}), Times: g.rng.IntN(3)}
		if f.Kind != sim.NeverSettles {
			f.Match = pick(g, []string{"^time source", "^log host", "^lan 310", "^title", "^port 3$", "^label", "^drop"})
		}
		switch f.Kind {
		case sim.NoSave, sim.QuietSave, sim.Refusing, sim.HalfLoad, sim.NoTimer, sim.QuietTimer, sim.StuckTimer, sim.Spoils:
			f.Match = ""
		}
		spec.Faults = append(spec.Faults, f)
	}
}

// wordsAreTrue holds the words that end a device's night against the simulator.
func (w *world) wordsAreTrue(d *night.Device) {
	dev := w.sim.Device(d.Name)
	running, saved := dev.Running(), dev.Saved()
	words := d.Note
	saysNotSaved := strings.Contains(words, "not known to be saved") || strings.Contains(words, "what is saved cannot be read") || strings.Contains(words, "still not saved") || strings.Contains(words, "as its profile says")
	switch d.State {
	case night.Kept:
		if d.LeftSteps() == 0 && w.mark != "" {
			assert.Contains(w.t, running, w.mark, "%s is kept without the change: %s", d.Name, words)
			assert.Contains(w.t, running, "title gates", "%s is kept without the change: %s", d.Name, words)
			assert.Contains(w.t, running, `label "lost`, "%s is kept without the change: %s", d.Name, words)
		}
		assert.True(w.t, saysNotSaved || running == saved, "%s is %q, and what is saved is not what runs", d.Name, words)
		assert.True(w.t, dev.Due().IsZero(), "%s is kept, and a restart is pending", d.Name)
	case night.Reverted:
		assert.Equal(w.t, w.asCompared(w.initial[d.Name]), w.asCompared(running), "%s is reverted, but is not as it was: %s", d.Name, words)
		assert.True(w.t, saysNotSaved || w.asCompared(saved) == w.asCompared(w.initial[d.Name]), "%s is %q, and something else is saved", d.Name, words)
		assert.True(w.t, dev.Due().IsZero(), "%s is reverted, and a restart is pending", d.Name)
	case night.Already:
		assert.Contains(w.t, running, w.mark, "%s is already as intended, and is not", d.Name)
		assert.True(w.t, saysNotSaved || running == saved, "%s is %q, and what is saved is not what runs", d.Name, words)
	case night.Stranded:
		assert.True(w.t, w.misled || w.excuse(d.Name), "%s is stranded without a reason: %s", d.Name, words)
	}
	if w.drawn != nil && !w.drawn.Tells {
		line := report.Summary(&w.night)
		for _, claim := range []string{"kept and saved", "already and saved"} {
			assert.NotContains(w.t, words+line, claim, "what is saved cannot be read")
		}
	}
}
