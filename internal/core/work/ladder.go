package work

import (
	"errors"
	"fmt"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/night"
)

// Rungs of the ladder back (law 6), as they are told.
const (
	asFound      = "as found" // before the first rung
	RungTrial    = "end the trial"
	RungUndo     = "undo lines"
	RungLines    = "computed lines"
	RungRestore  = "restore the backup"
	RungSoftware = "the old software"   // before the first rung
	RungFire     = "let the timer fire" // when no rung is left
)

// rung is one way to take a change back.
type rung struct {
	name  string
	fits  func(w *worker) bool // it is one on this device
	climb func(w *worker) (equal bool, err error)
}

// ladder is all the rungs, in the order in which they are tried: those that take back least
// come first. A new one is a line here, and a file with its climb.
func ladder() []rung {
	always := func(*worker) bool { return true }
	return []rung{
		{RungTrial, (*worker).onTrial, (*worker).abandon},
		{RungUndo, (*worker).computes, (*worker).undoFirst},
		{RungLines, (*worker).computes, (*worker).leadBack},
		{RungUndo, always, (*worker).undoAll},
		{RungRestore, always, (*worker).restore},
	}
}

// computes tells whether the lines that lead back are computed.
func (w *worker) computes() bool { return w.t.Traits.Language != nil }

// errExhausted says that no rung but the timer is left.
var errExhausted = errors.New("not equal to the backup after the last rung")

// climb goes up the ladder once. After each rung the device is compared with
// the backup; when it is equal, disarming is proven.
func (w *worker) climb() error {
	if w.ses == nil {
		if err := w.reach(); err != nil {
			return err
		}
	}
	if err := w.unstage(); err != nil {
		return err
	}
	if err := w.oldSoftware(); err != nil {
		return err
	}
	equal, err := w.compare(asFound)
	if err != nil {
		return err
	}
	wrong := ""
	for _, rung := range ladder() {
		if !rung.fits(w) {
			continue
		}
		if equal {
			break
		}
		if err := w.secure(); err != nil {
			return err
		}
		// A device that answers, but not as it should, may still take the next rung.
		if equal, err = rung.climb(w); err != nil && !driver.Answered(err) {
			return err
		} else if err != nil {
			wrong = ": " + err.Error()
			w.emit(night.WentWrong(err))
		}
	}
	if !equal {
		return fmt.Errorf("%w%s", errExhausted, wrong)
	}
	return w.proveBack()
}
