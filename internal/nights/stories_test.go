package nights

import (
	"cmp"
	"context"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

var update = flag.Bool("update", false, "write the stories anew")

// A story is a night told in full: every event with its time, and what truly happened
// to each device. Between them the stories go through every law and each way to
// break it: an intention that is missing, a look that is not taken, a timer that is
// not extended, a wait that is a second short changes a line of one of them. They
// stand in testdata/stories, to be read; "go test ./internal/nights -run TestStories
// -update" writes them anew, and whoever does so answers for every line that changes.
type story struct {
	specs []sim.Spec
	edit  func(string) string
	who   func(t *testing.T) person // nil is nobody
	world func(w *world)
	fails bool // the run returns an error
	// forecasts has the forecasts told, too.
	forecasts bool
}

func edits(pairs ...string) func(string) string { return strings.NewReplacer(pairs...).Replace }

// oneByOne makes the order of everything certain.
var oneByOne = edits("together  4", "together  1")

// when does something at the first event that fits.
func when(fits func(night.Event) bool, do func(r *run.Run, e night.Event)) person {
	done := false
	return func(r *run.Run, e night.Event) {
		if !done && fits(e) {
			done = true
			do(r, e)
		}
	}
}

func choose(c night.Choice) func(r *run.Run, e night.Event) {
	return func(r *run.Run, e night.Event) {
		_ = r.Do(context.Background(), night.Command{Hold: e.Hold, Choice: c, By: "Ada", Reason: "a drill"})
	}
}

func opened(e night.Event) bool { return e.Kind == night.HoldOpened }

func both(all ...person) person {
	return func(r *run.Run, e night.Event) {
		for _, p := range all {
			p(r, e)
		}
	}
}

// sent tells that a line of the change has reached a device.
func sent(device string, step int) func(night.Event) bool {
	return func(e night.Event) bool {
		return e.Kind == night.Sent && e.Device == device && e.Step == step && e.What == ""
	}
}

func abortWith(c night.Choice) func(r *run.Run, e night.Event) {
	return func(r *run.Run, _ night.Event) {
		_ = r.Do(context.Background(), night.Command{Choice: c, By: "Ada"})
	}
}

func faults(f ...sim.Fault) []sim.Spec { return []sim.Spec{{Faults: f}, {}} }

var stories = map[string]story{
	"all is well":              {specs: []sim.Spec{{}, {Config: intendedConfig}, {}}, edit: oneByOne},
	"how the forecast moves":   {specs: []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.Slow, By: 3 * time.Second}}}, {}, {}}, edit: oneByOne, forecasts: true},
	"a short timer":            {specs: []sim.Spec{{}}, edit: edits("timer       4m", "timer       20s", "within 40s", "within 90s", "soak      30s", "soak      2m")},
	"a slow device":            {specs: faults(sim.Fault{Kind: sim.Slow, By: 3 * time.Second}), edit: oneByOne},
	"line refused":             {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"})},
	"last line refused":        {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"})},
	"expectation not met":      {specs: faults(sim.Fault{Kind: sim.NeverSettles})},
	"soak breaks":              {specs: faults(sim.Fault{Kind: sim.Drifts, Match: "^tell running", After: 8, Times: 1}), edit: edits("    | drop log host 198.51.100.14\n", "    | drop log host 198.51.100.14\n  expect    config lacks \"log host 192.0.2.253\" within 1s\n")},
	"contact lost in a line":   {specs: faults(sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1})},
	"lost while undoing":       {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3", Times: 1}, sim.Fault{Kind: sim.Drops, Match: "^drop log host", Times: 1})},
	"hangs while reading":      {specs: faults(sim.Fault{Kind: sim.Hangs, Match: "^tell running", Times: 1})},
	"hangs while armed":        {specs: faults(sim.Fault{Kind: sim.Hangs, Match: "^restart in", Times: 1})},
	"refuses to be armed":      {specs: faults(sim.Fault{Kind: sim.NoTimer})},
	"armed and not pending":    {specs: faults(sim.Fault{Kind: sim.QuietTimer})},
	"cannot be disarmed":       {specs: faults(sim.Fault{Kind: sim.StuckTimer})},
	"disarmed late":            {specs: faults(sim.Fault{Kind: sim.LateDisarm, By: 3 * time.Second})},
	"disarmed too late":        {specs: faults(sim.Fault{Kind: sim.LateDisarm, By: 8250 * time.Millisecond}), edit: oneByOne},
	"cannot be saved":          {specs: faults(sim.Fault{Kind: sim.NoSave})},
	"saved in words only":      {specs: faults(sim.Fault{Kind: sim.QuietSave})},
	"drops while saving":       {specs: faults(sim.Fault{Kind: sim.Drops, Match: "^keep", Times: 1})},
	"restarts by itself":       {specs: faults(sim.Fault{Kind: sim.Restarts, Match: "^log host", Times: 1})},
	"cut off":                  {specs: faults(sim.Fault{Kind: sim.CutsOff, Match: "^port 3"})},
	"never back":               {specs: faults(sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}, sim.Fault{Kind: sim.NeverBack})},
	"back as something else":   {specs: faults(sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}, sim.Fault{Kind: sim.Spoils})},
	"undo lost":                {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.LostUndo})},
	"restore refused":          {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.LostUndo}, sim.Fault{Kind: sim.Refusing})},
	"restore takes half":       {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.LostUndo}, sim.Fault{Kind: sim.HalfLoad})},
	"drifts when taken back":   {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}, sim.Fault{Kind: sim.Drifts, Match: "^restart cancel"})},
	"unfit":                    {specs: []sim.Spec{{ClockOff: time.Hour, FreeMB: 3, Unsaved: "log host 192.0.2.77"}, {Editing: "deckhand"}, {Faults: []sim.Fault{{Kind: sim.Refuses}}}}, edit: edits("precheck\n", "precheck\n  alone\n  version   9.9\n", "together  4", "together  1")},
	"timer of somebody else":   {specs: faults(sim.Fault{Kind: sim.OtherTimer, Match: "^tell sessions", Times: 1}), edit: edits("take back the device", "try again once, then take back the device")},
	"somebody joins":           {specs: faults(sim.Fault{Kind: sim.Joined, Match: "^restart in", Times: 1})},
	"steps left out":           {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}), edit: edits("take back the device", "skip the step", "step \"Gates\"\n", "step \"Gates\"\n  needs     \"Log collector\"\n")},
	"left out and not undone":  {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.LostUndo}), edit: edits("take back the device", "skip the step")},
	"batch taken back":         {specs: []sim.Spec{{}, {}, {Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, {}, {}}, edit: edits("together  4", "together  1", "sizes     1, 4", "sizes     1, 3", "take back the device", "take back the batch")},
	"everything taken back":    {specs: []sim.Spec{{}, {}, {Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, {}}, edit: edits("together  4", "together  1", "take back the device", "take back everything")},
	"budget used up":           {specs: []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, {Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^lan 310"}}}, {}}, edit: edits("together  4", "together  1")},
	"too late to turn back":    {specs: []sim.Spec{{}, {}, {}}, edit: edits("now for 3h\n  reserve   20m", "now for 3m\n  reserve   2m")},
	"holds after every batch":  {specs: []sim.Spec{{}, {}}, edit: edits("together  4", "together  1\n  hold      after every batch"), who: func(t *testing.T) person { return always(t, night.GoOn) }},
	"window opens later":       {specs: []sim.Spec{{}}, edit: edits("now for 3h", "01:30 for 3h")},
	"started early":            {specs: []sim.Spec{{}}, edit: edits("now for 3h", "01:30 for 3h"), who: func(t *testing.T) person { return always(t, night.StartEarly) }},
	"a hold that nobody sees":  {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}), who: func(*testing.T) person { return func(*run.Run, night.Event) {} }},
	"waits for the timer":      {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}), who: func(t *testing.T) person { return always(t, night.LetFire, night.GoOn) }},
	"extends, then again":      {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host", Times: 1}), who: func(t *testing.T) person { return both(when(opened, choose(night.Extend)), secondHold(night.TryAgain)) }},
	"left to its timer":        {specs: faults(sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}), who: func(t *testing.T) person { return always(t, night.Leave, night.GoOn) }},
	"aborted":                  {specs: []sim.Spec{{}, {}, {}}, edit: edits("sizes     1, 4", "sizes     1, 2", "together  4", "together  1"), who: func(*testing.T) person { return when(sent("ald-quay-2", 2), abortWith(night.BackDevice)) }},
	"aborted, may finish":      {specs: []sim.Spec{{}, {}}, edit: oneByOne, who: func(*testing.T) person { return when(sent("ald-quay-1", 2), abortWith(night.Finish)) }},
	"aborted, all back":        {specs: []sim.Spec{{}, {}, {}}, edit: oneByOne, who: func(*testing.T) person { return when(sent("ald-quay-2", 2), abortWith(night.BackAll)) }},
	"aborted at a hold":        {specs: []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.Rejects, Match: "^log host"}}}, {}}, edit: oneByOne, who: func(*testing.T) person { return when(opened, abortWith(night.BackDevice)) }},
	"aborted at a planned one": {specs: []sim.Spec{{}, {}}, edit: edits("together  4", "together  1\n  hold      after every batch"), who: func(*testing.T) person { return when(opened, abortWith(night.BackDevice)) }},
	"let go":                   {specs: []sim.Spec{{}, {}, {}}, edit: oneByOne, who: func(*testing.T) person { return when(sent("ald-quay-2", 2), abortWith(night.Release)) }},
	"let go while held":        {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}), who: func(*testing.T) person { return when(opened, abortWith(night.Release)) }},
	"let go while dark":        {specs: faults(sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}), who: func(*testing.T) person { return when(opened, abortWith(night.Release)) }},
	"let go while checking": {specs: []sim.Spec{{}, {}}, edit: oneByOne, who: func(*testing.T) person {
		return when(func(e night.Event) bool { return e.Kind == night.Prechecked && e.What == "clock" }, abortWith(night.Release))
	}},
	"aborted while checking": {specs: []sim.Spec{{}, {}}, edit: oneByOne, who: func(*testing.T) person {
		return when(func(e night.Event) bool { return e.Kind == night.Prechecked && e.What == "clock" }, abortWith(night.BackDevice))
	}},
	"aborted twice": {specs: []sim.Spec{{}, {}}, edit: oneByOne, who: func(*testing.T) person {
		return both(when(sent("ald-quay-1", 1), abortWith(night.BackDevice)), when(func(e night.Event) bool { return e.State == night.Reverting }, abortWith(night.Release)))
	}},
	"journal full":             {specs: []sim.Spec{{}, {}}, edit: oneByOne, world: journalFullAt(func(e night.Event) bool { return e.Kind == night.Intent && e.Step == 2 }), fails: true},
	"journal full at saving":   {specs: []sim.Spec{{}, {}}, edit: oneByOne, world: journalFullAt(func(e night.Event) bool { return e.What == night.ToSave }), fails: true},
	"journal full at arming":   {specs: []sim.Spec{{}, {}}, edit: oneByOne, world: journalFullAt(func(e night.Event) bool { return e.What == night.ToArm }), fails: true},
	"journal full at a backup": {specs: []sim.Spec{{}, {}}, edit: oneByOne, world: journalFullAt(func(e night.Event) bool { return e.Kind == night.BackedUp }), fails: true},
	"no timer, line refused":   {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}), edit: edits("timer       4m", "timer       none"), world: func(w *world) { w.noTimer = true }},
	"no timer, contact lost":   {specs: faults(sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}), edit: edits("timer       4m", "timer       none"), world: func(w *world) { w.noTimer = true }, who: func(t *testing.T) person { return always(t, night.BackDevice, night.GoOn) }},
	"no timer, no way back":    {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.LostUndo}, sim.Fault{Kind: sim.Refusing}), edit: edits("timer       4m", "timer       none"), world: func(w *world) { w.noTimer = true }},
	"no timer, counts at once": {specs: []sim.Spec{{}, {Faults: []sim.Fault{{Kind: sim.CutsOff, Match: "^port 3"}}}, {}, {}, {}}, edit: edits("timer       4m", "timer       none", "together  4", "together  2\n  stop      after 1 failure"), world: func(w *world) { w.noTimer = true }},
	"no timer, left":           {specs: faults(sim.Fault{Kind: sim.CutsOff, Match: "^port 3"}), edit: edits("timer       4m", "timer       none"), world: func(w *world) { w.noTimer = true }, who: func(t *testing.T) person { return always(t, night.Leave, night.GoOn) }},
	"left out, lost in proof":  {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.Drops, Match: "^tell running", After: 3, Times: 1}), edit: edits("take back the device", "skip the step")},
	"no timer, never back":     {specs: faults(sim.Fault{Kind: sim.Restarts, Match: "^log host"}, sim.Fault{Kind: sim.NeverBack}), edit: edits("timer       4m", "timer       none"), world: func(w *world) { w.noTimer = true }},
	"slow while reverting":     {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3"}, sim.Fault{Kind: sim.Slow, Match: "^(drop|done)", By: 8 * time.Second}), edit: edits("timer       4m", "timer       1m")},
	"hangs while undoing":      {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^port 3", Times: 1}, sim.Fault{Kind: sim.Hangs, Match: "^drop log host"})},
	"let go of what was kept": {specs: []sim.Spec{{}, {}, {}}, edit: oneByOne, who: func(*testing.T) person {
		return both(when(sent("ald-quay-3", 1), abortWith(night.BackAll)), when(func(e night.Event) bool { return e.State == night.Reverting && e.Device == "ald-quay-3" }, abortWith(night.Release)))
	}},
	"left out, then taken back": {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}, sim.Fault{Kind: sim.Rejects, Match: "^port 3"}), who: func(*testing.T) person {
		return both(when(opened, choose(night.SkipStep)), secondHold(night.BackDevice))
	}},
	"all back at a planned one": {specs: []sim.Spec{{}, {}}, edit: edits("together  4", "together  1\n  hold      after every batch"), who: func(t *testing.T) person { return always(t, night.BackAll) }},
	"aborted, disarmed late":    {specs: faults(sim.Fault{Kind: sim.LateDisarm, By: 3 * time.Second}), who: func(*testing.T) person { return when(sent("ald-quay-1", 2), abortWith(night.BackDevice)) }},
	"a pair that fails": {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host"}), world: func(w *world) {
		one, two := w.plan.Targets()[0], w.plan.Targets()[1]
		one.Partner, two.Partner, two.Second = two.Device.Name, one.Device.Name, true
	}, edit: edits("sizes     1, 4", "sizes     4")},
	"very slow":                 {specs: faults(sim.Fault{Kind: sim.Slow, By: 8 * time.Second}), edit: edits("timer       4m", "timer       1m")},
	"becomes slow in a step":    {specs: faults(sim.Fault{Kind: sim.Slow, Match: "^(lan|title|up|port)", By: 9500 * time.Millisecond, Times: 6}), edit: edits("timer       4m", "timer       1m", "within 40s", "within 25s", "soak      30s", "soak      1s", "take back the device", "try again once, then take back the device")},
	"tried again late":          {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host", Times: 1}), who: func(*testing.T) person { return late(200*time.Second, night.TryAgain) }},
	"tried again too late":      {specs: faults(sim.Fault{Kind: sim.Rejects, Match: "^log host", Times: 1}, sim.Fault{Kind: sim.NoTimer, After: 1}), who: func(*testing.T) person { return late(200*time.Second, night.TryAgain) }},
	"very slow, not extended 1": {specs: faults(sim.Fault{Kind: sim.Slow, By: 8 * time.Second}, sim.Fault{Kind: sim.NoTimer, After: 1}), edit: edits("timer       4m", "timer       1m")},
	"very slow, not extended 2": {specs: faults(sim.Fault{Kind: sim.Slow, By: 8 * time.Second}, sim.Fault{Kind: sim.NoTimer, After: 2}), edit: edits("timer       4m", "timer       1m")},
	"back after a while":        {specs: faults(sim.Fault{Kind: sim.Drops, Match: "^log host", Times: 1}, sim.Fault{Kind: sim.Refuses, After: 1, Times: 5}), who: func(t *testing.T) person { return always(t, night.TryAgain) }},
	"cap on a site":             {specs: []sim.Spec{{}, {}, {}, {}}, edit: edits("sizes     1, 4\n  together  4", "sizes     4\n  per site  1")},
	"precheck waived": {specs: []sim.Spec{{ClockOff: time.Hour}, {}}, edit: oneByOne, world: func(w *world) {
		w.plan.Waivers = []plan.Waiver{{Check: "clock", Device: "ald-quay-1", Reason: "its battery is dead", By: "Ada"}}
	}},
	"taken by another night":  {specs: []sim.Spec{{}, {}}, edit: oneByOne, world: func(w *world) { w.claim = takenAtFirst(1) }},
	"waits for another night": {specs: []sim.Spec{{}, {}}, edit: oneByOne, world: func(w *world) { w.claim, w.wait = takenAtFirst(3), true }},
}

