package work

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// precheck looks whether the device is fit to be changed. It returns why not,
// and "" when it is. It reads the configuration that will be backed up.
func (w *worker) precheck() string {
	if why := w.saneTimer(); why != "" {
		return why
	}
	if err := w.nothingStaged(); err != nil {
		return err.Error()
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
	saved := w.crew.Plan.BringsBack(w.t) || w.t.Traits.Timer.BringsBack() && !w.crew.Plan.Off("saved") || w.crew.Plan.Asks("saved")
	for _, p := range w.crew.Plan.Prechecks {
		if p.Off || p.Name == "reachable" || p.Name == plan.IdentityCheck || p.Name == "saved" || p.Name == SealedCheck { // we are talking to it; and these come last
			continue
		}
		good, err := w.check(p)
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

// check looks whether one precheck holds. The error says why not.
func (w *worker) check(p runbook.Precheck) (string, error) {
	switch {
	case p.Own():
		return w.checkOwn(p)
	case p.Name == "clock":
		return w.clockWithin(p.Within)
	case p.Name == "storage":
		return w.storageAtLeast(p.AtLeast)
	case p.Name == "version":
		return w.versionIn(p.Versions)
	case p.Name == "alone":
		return w.alone()
	case p.Name == "pair":
		return w.pairHealthy()
	}
	return "", fmt.Errorf("unknown precheck %q", p.Name)
}

// saneTimer blocks a device that has somebody else's timer on the clock.
func (w *worker) saneTimer() string {
	if !w.t.Traits.Timer.Guards() {
		return ""
	}
	left, pending, err := w.ses.Pending(w.ctx)
	if err != nil {
		return "looking at the timer: " + err.Error()
	}
	if !pending {
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

func (w *worker) clockWithin(most time.Duration) (string, error) {
	row, err := w.row("clock")
	if err != nil {
		return "", err
	}
	seconds, ok := row["time"].(float64)
	if !ok {
		return "", unfitf("the profile reads no clock.time")
	}
	off := time.Since(time.Unix(0, int64(seconds*1e9))).Abs().Round(time.Second)
	if off > most {
		return "", unfitf("its clock is off by %s, at most %s is wanted", runbook.FormatDuration(off), runbook.FormatDuration(most))
	}
	return "off by " + runbook.FormatDuration(off), nil
}

func (w *worker) storageAtLeast(least int64) (string, error) {
	row, err := w.row("storage")
	if err != nil {
		return "", err
	}
	free, ok := row["free"].(float64)
	if !ok {
		return "", unfitf("the profile reads no storage.free")
	}
	if int64(free) < least {
		return "", unfitf("%d MB free, at least %d MB is wanted", int64(free)/1e6, least/1e6)
	}
	return fmt.Sprintf("%d MB free", int64(free)/1e6), nil
}

func (w *worker) versionIn(fit []string) (string, error) {
	row, err := w.row("version")
	if err != nil {
		return "", err
	}
	version, ok := row["version"].(string)
	switch {
	case !ok:
		return "", unfitf("the profile reads no version.version")
	case !slices.Contains(fit, version):
		return "", unfitf("it runs %s, wanted %s", version, strings.Join(fit, " or "))
	}
	return "it runs " + version, nil
}

// alone looks whether somebody else is changing the configuration.
func (w *worker) alone() (string, error) {
	v, err := w.ses.Read(w.ctx, editors)
	if err != nil {
		return "", err
	}
	rows, ok := v.([]map[string]any)
	if !ok {
		return "", unfitf("the profile reads editors as one row; many are needed here")
	}
	if len(rows) > 0 {
		who := []string{}
		for _, r := range rows {
			if user, ok := r["user"].(string); ok {
				who = append(who, user)
			}
		}
		return "", unfitf("somebody else is changing its configuration: %s", strings.Join(who, ", "))
	}
	return "nobody else is changing it", nil
}

// pairHealthy looks whether the device's partner could take over: what the
// device says of its pair, if it says so, and whether the partner answers.
func (w *worker) pairHealthy() (string, error) {
	mate := w.t.Mate
	if mate == nil {
		return "it stands alone", nil
	}
	if w.t.Traits.TellsPair {
		row, err := w.row("pair")
		if err != nil {
			return "", err
		}
		if healthy, ok := row["healthy"].(bool); !ok || !healthy {
			return "", unfitf("it says that its pair with %s is not healthy", mate.Name)
		}
	}
	s, seen, err := w.crew.connect(w.ctx, &plan.Target{Device: *mate})
	if err != nil {
		return "", unfitf("its partner %s cannot be reached: %v", mate.Name, err)
	}
	_ = s.Close()
	if err := identity.Check(mate.Meant(), w.crew.last(mate.Name), seen); err != nil {
		return "", unfitf("what answers is not its partner %s: %v", mate.Name, err)
	}
	return "its partner " + mate.Name + " answers", nil
}

// checkOwn evaluates a check of the runbook's own.
func (w *worker) checkOwn(p runbook.Precheck) (string, error) {
	ok, env, err := w.holds(plan.Check{Cond: p.Where, Env: w.t.Env}, tables{"config": w.before})
	if err != nil {
		return "", err
	}
	if !ok {
		if why := p.Where.Explain(env); why != "" {
			return "", &unfit{why}
		}
		return "", unfitf("not so: %s", p.Where.Source)
	}
	return p.Where.Source, nil
}

func (w *worker) row(table string) (map[string]any, error) {
	v, err := w.ses.Read(w.ctx, table)
	if err != nil {
		return nil, err
	}
	row, ok := v.(map[string]any)
	if !ok {
		return nil, unfitf("the profile reads %s as many rows; one is needed here", table)
	}
	return row, nil
}

// alreadyDone finds the steps with nothing to do (law 10), and tells whether
// that is all of them.
func (w *worker) alreadyDone() (all bool, err error) {
	if err := w.read(); err != nil {
		return false, err
	}
	all = true
	for i, s := range w.t.Steps {
		w.steps[i].already = s.Done
		// A step without lines asks for nothing to be done.
		all = all && (s.Done || !s.Changes())
	}
	for _, e := range append(w.foreseen(), w.sinceRehearsal()...) {
		w.emit(e)
	}
	if called := w.willBeCalled(); called != "" {
		w.emit(night.Event{Kind: night.Foreseen, Step: 1, Note: called})
	}
	w.keepPrediction()
	if path := w.onPath(nil); len(path) > 0 && !w.guarded() {
		w.emit(night.Event{Kind: night.Foreseen, Step: 1, Lines: path,
			Note: "it is managed by what these lines change, and it has no way back of its own: a slip in them means that somebody must go there"})
	}
	return all, nil
}

// rows reads a table of many rows, unless it was read before.
func (w *worker) rows(table string, read tables) ([]map[string]any, error) {
	if _, ok := read[table]; !ok {
		v, err := w.look(table)
		if err != nil {
			return nil, err
		}
		read[table] = v
	}
	rows, ok := read[table].([]map[string]any)
	if !ok {
		return nil, unfitf("the profile reads %s as one row; many are needed here", table)
	}
	return rows, nil
}

// tables are what was read from the device for one evaluation.
type tables map[string]any

// holds evaluates a condition, reading what it looks at unless it was read
// before. It returns the values it was evaluated over.
func (w *worker) holds(c plan.Check, read tables) (bool, runbook.Env, error) {
	env := c.Env.WithBefore(w.unlikeTable)
	for _, name := range c.Cond.Names() {
		if _, known := c.Env[name]; known {
			continue
		}
		if _, ok := read[name]; !ok {
			v, err := w.look(name)
			if err != nil {
				return false, env, err
			}
			read[name] = v
		}
		env = env.With(name, read[name])
	}
	ok, err := c.Cond.Eval(env)
	var missing *runbook.NotKnown
	if errors.As(err, &missing) {
		return false, env, &untold{driver.Unclear{Asked: c.Cond.Source, Got: missing.Column + " is missing in what the device said"}}
	}
	if err != nil {
		return false, env, &driver.Unclear{Asked: c.Cond.Source, Got: err.Error()}
	}
	return ok, env, nil
}

func (w *worker) look(name string) (any, error) {
	if name == "config" {
		_, c, err := w.running()
		return c, err
	}
	return w.ses.Read(w.ctx, name)
}

// untold is a condition that is neither true nor false, since the device did not tell a
// value. It may yet.
type untold struct{ driver.Unclear }

func (e *untold) Error() string { return e.Unclear.Error() }

// Unwrap says that the device answered all the same.
func (e *untold) Unwrap() error { return &e.Unclear }

func notTold(err error) bool {
	var u *untold
	return errors.As(err, &u)
}

// expect waits until a condition holds, for as long as the runbook allows.
func (w *worker) expect(i int, e plan.Expect) *trouble {
	patient := within(e.Within)
	if err := w.guard(i, 0); err != nil {
		return faced("extending the timer", err)
	}
	last := ""
	held, err := w.until(patient, func() (bool, error) {
		ok, env, err := w.holds(e.Check, tables{})
		if err != nil && !notTold(err) {
			return false, fmt.Errorf("looking whether %s: %w", e.Cond.Source, err)
		}
		if why := e.Cond.Explain(env); !ok && why != last {
			w.emit(night.Event{Kind: night.Expected, Step: i + 1, What: e.Cond.Source, Note: why, Due: patient.by})
			last = why
		}
		return ok, nil
	})
	switch {
	case err != nil:
		return failed(err)
	case !held:
		return &trouble{why: fmt.Sprintf("expectation of %q not met within %s", w.t.Steps[i].Title, runbook.FormatDuration(e.Within)),
			evidence: []string{last, "expectation: " + e.Cond.Source}, err: &driver.Unclear{Asked: e.Cond.Source, Got: last}}
	}
	w.emit(night.Event{Kind: night.Expected, Step: i + 1, What: e.Cond.Source, OK: true})
	return nil
}
