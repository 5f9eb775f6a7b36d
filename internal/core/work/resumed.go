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
	// DoubtStep is the step of that, from 1, and DoubtAt when it was given.
	DoubtStep int
	DoubtAt   time.Time
	// Restarted is for how long the device has been up, where that told that it was restarted after that.
	Restarted string
	// Software is the version that it ran before that night; "" where it was given no other.
	Software string
	Worked   bool // it was worked by hand: what was done so is not known
	GoBack   bool // it is taken back, and not gone on with
}

// resumed is what a night that was cut off has left on the device, where this one goes on with it;
// nil where that had not begun with it.
func (w *worker) resumed() *Resumed {
	if w.settledAs != nil {
		return w.settledAs
	}
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
// where the change is taken back. It says why that cannot be: what runs is not known to be of that
// night's making, or cannot be gone on from. Nothing was done to the device until then.
func (w *worker) takeUp() (why string) {
	r := w.resumed()
	if r == nil {
		return ""
	}
	m, err := w.remains(r)
	if err != nil {
		return err.Error()
	}
	lines := joinSome(config.Compare(m.had, m.runs).Lines(w.t.Masked))
	is := w.like(m, m.runs)
	if r.Worked && r.GoBack && is != AsBefore { // whatever was done by hand is to be taken back
		is = InPart
	}
	switch is {
	case NotKnown:
		if w.itsOwnWay(m) {
			w.backup, w.before, w.waitsOut = r.Had, m.had, true
			return ""
		}
		return fmt.Sprintf("what its lines do is not known, so neither is whether what runs is part of what %s was to leave: %s", r.Night, lines)
	case Neither:
		return fmt.Sprintf("what runs is neither what it had before %s nor a known part of what that was to leave: %s; see whose that is", r.Night, lines)
	case AsBefore, AsPredicted, InPart:
	}
	if !r.GoBack {
		if why := w.notOn(r, m); why != "" {
			return why
		}
		for i := range w.steps {
			w.steps[i].did = r.Did[i+1]
		}
	}
	if is == AsBefore || w.likeConfig(m, m.runs) == AsBefore { // its software is read by itself
		return ""
	}
	w.doing("going on from what %s has left: %s", r.Night, config.Compare(m.had, m.runs))
	w.expected = nil
	if w.t.Traits.Language != nil {
		w.expected = &m.runs
	}
	w.backup, w.before, w.from = r.Had, m.had, &m.runs
	if ends, known := w.t.Predicted(m.runs); known && m.known {
		_, itself := w.byItself(config.Compare(m.end, ends))
		w.rewroteThen = itself.Lines(w.t.Masked)
		w.rewritten = w.rewroteThen
	}
	return ""
}

// itsOwnWay tells whether a device of which nobody can tell what was done to it takes that back by
// itself: the timer of the night that was cut off is pending, and what it puts back is what that one
// found. That comes whatever is done, and is proven by nothing but waiting for it.
func (w *worker) itsOwnWay(m remains) bool {
	return w.adopted && w.pends() && w.t.Traits.Timer.BringsBack() && w.foundSaved && config.Equal(w.found, m.had)
}

// waitOut waits until the device has taken back by itself what a night has left there. Nothing is sent.
func (w *worker) waitOut() {
	r := w.resumed()
	w.doing("what its lines do is not known: waiting until its own timer takes back what %s left, %s", r.Night, w.due.Local().Format("15:04:05"))
	w.firing = true
	if w.await("left to its own timer") == regained {
		w.blocked("its timer did not take it back as it should")
	}
}

// remains is what a night has left on the device, with what it found and was to leave.
type remains struct {
	had, runs config.Config
	then      *plan.Target  // as it was to be changed, computed from what it had
	end       config.Config // what it was to have
	known     bool          // that is
}

// remains finds out what a night has left, once the device was read.
func (w *worker) remains(r *Resumed) (m remains, err error) {
	if r.Had == "" {
		return m, fmt.Errorf("the backup that %s took is not there any more: what it had before that is not known", r.Night)
	}
	m = remains{had: config.Parse(r.Had, w.t.Traits.Style), runs: w.before}
	w.before = m.had
	m.then, err = w.computed()
	w.before = m.runs
	if err == nil {
		m.end, m.known = m.then.Predicted(m.had)
	}
	return m, err
}

// like tells what a configuration of the device is, with what a night found and was to leave.
func (w *worker) like(m remains, c config.Config) Likeness {
	is := w.likeConfig(m, c)
	if is == AsBefore && w.exchanged() { // its software is not as before
		return InPart
	}
	return is
}

// likeConfig is like, of the configuration alone.
func (w *worker) likeConfig(m remains, c config.Config) Likeness {
	switch {
	case config.Equal(c, m.had):
		return AsBefore
	case !m.known:
		return NotKnown
	case config.Equal(c, m.end):
		return AsPredicted
	case w.partOf(m, c), w.midway(m, c):
		return InPart
	}
	return Neither
}

// partOf tells whether all in which a configuration differs from what was there before is to differ in
// the end as well.
func (w *worker) partOf(m remains, c config.Config) bool {
	whole := map[string]bool{}
	for _, l := range config.Compare(m.had, m.end).Lines(w.t.Masked) {
		whole[l] = true
	}
	rest, _ := w.byItself(config.Compare(m.had, c))
	return !slices.ContainsFunc(rest.Lines(w.t.Masked), func(l string) bool { return !whole[l] })
}

// byItself splits a difference into what a device did not change by itself, and what the runbook says that its
// other software may change; all is of the first where it runs what it ran before.
func (w *worker) byItself(d config.Diff) (rest, itself config.Diff) {
	may := func(path string) bool {
		return w.exchanged() && slices.ContainsFunc(w.t.Steps, func(s plan.Step) bool { return s.Upgrade != nil && s.Upgrade.Changes(path) })
	}
	not := func(path string) bool { return !may(path) }
	rest.Removed, rest.Added = slices.DeleteFunc(slices.Clone(d.Removed), may), slices.DeleteFunc(slices.Clone(d.Added), may)
	itself.Removed, itself.Added = slices.DeleteFunc(slices.Clone(d.Removed), not), slices.DeleteFunc(slices.Clone(d.Added), not)
	return rest, itself
}

// midway tells whether a configuration is what the device has once some of the lines were sent, up to
// one of them: that may have what there was neither before nor in the end, such as a rank that shifts.
func (w *worker) midway(m remains, c config.Config) bool {
	l, base := w.t.Traits.Language, m.had
	for _, s := range m.then.Steps {
		for k := 1; l != nil && !s.Done && s.Was == nil && len(s.Put) == 0 && k <= len(s.Send); k++ {
			if now, err := l.Predict(base, s.Send[:k]); err == nil && config.Equal(now, c) {
				return true
			}
		}
		if s.After == nil {
			return false
		}
		if base = *s.After; config.Equal(base, c) {
			return true
		}
	}
	return false
}

// notOn says why a device is not gone on with that can be taken back; "" where it can be.
func (w *worker) notOn(r *Resumed, m remains) (why string) {
	if i, at, is := w.toldAt(r); is {
		return fmt.Sprintf("it was told to restart, or was about to be, and nobody has seen that it did: it may yet; from %s on that can be told",
			timeOf(at.Add(w.t.Steps[i].Absence.Most)))
	}
	if r.InDoubt != "" {
		return fmt.Sprintf("whether %q was done is not known: look there, then take it back, or do by hand what is left", r.InDoubt)
	}
	if is := w.like(m, m.runs); r.Worked && (is == NotKnown || is == Neither) {
		return "it was worked by hand, and what was done there is no known part of the change: take it back"
	}
	var titles []string
	for _, s := range w.t.Steps {
		titles = append(titles, s.Title)
	}
	if len(r.Did) > 0 && !slices.Equal(titles, r.Steps) {
		return fmt.Sprintf("%s gave commands on it that cannot be undone, and its runbook has other steps by now: which of them are done is not known", r.Night)
	}
	ends, known := w.t.Predicted(m.runs)
	if other, _ := w.byItself(config.Compare(m.end, ends)); m.known && (!known || !other.Empty()) {
		return "its steps do not lead from what runs to what was predicted: take it back first"
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
	if w.waitsOut {
		w.waitOut()
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
