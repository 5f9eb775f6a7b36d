package work

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
)

// record reads the tables that expectations hold against what they were before the
// change.
func (w *worker) record() error {
	w.recorded = map[string]any{}
	for _, s := range w.t.Steps {
		expected := s.Expect
		if s.Wait != nil && s.Wait.Until != nil {
			expected = append(slices.Clone(expected), plan.Expect{Check: *s.Wait.Until})
		}
		for _, e := range expected {
			for _, same := range e.Cond.Sames() {
				if _, known := w.recorded[same.Table]; known {
					continue
				}
				v, err := w.ses.Read(w.ctx, same.Table)
				if err != nil {
					return fmt.Errorf("reading %s before the change: %w", same.Table, err)
				}
				w.recorded[same.Table] = v
			}
		}
	}
	for _, name := range w.t.Record.Reads() {
		if _, known := w.recorded[name]; known {
			continue
		}
		v, err := w.ses.Read(w.ctx, name)
		if err != nil {
			return fmt.Errorf("recording %s before the change: %w", name, err)
		}
		w.recorded[name] = v
	}
	return nil
}

// Phases of a record.
const (
	Before = "before"
	After  = "after"
)

// keepRecord keeps what was read for the runbook's record. Backup is where the
// configuration is.
func (w *worker) keepRecord(phase string, tables map[string]any, wrong map[string]string, b Backup) error {
	if w.crew.Record == nil || len(w.t.Record.Tables) == 0 {
		return nil
	}
	d := record.Device{Device: w.name(), Platform: w.t.Device.Platform, Site: w.t.Device.Site, At: time.Now(), Wrong: wrong, Who: w.who}
	for _, name := range w.t.Record.Tables {
		v, read := tables[name]
		switch {
		case name == record.Config && b.Path != "":
			d.Backup, d.SHA256 = filepath.Base(b.Path), b.SHA256
		case read:
			if d.Tables == nil {
				d.Tables = map[string][]record.Row{}
			}
			d.Tables[name] = record.Masked(record.Rows(v), w.maskText)
		}
	}
	err := w.crew.Record(phase, d)
	e := night.Event{Kind: night.Recorded, What: phase, Lines: w.t.Record.Tables, OK: err == nil}
	if err != nil {
		e.Note = err.Error()
	}
	w.emit(e)
	return err
}

// asRecorded waits until the tables that are compared are as they were before the change:
// without a loss, or without any difference, as the runbook says.
func (w *worker) asRecorded() *trouble {
	r := w.t.Record
	if len(r.Compare) == 0 || w.recorded == nil {
		return nil
	}
	w.move(night.Verifying, "comparing "+strings.Join(r.Compare, ", "))
	if err := w.outlast(len(w.t.Steps), r.Within); err != nil {
		return faced("extending the timer", err)
	}
	var lost []string
	last, patient := "", within(r.Within)
	held, err := w.until(patient, func() (_ bool, err error) {
		if lost, err = w.unlikeRecorded(); err != nil {
			return false, fmt.Errorf("comparing with what was recorded: %w", err)
		}
		if text := strings.Join(lost, "; "); text != last && len(lost) > 0 {
			w.emit(night.Event{Kind: night.Expected, What: r.String(), Note: text, Due: patient.by})
			last = text
		}
		return len(lost) == 0, nil
	})
	switch {
	case err != nil:
		return failed(err)
	case !held:
		return &trouble{
			why:      "what was recorded before the change is not so any more: " + lost[0],
			evidence: lost,
			err:      &driver.Unclear{Asked: r.String(), Got: last},
		}
	}
	w.emit(night.Event{Kind: night.Expected, What: r.String(), OK: true})
	return nil
}

// unlikeRecorded tells how the tables that are compared differ from what was recorded, as
// far as it counts.
func (w *worker) unlikeRecorded() (out []string, err error) {
	for _, name := range w.t.Record.Compare {
		v, err := w.ses.Read(w.ctx, name)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		was := record.Device{Tables: map[string][]record.Row{name: record.Rows(w.recorded[name])}}
		is := record.Device{Tables: map[string][]record.Row{name: record.Rows(v)}}
		for _, c := range record.Tables(was, is, func(string) record.Manner { return w.t.Traits.Tables[name].Manner }) {
			if !w.t.Record.Loss || c.Kind == record.Gone {
				out = append(out, w.maskText(c.String()))
			}
		}
	}
	return out, nil
}

// recordAfter reads what the runbook records once more. The device is kept by then: what
// cannot be read any more is said in the record, and changes nothing.
func (w *worker) recordAfter(left Backup) {
	if w.crew.Record == nil || len(w.t.Record.Tables) == 0 {
		return
	}
	tables, wrong := map[string]any{}, map[string]string{}
	for _, name := range w.t.Record.Tables {
		if name == record.Config {
			continue
		}
		v, err := w.ses.Read(w.ctx, name)
		if err != nil {
			wrong[name] = w.maskText(err.Error())
			if !driver.Answered(err) {
				break
			}
			continue
		}
		tables[name] = v
	}
	_ = w.keepRecord(After, tables, wrong, left) // it is told
}

// unlikeTable tells how a table differs from what it was before the change.
func (w *worker) unlikeTable(s runbook.Same, now any) string {
	was, known := w.recorded[s.Table]
	if !known {
		return s.Table + " was not read before the change"
	}
	return runbook.Unlike(s.Table, was, now, slices.Concat(s.Except, w.t.Traits.Tables[s.Table].Volatile))
}