// secondHold answers the hold after the first.
func secondHold(c night.Choice) person {
	n := 0
	return func(r *run.Run, e night.Event) {
		if opened(e) {
			if n++; n > 1 {
				choose(c)(r, e)
			}
		}
	}
}

// late answers the first hold after a while.
func late(after time.Duration, c night.Choice) person {
	return when(opened, func(r *run.Run, e night.Event) {
		go func() {
			time.Sleep(after)
			choose(c)(r, e)
		}()
	})
}

func journalFullAt(at func(night.Event) bool) func(*world) {
	return func(w *world) {
		full := false
		w.journal.Fail = func(ev []night.Event) error {
			if full = full || slices.ContainsFunc(ev, at); full {
				return fmt.Errorf("write metabasis.db: %w", syscall.ENOSPC)
			}
			return nil
		}
	}
}

// takenAtFirst is a claim that another night has for some tries.
func takenAtFirst(tries int) func(context.Context, *plan.Target) (func(), error) {
	left := tries
	return func(context.Context, *plan.Target) (func(), error) {
		if left--; left >= 0 {
			return nil, &work.Taken{By: `ben, "Lans" in /net/lans, since 01:12:00`}
		}
		return func() {}, nil
	}
}

func TestStories(t *testing.T) {
	for name, s := range stories {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			synctest.Test(t, func(t *testing.T) {
				w := storyWorld(t, dir, s)
				defer w.sim.Close()
				var who person
				if s.who != nil {
					who = s.who(t)
				}
				err := w.runTo(context.Background(), who)
				require.Equal(t, s.fails, err != nil, err)
				if !s.fails {
					w.checkLaws()
				}
				compareStory(t, name, w.tell(err, s.forecasts))
			})
		})
	}
}

