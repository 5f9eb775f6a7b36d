package nights

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// checkLaws holds what the night claims against what truly happened.
func (w *world) checkLaws() {
	w.t.Helper()
	w.forget()
	w.everyNightEnds()
	w.replayAgrees()
	if w.misled {
		for _, d := range w.night.Devices {
			w.wordsAreTrue(d)
		}
		return
	}
	for _, t := range w.plan.Targets() {
		d := w.night.Get(t.Device.Name)
		truth := w.sim.Device(t.Device.Name).Truth()
		if t.Traits.Timer == plan.TrialTimer {
			w.lawOnTrial(d, truth)
		} else {
			w.lawBackupAndTimerFirst(d, truth)
			w.lawDisarmIsProven(d, truth)
		}
		w.predictionIsKept(t, d)
		w.lawNeverSavedWhilePending(d, truth)
		w.lawTimerOutlastsWork(d, truth)
		if w.drawn != nil {
			w.wordsAreTrue(d)
		} else {
			w.lawEndsAreTrue(d)
		}
		w.firesOnlyWhatIsPending(d)
		w.lawOnlyWhatIsNeeded(d, truth)
		w.lawIntentionsFirst(d, truth)
		w.lawDoneOnce(t, d, truth)
		w.lawSoftware(t, d, truth)
	}
	w.lawTheRightDevice()
	w.lawAbort()
	w.lawPairsAndCaps()
	w.lawNotThroughOneAnother()
	w.lawSecretsAndData()
}

// forget takes note that a device which restarted before it was backed up has lost what
// was not saved on it: what it had when its night began is what was saved.
func (w *world) forget() {
	for name, unsaved := range w.unsaved {
		done, backed := w.backups.done[name]
		for _, tr := range w.sim.Device(name).Truth() {
			if unsaved && tr.What == sim.Restarted && (!backed || tr.At.Before(done)) {
				w.initial[name], w.unsaved[name] = w.stored0[name], false
			}
		}
	}
}

func (w *world) everyNightEnds() {
	assert.False(w.t, w.night.Ended.IsZero(), "the night has no end")
	for _, d := range w.night.Devices {
		assert.True(w.t, d.Over, "%s is left %s", d.Name, d.State)
	}
	assert.Empty(w.t, w.night.Holds)
	assert.Less(w.t, w.night.Ended.Sub(w.started), 24*time.Hour)
}

// The journal alone gives the same night, event by event or all at once.
func (w *world) replayAgrees() {
	start := slices.IndexFunc(w.journal.Events, func(e night.Event) bool { return e.At.Equal(w.started) && e.Kind == night.Planned })
	one := night.Night{}
	events := w.journal.Events[max(start, 0):]
	for _, e := range events {
		one = night.Fold(one, e)
	}
	all := night.Fold(night.Night{}, events...)
	assert.Equal(w.t, all, one)
	assert.Equal(w.t, w.night, all)
	w.standsAsFolded()
}

// standsAsFolded holds how the night stood at some moment, as it is written down and read again, with
// what came then, against all of it.
func (w *world) standsAsFolded() {
	events := w.journal.Events
	if len(events) < 2 {
		return
	}
	written := func(e any) string {
		data, err := json.Marshal(e)
		assert.NoError(w.t, err)
		return string(data)
	}
	at := 1 + int(events[len(events)/2].At.UnixNano()/1000)%(len(events)-1)
	told := night.Fold(night.Night{}, events[:at]...)
	data, err := night.Standing(&told)
	if !assert.NoError(w.t, err) {
		return
	}
	read, err := night.FromStanding(events[0], data)
	if !assert.NoError(w.t, err) {
		return
	}
	whole, again := night.Fold(night.Night{}, events...), night.Fold(read, events[at:]...)
	assert.Equal(w.t, written(whole), written(again))
	one, err := night.Standing(&whole)
	assert.NoError(w.t, err)
	other, err := night.Standing(&again)
	assert.NoError(w.t, err)
	assert.Equal(w.t, string(one), string(other), "what nobody sees of it is the same, too")
}

