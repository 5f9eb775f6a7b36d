package nights

import (
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/sim"
	"metabasis/internal/store"
)

var (
	firstSeed = flag.Uint64("seed", 1, "seed of the first random night")
	count     = flag.Int("nights", 150, "number of random nights")
	ends      = flag.String("ends", "", "a file to write to how the devices of each random night ended")
)

// TestNights runs random nights: fleets, runbooks, faults, people and
// interruptions drawn from a seed.
func TestNights(t *testing.T) { eachSeed(t, randomNight) }

// eachSeed runs as many nights as were asked for, each from a seed of its own, in
// virtual time.
func eachSeed(t *testing.T, night func(t *testing.T, seed uint64, dir string)) {
	eachOf(t, *count, night)
}

// eachOf is eachSeed for so many nights.
func eachOf(t *testing.T, count int, night func(t *testing.T, seed uint64, dir string)) {
	for i := range count {
		seed := *firstSeed + uint64(i)
		t.Run(fmt.Sprintf("seed=%d", seed), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) { night(t, seed, dir) })
			if t.Failed() {
				t.Logf("run it again: go test ./internal/nights -run '%s$' -seed %d -nights 1", t.Name(), seed)
			}
		})
	}
}

// randomNight draws and runs one night and checks every law.
func randomNight(t *testing.T, seed uint64, dir string) {
	rng := rand.New(rand.NewPCG(seed, 0))
	g := &generator{rng: rng}
	scenario, csv := g.fleet()
	book := g.book()
	w := newWorld(t, scenario, csv, book, dir)
	w.loose = strings.Contains(book, "no other") // what comes back to a list may stand elsewhere in it
	defer w.sim.Close()
	if seed%8 == 0 { // some nights with the journal on disk: it is slower
		w.openJournal(dir)
	}
	w.runWith(g)
	w.keepEnds(seed)
	w.checkLaws()
	if g.calm { // nobody meddled: fault-free devices must do well
		w.checkCalm()
	}
	if w.journal.inner != nil {
		w.checkStored()
	}
	if t.Failed() {
		t.Logf("seed %d\n%s\n%s\n%s", seed, book, csv, w.story())
	}
}

