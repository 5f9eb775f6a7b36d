// Package driver says what a way to a device must be able to do, so that work on a device need
// not know how it is reached: by lines that are typed, by NETCONF, RESTCONF or SNMP.
package driver

import (
	"context"
	"errors"
	"fmt"
	"time"

	"metabasis/internal/core/identity"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// Connector opens sessions with devices.
type Connector interface {
	// Connect reaches the device, logs in and gets ready to read. The error
	// says at which stage it failed.
	Connect(ctx context.Context, t *plan.Target) (Session, error)
}

// Session is one device being worked on, by one goroutine. An error is a
// [Refused] when the device said no, an [Unclear] when it answered in a way
// that proves nothing; any other error means that contact is lost and the
// session is of no more use.
//
// This is what every way to a device can do. What only some can is in interfaces of their own:
// [Timer], [Trial], [Putter], [Restorer] and [Saver]. A profile may only claim for a platform
// what its way can; [Lacks] tells.
//
// The operations are the same for every kind of platform; docs/architecture.md
// has the table of what each becomes. Where the way back is a trial
// ([plan.TrialTimer]), lines are staged and take effect, all at once, with Apply,
// which also puts the trial on the clock; everywhere else a line takes effect when it
// is taken.
type Session interface {
	// Who says who the device says it is; what it does not say is "".
	Who(ctx context.Context) (identity.Seen, error)
	// Read reads a table: a map[string]any when it has one row, else a
	// []map[string]any.
	Read(ctx context.Context, table string) (any, error)
	// Config reads the configuration as the device prints it.
	Config(ctx context.Context, which Which) (string, error)
	// Edit gets ready to change the configuration, at its top. Where lines are staged, those
	// of before stay staged.
	Edit(ctx context.Context) error
	// Line sends one line of a change.
	Line(ctx context.Context, line string) error
	// Apply ends what Edit began and lets it take effect: for that time, where it is on
	// trial.
	Apply(ctx context.Context, trial time.Duration) error
	// Drop ends what Edit began; lines that are staged are dropped, also those of an
	// earlier session of ours.
	Drop(ctx context.Context) error
	// Mask takes out of text the secrets that this session knows of. It can be
	// used after Close, too.
	Mask(text string) string
	// Close ends the session in the way the device wants it.
	Close() error
}

// Timer is a session with a device that can take a change back by itself, at a time.
type Timer interface {
	// Arm puts the rollback timer on the clock, in place of one that is pending. A trial
	// that runs is given that much time from now on.
	Arm(ctx context.Context, d time.Duration) error
	// Pending asks the device how much is left on its rollback timer; a negative time is one
	// that it does not tell.
	Pending(ctx context.Context) (left time.Duration, pending bool, err error)
	// Disarm takes the rollback timer off the clock, so that what runs stays: it confirms
	// what is on trial. It proves nothing: ask Pending afterwards.
	Disarm(ctx context.Context) error
}

// Trial is a session with a device that takes changes on trial.
type Trial interface {
	Timer
	// TakeBack has the device take back, at once, what is on trial.
	TakeBack(ctx context.Context) error
}

// Putter is a session with a device that takes whole configurations.
type Putter interface {
	// Put makes of what is being changed a whole configuration.
	Put(ctx context.Context, text string) error
}

// Restorer is a session with a device that can be given back a configuration as it was.
type Restorer interface {
	// Restore replaces the running configuration by one read earlier.
	Restore(ctx context.Context, config string) error
}

// Saver is a session with a device on which what runs and what is saved are two.
type Saver interface {
	// Save makes the running configuration the saved one.
	Save(ctx context.Context) error
}

// Looker is a session with a device that can be asked what it shows by a command.
type Looker interface {
	// Look gives a command that changes nothing, in a mode, "" being the profile's own, and
	// returns what it printed, without secrets. One that the profile does not know to change
	// nothing is a [Refused], and is not sent.
	Look(ctx context.Context, mode, command string) ([]string, error)
}

// Reacher is a session with a device that can be asked whether an address answers it.
type Reacher interface {
	// Reach asks an address, which [runbook.ReachAsk.Check] has passed, for a few answers. The
	// error is an [Unclear] where what the device says does not tell how many came.
	Reach(ctx context.Context, address string) (runbook.Reached, error)
}

// Restarter is a session with a device that can be restarted.
type Restarter interface {
	// Restart restarts the device at once. Where the error is a [Refused], it said no. After any other,
	// and after none, whether it restarts is told by Up once it is there again, and by nothing else: the
	// session is most likely of no more use.
	Restart(ctx context.Context) error
	// Up is for how long the device has been up, to the second.
	Up(ctx context.Context) (time.Duration, error)
}

// Paired is a session with a device of a pair that can hand its work over.
type Paired interface {
	// HandOver has the device's partner do the work of both. What it says proves nothing: which of them does is
	// read from the table "pair" of both.
	HandOver(ctx context.Context) error
}

// Upgrader is a session with a device whose software can be exchanged. What a command says proves nothing:
// Software is asked afterwards.
type Upgrader interface {
	Restarter
	// Software says what the device runs, starts with next, and has.
	Software(ctx context.Context) (software.State, error)
	// Sum is the SHA-256 of a file on the device; known is false where nothing tells it.
	Sum(ctx context.Context, path string) (sum string, known bool, err error)
	// Install makes a version of a file that is on the device. It may be done twice.
	Install(ctx context.Context, path string) error
	// StartNext says which version it starts with next.
	StartNext(ctx context.Context, version string) error
	// Keep keeps the version that runs on trial.
	Keep(ctx context.Context) error
}

// Doer is a session with a device that takes commands that do something.
type Doer interface {
	// Do gives such a command, once, and returns what it printed, without secrets. After any
	// error that is not a [Refused] nobody knows whether it was done.
	Do(ctx context.Context, c Command) ([]string, error)
}

// Command is something that a device is to do.
type Command struct {
	Line  string
	Mode  string        // in which it is given; "" is the profile's own
	Takes time.Duration // how long it may take at most
	Asked []Reply       // what it may ask before it does it
}

// Reply is what is said to a question.
type Reply struct{ Question, Say string } // in the question, * stands for any text

// ErrLacks is a way to a device that cannot do what the profile of its platform claims. Trying
// again does not help.
var ErrLacks = errors.New("the way to the device cannot do what its profile says")

// Lacks says what a platform has by its profile and a session with it cannot use; "" where
// there is nothing.
func Lacks(s Session, t plan.Traits) string {
	_, timer := s.(Timer)
	_, trial := s.(Trial)
	_, puts := s.(Putter)
	_, restores := s.(Restorer)
	_, saves := s.(Saver)
	_, restarts := s.(Restarter)
	_, upgrades := s.(Upgrader)
	_, paired := s.(Paired)
	switch {
	case t.Timer.Guards() && !timer:
		return "a rollback timer"
	case t.Timer == plan.TrialTimer && !trial:
		return "changes on trial"
	case t.Whole && !puts:
		return "whole configurations"
	case t.Restores && !restores:
		return "restoring a backup"
	case t.Restarts != nil && !restarts:
		return "restarting"
	case t.HandsOver && !paired:
		return "handing over the work of a pair"
	case t.Software != nil && !upgrades:
		return "other software"
	case t.Saves && !saves:
		return "saving"
	}
	return ""
}

// ErrDenied is a device denying the login. It is not tried again: an account
// that is tried too often is locked.
var ErrDenied = errors.New("login denied")

// Which of a device's configurations is meant.
type Which string

// The configurations of a device.
const (
	Running Which = "running"
	Saved   Which = "saved"
)

// Refused is a device saying no.
type Refused struct {
	Line string // what it was asked
	Said string // what it answered
	Err  error  // the same as its protocol has it, where that has errors of its own
}

// Unwrap is what its protocol says.
func (e *Refused) Unwrap() error { return e.Err }

func (e *Refused) Error() string { return fmt.Sprintf("refused: %q: %s", e.Line, e.Said) }

// Unclear is an answer that proves nothing either way.
type Unclear struct {
	Asked string
	Got   string
}

func (e *Unclear) Error() string { return fmt.Sprintf("unclear answer to %q: %q", e.Asked, e.Got) }

// Answered tells whether the device is still there after err.
func Answered(err error) bool {
	var r *Refused
	var u *Unclear
	return err == nil || errors.As(err, &r) || errors.As(err, &u)
}
