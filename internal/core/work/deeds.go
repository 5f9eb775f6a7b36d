package work

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/record"
)

// A step may be something else than lines of a configuration: it looks, does something, waits,
// or a person does it. What is done cannot be undone, so it is done once: what nobody knows to
// be done or not, since contact was lost or since what came back says otherwise, is in doubt,
// and a person decides (law 18).

// deed is a step that is no configuration.
func (w *worker) deed(i int) *trouble {
	s := w.t.Steps[i]
	if !w.at.sent {
		if title := w.misses(s); title != "" {
			w.leaveOut(i, "it needs "+title+", which was left out")
			return nil
		}
		if why := w.nothingToFollow(s); why != "" {
			w.emit(night.Step(i+1, night.StepNot, why))
			w.steps[i].already = true
			return nil
		}
		if tr := w.inWindow(s); tr != nil {
			return tr
		}
		state := night.Verifying
		if s.Acts() {
			state = night.Changing
		}
		w.move(state, s.Title)
		w.emit(night.Step(i+1, night.StepBegan, ""))
		if err := w.outlast(i, 0); err != nil {
			return faced("extending the timer", err)
		}
		if s.Kind == plan.ConsoleStep && !w.pends() && !w.onTrial() { // its timer is armed behind a restart
			if tr := w.timerAsLeft(); tr != nil {
				return tr
			}
		}
		if tr := w.carryOut(i); tr != nil {
			return tr
		}
	}
	w.at.sent = true
	if tr := w.proveStep(i); tr != nil {
		return tr
	}
	w.emit(night.Step(i+1, night.StepDone, ""))
	return nil
}

// carryOut does what the step is.
func (w *worker) carryOut(i int) *trouble {
	//exhaustive:enforce
	switch w.t.Steps[i].Kind {
	case plan.LookStep:
		return w.lookAt(i)
	case plan.DoStep:
		return w.do(i)
	case plan.RestartStep:
		return w.restart(i)
	case plan.SoftwareStep:
		return w.exchange(i)
	case plan.WaitStep:
		return w.waitFor(i)
	case plan.HandStep, plan.ConsoleStep:
		return w.byHand(i)
	case plan.SaveStep: // at the end, as ever; not while something is pending that brings back what is saved
		if why := w.saneTimer(); why != "" {
			return &trouble{why: "before saving: " + why, err: &driver.Unclear{Asked: "the timer", Got: why}}
		}
	case plan.ChangeStep:
	}
	return nil
}

// nothingToFollow says why a step is not for the device since nothing was sent in those that
// it follows; "" where something was, or it follows none.
func (w *worker) nothingToFollow(s plan.Step) string {
	if len(s.Follows) == 0 {
		return ""
	}
	var titles []string
	for j, o := range w.t.Steps {
		if !slices.Contains(s.Follows, o.Number) {
			continue
		}
		if w.begun(j) || w.steps[j].did > 0 || w.steps[j].doubt != "" {
			return ""
		}
		titles = append(titles, strconv.Quote(o.Title))
	}
	return "nothing was sent in " + strings.Join(titles, " or ")
}

// lookAt gives the commands of a step that change nothing, and keeps what they print.
func (w *worker) lookAt(i int) *trouble {
	s := w.t.Steps[i]
	for n, c := range s.Commands {
		if err := w.interrupted(); err != nil {
			return faced(s.Title, err)
		}
		got, why, err := w.lookOne(s, c)
		shown := w.shown(c.Line)[0]
		if err == nil {
			looked := night.LookedAt(i+1, n+1, shown, got) // evidence, whatever it says
			looked.Compared = w.comparedLook(c.Line, got)
			w.emit(looked)
			if why == "" {
				continue
			}
			err = &driver.Unclear{Asked: shown, Got: why}
		}
		if !driver.Answered(err) {
			return faced(s.Title, err)
		}
		if why == "" {
			why = err.Error()
		}
		w.emit(night.Step(i+1, night.StepFailed, ""))
		return &trouble{
			why:      fmt.Sprintf("%q was not answered as it should: %s", shown, why),
			evidence: lastOf(got),
			err:      err,
		}
	}
	return nil
}

