package work

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// A device that is restarted is away because it was told to be: it is absent, which has a clock of its
// own, and is not dark. That it is there again proves nothing, since a session may end for many reasons:
// it must have been up for less long than it would have been (law 19). So it is never told twice, and
// nobody has to guess whether it was done.

// sentAway is that a device was told to restart: for how long it had been up, as it said before, when it
// had said so, and when it was told.
type sentAway struct {
	up   time.Duration
	said time.Time
	at   time.Time
}

const (
	// youngest is for how long a device must have been up before it is restarted, so that it can be told
	// afterwards that it was.
	youngest = time.Minute
	// upSlack is how far a device may round what it says of that.
	upSlack = 5 * time.Second
	// absentPause is the longest pause between two looks for a device that is absent.
	absentPause = 10 * time.Second
)

// anew tells whether a device was restarted since that says, having been asked at a time, that it has been
// up for so long. How long it took to answer, then and now, does not make it younger.
func (t sentAway) anew(up time.Duration, asked time.Time) bool {
	return up+upSlack < t.up+asked.Sub(t.said)
}

// restart restarts the device, and waits until it is back.
func (w *worker) restart(i int) *trouble {
	st := &w.steps[i]
	o := w.orderOf(i, w.shown(w.t.Steps[i].Commands[0].Line)[0], night.ToDo, 1)
	if st.did == 0 && st.doubt == "" {
		if err := w.interrupted(); err != nil {
			return faced(w.t.Steps[i].Title, err)
		}
		at, tr := w.readyToRestart(i, false)
		if tr != nil {
			return tr
		}
		if st.away, tr = w.tellAway(o, at); tr != nil {
			return tr
		}
	}
	if st.did == 0 {
		up, anew, tr := w.absent(o, st.away)
		switch {
		case tr != nil:
			return tr
		case !anew:
			return w.stayedUp(o, up)
		}
		w.restarted(i, up)
	}
	return w.cameBackAs(i)
}

// order is a restart that the device is told.
type order struct {
	step, line int    // the step, from 0, and which of its commands it is, from 1
	shown      string // the command, masked
	what       string // what is intended by it
	starts     string // the version that it is to start with; "" is the one that it ran
	// How long it is away: usually, in nine cases of ten, which is 0 where nobody knows, and at most.
	usual, seldom, most time.Duration
}

// orderOf is a restart in a step.
func (w *worker) orderOf(i int, shown, what string, line int) order {
	usual, seldom := w.crew.Plan.AwayFor(w.t, w.t.Steps[i])
	return order{step: i, line: line, shown: shown, what: what, usual: usual, seldom: seldom, most: w.t.Steps[i].Absence.Most}
}

// readyToRestart looks whether the device may be told to restart, and for how long it has been up. Patient
// waits for one that has just been restarted by us, since nobody could tell afterwards that it was again.
func (w *worker) readyToRestart(i int, patient bool) (at sentAway, tr *trouble) {
	pending, err := w.see()
	switch {
	case err != nil:
		return at, faced("looking at the timer", err)
	case pending && !w.reverting:
		w.emit(night.TimerPending(w.due, time.Until(w.due)))
		return at, changedUnderUs("a timer is pending on it that is not of this night: "+w.way(), "nothing was sent")
	}
	if tr := w.partnerThere(); tr != nil {
		return at, tr
	}
	if tr := w.handOver(i); tr != nil {
		return at, tr
	}
	at.up, err = w.ses.Up(w.ctx)
	least := youngest
	if patient {
		least = 3 * upSlack
	}
	if at.said = time.Now(); err == nil && patient && at.up < least {
		if err := w.sleep(least - at.up); err != nil {
			return at, faced("waiting until it has been up for a while", err)
		}
		at.up, err = w.ses.Up(w.ctx)
		at.said = time.Now()
	}
	switch {
	case err != nil && !driver.Answered(err):
		return at, faced("reading for how long it has been up", err)
	case err != nil:
		return at, &trouble{why: "for how long it has been up cannot be read, so nobody could tell whether it was restarted: " + err.Error(),
			evidence: []string{"nothing was sent"}, err: err}
	case at.up < least:
		why := fmt.Sprintf("it has been up for %s only: somebody has just restarted it, or it restarts by itself", age(at.up))
		return at, &trouble{why: why, evidence: []string{"nothing was sent"}, err: &driver.Unclear{Asked: "how long it has been up", Got: why}}
	}
	return at, nil
}

