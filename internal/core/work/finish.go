package work

import (
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// finish disarms, proves it, saves and compares (laws 2 and 4).
func (w *worker) finish() *trouble {
	w.doing("reading what runs now")
	running, after, err := w.running()
	if err != nil {
		return faced("reading the running configuration", err)
	}
	running, after, tr := w.seen(running, after)
	if tr == nil {
		tr = w.asPredictedAtTheEnd(after)
	}
	if tr != nil {
		return tr
	}
	if w.intended == "" {
		w.intended = running
	}
	w.emit(night.Event{Kind: night.Differs, Lines: config.Compare(w.before, after).Lines(w.t.Masked)})
	if err := w.interrupted(); err != nil {
		return faced("closing", err)
	}
	if w.proves && !w.adopted && !w.toSave() && !w.exchanged() && w.without() == "" && config.Equal(w.before, after) {
		w.end(night.Already, w.alreadyNote())
		return nil
	}
	if tr := w.disarm(); tr != nil {
		return tr
	}
	if err := w.saveWhatRuns(after); err != nil {
		return faced("saving", err)
	}
	left := ""
	for _, which := range []driver.Which{driver.Running, driver.Saved} {
		if which == driver.Saved && !w.t.Traits.TellsSaved {
			continue
		}
		text, now, err := w.parsed(which)
		if err != nil {
			return faced("comparing after saving", err)
		}
		if which == driver.Running {
			left = text
		}
		if d := config.Compare(config.Parse(w.intended, w.t.Traits.Style), now); !d.Empty() {
			return &trouble{why: fmt.Sprintf("after saving, the %s configuration is not what was proven", which),
				evidence: d.Lines(w.t.Masked), err: &driver.Unclear{Asked: string(which), Got: d.String()}}
		}
	}
	w.recordAfter(w.shelve(left))
	w.end(night.Kept, w.keptNote())
	return nil
}

// saveWhatRuns saves what runs. Where a device was restarted and nothing else, what is saved runs already.
func (w *worker) saveWhatRuns(runs config.Config) error {
	if w.t.OnlyRestarts() {
		saved, known, err := w.savedConfig()
		if err != nil || known && config.Equal(saved, runs) {
			return err
		}
	}
	return w.save()
}

// shelve keeps what the night left on the device, for the day on which it is to be taken
// back or compared with. The device is kept whether or not that can be written.
func (w *worker) shelve(text string) Backup {
	if w.crew.Shelve == nil {
		return Backup{}
	}
	b, err := w.crew.Shelve(w.name(), text, time.Now())
	if err != nil {
		w.emit(night.Event{Kind: night.Shelved, Note: err.Error()})
		return Backup{}
	}
	w.emit(night.Event{Kind: night.Shelved, What: b.Path, Note: b.SHA256, OK: true})
	return b
}

// disarm takes the timer off the clock and proves it by looking (law 4).
func (w *worker) disarm() *trouble {
	if !w.guarded() {
		return nil
	}
	if !w.pends() {
		// It may be pending without our knowing, after contact was lost.
		pending, err := w.see()
		if err != nil {
			return faced("looking at the timer", err)
		}
		if !pending {
			return nil
		}
	}
	doing, stuck := "disarming the timer", "the timer was disarmed but is still pending"
	if w.onTrial() {
		doing, stuck = "confirming what is on trial", "it was confirmed and is still on trial"
		w.saved = true // what is confirmed is what it starts with
	}
	w.doing("%s", doing)
	if err := w.intend(night.Event{What: night.ToDisarm}); err != nil {
		return faced("disarming", err)
	}
	w.doubted = true
	if err := w.ses.Disarm(w.ctx); err != nil {
		return faced("disarming", err)
	}
	// Some devices say that it is done before it is.
	gone, err := w.until(looking{times: disarmLooks, every: disarmPause}, func() (bool, error) {
		pending, err := w.see()
		return !pending, err
	})
	if err != nil {
		return faced("looking at the timer", err)
	}
	if gone {
		w.doubted = false
		w.emit(night.Event{Kind: night.TimerGone})
		return nil
	}
	if err := w.sleep(disarmPause); err != nil {
		return faced("looking at the timer", err)
	}
	left := time.Until(w.due).Round(time.Second)
	w.emit(night.TimerPending(w.due, left))
	return &trouble{why: stuck,
		evidence: []string{fmt.Sprintf("due in %s", left)}, err: &driver.Unclear{Asked: "disarm", Got: "still pending"}}
}

// A disarmed timer is looked at a few times before it counts as stuck.
const (
	disarmLooks = 4
	disarmPause = 2 * time.Second
)
