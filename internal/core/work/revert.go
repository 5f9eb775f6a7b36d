package work

import (
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
)

// Where only something beside the configuration is not as it was, such as what a
// daemon says of itself, it is looked at a few times: it may need a moment.
const (
	partLooks = 5
	partPause = 3 * time.Second
)

// takeBackTries is how often the ladder is climbed when contact is lost on it.
const takeBackTries = 3

// takeBack brings the device back to its backup and proves it. Its night is
// over when it returns.
func (w *worker) takeBack(why string) {
	w.reverting = true
	w.move(night.Reverting, why)
	var err error
	for try := range takeBackTries {
		err = w.climb()
		do, after := climbed{err, w.pends(), w.saved, w.onTrial(), try == takeBackTries-1}.next()
		//exhaustive:enforce
		switch do {
		case isBack:
			w.end(night.Reverted, w.backNote()+w.refusals())
			return
		case letsGo:
			w.letGo()
			return
		case leavesIt:
			w.leave(err.Error())
			return
		case strands:
			w.end(night.Stranded, "could not be taken back: "+err.Error())
			return
		case climbs:
			w.emit(night.WentWrong(err))
			if after > 0 && w.sleep(after) != nil {
				w.letGo()
				return
			}
			continue
		case letsItFire:
			w.letFire()
		case waits:
		}
		if w.await(err.Error()) == over {
			return
		}
		w.move(night.Reverting, "contact again")
	}
	if w.pends() { // its timer can still do what we could not
		w.letFire()
		if w.await(err.Error()) == over {
			return
		}
	}
	w.end(night.Stranded, "could not be taken back: "+err.Error())
}

// letFire chooses to wait for the timer, the last rung.
func (w *worker) letFire() {
	w.emit(night.Climbed(RungFire, false, "due "+w.due.Format("15:04:05")))
	w.firing = true
}

// proveBack disarms, and saves only where something else was saved.
func (w *worker) proveBack() error {
	if tr := w.disarm(); tr != nil {
		return tr.err
	}
	if err := w.saveBack(); err != nil {
		return err
	}
	// The last word: what ran when it was proven may have changed meanwhile.
	_, now, err := w.running()
	if err != nil {
		return err
	}
	if d := config.Compare(w.before, now); !d.Empty() {
		w.emit(night.Event{Kind: night.Differs, Lines: d.Lines(w.t.Masked)})
		return fmt.Errorf("%w: %s", errDrifts, d)
	}
	return nil
}

// errDrifts says that a device changed by itself after it was proven.
var errDrifts = errors.New("the running configuration changed by itself after it was equal to the backup")
