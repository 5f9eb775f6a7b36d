package work

import (
	"fmt"
	"slices"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Where the language of a platform is known, what a device will have is computed before
// it is changed, and held against what it has after each step and at the end. A device
// that is not as predicted is held, and nothing is saved: either its profile does not
// know it well enough, or it took lines without doing them, or somebody else is at work.

// compute computes a step's lines from what runs before it, where they were not known or
// some of them may be in already. What runs must be what was predicted.
func (w *worker) compute(i int) *trouble {
	now := *w.steps[i].before
	w.steps[i].onto = now
	if w.t.Traits.Language == nil && w.t.Steps[i].Was == nil {
		return nil
	}
	if w.begun(i) {
		return w.retry(i)
	}
	if w.expected == nil {
		return w.anew(i, &now)
	}
	if !config.Equal(*w.expected, now) {
		w.steps[i].before = nil // it is read again when this is tried again
		return w.unlike(i, *w.expected, now, "before %q, what runs is not what was predicted")
	}
	return w.computable(i)
}

// retry computes a step that was begun and is tried again, from what runs now. It must lead
// to what was predicted of it before: what a line that was misheard or cut off has left
// runs, too, and nobody has predicted it. Where all of its lines turn out to be in, none is
// sent, and what is expected of them is proven all the same.
func (w *worker) retry(i int) *trouble {
	_, running, err := w.running()
	if err != nil {
		return faced("reading what runs", err)
	}
	first, base := w.t.Steps[i], w.steps[i].onto
	w.steps[i].onto = running
	if tr := w.anew(i, &running); tr != nil {
		return tr
	}
	s := w.t.Steps[i]
	switch {
	case w.steps[i].already:
		w.steps[i].already, w.at.sent = false, true
		w.steps[i].onto, w.steps[i].sent = base, len(first.Send)
		w.setStep(i, first)
	case first.After != nil && s.After != nil:
		s.After = first.After
		w.setStep(i, s)
	}
	if first.After != nil {
		w.computeFrom(i+1, first.After)
	}
	return nil
}

// anew computes a step, and those behind it, from what runs now, and sees to it that the
// timer lasts for its lines.
func (w *worker) anew(i int, now *config.Config) *trouble {
	w.computeFrom(i, now)
	if err := w.outlast(i, 0); err != nil {
		return faced("extending the timer", err)
	}
	return w.computable(i)
}

func (w *worker) computable(i int) *trouble {
	if err := w.t.Steps[i].Wrong; err != nil {
		return &trouble{why: err.Error(), err: &driver.Unclear{Asked: "the lines of a step", Got: err.Error()}}
	}
	return nil
}

// computeFrom computes the lines of the steps from number i on anew.
func (w *worker) computeFrom(i int, now *config.Config) {
	if now == nil || i >= len(w.t.Steps) || w.t.Traits.Language == nil && !w.restores(i) {
		return
	}
	w.t = w.t.Compute(i, *now)
	for j := i; j < len(w.t.Steps); j++ {
		if s := w.t.Steps[j]; s.Want != nil || len(s.Put) > 0 || s.Was != nil {
			w.steps[j].already = w.t.Steps[j].Done
		}
	}
}

// restores tells whether a step from number i on puts back what was: then what it leaves is
// known without a language, too.
func (w *worker) restores(i int) bool {
	return slices.ContainsFunc(w.t.Steps[i:], func(s plan.Step) bool { return s.Was != nil })
}

// unlike is the trouble of a device that does not have what was predicted.
func (w *worker) unlike(i int, predicted, now config.Config, why string) *trouble {
	d := config.Compare(predicted, now)
	w.differs = &now
	lines := w.notAsPredicted(d)
	w.emit(night.NotAsPredicted(i+1, lines))
	if i < len(w.t.Steps) {
		why = fmt.Sprintf(why, w.t.Steps[i].Title)
	}
	return &trouble{why: why, evidence: lines, err: &driver.Unclear{Asked: "what was predicted", Got: d.String()}}
}

// notAsPredicted says how what runs differs from what was predicted.
func (w *worker) notAsPredicted(d config.Diff) (out []string) {
	for _, p := range w.t.Masked(d.Removed) {
		out = append(out, "predicted, and not there: "+p)
	}
	for _, p := range w.t.Masked(d.Added) {
		out = append(out, "there, and not predicted: "+p)
	}
	return out
}

// asPredicted looks, a few times if need be, whether what runs after a step is what was
// predicted.
func (w *worker) asPredicted(i int) *trouble {
	s := w.t.Steps[i]
	w.differs = nil
	if !s.Changes() || w.t.Traits.Once && !w.lastApplied(i) { // the last one's prediction is that of all
		return nil
	}
	if s.After == nil || w.t.Traits.Language == nil && s.Was == nil {
		w.expected, w.unpredicted = nil, true
		return nil
	}
	var now config.Config
	held, err := w.until(looking{times: missedLooks, every: missedPause}, func() (_ bool, err error) {
		_, now, err = w.running()
		return err == nil && config.Equal(*s.After, now), err
	})
	switch {
	case err != nil:
		return faced("looking whether what runs is as predicted", err)
	case !held:
		w.emit(night.Step(i+1, night.StepFailed, ""))
		return w.unlike(i, *s.After, now, "after %q, what runs is not what was predicted")
	}
	w.emit(night.AsPredicted(i + 1))
	w.expected = s.After
	if i+1 < len(w.t.Steps) && len(s.Expect) == 0 {
		w.steps[i+1].before = &now // it need not be read again for the next step
	}
	return nil
}

// asPredictedAtTheEnd looks whether what runs at the end is what was predicted.
func (w *worker) asPredictedAtTheEnd(after config.Config) *trouble {
	w.differs = nil
	if w.expected == nil && len(w.accepted) > 0 {
		w.emit(night.AtTheEnd(false, w.accepted))
	}
	if w.expected == nil {
		return nil
	}
	if !config.Equal(*w.expected, after) {
		return w.unlike(len(w.t.Steps), *w.expected, after, "at the end, what runs is not what was predicted")
	}
	if unlike := slices.Concat(w.accepted, w.rewritten); !w.unpredicted || len(unlike) > 0 {
		w.emit(night.AtTheEnd(len(unlike) == 0, unlike))
	}
	return nil
}

// accept goes on from what runs, although it is not as predicted, by decision. What was
// not predicted is told at the end.
func (w *worker) accept() *trouble {
	now, predicted := w.differs, w.expected
	if now == nil {
		return nil
	}
	if i := w.at.step; i < len(w.t.Steps) && w.at.sent {
		predicted = w.t.Steps[i].After
	}
	if predicted != nil {
		w.accepted = append(w.accepted, w.notAsPredicted(config.Compare(*predicted, *now))...)
	}
	w.expected, w.differs = now, nil
	next := w.at.step
	if next < len(w.t.Steps) && w.at.sent { // its lines are in: it is as it is
		s := w.t.Steps[next]
		s.After = now
		w.setStep(next, s)
		next++
	}
	w.computeFrom(next, now)
	return nil
}

// setStep puts a step in the place of another.
func (w *worker) setStep(i int, s plan.Step) {
	t := *w.t
	t.Steps = slices.Clone(t.Steps)
	t.Steps[i] = s
	w.t = &t
}