// tellAway tells the device to restart, once.
func (w *worker) tellAway(o order, at sentAway) (sentAway, *trouble) {
	st := &w.steps[o.step]
	if err := w.intend(night.Event{What: o.what, Step: o.step + 1, Line: o.line, Lines: []string{o.shown}}); err != nil {
		return at, faced(w.t.Steps[o.step].Title, err)
	}
	w.acted, at.at = true, time.Now()
	st.doubt = "it was told to, and has not been seen since"
	var refused *driver.Refused
	if err := w.ses.Restart(w.ctx); errors.As(err, &refused) {
		st.doubt = ""
		w.emit(night.Did(o.step+1, o.line, o.shown, []string{refused.Said}, false, "it was refused"))
		w.emit(night.Step(o.step+1, night.StepFailed, ""))
		return at, &trouble{why: "the restart was refused", evidence: []string{"sent: " + o.shown, "said: " + refused.Said}, err: refused}
	}
	return at, nil
}

// trip is when a device that was told to restart is back: usually, and at most.
type trip struct{ usual, most time.Time }

// absent waits until a device that was told to restart is back. Anew tells that it has been up for less long
// than if it had not: from then on that it was restarted is known. Else it has been up all the while.
func (w *worker) absent(o order, at sentAway) (up time.Duration, anew bool, tr *trouble) {
	title := w.t.Steps[o.step].Title
	w.hangUp()
	select {
	case <-w.orders.leave: // said of an earlier time
	default:
	}
	w.trip = trip{at.at.Add(o.usual), at.at.Add(o.most)}
	nine := time.Time{}
	if o.seldom > 0 {
		nine = at.at.Add(o.seldom)
	}
	w.emit(night.IsAway(o.starts, w.trip.usual, nine, w.trip.most))
	w.crew.Tell(Stood{w.name(), w.standing(night.Absent)})
	last, late := "it was told to restart", false
	for pause := time.Second; ; pause = min(2*pause, absentPause) {
		if err := w.pause(pause); err != nil {
			return 0, false, faced(title, err)
		}
		if !late && time.Now().After(w.trip.usual) { // from now on nobody can say more than by when it is given up
			late = true
			w.crew.Tell(Stood{w.name(), w.standing(night.Absent)})
		}
		left, err := w.tryAgain(max(connectWait, 2*w.paced().Traits.Connect, 2*w.entry))
		if left {
			return 0, false, faced(title, errLetGo)
		}
		if err == nil {
			asked := time.Now()
			if up, err = w.ses.Up(w.ctx); err == nil && at.anew(up, asked) {
				w.lapse() // what was pending before is gone with it
				return up, true, nil
			}
			if err == nil && time.Now().After(w.trip.usual) {
				return up, false, nil
			}
			w.hangUp() // it may be on its way down
		}
		if err != nil {
			last = err.Error()
		}
		if w.ctx.Err() != nil {
			return 0, false, faced(title, errLetGo)
		}
		if time.Now().After(w.trip.most) {
			why := fmt.Sprintf("%q was begun, and it was not back by %s; last try: %s", title, timeOf(w.trip.most), last)
			return 0, false, &trouble{why: why, err: lostWith(errors.New(why))}
		}
	}
}

// age is for how long something has been up, as a person says it.
func age(d time.Duration) string {
	if days := int(d / (24 * time.Hour)); days >= 2 {
		return fmt.Sprintf("%d days", days)
	}
	return d.Round(time.Second).String()
}

func timeOf(t time.Time) string { return t.Format("15:04:05") }

