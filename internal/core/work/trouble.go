package work

import (
	"errors"
	"fmt"

	"metabasis/internal/core/driver"
)

// trouble is why the forward work stopped.
type trouble struct {
	why      string
	remarks  []string // what was met since, of what was decided
	evidence []string
	halted   bool  // nothing is wrong: it was to be held
	err      error // decides between a hold, lost contact and a decision from outside
}

func (tr *trouble) lost() bool {
	return tr.err != nil && !driver.Answered(tr.err) && !errors.Is(tr.err, errTakeBack) && !errors.Is(tr.err, errLetGo) &&
		!errors.Is(tr.err, ErrJournal) && !errors.Is(tr.err, errNotPending)
}

// ErrJournal marks an intention that could not be made durable.
var ErrJournal = errors.New("the journal cannot be written, so nothing more is done")

// Error makes an error of trouble.
func (tr *trouble) Error() string { return tr.why }

// Unwrap is what decides what is done.
func (tr *trouble) Unwrap() error { return tr.err }

// troubled makes trouble of an error met while doing something, unless it is trouble already.
func troubled(doing string, err error) *trouble {
	var tr *trouble
	if errors.As(err, &tr) {
		return tr
	}
	return faced(doing, err)
}

// failed makes trouble of an error.
func failed(err error) *trouble { return &trouble{why: err.Error(), err: err} }

// faced makes trouble of an error met while doing something.
func faced(doing string, err error) *trouble { return failed(fmt.Errorf("%s: %w", doing, err)) }

// face deals with trouble: it waits for a lost device, takes back a device
// that is to be taken back, and otherwise holds for a decision. It tells
// whether the device's night is over.
func (w *worker) face(tr *trouble) (done bool) {
	for {
		switch {
		case errors.Is(tr.err, errLetGo):
			w.letGo()
			return true
		case errors.Is(tr.err, errTakeBack):
			w.takeBack("taken back by decision")
			return true
		case errors.Is(tr.err, errNotPending) && w.onTrial():
			w.takeBack("taken back at once: " + tr.why)
			return true
		case tr.lost():
			if w.await(tr.why) == over {
				return true
			}
			if err := w.interrupted(); err != nil {
				tr = &trouble{why: err.Error(), err: err}
				continue
			}
			tr = &trouble{why: "contact was lost and is back", evidence: []string{tr.why}, err: &driver.Unclear{Asked: "contact", Got: "lost"}}
			if err := w.tookEffect(); err != nil {
				tr = faced("looking what became of the lines that were being applied", err)
				continue
			}
		}
		next, done := w.decide(tr)
		if next == nil {
			return done
		}
		tr = next
	}
}