// TestCutOffAtEveryPoint breaks a night at each of its commands: the session drops,
// the device falls silent, or answers with a fault. What becomes of it is a line in
// testdata/stories; the laws hold every time.
func TestCutOffAtEveryPoint(t *testing.T) {
	refused := sim.Fault{Kind: sim.Rejects, Match: "^port 3"}
	for _, c := range []struct {
		name  string
		first []sim.Fault
		last  int // commands that such a night has
		kinds []string
	}{
		{"all is well", nil, 45, []string{sim.Drops, sim.Hangs, sim.Balks}},
		{"line refused", []sim.Fault{refused}, 60, []string{sim.Drops, sim.Hangs, sim.Balks}},
		{"saved in words only", []sim.Fault{{Kind: sim.QuietSave}}, 75, []string{sim.Drops, sim.Balks}},
		{"saved, then taken back", []sim.Fault{{Kind: sim.Drifts, Match: "^keep", Times: 1}}, 80, []string{sim.Drops, sim.Balks}},
		{"undo does nothing", []sim.Fault{refused, {Kind: sim.LostUndo}}, 60, []string{sim.Balks}},
		{"cannot be taken back", []sim.Fault{refused, {Kind: sim.LostUndo}, {Kind: sim.Refusing}}, 60, []string{sim.Balks}},
	} {
		for _, kind := range c.kinds {
			t.Run(c.name+" "+kind, func(t *testing.T) {
				t.Parallel()
				dir := t.TempDir()
				var lines []string
				for k := range c.last {
					synctest.Test(t, func(t *testing.T) {
						fault := sim.Fault{Kind: kind, Times: 1, After: k}
						w := storyWorld(t, filepath.Join(dir, fmt.Sprint(k)), story{specs: []sim.Spec{{Faults: append(slices.Clone(c.first), fault)}}})
						defer w.sim.Close()
						w.runQuiet()
						w.checkLaws()
						d := w.night.Devices[0]
						lines = append(lines, fmt.Sprintf("at %2d: %8.3f %s, %s, marks %q, %d events, %d truths", k, d.Ended.Sub(w.started).Seconds(), d.State, d.Note, d.Marks, len(w.seen), len(w.sim.Devices()[0].Truth())))
					})
				}
				compareStory(t, "at every point, "+c.name+" "+kind, strings.Join(lines, "\n")+"\n")
			})
		}
	}
}