// restarted takes down that the device was restarted, and has been up for so long.
func (w *worker) restarted(i int, up time.Duration) {
	s, st := w.t.Steps[i], &w.steps[i]
	st.did, st.doubt = 1, ""
	w.emit(night.Event{Kind: night.Contact})
	gone := max(time.Since(st.away.at)-up, 0).Round(time.Second)
	note := fmt.Sprintf("it was away for some %s, and has been up for %s", gone, age(up))
	w.emit(night.Did(i+1, 1, w.shown(s.Commands[0].Line)[0], nil, true, note))
	w.move(night.Verifying, fmt.Sprintf("back after some %s", gone))
}

// stayedUp is the trouble of a device that was told to restart and has been up all the while: it may yet
// restart.
func (w *worker) stayedUp(o order, up time.Duration) *trouble {
	st := &w.steps[o.step]
	st.doubt = fmt.Sprintf("it answers, and has been up for %s: it was not restarted, and nobody knows whether it yet will be", age(up))
	w.emit(night.Event{Kind: night.Contact})
	w.emit(night.Did(o.step+1, o.line, o.shown, nil, false, st.doubt))
	w.emit(night.Step(o.step+1, night.StepFailed, ""))
	return &trouble{why: "it was told to restart, and did not", evidence: []string{st.doubt},
		err: &driver.Unclear{Asked: w.t.Steps[o.step].Title, Got: st.doubt}}
}

// cameBackAs looks whether what runs after the restart is what ran before it. Parts of it may take a
// while to be there.
func (w *worker) cameBackAs(i int) *trouble {
	want := w.meant()
	w.differs = nil
	now, same, err := w.settlesTo(want)
	switch {
	case err != nil:
		return faced("reading what it came back with", err)
	case !same:
		w.emit(night.Step(i+1, night.StepFailed, ""))
		return w.unlike(i, want, now, "%q is done, and the device came back with another configuration than it had")
	}
	return nil
}

// meant is what is to run on it: as it was predicted, else what ran before.
func (w *worker) meant() config.Config {
	if w.expected != nil {
		return *w.expected
	}
	return w.before
}

// settlesTo waits, for a while, until what runs is one of those.
func (w *worker) settlesTo(wants ...config.Config) (now config.Config, same bool, err error) {
	same, err = w.until(within(settlesWithin), func() (_ bool, err error) {
		if err := w.interrupted(); err != nil {
			return false, err
		}
		_, now, err = w.running()
		return err == nil && slices.ContainsFunc(wants, func(c config.Config) bool { return config.Equal(c, now) }), err
	})
	return now, same, err
}

// settlesWithin is how long what a device runs may take to be whole again after a restart.
const settlesWithin = 20 * time.Second

// cannotRestart says why the device must not be restarted: it would lose what nobody has saved, or nobody
// could tell afterwards that it was; "" where it may.
func (w *worker) cannotRestart() string {
	if !w.t.Restarts() {
		return ""
	}
	if _, err := w.ses.Up(w.ctx); err != nil && !driver.Answered(err) {
		return err.Error()
	} else if err != nil {
		return "for how long it has been up cannot be read, so nobody could tell that it was restarted: " + err.Error()
	}
	saved, known, err := w.savedConfig()
	switch {
	case err != nil:
		return "what is saved on it cannot be read, and a restart brings that back: " + err.Error()
	case known && !config.Equal(saved, w.before):
		return "it has changes that are not saved, which the restart would lose: " + joinSome(w.maskLines(config.Compare(saved, w.before).Lines(w.t.Masked)))
	}
	return ""
}

// restartsFirst tells whether the device is restarted before anything else is done to it: its timer is
// armed behind that.
func (w *worker) restartsFirst() bool {
	if !w.t.RestartsFirst() || w.adopted {
		return false
	}
	if w.from == nil {
		return true
	}
	ours, _ := w.byItself(config.Compare(w.before, *w.from))
	return ours.Empty()
}

