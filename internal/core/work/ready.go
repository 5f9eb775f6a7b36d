package work

import (
	"time"
)

// Readiness is what it takes to give a device other software.
type Readiness struct {
	Runs   string `json:"runs"` // what it runs; "" where that is not known
	Wanted string `json:"wanted"`
	// Way are the versions that it is given, each with a restart, the last being what is wanted; none where it
	// runs that, or no way leads there.
	Way     []string `json:"way,omitempty"`
	Missing []string `json:"missing,omitempty"` // files that are not on it, or are others
	Needs   int64    `json:"needs,omitempty"`   // bytes that installing takes, as far as the catalogue says
	Free    int64    `json:"free,omitempty"`    // bytes that are free; 0 where it does not tell
	// Away is how long it is absent in all, usually, and Most at the most.
	Away time.Duration `json:"away,omitempty"`
	Most time.Duration `json:"most,omitempty"`
}

// readiness is what it takes to give the device the software that is wanted; nil where the runbook wants none.
func (w *worker) readiness() *Readiness {
	i, does := w.t.Upgrades()
	if !does {
		return nil
	}
	s := w.t.Steps[i]
	if s.Upgrade == nil {
		return nil
	}
	out := &Readiness{Wanted: s.Upgrade.Wanted, Runs: w.runs.Runs}
	if s.Done || !s.Upgrade.Known {
		return out
	}
	usual, _ := w.crew.Plan.AwayFor(w.t, s)
	for _, image := range s.Upgrade.Way {
		out.Way = append(out.Way, image.Version)
		if image.Restart > 0 {
			out.Away += image.Restart
		} else {
			out.Away += usual
		}
		out.Most += s.Absence.Most
		if s.Upgrade.Was.Installed(image.Version) {
			continue
		}
		out.Needs += image.Size
		if why, err := w.unlikeImage(image, s.Upgrade.Unproven); err == nil && why != "" {
			out.Missing = append(out.Missing, image.Name())
		}
	}
	if _, reads := w.t.Traits.Tables["storage"]; reads {
		if row, err := w.row("storage"); err == nil {
			free, _ := row["free"].(float64)
			out.Free = int64(free)
		}
	}
	return out
}