func storyWorld(t *testing.T, dir string, s story) *world {
	specs := slices.Clone(s.specs)
	book := standardBook
	if s.edit != nil {
		book = s.edit(book)
	}
	csv := "name,address,platform,site,role,pair,via,login\n"
	for i := range specs {
		specs[i].Name, specs[i].Address = fmt.Sprintf("ald-quay-%d", i+1), fmt.Sprintf("192.0.2.%d", 100+i)
		csv += fmt.Sprintf("%s,%s,tern,ALD,quay,,,crew\n", specs[i].Name, specs[i].Address)
	}
	w := newWorld(t, sim.Scenario{Boot: 15 * time.Second, Settle: 8 * time.Second, Latency: 30 * time.Millisecond, Devices: specs}, csv, book, dir)
	if s.world != nil {
		s.world(w)
	}
	return w
}

func compareStory(t *testing.T, name, got string) {
	path := filepath.Join("testdata", "stories", strings.NewReplacer(" ", "-", ",", "").Replace(name)+".txt")
	if *update {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(got), 0o644))
		return
	}
	want, err := os.ReadFile(path)
	require.NoError(t, err, "a new story: run with -update, and read it")
	assert.Equal(t, string(want), got, "the story goes differently now; read %s, and see whether it should", path)
}

// tell tells the night: what the run said, as far as a journal holds it, and what happened to
// the devices. First comes what is of the night as a whole, then each device in the order of the
// plan, so that what one device does alters no other's lines. Forecasts are told only where a
// story is about them: their numbers move with each estimate.
func (w *world) tell(err error, forecasts bool) string {
	var lines []string
	for _, d := range append([]*night.Device{{}}, w.night.Devices...) {
		moments := w.moments(d.Name, forecasts)
		slices.SortStableFunc(moments, func(a, b moment) int { return cmp.Or(a.at.Compare(b.at), a.rank-b.rank) })
		if d.Name != "" {
			lines = append(lines, "", d.Name)
		}
		for _, m := range moments {
			lines = append(lines, strings.TrimRight(fmt.Sprintf("%9.3f  %s", m.at.Sub(w.started).Seconds(), strings.ReplaceAll(m.text, w.dir, "DIR")), " "))
		}
	}
	lines = append(lines, "")
	for _, d := range w.night.Devices {
		lines = append(lines, fmt.Sprintf("%s ends %s (%s), before %s, step %d line %d of %d, marks %q, touched %v, failed %v, timer %v, hold %d, diff %q", d.Name, d.State, d.Note, d.Before,
			d.Step, d.Line, d.Lines, d.Marks, d.Touched, d.Failed, !d.TimerDue.IsZero(), d.Hold, d.Diff))
	}
	n := &w.night
	lines = append(lines, fmt.Sprintf("outcome %d, failures %d, aborted %q, released %v, batch %d, decided %d, error %v", n.Outcome(), n.Failures, n.Aborted, n.Released, n.Batch, len(n.Decided), err))
	return strings.Join(lines, "\n") + "\n"
}