// Law 1: no line before the backup is on disk and the timer was seen pending.
func (w *world) lawBackupAndTimerFirst(d *night.Device, truth []sim.Truth) {
	seen := false
	for _, tr := range truth {
		switch tr.What {
		case sim.Armed, sim.Disarmed, sim.Restarted, sim.PutBack:
			if tr.What != sim.Armed || !tr.Armed {
				seen = false
			}
		case sim.Shown:
			seen = tr.Armed
		case sim.Received, sim.Loaded:
			if w.typed[tr.Line] { // by hand, perhaps when the night had done with it
				continue
			}
			assert.True(w.t, tr.Armed || w.noTimer, "law 1: %s got %q without a timer", d.Name, tr.Line)
			assert.True(w.t, seen || w.noTimer, "law 1: %s got %q before its timer was seen", d.Name, tr.Line)
			done, ok := w.backups.done[d.Name]
			assert.True(w.t, ok && !done.After(tr.At), "law 1: %s got %q before its backup", d.Name, tr.Line)
		}
	}
	if d.Touched {
		style := config.Style{Layout: "indented", Volatile: w.styleOf(d.Name).Volatile}
		assert.True(w.t, config.Equal(config.Parse(w.backups.text[d.Name], style), config.Parse(w.initial[d.Name], style)),
			"law 1: the backup of %s is not what ran", d.Name)
		back, err := os.ReadFile(d.Backup)
		assert.NoError(w.t, err)
		assert.Equal(w.t, w.backups.text[d.Name], string(back))
	}
}

// What is kept of a prediction differs from what was found as it was foreseen, line by line,
// and a device that is kept as predicted has it.
func (w *world) predictionIsKept(t *plan.Target, d *night.Device) {
	text, kept := w.predicted.text[d.Name]
	found, backed := w.backups.text[d.Name]
	if w.predict == nil && backed && d.Computed && d.Unknown == "" {
		assert.True(w.t, kept, "all of what %s would have was known, and it is not kept", d.Name)
	}
	if !kept || !backed {
		return
	}
	assert.Empty(w.t, d.Unknown, "%s", d.Name)
	style := t.Traits.Style
	masked := func(text string) config.Config {
		return config.Parse(strings.Join(t.Masked(strings.Split(text, "\n")), "\n"), style)
	}
	before, after := masked(found), masked(text)
	assert.Equal(w.t, d.WillDiffer, config.Compare(before, after).Lines(t.Masked), "%s: its prediction is not what was foreseen", d.Name)
	if d.State == night.Kept && d.Predicted && d.LeftSteps() == 0 {
		left, _, err := w.left().AsOf(d.Name, time.Now())
		if assert.NoError(w.t, err) {
			now, err := w.left().Read(left)
			assert.NoError(w.t, err)
			assert.Empty(w.t, config.Compare(after, masked(now)), "%s is kept as predicted, and its prediction is something else", d.Name)
		}
	}
}

// Law 16: no line reaches a device that is not the one that is meant. One that stood in the
// place of another when it was connected to got no line of that one's, and what was claimed
// of either is its own.
func (w *world) lawTheRightDevice() {
	for _, spec := range w.specs {
		for _, f := range spec.Faults {
			if f.Kind != sim.Exchanged || f.Match != "" {
				continue
			}
			for _, name := range []string{spec.Name, f.With} {
				d := w.night.Get(name)
				if d == nil {
					continue
				}
				if _, waived := w.plan.Waived(plan.IdentityCheck, w.targetOf(name)); waived {
					continue
				}
				assert.Contains(w.t, []night.State{night.Blocked, night.Skipped}, d.State, "law 16: %s stands elsewhere, and is %s: %s", name, d.State, d.Note)
				assert.False(w.t, touched(w.sim.Device(name)), "law 16: %s was touched, and another was meant", name)
				assert.Empty(w.t, d.Backup, "law 16: what another device has is no backup of %s", name)
			}
		}
	}
	for _, d := range w.sim.Devices() { // whoever stood in its place: its own lines alone
		journalled := map[string]bool{}
		for _, e := range w.seen {
			if e.Device == d.Name() && (e.Kind == night.Intent || e.Kind == night.Sent || e.Kind == night.Refusal) {
				journalled["any"] = true
			}
		}
		if !journalled["any"] && w.night.Get(d.Name()) != nil {
			for _, tr := range d.Truth() {
				assert.NotEqual(w.t, sim.Received, tr.What, "law 16: %s got %q, and no line was meant for it", d.Name(), tr.Line)
			}
		}
	}
}

