package work

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// precheck looks whether the device is fit to be changed. It returns why not,
// and "" when it is. It reads the configuration that will be backed up.
func (w *worker) precheck() string {
	if w.t.Touches() || w.t.OnlySaves() { // else whatever is on the clock, or staged, is no concern of ours
		if why := w.saneTimer(); why != "" {
			return why
		}
		if err := w.nothingStaged(); err != nil {
			return err.Error()
		}
	}
	if w.t.Traits.ByClock && w.guarded() {
		if _, err := w.clockWithin(byClock); err != nil {
			return err.Error() + ": its timer is set by that clock, so set the clock first"
		}
	}
	var err error
	if w.backup, w.before, err = w.running(); err != nil {
		return "reading the running configuration: " + err.Error()
	}
	var failed []string
	note := func(name, good string, err error) {
		e := night.Event{Kind: night.Prechecked, What: name, OK: err == nil, Note: noteOr(good, err)}
		if waiver, ok := w.crew.Plan.Waived(name, w.t); ok && err != nil {
			e.Waived, e.By = waiver.Reason, waiver.By
		} else if err != nil {
			failed = append(failed, name+": "+err.Error())
		}
		w.emit(e)
	}
	// Law 2: unsaved changes matter whether or not it was asked for.
	saved := w.crew.Plan.LooksAtSaved(w.t)
	for _, p := range w.crew.Plan.Prechecks {
		look := w.lookFor(p)
		if p.Off || look == nil {
			continue
		}
		good, err := look(p)
		if !talking(err) {
			return "reading for precheck " + p.Name + ": " + err.Error()
		}
		note(p.Name, good, err)
	}
	if w.found, w.foundSaved, err = w.savedConfig(); err != nil && (!saved || !talking(err)) {
		return "reading the saved configuration: " + err.Error()
	}
	if saved {
		good := asOne
		if err == nil && !w.t.Traits.One {
			good, err = w.notSaved()
		}
		if err != nil && !talking(err) {
			return "reading for precheck saved: " + err.Error()
		}
		note("saved", good, err)
	}
	if !saved || !w.t.Traits.TellsSaved {
		if why := w.readsTheSame(); why != "" {
			failed = append(failed, why)
		}
	}
	return strings.Join(failed, "; ")
}

// readsTheSame reads the configuration a second time where nothing else was
// compared with it: a backup that was cut short looks like any other.
func (w *worker) readsTheSame() string {
	_, again, err := w.running()
	if err != nil {
		return "reading the running configuration again: " + err.Error()
	}
	if d := config.Compare(w.before, again); !d.Empty() {
		return fmt.Sprintf("its configuration reads differently the second time (%s): no backup can be trusted", d)
	}
	return ""
}

// unfit says why a precheck does not hold on a device that answers.
type unfit struct{ why string }

func (e *unfit) Error() string { return e.why }

func unfitf(format string, args ...any) error { return &unfit{fmt.Sprintf(format, args...)} }

// talking tells whether the device still answers after err.
func talking(err error) bool {
	var u *unfit
	return errors.As(err, &u) || driver.Answered(err)
}

func noteOr(note string, err error) string {
	if err != nil {
		return err.Error()
	}
	return note
}

// saneTimer blocks a device that has somebody else's timer on the clock.
func (w *worker) saneTimer() string {
	if !w.t.Traits.Timer.Guards() {
		return ""
	}
	asked := time.Now()
	left, pending, err := w.ses.Pending(w.ctx)
	if err != nil {
		return "looking at the timer: " + err.Error()
	}
	if !pending {
		return ""
	}
	if w.crew.Remnants != nil && w.outlives(w.crew.Remnants(w.name()), left) {
		return ""
	}
	if left < 0 {
		return "a change is on trial on it already, and it does not tell until when; " + w.perhapsOurs()
	}
	due := time.Now().Add(left)
	what := fmt.Sprintf("%s is pending on it already, due %s, in %s", w.t.Traits.Timer.What(), due.Format("15:04:05"), left.Round(time.Second))
	if w.onTrial() {
		what = fmt.Sprintf("a change is on trial on it already, until %s, for %s more", due.Format("15:04:05"), left.Round(time.Second))
	}
	if w.crew.Remnants != nil {
		for _, r := range w.crew.Remnants(w.name()) {
			if r.Due.Sub(due).Abs() < ours && w.adopt(r, left, asked) {
				return ""
			}
			if r.Due.Sub(due).Abs() < ours && r.Runs {
				return fmt.Sprintf("%s: it is our own, armed by %s, which runs now", what, r.Night)
			}
			if r.Due.Sub(due).Abs() < ours {
				return fmt.Sprintf("%s: it is our own, armed by %s, which never saw its end; let it fire, or cancel it on the device if you know what that night left there", what, r.Night)
			}
		}
	}
	return what + "; it is not ours"
}

// perhapsOurs says whether a night of ours may have left what is on trial, where nothing
// tells until when that is.
func (w *worker) perhapsOurs() string {
	if w.crew.Remnants != nil {
		for _, r := range w.crew.Remnants(w.name()) {
			if time.Now().Before(r.Due.Add(ours)) {
				return fmt.Sprintf("it may be our own, from %s, until %s", r.Night, r.Due.Format("15:04:05"))
			}
		}
	}
	return "none of our nights is known to have left it"
}

// byClock is how far a device's clock may be off where its timer is set by it: one that is
// put right meanwhile would have the timer fire at another time.
const byClock = 10 * time.Second

// ours is how near a pending timer must be to one in the journal to be the same:
// a device rounds, and takes a while to answer.
const ours = 20 * time.Second

func joinSome(lines []string) string {
	s := ""
	for i, l := range lines {
		if i == 3 {
			return s + fmt.Sprintf(", and %d more", len(lines)-3)
		}
		if i > 0 {
			s += ", "
		}
		s += l
	}
	return s
}

// alreadyDone finds the steps with nothing to do (law 10), and tells whether
// that is all of them.
func (w *worker) alreadyDone() (all bool, err error) {
	if err := w.read(); err != nil {
		return false, err
	}
	for i, s := range w.t.Steps {
		w.steps[i].already = s.Done
	}
	all = w.t.Idle()
	for _, e := range append(w.predictions(), w.sinceRehearsal()...) {
		w.emit(e)
	}
	if called := w.willBeCalled(); called != "" {
		w.emit(night.Notice(1, called))
	}
	w.keepPrediction()
	if path := w.onPath(nil); len(path) > 0 && !w.guarded() {
		const note = "it is managed by what these lines change, and it has no way back of its own: a slip in them means that somebody must go there"
		w.emit(night.Notice(1, note, path...))
	}
	return all, nil
}
