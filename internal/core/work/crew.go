package work

import (
	"context"
	"fmt"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
)

// Crew is what the workers of one night have in common.
type Crew struct {
	Outside
	Plan *plan.Plan
	Log  Log
	// Now is the time of the night's own clock, which no setting of this machine's moves.
	Now func() time.Time
	// Tell passes a message on to the conductor; it may wait until that has time for it.
	Tell func(Message)

	mine takes  // by who they are, the devices in change
	own  Others // where nobody gave any
}

// Log takes down what happens.
type Log interface {
	// Emit takes down a fact. It does not wait until that is durable.
	Emit(e night.Event)
	// Intend takes down what is about to be done and returns once it is durable. What
	// cannot be made durable must not be done: the error is an [ErrJournal].
	Intend(e night.Event) error
}

// Outside is what work on a device needs from outside. Only the connector and the backups
// must be there.
type Outside struct {
	Connector driver.Connector
	Backups   Backups
	// Remnants finds timers that earlier nights left on a device; nil knows none.
	Remnants func(device string) []Remnant
	// Unfinished finds what the newest night that was cut off on a device was to leave
	// there; nil where there is none. May itself be nil.
	Unfinished func(device string) *Unfinished
	// Resumed is what a night that was cut off has left on a device, where this one goes on with
	// it; nil where it does not. May itself be nil.
	Resumed func(device string) *Resumed
	// Claim takes a device for this night, so that no other night on this machine
	// changes it meanwhile. The error is a [Taken] when another one has it. nil
	// takes nothing.
	Claim func(ctx context.Context, t *plan.Target) (release func(), err error)
	// Who keeps who devices were seen to be; nil knows nobody.
	Who Identities
	// ClaimAs takes a device by who it says it is, beside Claim. nil takes nothing.
	ClaimAs func(ctx context.Context, keys []string) (release func(), err error)
	// Rehearsed is what was found of a device at the newest rehearsal; nil where it was in
	// none. The function may be nil.
	Rehearsed func(device string) *Earlier
	// Sealed is what was approved for a device; nil is a night that nobody sealed.
	Sealed func(device string) (Sealed, bool)
	// Shelve keeps what the night left on a device that is kept; nil keeps nothing.
	Shelve func(device, text string, at time.Time) (Backup, error)
	// Predict keeps what was computed that a device will have when all is done, secrets
	// masked; nil keeps nothing.
	Predict func(device, text string, at time.Time) (Backup, error)
	// Record keeps what the runbook records of a device, [Before] its change or [After] it;
	// nil keeps nothing.
	Record func(phase string, d record.Device) error
	// Broke is told where Metabasis itself fails on a device: of what, and of the stack then.
	// nil is told nothing.
	Broke func(device string, what any, stack []byte)
	// Here asks an address for an answer from this machine; nil cannot.
	Here func(ctx context.Context, address string) (runbook.Reached, error)
	// AtConsole tells whether somebody works a device by hand at this moment: its timer is put off for
	// that, and for nobody else. nil says that somebody does.
	AtConsole func(device string) bool
	// Others are the devices from which something is reached; nil are the crew's own.
	Others *Others
	// Wait waits for devices that another night has, in place of blocking them.
	Wait bool
}

// Backups keeps configurations on disk.
type Backups interface {
	// Put stores a device's configuration and returns once it is durable and
	// was read back equal.
	Put(device, text string, at time.Time) (Backup, error)
}

// Backup is a stored configuration.
type Backup struct {
	Path   string
	SHA256 string
	Same   bool // an identical one was there already
}

// Remnant is a rollback timer that an earlier night of ours armed and never saw
// the end of.
type Remnant struct {
	ID    int64
	Night string // what that night is called by
	Due   time.Time
	Runs  bool // that night runs now
}

// Taken says that another night on this machine has a device.
type Taken struct{ By string }

func (e *Taken) Error() string { return "another night has it: " + e.By }

// connect opens a session with a device and reads who answers.
func (c *Crew) connect(ctx context.Context, t *plan.Target) (driver.Session, identity.Seen, error) {
	s, err := c.Connector.Connect(ctx, t)
	if err != nil {
		return nil, identity.Seen{}, err
	}
	seen, err := s.Who(ctx)
	if err != nil {
		_ = s.Close()
		return nil, identity.Seen{}, fmt.Errorf("asking it who it is: %w", err)
	}
	return s, seen, nil
}

// last is who was last seen under a name.
func (c *Crew) last(device string) identity.Last {
	if c.Who == nil {
		return identity.Last{}
	}
	return c.Who.Last(device)
}

func (c *Crew) saw(device string, seen identity.Seen, meant bool) error {
	if c.Who == nil || seen.Nothing() {
		return nil
	}
	return c.Who.Saw(device, seen, time.Now(), meant)
}

// takes are the devices that a night has in change, by who they are.
type takes struct {
	mu sync.Mutex
	by map[string]identity.Seen // by their names in the fleet
}

// take takes a device under a name; it returns the name under which it is taken already.
func (t *takes) take(device string, seen identity.Seen) (other string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for name, s := range t.by {
		if name != device && identity.One(s, seen) {
			return name
		}
	}
	if t.by == nil {
		t.by = map[string]identity.Seen{}
	}
	t.by[device] = seen
	return ""
}

// drop gives a device free.
func (t *takes) drop(device string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.by, device)
}