// keepEnds writes how the devices of a drawn night ended to the file that was asked for, so
// that two versions can be held against one another.
func (w *world) keepEnds(seed uint64) {
	if *ends == "" {
		return
	}
	f, err := os.OpenFile(*ends, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
	require.NoError(w.t, err)
	line := fmt.Sprintf("%06d", seed)
	for _, d := range w.night.Devices {
		line += fmt.Sprintf(" %s=%s", d.Name, d.State)
	}
	_, err = fmt.Fprintln(f, line)
	require.NoError(w.t, err)
	require.NoError(w.t, f.Close())
}

func (w *world) openJournal(dir string) {
	j, err := store.OpenJournal(filepath.Join(dir, "metabasis.db"))
	require.NoError(w.t, err)
	w.stored = j
	writer, err := j.Begin(store.NightHead{Began: time.Now(), Title: w.plan.Title})
	require.NoError(w.t, err)
	w.journal.inner, w.storedID = writer, writer.ID
}

// checkStored opens the night again from the journal file alone.
func (w *world) checkStored() {
	events, err := w.stored.Events(context.Background(), w.storedID)
	require.NoError(w.t, err)
	again := night.Fold(night.Night{}, events...)
	// Times lose their location and their monotonic part on disk, so compare
	// what is written of both.
	require.Len(w.t, events, len(w.journal.Events))
	want, err := json.Marshal(w.journal.Events)
	require.NoError(w.t, err)
	got, err := json.Marshal(events)
	require.NoError(w.t, err)
	assert.JSONEq(w.t, string(want), string(got), "the journal on disk tells another night")
	assert.Equal(w.t, w.night.Count(), again.Count())
	require.NoError(w.t, w.stored.Close())
}

// checkCalm holds when no person and no interruption took part: a device with
// no fault of its own or above it is kept, unless the run stopped early or its
// pair failed.
func (w *world) checkCalm() {
	faulty := false
	for _, s := range w.specs {
		faulty = faulty || len(s.Faults) > 0 || s.Unsaved != "" || s.ClockOff != 0
	}
	for _, d := range w.night.Devices {
		if !faulty {
			assert.Contains(w.t, []night.State{night.Kept, night.Already}, d.State, "%s without a fault: %s", d.Name, d.Note)
		}
	}
}

// story tells a failed night in a few lines an event.
func (w *world) story() string {
	var b strings.Builder
	for _, e := range w.journal.Events {
		fmt.Fprintf(&b, "%s %-12s %-10s %-9s %s %s %s %q\n", e.At.Format("15:04:05.000"), e.Device, e.Kind, e.State, e.What, e.Choice, e.Note, e.Lines)
	}
	for _, d := range w.sim.Devices() {
		for _, tr := range d.Truth() {
			fmt.Fprintf(&b, "truth %s %-12s %s %q armed=%v\n", tr.At.Format("15:04:05.000"), tr.Device, tr.What, tr.Line, tr.Armed)
		}
	}
	s := b.String()
	return s[max(0, len(s)-24_000):]
}

// generator draws a night.
type generator struct {
	rng  *rand.Rand
	calm bool
}

func (g *generator) chance(p float64) bool { return g.rng.Float64() < p }

func pick[T any](g *generator, of []T) T { return of[g.rng.IntN(len(of))] }

func (g *generator) fleet() (sim.Scenario, string) {
	s := sim.Scenario{
		Boot:    time.Duration(2+g.rng.IntN(25)) * time.Second,
		Settle:  time.Duration(g.rng.IntN(20)) * time.Second,
		Latency: time.Duration(g.rng.IntN(3)) * 20 * time.Millisecond,
	}
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,pair,via,login\n")
	faulty := g.chance(0.85)
	n := 2 + g.rng.IntN(7)
	head := map[string]string{}
	pairs := 0
	for i := 0; i < n; i++ {
		site := pick(g, []string{"ALD", "BRM", "CLD"})
		spec := sim.Spec{Name: fmt.Sprintf("%s-%d", strings.ToLower(site), i+1), Address: fmt.Sprintf("192.0.2.%d", 60+i), Site: site}
		if h := head[site]; h != "" && g.chance(0.6) {
			spec.Uplink = h
		} else {
			head[site] = spec.Name
		}
		if g.chance(0.12) {
			spec.Config = intendedConfig
		}
		if faulty && g.chance(0.4) {
			g.spoil(&spec)
		}
		pair := ""
		if i%2 == 0 && i+1 < n && g.chance(0.3) {
			pairs++
		} else if i%2 == 0 {
			pairs = -pairs
		}
		if pairs > 0 {
			pair = fmt.Sprintf("pair-%d", pairs)
			if i%2 == 1 {
				pair += pick(g, []string{"", " standby"})
			}
		}
		if i%2 == 1 && pairs < 0 {
			pairs = -pairs
		}
		if faulty && i > 0 && g.chance(0.06) { // with one before it
			f := sim.Fault{Kind: sim.Exchanged, With: s.Devices[g.rng.IntN(i)].Name, Times: 1}
			if g.chance(0.6) {
				f.Match = pick(g, []string{"^time source", "^log host", "^tell restart", "^restart cancel", "^keep", "^tell running"})
				f.After = g.rng.IntN(3)
			}
			spec.Faults = append(spec.Faults, f)
		}
		s.Devices = append(s.Devices, spec)
		fmt.Fprintf(&csv, "%s,%s,tern,%s,quay,%s,%s,crew\n", spec.Name, spec.Address, site, pairOnlyIfTwo(pair, i, n), spec.Uplink)
	}
	return s, fixPairs(csv.String())
}

func pairOnlyIfTwo(pair string, i, n int) string {
	if i%2 == 0 && i+1 >= n {
		return ""
	}
	return pair
}

// fixPairs drops pairs that were drawn with one member only.
func fixPairs(csv string) string {
	lines := strings.Split(csv, "\n")
	count := map[string]int{}
	name := func(l string) string {
		if f := strings.Split(l, ","); len(f) > 5 {
			return strings.TrimSuffix(f[5], " standby")
		}
		return ""
	}
	for _, l := range lines[1:] {
		count[name(l)]++
	}
	for i, l := range lines {
		if p := name(l); i > 0 && p != "" && count[p] != 2 {
			f := strings.Split(l, ",")
			f[5] = ""
			lines[i] = strings.Join(f, ",")
		}
	}
	return strings.Join(lines, "\n")
}

// spoil gives a device a fault or two.
func (g *generator) spoil(spec *sim.Spec) {
	lines := []string{"^time source", "^log host", "^lan 310$", "^title", "^port 3$", "^up$", "^work$", "^tell restart", "^restart in", "^restart cancel", "^keep", "^tell running", "^drop", "^edit$", "^load"}
	kinds := []string{sim.Refuses, sim.BadPassword, sim.Hangs, sim.Drops, sim.Rejects, sim.Garbage, sim.Slow, sim.Restarts, sim.NeverBack,
		sim.NoTimer, sim.NoSave, sim.NeverSettles, sim.CutsOff, sim.QuietTimer, sim.StuckTimer, sim.LostUndo, sim.Refusing, sim.Spoils,
		sim.QuietSave, sim.LateDisarm, sim.Drifts, sim.CutShort, sim.HalfLoad, sim.OtherTimer, sim.Joined, sim.Ignores, sim.Alters, sim.BreaksIn, sim.ShowsLate, sim.DropsAfter}
	for range 1 + g.rng.IntN(3) {
		f := sim.Fault{Kind: pick(g, kinds), Times: g.rng.IntN(3)}
		switch f.Kind {
		case sim.Hangs, sim.Drops, sim.DropsAfter, sim.Rejects, sim.Garbage, sim.Restarts, sim.CutsOff:
			f.Match = pick(g, lines)
		case sim.Ignores:
			f.Match = pick(g, []string{"^time source", "^log host", "^lan 310$", "^port 3$"})
		case sim.Alters, sim.BreaksIn: // behind what was typed so far
			f.Match = pick(g, []string{"^time sour$", "^log host 198", "^lan 3$", "^tell runn$", "^restart in$", "^drop l$"})
			f.Times = max(f.Times, 1)
		case sim.ShowsLate:
			f.By = time.Duration(g.rng.IntN(20)) * time.Second
		case sim.Slow:
			f.By = time.Duration(g.rng.IntN(4000)) * time.Millisecond
		case sim.LateDisarm:
			f.By = time.Duration(g.rng.IntN(15)) * time.Second
		case sim.Drifts:
			f.Match = pick(g, []string{"^restart cancel", "^time source", "^keep"})
		case sim.CutShort:
			f.Match = pick(g, []string{"^tell running", "^tell saved"})
		case sim.OtherTimer:
			f.Match, f.By = pick(g, []string{"^tell running", "^tell sessions", "^tell clock"}), time.Duration(g.rng.IntN(3))*time.Minute
		case sim.Joined:
			f.Match = pick(g, []string{"^tell", "^restart in", "^edit$"})
		}
		if f.Kind == sim.CutShort && slices.ContainsFunc(spec.Faults, func(o sim.Fault) bool { return o.Kind == f.Kind }) {
			continue // what is cut short alike wherever one looks cannot be told from a whole one
		}
		spec.Faults = append(spec.Faults, f)
	}
	if g.chance(0.1) {
		spec.Unsaved = "log host 192.0.2.77"
	}
	if g.chance(0.1) {
		spec.ClockOff = time.Duration(g.rng.IntN(120)-60) * time.Second
	}
}

// runWith runs a night with the people that are drawn for it.
func (w *world) runWith(g *generator) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	over, end := context.WithCancel(context.Background())
	defer end()
	w.run(ctx, g.person(over, cancel, w))
}

