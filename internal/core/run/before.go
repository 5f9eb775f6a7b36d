package run

import (
	"fmt"
	"slices"

	"metabasis/internal/core/runbook"
)

// record reads the tables that expectations hold against what they were before the
// change.
func (w *worker) record() error {
	w.recorded = map[string]any{}
	for _, s := range w.t.Steps {
		for _, e := range s.Expect {
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
	return nil
}

// asBefore tells how a table differs from what it was before the change.
func (w *worker) asBefore(s runbook.Same, now any) string {
	was, known := w.recorded[s.Table]
	if !known {
		return s.Table + " was not read before the change"
	}
	return runbook.Unlike(s.Table, was, now, slices.Concat(s.Except, w.t.Traits.Tables[s.Table].Volatile))
}
