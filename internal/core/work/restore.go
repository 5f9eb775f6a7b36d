package work

import (
	"errors"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

func (w *worker) restore() (bool, error) {
	w.doing("restoring the backup")
	if err := w.intend(night.Event{What: night.ToRestore}); err != nil {
		return false, err
	}
	w.turned = true
	var refused *driver.Refused
	w.staging = w.stages()
	err := w.ses.Restore(w.ctx, w.backup)
	switch {
	case err == nil && w.onTrial():
		err = w.applyBack()
	case err == nil:
		w.staging = false
	case driver.Answered(err): // what was handed over and not applied would be in the way
		err = errors.Join(err, w.unstage())
	}
	if errors.As(err, &refused) {
		w.emit(night.Climbed(RungRestore, false, "refused: "+refused.Said))
		return false, nil
	}
	if err != nil {
		return false, err
	}
	return w.compare(RungRestore)
}