func (w *world) targetOf(name string) *plan.Target {
	for _, t := range w.plan.Targets() {
		if t.Device.Name == name {
			return t
		}
	}
	return nil
}

// styleOf is how a device writes its configuration.
func (w *world) styleOf(device string) (s config.Style) {
	for _, t := range w.plan.Targets() {
		if t.Device.Name == device {
			s = t.Traits.Style
		}
	}
	return s
}

// Law 2: nothing is saved while a restart is pending; a device with unsaved
// changes is never armed.
func (w *world) lawNeverSavedWhilePending(d *night.Device, truth []sim.Truth) {
	for _, tr := range truth {
		assert.False(w.t, tr.What == sim.Saved && tr.Armed, "law 2: %s was saved while its timer was pending", d.Name)
		assert.False(w.t, tr.What == sim.Armed && w.unsaved[d.Name], "law 2: %s was armed with unsaved changes", d.Name)
	}
}

// Law 3: a timer only fires on a device that is not going well.
func (w *world) lawTimerOutlastsWork(d *night.Device, truth []sim.Truth) {
	for _, tr := range truth {
		if tr.What != sim.Fired {
			continue
		}
		state := w.stateAt(d.Name, tr.At)
		assert.Contains(w.t, []night.State{night.Held, night.Dark, night.Reverting, night.Stranded}, state,
			"law 3: the timer of %s fired while it was %s", d.Name, state)
		if state == night.Reverting {
			assert.False(w.t, w.guardedWork(d.Name, tr.At), "law 3: the timer that %s was given for its way back fired in the midst of it", d.Name)
		}
	}
	w.lawArmedForTheWork(d)
}

// guardedWork tells whether the timer that fired then was armed, or made longer, for the
// taking back that the device was in.
func (w *world) guardedWork(device string, at time.Time) (guarded bool) {
	for _, e := range w.journal.Events {
		switch {
		case e.Device != device || !e.At.Before(at):
		case e.Kind == night.Moved, e.Kind == night.Lost:
			guarded = false
		case e.Kind == night.Intent && (e.What == night.ToArm || e.What == night.ToExtend):
			guarded = true
		}
	}
	return guarded
}

// Law 3: before the change, the timer is armed for the worst case of the work
// and the margin.
func (w *world) lawArmedForTheWork(d *night.Device) {
	for _, t := range w.plan.Targets() {
		if t.Device.Name != d.Name {
			continue
		}
		_, worst := w.asSent(t).Work(w.plan.Soak)
		state := night.Waiting
		for _, e := range w.journal.Events {
			switch {
			case e.Device != d.Name:
			case e.Kind == night.Moved:
				state = e.State
			case e.Kind == night.Intent && e.What == night.ToArm && state == night.Recording:
				assert.GreaterOrEqual(w.t, e.For, worst+plan.Margin-time.Second, "law 3: %s is armed for less than its work", d.Name)
			}
		}
	}
}

// asSent is a target with as many lines in the steps of what is wanted as were sent: those
// that were known when it was armed.
func (w *world) asSent(t *plan.Target) *plan.Target {
	sent := *t
	sent.Steps = slices.Clone(t.Steps)
	for i := range sent.Steps {
		s := &sent.Steps[i]
		if s.Want == nil && s.Through == nil {
			continue
		}
		s.Through, s.Want, s.Send, s.Undo = nil, nil, nil, nil
		for _, e := range w.journal.Events {
			if e.Device == t.Device.Name && e.Kind == night.Intent && e.What == night.ToSend && e.Step == i+1 {
				s.Send, s.Undo = e.Lines, e.Lines
			}
		}
	}
	return &sent
}

// stateAt is the state of a device at a moment, as the journal tells it.
func (w *world) stateAt(device string, at time.Time) night.State {
	state := night.Waiting
	for _, e := range w.journal.Events {
		if e.Device == device && e.Kind == night.Moved && e.At.Before(at) {
			state = e.State
		}
	}
	return state
}