// book varies the standard runbook.
func (g *generator) book() string {
	b := standardBook
	swap := func(old, new string) {
		if !strings.Contains(b, old) {
			panic("the standard runbook has no " + old)
		}
		b = strings.Replace(b, old, new, 1)
	}
	swap("sizes     1, 4", "sizes     "+pick(g, []string{"1, 4", "2", "1, 50%", "100%", "3, 1"}))
	together := pick(g, []string{"together  4", "together  1", "together  2\n  per site  1", "per site  2"})
	if g.chance(0.5) {
		together += "\n  pairs     apart, standby first"
	}
	if g.chance(0.5) {
		together += "\n  order     far first"
	}
	if g.chance(0.3) {
		together += "\n  hold      after every batch"
	}
	if g.chance(0.4) {
		together += fmt.Sprintf("\n  stop      after %d failures", 1+g.rng.IntN(3))
	}
	swap("together  4", together)
	swap("timer       4m", fmt.Sprintf("timer       %dm", 1+g.rng.IntN(8)))
	swap("within 40s", fmt.Sprintf("within %ds", 25+g.rng.IntN(60)))
	swap("soak      30s", fmt.Sprintf("soak      %ds", 1+g.rng.IntN(90)))
	swap("take back the device", pick(g, []string{"take back the device", "try again once, then take back the device",
		"skip the step", "try again twice, then take back the batch", "take back everything"}))
	if g.chance(0.4) {
		swap("unattended  ", fmt.Sprintf("unattended  after %ds, ", 10+g.rng.IntN(300)))
	}
	switch { // half of them have no undo lines: they are computed
	case g.chance(0.25):
		b = book(strings.Replace(wantedBook, "within 40s", "within 60s", 1))(b)
	case g.chance(0.34):
		b = undoLines.ReplaceAllString(b, "")
	}
	more := pick(g, []string{"", "", "  per uplink 1\n", "  per role  2\n", "  while held go on\n", "  canaries  one of each platform and role\n", "  while held wait\n  per role  3\n  per uplink 2\n"})
	swap("\n\nprecheck", "\n"+more+"\nprecheck")
	return b
}

// undoLines are the undo lines of a step that has no others behind them.
var undoLines = regexp.MustCompile(`(?m)^  undo\n(    \|.*\n)+`)