// moment is a line of a story. What happens at the same time is in order of rank: what happened
// to the device, what its worker said of it, what the conductor said.
type moment struct {
	at   time.Time
	rank int
	text string
}

// moments are those of a device, or of the night as a whole, each kind in its order.
func (w *world) moments(device string, forecasts bool) (out []moment) {
	if d := w.sim.Device(device); d != nil {
		for _, tr := range d.Truth() {
			armed := ""
			if tr.Armed {
				armed = ", timer pending"
			}
			out = append(out, moment{tr.At, 0, fmt.Sprintf("    | %s %s%s", tr.What, tr.Line, armed)})
		}
	}
	conductors := []night.Kind{night.HoldOpened, night.HoldAnew, night.HoldClosed}
	for _, e := range w.seen {
		if e.Device != device || e.Kind == night.Forecast && !forecasts {
			continue
		}
		m := moment{e.At, 1, w.told(e)}
		if slices.Contains(conductors, e.Kind) {
			m.rank = 2
		}
		out = append(out, m)
	}
	return out
}

// asUsual tells whether the note of an event is the same in every night: tests of its own hold
// those.
func asUsual(e night.Event) bool {
	return e.Kind == night.Prechecked && e.OK || e.Kind == night.Moved && !e.OK && e.State != night.Held && e.State != night.Dark
}

