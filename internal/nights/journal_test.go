package nights

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/night"
	"metabasis/internal/core/run"
	"metabasis/internal/core/work"
	"metabasis/internal/sim"
)

// When the journal cannot be written any more, nothing more is done to any
// device: no line, no save, no arming (law 11). The timers do the rest.
func TestNothingIsDoneThatCannotBeWritten(t *testing.T) {
	for after := 5; after < 200; after += 13 {
		t.Run(fmt.Sprint(after), func(t *testing.T) {
			synctest.Test(t, func(t *testing.T) {
				w := simple(t, []sim.Spec{{}, {}, {}}, nil)
				defer w.sim.Close()
				var failed time.Time
				seen := 0
				w.journal.Fail = func(ev []night.Event) error {
					if seen += len(ev); seen > after {
						if failed.IsZero() {
							failed = time.Now()
						}
						return errors.New("no space left on device")
					}
					return nil
				}
				r := run.New(w.plan, run.Options{Outside: work.Outside{Connector: w.connector(), Backups: w.backups}, Journal: w.journal, Unattended: true})
				done := make(chan error, 1)
				go func() { done <- r.Go(context.Background()) }()
				n := night.Night{}
				for events := range r.Events() {
					n = night.Fold(n, events...)
				}
				err := <-done
				if failed.IsZero() {
					return // the night was over before
				}
				assert.ErrorContains(t, err, "no space left on device")
				time.Sleep(time.Hour)
				for _, d := range w.sim.Devices() {
					for _, tr := range d.Truth() {
						if tr.What == sim.Received || tr.What == sim.Armed || tr.What == sim.Saved || tr.What == sim.Loaded {
							assert.False(t, tr.At.After(failed.Add(time.Second)), "%s: %s %q after the journal failed", d.Name(), tr.What, tr.Line)
						}
					}
					if d.Running() != d.Saved() { // between disarming and saving there is no way back but a person
						assert.Equal(t, night.Stranded, n.Get(d.Name()).State, "%s is left half-way, and nobody is told", d.Name())
					}
				}
			})
		})
	}
}