// person draws who is there: nobody, somebody who decides, or somebody who
// aborts or pulls the plug as well.
func (g *generator) person(over context.Context, pullPlug func(), w *world) person {
	kind := g.rng.IntN(10)
	if kind < 4 {
		g.calm = true
		return nil
	}
	rng := rand.New(rand.NewPCG(g.rng.Uint64(), 1))
	abortAt := -1
	if kind >= 7 {
		abortAt = 20 + rng.IntN(400)
	}
	abort := pick(g, []night.Choice{night.BackDevice, night.Finish, night.BackAll, night.Release})
	return func(r *run.Run, e night.Event) {
		if e.Kind == night.HoldOpened && rng.IntN(5) == 0 { // whoever decides goes away, and comes back or not
			_ = r.Do(over, night.Command{Choice: night.Nobody})
			if rng.IntN(3) > 0 {
				answerLater(over, r, night.Command{Choice: night.Somebody, By: "Ada"}, time.Duration(rng.IntN(400))*time.Second)
			}
		}
		if e.Kind == night.HoldOpened {
			choice := pick(&generator{rng: rng}, e.Offers).Choice
			reason := ""
			if rng.IntN(4) > 0 {
				reason = "it is only a drill"
			}
			wait := time.Duration(rng.IntN(150)) * time.Second
			if rng.IntN(10) == 0 { // nobody looks; where a timer runs, it fires first
				wait = 2 * time.Hour
			}
			c := night.Command{Hold: e.Hold, Choice: choice, By: "Ada", Reason: reason}
			if choice == night.OtherLines {
				c.Lines = otherLines(rng, e.Offers)
			}
			if h := slices.IndexFunc(w.night.Holds, func(h night.Hold) bool { return h.Number == e.Hold }); h >= 0 && rng.IntN(2) == 0 {
				for _, like := range w.night.Alike(w.night.Holds[h]) {
					c.Also = append(c.Also, like.Number)
				}
			}
			if seed := rng.Uint64(); choice == night.ConsoleOver && seed%3 > 0 {
				go func() { w.typesPerhaps(over, e.Device, seed); answerLater(over, r, c, wait) }()
			} else {
				answerLater(over, r, c, wait)
			}
			if e.Device != "" { // what is staged and not applied has no timer behind it, either
				answerLater(over, r, night.Command{Hold: e.Hold, Choice: night.BackDevice, By: "Ada"}, wait+time.Hour)
			}
			if e.Device == "" { // a question of the run has no timer behind it: somebody stops it at last
				answerLater(over, r, night.Command{Hold: e.Hold, Choice: night.Stop, By: "Ada"}, wait+time.Hour)
			}
		}
		if e.Kind == night.Sent && rng.IntN(60) == 0 { // somebody lets the night stand for a while
			how := []night.Choice{night.Stand, night.StandStep, night.StandLine}[rng.IntN(3)]
			answerLater(over, r, night.Command{Choice: how, By: "Ada"}, 0)
		}
		if int(e.Seq) == abortAt {
			if kind == 9 {
				pullPlug()
				return
			}
			answerLater(over, r, night.Command{Choice: abort, By: "Ada"}, 0)
		}
	}
}

// otherLines are lines that somebody types in the place of a step's: some of them, others, none, or
// what is never sent.
func otherLines(rng *rand.Rand, offers []night.Offer) (out []string) {
	i := slices.IndexFunc(offers, func(o night.Offer) bool { return o.Choice == night.OtherLines })
	for _, l := range offers[i].Sends {
		if rng.IntN(4) > 0 {
			out = append(out, l)
		}
	}
	return append(out, [][]string{nil, {"log host 198.51.100.77"}, {"restart now"}, {"nonsense"}, {"lan 311", "title gates", "up"}}[rng.IntN(5)]...)
}

// typesPerhaps has somebody type a line on a device that is held for that, where it lets them.
func (w *world) typesPerhaps(ctx context.Context, device string, seed uint64) {
	i := slices.IndexFunc(w.plan.Targets(), func(t *plan.Target) bool { return t.Device.Name == device })
	if i < 0 || w.plan.Targets()[i].Device.Platform != "tern" {
		return
	}
	line := fmt.Sprintf("log host 198.51.100.%d", 70+seed%5)
	w.typing.Lock()
	if w.typed == nil {
		w.typed = map[string]bool{}
	}
	w.typed[line] = true
	w.typing.Unlock()
	s, err := w.connector().Connect(ctx, w.plan.Targets()[i])
	if err != nil {
		return
	}
	if s.Edit(ctx) == nil && s.Line(ctx, line) == nil {
		_ = s.Apply(ctx, 0)
	}
	_ = s.Close()
}

// answerLater decides after a while, unless the night is over by then.
func answerLater(over context.Context, r *run.Run, c night.Command, wait time.Duration) {
	go func() {
		select {
		case <-time.After(wait):
			_ = r.Do(over, c)
		case <-over.Done():
		}
	}()
}
