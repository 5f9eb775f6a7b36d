package work

import (
	"errors"
	"fmt"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

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
	env, err := w.reached(c, env)
	if err != nil {
		return false, env, err
	}
	ok, err := c.Cond.Eval(env)
	var not *runbook.NotReached
	if errors.As(err, &not) {
		return false, env, &untold{driver.Unclear{Asked: c.Cond.Source, Got: not.Error()}}
	}
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
	if err := w.outlast(i, 0); err != nil {
		return faced("extending the timer", err)
	}
	w.expects = i + 1
	defer func() { w.expects = 0 }()
	last := ""
	held, err := w.until(patient, func() (bool, error) {
		ok, env, err := w.holds(e.Check, tables{})
		if err != nil && !notTold(err) {
			return false, fmt.Errorf("looking whether %s: %w", e.Cond.Source, err)
		}
		if ok {
			return true, nil
		}
		if why := e.Cond.Explain(env); why != last {
			w.emit(night.Event{Kind: night.Expected, Step: i + 1, What: e.Cond.Source, Note: why, Due: patient.by})
			last = why
		}
		return false, nil
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