// Law 4: before it is saved, the device was seen without a pending timer.
func (w *world) lawDisarmIsProven(d *night.Device, truth []sim.Truth) {
	proven := false
	for _, tr := range truth {
		switch tr.What {
		case sim.Armed, sim.Restarted, sim.PutBack:
			proven = false
		case sim.Shown:
			proven = !tr.Armed
		case sim.Saved:
			assert.True(w.t, proven || w.noTimer, "law 4: %s was saved before disarming was proven", d.Name)
		}
	}
}

// asCompared is a configuration as it is compared with another.
func (w *world) asCompared(text string) string {
	if w.loose {
		return strings.Join(config.Parse(text, config.Style{}).Paths(), "\n")
	}
	return text
}

// hides tells whether a device may change by itself while it prints what ran before: nobody can read
// that.
func (w *world) hides(name string) bool {
	has := func(kind string) bool {
		return slices.ContainsFunc(w.specs[name].Faults, func(f sim.Fault) bool { return f.Kind == kind })
	}
	return has(sim.Drifts) && has(sim.ShowsLate)
}

// Laws 4 to 6: the ends are what they say they are.
func (w *world) lawEndsAreTrue(d *night.Device) {
	dev := w.sim.Device(d.Name)
	switch d.State {
	case night.Kept:
		assert.Equal(w.t, dev.Running(), dev.Saved(), "law 4: %s is kept, but running and saved differ", d.Name)
		assert.True(w.t, dev.Due().IsZero(), "law 4: %s is kept, but a restart is pending", d.Name)
		if d.LeftSteps() == 0 && !strings.Contains(d.Note, "not as predicted") && len(d.Edits)+len(d.Works) == 0 {
			assert.Contains(w.t, dev.Running(), w.mark, "%s is kept without the change", d.Name)
		}
	case night.Reverted:
		if w.hides(d.Name) {
			break
		}
		assert.Equal(w.t, w.asCompared(w.initial[d.Name]), w.asCompared(dev.Running()), "law 6: %s is reverted, but is not as it was", d.Name)
		assert.Equal(w.t, w.asCompared(w.initial[d.Name]), w.asCompared(dev.Saved()), "law 6: %s is reverted, but its saved configuration is not as it was", d.Name)
		assert.True(w.t, dev.Due().IsZero(), "law 6: %s is reverted, but a restart is pending", d.Name)
	case night.Blocked, night.Skipped, night.Already:
		if !w.everChanged(d.Name) && !restarted(dev) {
			assert.Equal(w.t, w.initial[d.Name], dev.Running(), "%s is %s, but was changed", d.Name, d.State)
		}
	case night.Stranded:
		assert.True(w.t, w.excuse(d.Name), "law 5: %s is stranded without a reason: %s", d.Name, d.Note)
	}
}

// A device is only left to a timer that was seen on it.
func (w *world) firesOnlyWhatIsPending(d *night.Device) {
	pending := false
	for _, e := range w.journal.Events {
		switch {
		case e.Device != d.Name:
		case e.Kind == night.TimerSeen, e.Kind == night.Intent && (e.What == night.ToArm || e.What == night.ToExtend):
			pending = true
		case e.Kind == night.TimerGone:
			pending = false
		case e.Kind == night.Rung && e.What == work.RungFire:
			assert.True(w.t, pending, "%s waits for a timer that is not pending: %s", d.Name, e.Note)
		}
	}
}

func (w *world) everChanged(name string) bool {
	return slices.ContainsFunc(w.journal.Events, func(e night.Event) bool { return e.Device == name && e.Kind == night.Sent })
}

// restarted tells whether the device went down by itself, which drops what was
// not saved.
func restarted(d *sim.Device) bool {
	return slices.ContainsFunc(d.Truth(), func(t sim.Truth) bool { return t.What == sim.Restarted || t.What == sim.PutBack })
}