// lookOne gives a command that changes nothing until what comes back fits, for as long as the step
// says. Why says what does not fit.
func (w *worker) lookOne(s plan.Step, c plan.Command) (got []string, why string, err error) {
	_, err = w.until(within(s.Deed.Within), func() (bool, error) {
		if err := w.interrupted(); err != nil {
			return false, err
		}
		got, err = w.ses.Look(w.ctx, s.Deed.Mode, c.Line)
		if err != nil {
			return false, err
		}
		why = c.Judge(got)
		return why == "", nil
	})
	return got, why, err
}

// comparedLook holds what a look printed against what the first one of the same command did, as
// the table that it is; nil where it is the first, or none that is known.
func (w *worker) comparedLook(command string, got []string) *night.Compared {
	first, again := w.printed[command]
	if !again {
		if w.printed == nil {
			w.printed = map[string][]string{}
		}
		w.printed[command] = got
		return nil
	}
	if w.t.Traits.Prints == nil {
		return nil
	}
	printed, known := w.t.Traits.Prints(command)
	if !known {
		return nil
	}
	was, err := printed.Rows(first)
	is, err2 := printed.Rows(got)
	if err != nil || err2 != nil {
		return nil // it is compared as text
	}
	of := func(rows []record.Row) record.Device {
		return record.Device{Tables: map[string][]record.Row{printed.Table: rows}}
	}
	out := &night.Compared{Table: printed.Table}
	for _, c := range record.Tables(of(was), of(is), func(string) record.Manner { return printed.Manner }) {
		out.Changes = append(out.Changes, c.String())
	}
	return out
}

// lastOf are the last lines of what came back.
func lastOf(got []string) []string { return got[max(0, len(got)-8):] }

// do gives the commands of a step that do something, from the first that was not given. One
// that is in doubt is settled first.
func (w *worker) do(i int) *trouble {
	s, st := w.t.Steps[i], &w.steps[i]
	for st.did < len(s.Commands) {
		if st.doubt != "" && !s.Deed.Repeatable {
			if len(s.Expect) == 0 {
				return w.inDoubt(i)
			}
			if tr := w.proveStep(i); tr != nil {
				return tr
			}
			w.emit(night.Did(i+1, st.did+1, w.shown(s.Commands[st.did].Line)[0], nil, true, "it was in doubt, and what is expected of it is so"))
			st.did, st.doubt = st.did+1, ""
			continue
		}
		if tr := w.mayDo(i); tr != nil {
			return tr
		}
		if tr := w.doOne(i, s, st); tr != nil {
			return tr
		}
	}
	return nil
}

// mayDo looks whether the way is clear for a command: its timer runs as we left it, and nobody
// else is at work.
func (w *worker) mayDo(i int) *trouble {
	if err := w.interrupted(); err != nil {
		return faced(w.t.Steps[i].Title, err)
	}
	if tr := w.timeFor(i, w.steps[i].did); tr != nil {
		return tr
	}
	if !w.looked {
		if tr := w.nobodyElse(); tr != nil {
			return tr
		}
		w.looked = true
	}
	return w.timerAsLeft()
}

// doOne gives one command.
func (w *worker) doOne(i int, s plan.Step, st *stepped) *trouble {
	c := s.Commands[st.did]
	shown := w.shown(c.Line)[0]
	if err := w.intend(night.Event{What: night.ToDo, Step: i + 1, Line: st.did + 1, Lines: []string{shown}}); err != nil {
		return faced(s.Title, err)
	}
	w.acted = true
	st.doubt = "contact was lost in it"
	give := driver.Command{Line: c.Line, Mode: s.Deed.Mode, Takes: s.Deed.Takes}
	for _, a := range c.Asked {
		give.Asked = append(give.Asked, driver.Reply{Question: a[0], Say: a[1]})
	}
	got, err := w.ses.Do(w.ctx, give)
	var refused *driver.Refused
	switch why := c.Judge(got); {
	case err != nil && !driver.Answered(err):
		return faced(fmt.Sprintf("%q was given, and contact was lost in it: whether it was done is not known", shown), err)
	case errors.As(err, &refused):
		st.doubt = "it was refused: " + refused.Said
	case err != nil:
		st.doubt = err.Error()
	case why != "":
		st.doubt = why
	default:
		st.did, st.doubt = st.did+1, ""
		w.emit(night.Did(i+1, st.did, shown, got, true, ""))
		return nil
	}
	w.emit(night.Did(i+1, st.did+1, shown, got, false, st.doubt))
	tr := w.inDoubt(i)
	tr.evidence = append(tr.evidence, lastOf(got)...)
	return tr
}

