package work

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// worker takes one device through its night.
type worker struct {
	known
	timer
	crew   *Crew
	ctx    context.Context // ends when everything is let go of
	orders *Orders
	ses    *link

	unpredicted bool           // of some of what it took nobody knew what it would do
	differs     *config.Config // what runs and was not predicted, where that is asked about
	accepted    []string       // what ran and was not predicted, and was kept by decision
	adopted     bool           // its timer was armed by a night that is gone on with
	settledAs   *Resumed       // what it was cut off in, where the device has told since
	waitsOut    bool           // it takes back by itself what was left there, and nobody can tell more of it
	onlyLooks   bool           // nothing is waited for, and nothing done
	trialOurs   bool           // the trial that is pending was begun by the night that is gone on with
	proves      bool           // all of it ran already, and was not saved or does not show what is expected: nothing is sent, and it is proven
	staging     bool           // lines of ours may stand in its candidate and do not run
	acted       bool           // something was done to it that is no line
	expects     int            // the step of which an expectation is looked at, from 1; 0 is none
	taken       bool           // it took a line of a change in this session
	at          position
	reverting   bool
	partLooks   int    // times that only something beside the configuration was not as it was
	led         bool   // computed lines were sent that lead back
	turned      bool   // something was done to take the change back, on any rung
	looked      bool   // that nobody else is at work was looked at right before the first line
	firing      bool   // we chose to wait for the timer
	question    int    // the hold it waits on
	overrun     bool   // it is held since the time to change things is over
	goesOnLate  bool   // a person said that it goes on all the same
	trip        trip   // when it is back that was told to restart
	release     func() // gives the device free for other nights; nil when nothing was claimed

	untaken     *handwork // what was done by hand, until it is adopted; nil for nothing
	refusedUndo int       // undo lines that were refused
	skipFailed  bool      // leaving a step out did not work: an unattended run does not try it again
}

// known is what is known of a device. It outlives the worker that found it out: who takes
// back what was kept begins with it.
type known struct {
	progress
	target *plan.Target        // as it was planned; all may look at it
	t      *plan.Target        // the same with what follows from what was read; the worker's own
	who    identity.Seen       // who it said it is, when it was reached first in this night
	mask   func(string) string // of the newest session; nil before the first

	backup     string                       // what a take-back must reach
	before     config.Config                // the same, parsed
	printed    map[string][]string          // what looks printed first, by their commands
	answers    map[reachKey]runbook.Reached // what came of addresses, as it was told last
	recorded   map[string]any               // tables as they were before the change, those that are held against it
	expected   *config.Config               // what runs now, as it was predicted; nil where nobody knows
	intended   string                       // read when everything was proven, before disarming; "" until then
	saved      bool                         // the change may have been saved
	handed     bool                         // it was worked by hand, and may have another configuration by that
	backSaved  bool                         // what is saved was read to be the backup, after it was taken back
	found      config.Config                // what was saved when it was reached
	foundSaved bool                         // found is known
	from       *config.Config               // what ran when it was gone on with; nil where it was begun with
	software   string                       // the version that it ran before; "" where it is given no other
	runs       software.State               // what it was seen to run last, where it is given another
	proven     string                       // the version on which it was seen to be as it should
	base       *config.Config               // what ran before its software was exchanged
	keptBefore int                          // how much of accepted was so before that
	rewritten  []string                     // what new software has changed by itself, and may
	// rewroteThen is what of that it had changed already in the night that is gone on with.
	rewroteThen []string
	back        time.Time // when it was up again after it was restarted last
	moves       int       // how many commands were given that exchange its software

	entry   time.Duration // the longest it took tonight to be let in
	command time.Duration // how long a command takes on it, as it has shown lately
	clock   *clock        // how long things took on it tonight
}

// begin is what is known of a device before it is reached.
func begin(t *plan.Target) known {
	k := known{target: t, t: t, clock: &clock{}}
	k.size(len(t.Steps))
	return k
}

// worker makes a worker that begins with what is known.
func (c *Crew) worker(ctx context.Context, k known) *worker {
	return &worker{known: k, crew: c, ctx: ctx}
}

// guarded tells whether the device has a rollback timer in this night.
func (w *worker) guarded() bool { return w.crew.Plan.Guards(w.t) && (!w.proves || w.adopted) }

