package run

import (
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// finish disarms, proves it, saves and compares (laws 2 and 4).
func (w *worker) finish() *trouble {
	w.doing("reading what runs now")
	running, err := w.ses.Config(w.ctx, Running)
	if err != nil {
		return faced("reading the running configuration", err)
	}
	if w.intended == "" {
		w.intended = running
	}
	after := config.Parse(running, w.t.Traits.Style)
	w.emit(Event{Kind: Differs, Lines: config.Compare(w.before, after).Lines(w.t.Traits.Masked)})
	if err := w.interrupted(); err != nil {
		return faced("closing", err)
	}
	if tr := w.disarm(); tr != nil {
		return tr
	}
	w.doing("saving")
	if err := w.intend(Event{What: ToSave}); err != nil {
		return faced("saving", err)
	}
	w.saved = true // from here on it may be, whatever we hear
	if err := w.ses.Save(w.ctx); err != nil {
		return faced("saving", err)
	}
	for _, which := range []Which{Running, Saved} {
		text, err := w.ses.Config(w.ctx, which)
		if err != nil {
			return faced("comparing after saving", err)
		}
		if d := config.Compare(config.Parse(w.intended, w.t.Traits.Style), config.Parse(text, w.t.Traits.Style)); !d.Empty() {
			return &trouble{why: fmt.Sprintf("after saving, the %s configuration is not what was proven", which),
				evidence: d.Lines(w.t.Traits.Masked), err: &Unclear{Asked: string(which), Got: d.String()}}
		}
	}
	w.end(Kept, "kept and saved")
	return nil
}

// disarm takes the timer off the clock and proves it by looking (law 4).
func (w *worker) disarm() *trouble {
	if w.due.IsZero() {
		if w.t.Traits.Timer != plan.RestartTimer || w.r.plan.Timer.None {
			return nil
		}
		// It may be pending without our knowing, after contact was lost.
		left, pending, err := w.ses.Pending(w.ctx)
		if err != nil {
			return faced("looking at the timer", err)
		}
		if !pending {
			return nil
		}
		w.due = time.Now().Add(left)
	}
	w.doing("disarming the timer")
	if err := w.intend(Event{What: ToDisarm}); err != nil {
		return faced("disarming", err)
	}
	if err := w.ses.Disarm(w.ctx); err != nil {
		return faced("disarming", err)
	}
	left, pending, err := w.ses.Pending(w.ctx)
	if err != nil {
		return faced("looking at the timer", err)
	}
	if pending {
		w.due = time.Now().Add(left)
		w.emit(Event{Kind: TimerSeen, Due: w.due, For: left})
		return &trouble{why: "the timer was disarmed but is still pending",
			evidence: []string{fmt.Sprintf("due in %s", left.Round(time.Second))}, err: &Unclear{Asked: "disarm", Got: "still pending"}}
	}
	w.due = time.Time{}
	w.emit(Event{Kind: TimerGone})
	return nil
}
