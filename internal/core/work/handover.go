package work

import (
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// The member of a pair that does the work of both hands it over before it is restarted, where its profile says
// how: a partner that takes over because the other is gone does so late, and what was under way is lost. That
// it took over is read on both.

// handsOverWithin is how long a pair may take over it.
const handsOverWithin = 30 * time.Second

// handOver has the device's partner do the work of both, where the device does it now.
func (w *worker) handOver(step int) *trouble {
	if w.t.Mate == nil || !w.t.Traits.HandsOver {
		return nil
	}
	active, err := w.active()
	switch {
	case err != nil:
		return faced("reading which of its pair does the work", err)
	case !active:
		return nil
	}
	mate := w.t.Mate.Name
	w.doing("handing the work of its pair over to %s", mate)
	if err := w.intend(night.Event{What: night.ToHandOver, Step: step + 1}); err != nil {
		return faced("handing over", err)
	}
	err = w.ses.HandOver(w.ctx)
	var refused *driver.Refused
	switch {
	case errors.As(err, &refused):
		return notSent("its pair was to be handed over to "+mate+", which was refused", "said: "+refused.Said)
	case err != nil && !driver.Answered(err):
		return faced("handing over", err)
	}
	why := ""
	over, err := w.until(within(handsOverWithin), func() (bool, error) {
		if active, err = w.active(); err != nil {
			return false, err
		}
		if active {
			why = "it still does the work of both"
			return false, nil
		}
		if why, err = w.mateActive(); err != nil {
			why = err.Error()
		}
		return why == "", nil
	})
	switch {
	case err != nil:
		return faced("reading which of its pair does the work", err)
	case !over:
		return notSent(fmt.Sprintf("it was told to hand the work of its pair over to %s: %s", mate, why), "it is not restarted")
	}
	w.emit(night.Event{Kind: night.Prechecked, What: "pair", OK: true, Note: mate + " does the work of the pair now"})
	return nil
}

// active tells whether the device does the work of its pair.
func (w *worker) active() (bool, error) {
	row, err := w.row("pair")
	if err != nil {
		return false, err
	}
	active, told := row["active"].(bool)
	if !told {
		return false, &driver.Unclear{Asked: "pair", Got: "it does not say whether it does the work"}
	}
	return active, nil
}

// mateActive says why the partner does not do the work; "" where it says that it does.
func (w *worker) mateActive() (why string, err error) {
	mate := w.t.Mate
	s, seen, err := w.crew.connect(w.ctx, &plan.Target{Device: *mate})
	if err != nil {
		return "", fmt.Errorf("%s cannot be reached: %w", mate.Name, err)
	}
	defer func() { _ = s.Close() }()
	if err := identity.Check(mate.Meant(), w.crew.last(mate.Name), seen); err != nil {
		return "", fmt.Errorf("what answers is not its partner %s: %w", mate.Name, err)
	}
	v, err := s.Read(w.ctx, "pair")
	if err != nil {
		return "", err
	}
	if row, ok := v.(map[string]any); !ok || row["active"] != true {
		return mate.Name + " does not say that it does the work", nil
	}
	return "", nil
}