// excuse tells whether something happened to a device, or to one on the way to
// it, that can strand it.
func (w *world) excuse(name string) bool {
	if w.night.Released {
		return true
	}
	for _, spec := range w.specs { // another stands in its place
		for _, f := range spec.Faults {
			if f.Kind == sim.Exchanged && (spec.Name == name || f.With == name) {
				return true
			}
		}
	}
	for at := name; at != ""; at = w.specs[at].Uplink {
		for _, f := range w.specs[at].Faults {
			switch f.Kind {
			case sim.NeverBack, sim.Spoils, sim.NoSave, sim.Hangs, sim.StuckTimer, sim.QuietTimer, sim.Refusing, sim.LostUndo, sim.Garbage, sim.NoTimer, sim.Restarts, sim.CutsOff, sim.Drops,
				sim.Drifts, sim.CutShort, sim.HalfLoad, sim.QuietSave, sim.LateDisarm, sim.OtherTimer, sim.Balks, sim.Ignores, sim.Alters, sim.BreaksIn, sim.ShowsLate, sim.NeverFires, sim.DropsAfter, sim.RefusesApply,
				sim.NoRoom, sim.BootsOld, sim.Rescue, sim.Bare, sim.SlowBoot:
				return true
			case sim.Joined:
				if w.trial(name) { // whoever has the candidate keeps it
					return true
				}
			case sim.Rejects:
				if f.Match == "^drop" {
					return true
				}
			}
		}
	}
	return false
}

// Law 10: what is as intended is not touched.
func (w *world) lawOnlyWhatIsNeeded(d *night.Device, truth []sim.Truth) {
	if d.State != night.Already {
		return
	}
	for _, tr := range truth {
		assert.False(w.t, !tr.At.Before(w.started) && (tr.What == sim.Received || tr.What == sim.Staged || tr.What == sim.Armed || tr.What == sim.Saved),
			"law 10: %s is already as intended, but %s %q", d.Name, tr.What, tr.Line)
	}
}

// Law 11: what reached the device was intended, durably, before.
func (w *world) lawIntentionsFirst(d *night.Device, truth []sim.Truth) {
	intended := func(tr sim.Truth, ok func(night.Event) bool) bool {
		return slices.ContainsFunc(w.journal.Events, func(e night.Event) bool {
			return e.Kind == night.Intent && e.Device == d.Name && !e.At.After(tr.At) && ok(e)
		})
	}
	for _, tr := range truth {
		switch tr.What {
		case sim.Received, sim.Staged:
			if w.typed[tr.Line] {
				assert.True(w.t, intended(tr, func(e night.Event) bool { return e.What == night.ToHand }), "law 11: %s was worked by hand before that was written down", d.Name)
				continue
			}
			if tr.Line == "" || slices.ContainsFunc(w.specs[d.Name].Faults, func(f sim.Fault) bool { return f.Kind == sim.Alters }) {
				continue // what arrives there is not what was sent
			}
			assert.True(w.t, intended(tr, func(e night.Event) bool {
				shown := w.plan.Targets()[0].Masked([]string{tr.Line})[0]
				_, value, _ := strings.Cut(shown, " = ") // of what was written as XML
				return slices.ContainsFunc(e.Lines, func(l string) bool {
					l = strings.TrimSpace(l)
					return l == shown || strings.HasPrefix(l, "<") && value != "" && strings.Contains(l, ">"+value+"<")
				})
			}), "law 11: %s got %q, which was never intended", d.Name, tr.Line)
		case sim.Saved:
			assert.True(w.t, intended(tr, func(e night.Event) bool { return e.What == night.ToSave || e.What == night.ToDisarm && w.trial(d.Name) }), "law 11: %s was saved without intent", d.Name)
		case sim.Armed:
			assert.True(w.t, intended(tr, func(e night.Event) bool {
				return e.What == night.ToArm || e.What == night.ToExtend || e.What == night.ToApply && w.trial(d.Name)
			}), "law 11: %s was armed without intent", d.Name)
		case sim.Loaded:
			assert.True(w.t, intended(tr, func(e night.Event) bool {
				return e.What == night.ToRestore || w.whole(d.Name) && (e.What == night.ToSend || e.What == night.ToLead || e.What == night.ToUndo)
			}), "law 11: %s was restored without intent", d.Name)
		}
	}
}

