package work

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Resumed is what a night of ours that was cut off on a device has left, where this one goes on with
// it. It goes on as that one would have: what that one found is the backup that a take-back must
// reach, its timer is this one's, and what it had done already is not done again.
type Resumed struct {
	ID    int64
	Night string // what that night is called by
	Had   string // the backup that it took; "" where it is not there any more
	Begun bool   // something was to be done to the device
	Was   string // where it was with it then
	// Steps are the titles of its steps. Did is how many commands of a step, from 1, were done on it,
	// and are not done again.
	Steps []string
	Did   map[int]int
	// InDoubt is a command that was given, or was about to be, and cannot be undone: whether it was
	// done is not known. "" is none.
	InDoubt string
	GoBack  bool // it is taken back, and not gone on with
}

// resumed is what a night that was cut off has left on the device, where this one goes on with it;
// nil where that had not begun with it.
func (w *worker) resumed() *Resumed {
	if w.crew.Resumed == nil {
		return nil
	}
	if r := w.crew.Resumed(w.name()); r != nil && r.Begun {
		return r
	}
	return nil
}

// adopt takes a timer that is pending for this night's own, where that which armed it is gone on
// with. A trial is confirmed by whoever has begun it: it is not adopted.
func (w *worker) adopt(r Remnant, left time.Duration, asked time.Time) bool {
	from := w.resumed()
	if from == nil || r.ID != from.ID || r.Runs || w.onTrial() {
		return false
	}
	w.saw(left, true, asked, time.Now())
	w.adopted = true
	w.doing("the timer of %s is adopted: %s", from.Night, w.way())
	w.emit(night.TimerPending(w.due, left))
	return true
}

// outlives waits until a trial is over that the night has begun which is gone on with: nobody but that
// could confirm it, and the device takes it back by itself. It tells whether it was one, and is over.
func (w *worker) outlives(rs []Remnant, left time.Duration) (over bool) {
	from := w.resumed()
	if from == nil || !w.onTrial() {
		return false
	}
	due := time.Time{}
	for _, r := range rs {
		if r.ID != from.ID || r.Runs {
			continue
		}
		if left < 0 && time.Now().Before(r.Due.Add(ours)) || left >= 0 && r.Due.Sub(time.Now().Add(left)).Abs() < ours {
			due = later(due, r.Due)
		}
	}
	if due.IsZero() {
		return false
	}
	if w.onlyLooks {
		w.trialOurs = true
		return true
	}
	w.doing("waiting until the trial of %s is over, %s: the device takes it back then", from.Night, due.Local().Format("15:04:05"))
	gone, err := w.until(looking{by: due.Add(2 * ours), every: trialEvery}, func() (bool, error) {
		_, pending, err := w.ses.Pending(w.ctx)
		return !pending, err
	})
	return err == nil && gone
}

// trialEvery is how often it is looked whether a trial is over that is waited for.
const trialEvery = 2 * time.Second

// ownUnsaved says that what is not saved is what the night left that is gone on with, which is looked
// at closely before anything is done; see [worker.takeUp].
func (w *worker) ownUnsaved() (good string, own bool) {
	r := w.resumed()
	if r == nil || r.Had == "" {
		return "", false
	}
	if !config.Equal(w.found, config.Parse(r.Had, w.t.Traits.Style)) {
		return "", false
	}
	return "what is saved is what " + r.Night + " found, and what runs is looked at", true
}