// restarting tells whether the device was told to restart, and nobody has seen since that it did.
func (w *worker) restarting() bool {
	i := w.at.step
	return !w.reverting && i < len(w.t.Steps) && w.t.Steps[i].Away() && w.steps[i].doubt != ""
}

// partnerThere looks whether the other member of its pair is there, which has to carry the work of both
// meanwhile: in scope of this night or not.
func (w *worker) partnerThere() *trouble {
	_, err := w.pairHealthy()
	var away *unfit
	switch {
	case err == nil:
		return nil
	case errors.As(err, &away):
		return &trouble{
			why:      "it is not restarted: " + away.why,
			evidence: []string{"its partner has to carry the work of both meanwhile", "nothing was sent"},
			err:      &driver.Unclear{Asked: "its partner", Got: away.why},
		}
	}
	return faced("looking at its pair", err)
}

// What a night that was cut off has left of a restart is told by the device as well: one that has been up
// for less long than since it was told has restarted.

// doubtStep is the step, from 0, in which such a night gave a command of which nobody knows whether it was
// done; -1 where there is none.
func doubtStep(r *Resumed) int {
	if r == nil || r.InDoubt == "" {
		return -1
	}
	return r.DoubtStep - 1
}

// toldAt is when such a night told the device to restart, and in which step; false where nobody is in doubt
// of that.
func (w *worker) toldAt(r *Resumed) (i int, at time.Time, is bool) {
	i = 0
	if r != nil {
		i = r.DoubtStep - 1
	}
	if r == nil || r.InDoubt == "" || i < 0 || i >= len(w.t.Steps) || !w.t.Steps[i].Away() || w.t.Steps[i].Absence == nil {
		return 0, time.Time{}, false
	}
	if w.t.Steps[i].Kind == plan.SoftwareStep && r.InDoubt != w.shown(w.t.Traits.Restarts.Sends)[0] {
		return 0, time.Time{}, false // its software tells what became of it
	}
	return i, r.DoubtAt, true
}

// reachBack is reach, for a device that may be on its way back from a restart.
func (w *worker) reachBack() error {
	err := w.reach()
	i, at, is := w.toldAt(w.resumed())
	if err == nil || !is {
		return err
	}
	usual, _ := w.crew.Plan.AwayFor(w.t, w.t.Steps[i])
	most := at.Add(w.t.Steps[i].Absence.Most)
	if !time.Now().Before(most) {
		return err
	}
	w.emit(night.IsAway("", at.Add(usual), time.Time{}, most))
	for err != nil && time.Now().Before(most) && w.sleep(absentPause) == nil {
		err = w.reach()
	}
	w.move(night.Checking, "looking what became of it")
	return err
}

// settleRestart finds out what became of a restart that a night was cut off in.
func (w *worker) settleRestart() error {
	r := w.resumed()
	i, at, is := w.toldAt(r)
	if !is {
		if k := doubtStep(r); k >= 0 && k < len(w.t.Steps) && w.t.Steps[k].Kind == plan.SoftwareStep {
			settled := *r
			settled.InDoubt, w.settledAs = "", &settled
		}
		return nil
	}
	asked := time.Now()
	up, err := w.ses.Up(w.ctx)
	if err != nil {
		if driver.Answered(err) {
			return nil // it stays in doubt
		}
		return err
	}
	settled, since := *r, asked.Sub(at)
	switch {
	case up+upSlack < since:
		settled.Did = maps.Clone(r.Did)
		settled.Did[i+1], settled.InDoubt, settled.Restarted = 1, "", age(up)
		note := fmt.Sprintf("it was restarted after %s had told it to, and has been up for %s", r.Night, age(up))
		w.emit(night.Did(i+1, 1, r.InDoubt, nil, true, note))
	case since > w.t.Steps[i].Absence.Most: // by then it would have
		settled.InDoubt = ""
		w.doing("it was not restarted, although %s may have told it to: it has been up for %s", r.Night, age(up))
	default:
		return nil
	}
	w.settledAs = &settled
	return nil
}
