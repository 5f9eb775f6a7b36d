package work

import (
	"fmt"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// Unfinished is what an earlier night of ours, whose end on a device nobody has written down,
// found there and was to leave there.
type Unfinished struct {
	ID        int64
	Night     string // what that night is called by
	Was       string // where it was with the device then
	Had       string // the backup it took; "" where it is not there any more
	WouldHave string // what it predicted, secrets masked; "" where nothing is known
}

// notSaved says why unsaved changes keep a device from being changed, and for which of them
// they do not: those that a restore takes away, and those that an earlier night of ours left,
// all of which is intended. Then a timer that brings back what is saved does no harm, or none
// is needed.
func (w *worker) notSaved() (good string, err error) {
	if !w.foundSaved {
		return "", unfitf("what is saved cannot be read on %s", w.t.Device.Platform)
	}
	if good, own := w.ownUnsaved(); own {
		return good, nil
	}
	d := config.Compare(w.found, w.before)
	if d.Empty() {
		return "running and saved are equal", nil
	}
	t, err := w.computed()
	if err == nil && w.leadsToSaved(t) {
		return "what is not saved is what is taken back", nil
	}
	lines := joinSome(d.Lines(w.t.Masked))
	u := w.unfinished()
	switch {
	case u == nil:
		return "", unfitf("it has unsaved changes: %s", lines)
	case !w.leftBy(u):
		return "", unfitf(
			"it has unsaved changes: %s; %s was %s there when it was cut off, and they are not just what it was to leave: see whose they are; metabasis restore --before %d puts back what was before that night",
			lines,
			u.Night,
			u.Was,
			u.ID,
		)
	case err == nil && t.Idle():
		return "what is not saved was left by " + u.Night + ", which was cut off: it is proven, then saved", nil
	}
	return "", unfitf(
		"it has unsaved changes: %s; they are what %s left, which was cut off: run its runbook again, which proves and saves them, or take them back with metabasis restore --before %d",
		lines,
		u.Night,
		u.ID,
	)
}

// unfinished is what an earlier night was to leave on the device; nil where none was cut off
// there.
func (w *worker) unfinished() *Unfinished {
	if w.crew.Unfinished == nil {
		return nil
	}
	return w.crew.Unfinished(w.name())
}

// computed is what is to be done to the device, computed from what runs.
func (w *worker) computed() (*plan.Target, error) {
	read := tables{"config": w.before}
	return w.target.Read(plan.Reading{
		Config: w.before,
		Holds: func(c plan.Check) (bool, error) {
			ok, _, err := w.holds(c, read)
			return ok, err
		},
		Settle: func(c plan.Check) (bool, string, error) {
			ok, env, err := w.holds(c, read)
			if ok || err != nil {
				return ok, "", err
			}
			return false, w.maskText(c.Cond.Explain(env)), nil
		},
		Software: w.softwareBefore,
		Rows:     func(table string) ([]map[string]any, error) { return w.rows(table, read) },
	})
}

// leadsToSaved tells whether all that is done is to put back what was, and that is what is
// saved: should the timer fire, it leads there, too.
func (w *worker) leadsToSaved(t *plan.Target) bool {
	for _, s := range t.Steps {
		if s.Was == nil {
			return false
		}
	}
	after, known := t.Predicted(w.before)
	return known && config.Equal(after, w.found)
}

// leftBy tells whether what is saved and what runs are what an earlier night found, and was to
// leave. Predictions are kept with their secrets masked, so both are compared masked.
func (w *worker) leftBy(u *Unfinished) bool {
	style := w.t.Traits.Style
	return u.Had != "" && u.WouldHave != "" && config.Equal(config.Parse(u.Had, style), w.found) &&
		config.Equal(config.Parse(u.WouldHave, style), config.Parse(w.withoutSecrets(config.Alone(w.backup)), style))
}

// unmet says which expectation does not hold of a device on which there is nothing to be
// done: what is meant by as intended is the lines, and what is expected of them. What is to
// be the same as before is so.
func (w *worker) unmet() (string, error) {
	read := tables{"config": w.before}
	for _, s := range w.t.Steps {
		if w.t.FollowsNothing(s) {
			continue
		}
		for _, e := range s.Expect {
			if len(e.Cond.Sames()) > 0 {
				continue // where nothing is sent, what is there is as it was
			}
			ok, env, err := w.holds(e.Check, read)
			switch {
			case notTold(err):
				return err.Error(), nil
			case err != nil:
				return "", fmt.Errorf("looking whether %s: %w", e.Cond.Source, err)
			case !ok:
				return e.Cond.Explain(env), nil
			}
		}
	}
	return "", nil
}