// position is how far the forward work has come.
type position struct {
	step   int  // index; len(steps) when all are done
	sent   bool // the step's lines are in
	soaked bool
}

func (w *worker) name() string { return w.target.Device.Name }

func (w *worker) emit(e night.Event) {
	e.Device = w.name()
	if way := w.t.Traits.Timer; e.Kind == night.TimerSeen && way != plan.RestartTimer {
		e.What = string(way)
	}
	w.crew.Log.Emit(w.masked(e))
}

// masked takes secrets out of an event: a device may print what it was told in
// confidence, anywhere (law 12).
func (w *worker) masked(e night.Event) night.Event {
	e.Note, e.Lines = w.maskText(e.Note), w.maskLines(e.Lines)
	if e.Compared != nil {
		e.Compared = &night.Compared{Table: e.Compared.Table, Changes: w.maskLines(e.Compared.Changes)}
	}
	return e
}

func (w *worker) maskText(s string) string {
	s = w.t.Mask(s)
	if w.mask == nil || s == "" {
		return s
	}
	return w.mask(s)
}

func (w *worker) maskLines(lines []string) []string {
	if lines == nil {
		return nil
	}
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = w.maskText(l)
	}
	return out
}

// intend makes an intention durable before it is acted on (law 11).
func (w *worker) intend(e night.Event) error {
	e.Device, e.Kind = w.name(), night.Intent
	return w.crew.Log.Intend(w.masked(e))
}

// shown is lines as they may be kept and shown: without secrets (law 12).
func (w *worker) shown(lines ...string) []string { return w.t.Masked(lines) }

func (w *worker) move(s night.State, note string) {
	w.emit(night.Is(s, note))
	w.crew.Tell(Stood{w.name(), w.standing(s)})
}

// end closes the session and ends the device's night in that state. What was not
// changed is given free for other nights.
func (w *worker) end(s night.State, note string) {
	if w.staging && w.ses != nil && w.unstage() != nil {
		note += "; lines of ours may still stand in its candidate, which do not run"
	}
	w.hangUp()
	w.crew.mine.drop(w.name())
	if w.release != nil && (s == night.Blocked || s == night.Already || s == night.Skipped) {
		w.release()
		w.release = nil
	}
	matters := s == night.Kept || s == night.Reverted || s == night.Already
	if s == night.Reverted || s == night.Stranded || s == night.Dark {
		note += w.doneNote()
	}
	w.emit(night.EndsIn(s, note, w.t.Traits.TellsSaved || !matters))
	w.crew.Tell(Over{w.name(), s, w.standing(s), Known{w.known}})
}

func (w *worker) hangUp() {
	if w.ses != nil {
		_ = w.ses.Close()
		w.ses = nil
	}
}

func (w *worker) doing(format string, args ...any) {
	w.emit(night.Event{Kind: night.Doing, Note: fmt.Sprintf(format, args...)})
}

// work is the worker's goroutine. Whatever fails in it costs this device, not
// the night of the others.
func (w *worker) work() {
	defer func() {
		if p := recover(); p != nil {
			w.broke(p, debug.Stack())
		}
	}()
	w.night()
}

// abandonSession asks nothing more of the session in which we failed ourselves: who knows
// what it would do with what it is asked, even to close.
func (w *worker) abandonSession(p any, stack []byte) {
	w.ses = nil
	if tell := w.crew.Broke; tell != nil {
		tell(w.name(), p, stack)
	}
}

// broke strands a device on which we failed ourselves.
func (w *worker) broke(p any, stack []byte) {
	w.abandonSession(p, stack)
	pending := "no timer is pending on it, as far as was seen"
	if w.pends() {
		pending = w.way()
	}
	if w.staging {
		pending += "; lines of ours may still stand in its candidate, which do not run"
	}
	w.end(night.Stranded, fmt.Sprintf("Metabasis itself failed on this device (%v); %s; look at it", p, pending))
}

// night is the whole of it.
func (w *worker) night() {
	if w.reverting { // a kept device that is to be taken back
		w.takeBack("taking back what was kept")
		return
	}
	if over := w.prepare(); over {
		return
	}
	if w.reverting {
		w.takeBack("taking back what " + w.resumed().Night + " left")
		return
	}
	for {
		tr := w.forward()
		if tr == nil {
			return
		}
		if over := w.face(tr); over {
			return
		}
	}
}

