package work

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/plan"
)

// A device that took a line has not yet done what it says, and what it prints as
// running may be something else. Where a step says which lines of the configuration
// it makes, by its already, these must be there once its lines were taken.

// running reads what runs. A configuration of which nothing is left to compare
// would be equal to anything.
func (w *worker) running() (string, config.Config, error) { return w.parsed(driver.Running) }

// parsed reads one of the device's configurations.
func (w *worker) parsed(which driver.Which) (string, config.Config, error) {
	text, err := w.ses.Config(w.ctx, which)
	if err != nil {
		return "", config.Config{}, err
	}
	c := config.Parse(text, w.t.Traits.Style)
	if len(c.Lines) == 0 {
		return "", c, &driver.Unclear{Asked: string(which) + " configuration", Got: "no line of it is left to compare: see what its profile calls volatile"}
	}
	return text, c, nil
}

// shows tells whether a configuration has what a step makes. It is not known where
// the step's already is about anything else.
func (w *worker) shows(i int, c config.Config) (yes, known bool) {
	s := w.t.Steps[i]
	if len(s.Already) == 0 || len(s.Send) == 0 {
		return false, false
	}
	for _, check := range s.Already {
		if !ofConfig(check) {
			return false, false
		}
		ok, err := check.Cond.Eval(check.Env.With("config", c))
		if err != nil {
			return false, false
		}
		if !ok {
			return false, true
		}
	}
	return true, true
}

// ofConfig tells whether a condition looks at the configuration and at nothing else
// of the device.
func ofConfig(c plan.Check) bool {
	return slices.Contains(c.Cond.Names(), "config") && !slices.ContainsFunc(c.Cond.Names(), func(name string) bool {
		_, given := c.Env[name]
		return name != "config" && !given
	})
}

// missed finds a step whose lines were all taken before the one that is next, and of
// which the configuration shows nothing.
func (w *worker) missed(c config.Config) *trouble {
	for _, i := range w.ran {
		if i >= w.at.step || w.skipped(i) {
			continue
		}
		if yes, known := w.shows(i, c); known && !yes {
			s := w.t.Steps[i]
			return &trouble{why: fmt.Sprintf("the lines of %q were taken, and what runs does not have what they make", s.Title),
				evidence: []string{"looked for: " + s.Already[0].Cond.Source, "it may take lines without doing them, or its profile may read something else than what runs"},
				err:      &driver.Unclear{Asked: s.Already[0].Cond.Source, Got: "not so"}}
		}
	}
	return nil
}

// A device may need a moment until what it took shows in what runs.
const (
	missedLooks = 3
	missedPause = 2 * time.Second
)

// seen looks, a few times if need be, whether what runs has what the steps so far
// make. It returns what was read last.
func (w *worker) seen(text string, c config.Config) (string, config.Config, *trouble) {
	var tr *trouble
	read := true // it was read just now
	_, err := w.until(looking{times: missedLooks, every: missedPause}, func() (_ bool, err error) {
		if !read {
			text, c, err = w.running()
		}
		if read = false; err == nil {
			tr = w.missed(c)
		}
		return tr == nil, err
	})
	if err != nil {
		tr = faced("looking whether the lines so far show", err)
	}
	return text, c, tr
}