// told is one event in full.
func (w *world) told(e night.Event) string {
	since := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return fmt.Sprintf("%.1f", t.Sub(w.started).Seconds())
	}
	var b strings.Builder
	b.WriteString(string(e.Kind))
	part := func(name string, v any, empty bool) {
		if !empty {
			fmt.Fprintf(&b, " %s=%v", name, v)
		}
	}
	part("batch", e.Batch, e.Batch == 0)
	part("step", e.Step, e.Step == 0)
	part("line", e.Line, e.Line == 0)
	part("state", e.State, e.State == "")
	part("what", e.What, e.What == "")
	part("ok", e.OK, !e.OK)
	if e.Kind != night.BackedUp && !asUsual(e) { // a checksum says nothing to whoever reads
		part("note", e.Note, e.Note == "")
	}
	part("lines", fmt.Sprintf("%q", e.Lines), len(e.Lines) == 0)
	part("for", e.For.Round(time.Millisecond), e.For == 0)
	part("due", since(e.Due), e.Due.IsZero())
	part("late", since(e.Late), e.Late.IsZero())
	part("hold", e.Hold, e.Hold == 0)
	part("choice", e.Choice, e.Choice == "")
	part("by", e.By, e.By == "")
	for _, o := range e.Offers {
		part("offer", fmt.Sprintf("[%s touches %d takes %.1f to %.1f fits %v reason %v against %v open %v: %s]", o.Choice, o.Touches, o.Takes.Seconds(), max(o.Most, o.Takes).Seconds(), o.Fits, o.Reason, o.Against, o.Open, o.Does), false)
	}
	for _, s := range e.Slots {
		part("slot", fmt.Sprintf("[%s to %s, turn back %s]", since(s.Start), since(s.End), since(s.TurnBack)), false)
	}
	if e.Outline != nil {
		part("outline", fmt.Sprintf("%s, %d batches, window %s to %s, soak %s, budget %d %v, checks %q, warnings %q", e.Outline.Title, len(e.Outline.Batches),
			since(e.Outline.Window.Open), since(e.Outline.Window.Close), e.Outline.Soak, e.Outline.Budget, e.Outline.BudgetGiven, e.Outline.Checks, e.Outline.Warnings), false)
	}
	return b.String()
}