// Law 18: what acts and cannot be undone was intended, durably, each time that it was done; it
// is done once, unless it may be repeated or a person has said so; and what is called done was.
func (w *world) lawDoneOnce(t *plan.Target, d *night.Device, truth []sim.Truth) {
	did := map[string]int{}
	for _, tr := range truth {
		if tr.What == sim.Done {
			did[tr.Line]++
		}
	}
	intended, again := map[string]int{}, 0
	for _, e := range w.journal.Events {
		switch {
		case e.Device == d.Name && e.Kind == night.Intent && e.What == night.ToDo:
			intended[e.Lines[0]]++
		case e.Device == d.Name && e.Kind == night.HoldClosed && e.Choice == night.DoAgain:
			again++
		}
	}
	for line, n := range did {
		assert.LessOrEqual(w.t, n, intended[line], "law 18: %s did %q without an intention", d.Name, line)
	}
	wanted, repeatable := map[string]int{}, map[string]bool{}
	for _, s := range t.Steps {
		for _, c := range s.Commands {
			wanted[c.Line]++
			repeatable[c.Line] = repeatable[c.Line] || s.Deed.Repeatable
		}
	}
	for line, n := range wanted {
		if !repeatable[line] {
			assert.LessOrEqual(w.t, did[line], n+again, "law 18: %s did %q more often than anybody wanted", d.Name, line)
			assert.LessOrEqual(w.t, intended[line], n+again, "law 18: %q was sent again to %s by itself", line, d.Name)
		}
	}
	for _, g := range d.Deeds {
		if !g.Looks && g.OK && g.Note == "" && len(w.specs[d.Name].Faults) == 0 {
			assert.NotZero(w.t, did[g.Command], "law 18: %q is called done on %s", g.Command, d.Name)
		}
	}
}

// whole tells whether only whole configurations are put in place on a device.
func (w *world) whole(device string) bool {
	return slices.ContainsFunc(w.plan.Targets(), func(t *plan.Target) bool { return t.Device.Name == device && t.Traits.Whole })
}

// Law 7: after an abort no device is started; after letting go, nothing reaches
// any device.
func (w *world) lawAbort() {
	var aborted, letGo time.Time
	started := map[string]bool{}
	for _, e := range w.journal.Events {
		switch e.Kind {
		case night.Planned: // a second night in the same journal
			aborted, letGo = time.Time{}, time.Time{}
			clear(started)
		case night.Aborted:
			aborted = e.At
		case night.LetGo:
			letGo = e.At
		case night.Moved:
			if e.State == night.Checking && !started[e.Device] {
				started[e.Device] = true
				assert.True(w.t, aborted.IsZero() && letGo.IsZero() || e.At.Equal(aborted) || e.At.Equal(letGo), "law 7: %s was started after the abort", e.Device)
			}
		}
	}
	if letGo.IsZero() {
		w.lawNoneIsForgotten()
		return
	}
	for _, dev := range w.sim.Devices() {
		for _, tr := range dev.Truth() {
			if tr.What == sim.Received || tr.What == sim.Staged || tr.What == sim.Saved {
				// The line in flight may still arrive.
				assert.False(w.t, tr.At.After(letGo.Add(5*time.Second)), "law 7: %s got %q after it was let go of", dev.Name(), tr.Line)
			}
		}
	}
}

// Law 7: what is to be taken back is, also when it was being kept just then: everything
// after "take back everything", and what was in change after another abort.
func (w *world) lawNoneIsForgotten() {
	inChange := map[string]bool{}
	back := map[string]bool{}
	for _, e := range w.seen {
		switch {
		case e.Kind == night.Moved:
			inChange[e.Device] = !e.OK
		case e.Kind == night.Aborted && e.Choice != night.Finish, e.Kind == night.HoldClosed && e.Choice == night.BackAll:
			for _, d := range w.night.Devices {
				if inChange[d.Name] || e.Choice == night.BackAll {
					back[d.Name] = true
				}
			}
		}
	}
	for name := range back {
		d := w.night.Get(name)
		assert.NotEqual(w.t, night.Kept, d.State, "law 7: %s was to be taken back, and is kept: %s", name, d.Note)
	}
}

