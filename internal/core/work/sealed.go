package work

import (
	"fmt"
	"slices"

	"metabasis/internal/core/night"
)

// Sealed is what was approved for one device: the lines of each step, and the fingerprint
// of the configuration that they were computed from.
type Sealed struct {
	Configuration string
	Steps         []RehearsedStep
}

// SealedCheck is the name under which a device is held against what was sealed; it can be
// waived as a precheck can.
const SealedCheck = "sealed"

// ShownCheck is the name of the same where what is not saved is saved: it was shown before.
const ShownCheck = "as shown"

// asSealed looks whether the device, and what would be done to it, is what was approved. It
// returns why not, "" when it is: the device is then not changed.
func (w *worker) asSealed() string {
	if w.crew.Sealed == nil {
		return ""
	}
	why, check := w.unsealed(), SealedCheck
	if w.t.OnlySaves() {
		check = ShownCheck
	}
	e := night.Event{Kind: night.Prechecked, What: check, OK: why == "", Note: why}
	if waiver, ok := w.crew.Plan.Waived(SealedCheck, w.target); ok && why != "" {
		e.Waived, e.By = waiver.Reason, waiver.By
		why = ""
	}
	w.emit(e)
	if why != "" {
		return check + ": " + why
	}
	return ""
}

func (w *worker) unsealed() string {
	sealed, ok := w.crew.Sealed(w.name())
	if !ok {
		return "it was not sealed"
	}
	if sealed.Configuration == "" {
		return "it could not be rehearsed, so nothing was approved for it"
	}
	switch same := w.before.Fingerprint() == sealed.Configuration; {
	case same:
	case w.t.OnlySaves():
		return "what runs on it is not what was shown: see it again, and save it then"
	default:
		return "its configuration is not the one that was sealed"
	}
	for i, s := range w.t.Steps {
		if i >= len(sealed.Steps) || sealed.Steps[i].Title != s.Title {
			return fmt.Sprintf("step %q was not sealed for it", s.Title)
		}
		if !slices.Equal(w.maskLines(w.shown(s.Send...)), sealed.Steps[i].Send) ||
			!slices.Equal(w.maskLines(w.shown(s.Undo...)), sealed.Steps[i].Undo) {
			return fmt.Sprintf("the lines of %q are not those that were sealed", s.Title)
		}
		if !slices.Equal(w.maskLines(w.t.Said(s)), sealed.Steps[i].Commands) {
			return fmt.Sprintf("what %q does is not what was sealed", s.Title)
		}
	}
	return ""
}
