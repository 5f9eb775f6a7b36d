package work

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// lookFor is how a precheck is looked at; nil where that is done in a place of its own: it is
// reached first of all, who it is comes next, and what is saved and sealed comes last. The error
// of a look says why the precheck does not hold, what it returns beside that what it found.
func (w *worker) lookFor(p runbook.Precheck) func(runbook.Precheck) (string, error) {
	if p.Own() {
		return w.checkOwn
	}
	return map[string]func(runbook.Precheck) (string, error){
		"clock":   func(p runbook.Precheck) (string, error) { return w.clockWithin(p.Within) },
		"storage": func(p runbook.Precheck) (string, error) { return w.storageAtLeast(p.AtLeast) },
		"version": func(p runbook.Precheck) (string, error) { return w.versionIn(p.Versions) },
		"alone":   func(runbook.Precheck) (string, error) { return w.alone() },
		"pair":    func(runbook.Precheck) (string, error) { return w.pairHealthy() },
	}[p.Name]
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