// inDoubt is the trouble of a command of which nobody knows whether it was done.
func (w *worker) inDoubt(i int) *trouble {
	s, st := w.t.Steps[i], w.steps[i]
	w.emit(night.Step(i+1, night.StepFailed, ""))
	return &trouble{
		why:      fmt.Sprintf("whether %q was done is not known: %s", w.shown(s.Commands[st.did].Line)[0], st.doubt),
		evidence: []string{"it cannot be undone, and is not given again by itself"},
		err:      &driver.Unclear{Asked: s.Title, Got: st.doubt},
	}
}

// settled takes in what a person decided of a command in doubt, or of what is done by hand.
func (w *worker) settled(c night.Choice) {
	if w.at.step >= len(w.t.Steps) {
		return
	}
	s, st := w.t.Steps[w.at.step], &w.steps[w.at.step]
	switch {
	case s.ByPerson() && c == night.ItIsDone:
		st.confirmed = true
	case s.Kind == plan.DoStep && c == night.ItIsDone && st.doubt != "":
		st.did, st.doubt = st.did+1, ""
	case s.Acts() && c == night.DoAgain:
		st.doubt = ""
	}
}

// waitFor waits, for a time or until something holds.
func (w *worker) waitFor(i int) *trouble {
	s := w.t.Steps[i]
	if s.Wait.Until == nil {
		w.doing("waiting until %s", time.Now().Add(s.Wait.For).Format("15:04:05"))
		if err := w.sleep(s.Wait.For); err != nil {
			return faced(s.Title, err)
		}
		return nil
	}
	return w.expect(i, plan.Expect{Check: *s.Wait.Until, Within: s.Wait.Most})
}

// byHand asks for a person.
func (w *worker) byHand(i int) *trouble {
	if w.steps[i].confirmed {
		return nil
	}
	s := w.t.Steps[i]
	if s.Kind == plan.ConsoleStep {
		return &trouble{why: fmt.Sprintf("ready to be worked by hand: %q", s.Title), evidence: s.Tell, err: &driver.Unclear{Asked: s.Title, Got: "nobody has worked it"}}
	}
	return &trouble{why: fmt.Sprintf("by hand: %q", s.Title), evidence: s.Tell, err: &driver.Unclear{Asked: s.Title, Got: "nobody has confirmed it"}}
}

// doneNote says what was done that cannot be undone; "" where nothing was.
func (w *worker) doneNote() string {
	var out []string
	for i, s := range w.t.Steps {
		st := w.steps[i]
		switch {
		case !s.Acts():
		case s.Kind == plan.SoftwareStep:
			if note := w.softwareNote(); note != "" {
				out = append(out, "; "+note)
			}
		case st.doubt != "":
			out = append(out, fmt.Sprintf("; whether %q was done is not known, and it cannot be undone", s.Title))
		case st.did > 0:
			out = append(out, fmt.Sprintf("; %q was done, which cannot be undone", s.Title))
		}
	}
	return strings.Join(out, "")
}

// tryLooks gives the commands of a rehearsal that change nothing: one that is refused would hold
// the device at night.
func (w *worker) tryLooks() {
	for i, s := range w.t.Steps {
		if s.Kind != plan.LookStep {
			continue
		}
		for n, c := range s.Commands {
			got, err := w.ses.Look(w.ctx, s.Deed.Mode, c.Line)
			if err != nil {
				w.emit(night.Notice(i+1, fmt.Sprintf("%q of step %q: %v", w.shown(c.Line)[0], s.Title, err)))
				if !driver.Answered(err) {
					return
				}
				continue
			}
			w.emit(night.LookedAt(i+1, n+1, w.shown(c.Line)[0], got))
			if why := c.Judge(got); why != "" { // it may be so only once the change is made
				w.emit(night.Notice(i+1, fmt.Sprintf("%q of step %q, as it is now: %s", w.shown(c.Line)[0], s.Title, why)))
			}
		}
	}
}