// Laws 8 and 9: pairs are never in change together; the caps always hold.
func (w *world) lawPairsAndCaps() {
	targets := map[string]*plan.Target{}
	for _, t := range w.plan.Targets() {
		targets[t.Device.Name] = t
	}
	active := map[string]bool{}
	rules := w.plan.Rules
	for _, e := range w.journal.Events {
		if e.Kind != night.Moved {
			continue
		}
		t := targets[e.Device]
		if e.OK {
			delete(active, e.Device)
			continue
		}
		active[e.Device] = true
		assert.False(w.t, t.Partner != "" && active[t.Partner], "law 8: %s and %s are in change together", e.Device, t.Partner)
		site, role, uplink := 0, 0, 0
		for name := range active {
			o := targets[name].Device
			site += asOne(o.Site == t.Device.Site)
			role += asOne(o.Role == t.Device.Role)
			uplink += asOne(o.Via != "" && o.Via == t.Device.Via)
			assert.NotContains(w.t, t.Above, name, "law 8: %s is in change, and %s, through which it is reached", e.Device, name)
			assert.NotContains(w.t, targets[name].Above, e.Device, "law 8: %s is in change, and %s, which is reached through it", e.Device, name)
		}
		assert.True(w.t, rules.PerRole == 0 || role <= rules.PerRole, "law 9: %d devices together of role %s", role, t.Device.Role)
		assert.True(w.t, rules.PerUplink == 0 || uplink <= rules.PerUplink, "law 9: %d devices together behind %s", uplink, t.Device.Via)
		assert.True(w.t, rules.Together == 0 || len(active) <= rules.Together, "law 9: %d devices together", len(active))
		assert.True(w.t, rules.PerSite == 0 || site <= rules.PerSite, "law 9: %d devices together on %s", site, t.Device.Site)
	}
}

// Law 8, by what the devices themselves saw: no device got a line while one was in change
// that it is reached through.
func (w *world) lawNotThroughOneAnother() {
	type span struct{ from, to time.Time }
	spans, open := map[string][]span{}, map[string]time.Time{}
	for _, e := range w.seen {
		began, is := open[e.Device]
		switch {
		case e.Kind != night.Moved:
		case !e.OK && !is:
			open[e.Device] = e.At
		case e.OK && is:
			spans[e.Device] = append(spans[e.Device], span{began, e.At})
			delete(open, e.Device)
		}
	}
	for _, t := range w.plan.Targets() {
		d := w.sim.Device(t.Device.Name)
		if d == nil || len(t.Above) == 0 {
			continue
		}
		for _, tr := range d.Truth() {
			for _, name := range t.Above {
				for _, s := range spans[name] {
					assert.False(w.t, tr.What == sim.Received && tr.At.After(s.from) && tr.At.Before(s.to),
						"law 8: %s got %q while %s, through which it is reached, was in change", t.Device.Name, tr.Line, name)
				}
			}
		}
	}
}

func asOne(is bool) int {
	if is {
		return 1
	}
	return 0
}

// Law 12: no secret in what was written, backups aside. Law 13: nothing a
// device printed can act on a terminal.
func (w *world) lawSecretsAndData() {
	written := map[string]string{"journal": w.journalText()}
	paths, err := filepath.Glob(filepath.Join(w.dir, "transcripts", "*.log"))
	assert.NoError(w.t, err)
	for _, p := range paths {
		b, err := os.ReadFile(p)
		assert.NoError(w.t, err)
		written[p] = string(b)
	}
	for where, text := range written {
		for _, secret := range append([]string{password, operator, inConfig, gatesWord, masterWord}, w.secrets...) {
			assert.NotContains(w.t, text, secret, "law 12: a secret in %s", where)
		}
		bad := strings.IndexFunc(text, func(r rune) bool { return unicode.IsControl(r) && r != '\n' && r != '\t' })
		assert.Less(w.t, bad, 0, "law 13: a control character in %s", where)
		assert.Less(w.t, len(text), 16<<20, "law 13: %s is out of bounds", where)
	}
}
