package work

import (
	"fmt"
	"time"

	"metabasis/internal/core/night"
)

// backUp stores the running configuration; it must be durable and read back
// before anything is changed (law 1). A disk that takes no more takes no more of
// any device: nothing new is reached then.
func (w *worker) backUp() error {
	b, err := w.crew.Backups.Put(w.name(), w.backup, time.Now())
	if full(err) {
		w.crew.Tell(CannotWrite{w.name(), fmt.Errorf("backups cannot be written: %w", err)})
	}
	if err != nil {
		return err
	}
	e := night.Event{Kind: night.BackedUp, Device: w.name(), What: b.Path, Note: b.SHA256, OK: b.Same}
	if err := w.crew.Log.Intend(e); err != nil {
		return err
	}
	if err := w.keepRecord(Before, w.recorded, nil, b); err != nil {
		return fmt.Errorf("its record cannot be kept: %w", err)
	}
	return nil
}