// prepare reaches and checks the device, backs it up and arms it. Until the
// timer is armed nothing is changed, so whatever goes wrong blocks the device.
func (w *worker) prepare() (over bool) {
	block := func(why string) bool {
		if w.ctx.Err() != nil { // what failed then, failed because we let go
			w.untouched(night.Skipped, "let go before anything was changed")
			return true
		}
		w.blocked(why)
		return true
	}
	w.move(night.Checking, "connecting")
	switch err := w.claim(); {
	case errors.Is(err, errLetGo), errors.Is(err, errTakeBack):
		w.untouched(night.Skipped, "stopped before it was reached")
		return true
	case err != nil:
		return block(err.Error())
	}
	if err := w.reachBack(); err != nil {
		w.emit(night.Event{Kind: night.Prechecked, What: "reachable", Note: err.Error()})
		return block("not reachable: " + err.Error())
	}
	w.emit(night.Event{Kind: night.Prechecked, What: "reachable", OK: true})
	if why := w.identify(w.who); why != "" {
		return block(why)
	}
	if why := w.precheck(); why != "" {
		return block(why)
	}
	if err := w.settleRestart(); err != nil {
		return block(err.Error())
	}
	r := w.resumed()
	if r != nil && r.GoBack {
		return w.prepareBack()
	}
	done, err := w.alreadyDone()
	if err != nil {
		return block(err.Error())
	}
	unmet := ""
	if done {
		if unmet, err = w.unmet(); err != nil {
			return block(err.Error())
		}
	}
	if done && !w.toSave() && unmet == "" && !w.adopted && !w.exchanged() {
		w.end(night.Already, w.alreadyNote())
		return true
	}
	if why := w.noWayBack(); why != "" && !done && r == nil { // else it was looked at before the first line
		return block(why)
	}
	if w.toSave() && !w.t.Touches() && !w.t.Traits.Saves {
		return block("its profile says no way to save")
	}
	w.proves = done && (w.t.Touches() || w.t.OnlySaves())
	if why := w.takeUp(); why != "" {
		return block(why)
	}
	if w.waitsOut {
		w.waitOut()
		return true
	}
	if why := w.cannotRestart(); why != "" && w.from == nil {
		return block(why)
	}
	if why := w.fitForSoftware(); why != "" {
		return block(why)
	}
	if !done || w.t.OnlySaves() { // else nothing is sent or saved that somebody must have approved
		if why := w.asSealed(); why != "" {
			return block(why)
		}
	}
	w.move(night.Recording, "backing up")
	if err := w.record(); err != nil {
		return block(err.Error())
	}
	if err := w.backUp(); err != nil {
		return block("no backup: " + err.Error())
	}
	if err := w.interrupted(); err != nil {
		w.untouched(night.Skipped, "stopped before anything was changed")
		return true
	}
	if !w.guarded() || w.onTrial() || w.restartsFirst() { // a trial begins with what is applied
		return false
	}
	return w.prepareTimer()
}

const reachTries = 2

// reach opens a session.
func (w *worker) reach() (err error) {
	for try := range reachTries {
		if err = w.interrupted(); err != nil {
			return err
		}
		if try > 0 {
			if err2 := w.sleep(2 * time.Second); err2 != nil {
				return err2
			}
		}
		asked := time.Now()
		if err = w.open(w.ctx); err == nil {
			w.entry = max(w.entry, time.Since(asked))
			w.emit(night.Event{Kind: night.Contact})
			return nil
		}
		if driver.Answered(err) || errors.Is(err, driver.ErrDenied) || errors.Is(err, driver.ErrLacks) || errors.Is(err, ErrOther) {
			return err
		}
	}
	return err
}

// took takes down how long a command took that was given at that time. A device that
// was slow is not believed to be quick at once.
func (w *worker) took(asked time.Time) {
	w.command = max(w.command*3/4, time.Since(asked))
}

// paced is the device with the pace that it has shown.
func (w *worker) paced() *plan.Target { return w.t.At(w.command) }