// takeUp goes on from what the night that was cut off has left: what that one found is to be reached
// where the change is taken back. It says why that cannot be: what runs is not what it found, and the
// change does not lead from it to where it leads from that. Nothing was done to the device until then.
func (w *worker) takeUp() (why string) {
	r := w.resumed()
	if r == nil {
		return ""
	}
	if why := w.tookOver(r); why != "" {
		return why
	}
	if r.Had == "" {
		return fmt.Sprintf("the backup that %s took is not there any more: what it had before that is not known", r.Night)
	}
	had, runs := config.Parse(r.Had, w.t.Traits.Style), w.before
	if config.Equal(had, runs) {
		return ""
	}
	then, err := w.computedFrom(had)
	if err != nil {
		return err.Error()
	}
	to, known := then.Predicted(had)
	ends, also := w.t.Predicted(runs)
	switch lines := joinSome(config.Compare(had, runs).Lines(w.t.Masked)); {
	case !known || !also:
		return fmt.Sprintf("what its lines do is not known, so neither is whether what runs is part of what %s was to leave: %s", r.Night, lines)
	case !config.Equal(to, ends) || !w.partOf(had, runs, to):
		return fmt.Sprintf("what runs is neither what it had before %s nor part of what that was to leave: %s; see whose that is", r.Night, lines)
	}
	w.doing("going on from what %s has left: %s", r.Night, config.Compare(had, runs))
	w.expected = nil
	if w.t.Traits.Language != nil {
		w.expected = &runs
	}
	w.backup, w.before, w.from = r.Had, had, &runs
	return ""
}

// tookOver takes over which commands were done on the device. It says why that is not known: the
// steps are others by now.
func (w *worker) tookOver(r *Resumed) (why string) {
	switch {
	case r.GoBack:
		return ""
	case r.InDoubt != "":
		return fmt.Sprintf("whether %q was done is not known: look there, then take it back, or do by hand what is left", r.InDoubt)
	case len(r.Did) == 0:
		return ""
	}
	var titles []string
	for _, s := range w.t.Steps {
		titles = append(titles, s.Title)
	}
	if !slices.Equal(titles, r.Steps) {
		return fmt.Sprintf("%s gave commands on it that cannot be undone, and its runbook has other steps by now: which of them are done is not known", r.Night)
	}
	for i := range w.steps {
		w.steps[i].did = r.Did[i+1]
	}
	return ""
}

// prepareBack gets ready to take back what a night has left. It wants less than going on does: what the
// device is fit for does not matter.
func (w *worker) prepareBack() (over bool) {
	if err := w.read(); err != nil {
		w.blocked(err.Error())
		return true
	}
	if why := w.takeUp(); why != "" {
		w.blocked(why)
		return true
	}
	runs := w.before
	if w.from != nil {
		runs = *w.from
	}
	w.emit(night.Predict(config.Compare(runs, w.before).Lines(w.t.Masked), "", true))
	w.move(night.Recording, "keeping what it had")
	if err := w.backUp(); err != nil {
		w.blocked("no backup: " + err.Error())
		return true
	}
	if err := w.interrupted(); err != nil {
		w.untouched(night.Skipped, "stopped before anything was changed")
		return true
	}
	w.reverting = true
	return false
}

// partOf tells whether all in which what runs differs from what was there before is to differ in the
// end as well.
func (w *worker) partOf(had, runs, end config.Config) bool {
	whole := map[string]bool{}
	for _, l := range config.Compare(had, end).Lines(w.t.Masked) {
		whole[l] = true
	}
	for _, l := range config.Compare(had, runs).Lines(w.t.Masked) {
		if !whole[l] {
			return false
		}
	}
	return true
}

// computedFrom is what would have been done to the device, had it a configuration.
func (w *worker) computedFrom(c config.Config) (*plan.Target, error) {
	was := w.before
	defer func() { w.before = was }()
	w.before = c
	return w.computed()
}

// NotGoneOn says of a device that is not gone on with why, and what is known of it: it may run part
// of the change.
func (r *Resumed) NotGoneOn(why string) string {
	return fmt.Sprintf("not gone on with: %s; %s left it %s", why, r.Night, r.Was)
}

// blocked ends the night of a device on which nothing was done by it. One on which a night was cut
// off that this one was to go on with is as that has left it: somebody must look at it.
func (w *worker) blocked(why string) { w.untouched(night.Blocked, why) }

// untouched ends it so in that state.
func (w *worker) untouched(s night.State, why string) {
	r := w.resumed()
	if r == nil {
		w.end(s, why)
		return
	}
	if w.adopted && w.pends() {
		why += "; " + w.way()
	}
	w.end(night.Stranded, r.NotGoneOn(why))
}
