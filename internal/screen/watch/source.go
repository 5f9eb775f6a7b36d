package watch

import (
	"context"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/console"
)

// Source is where a night comes from and what can be done with it. What is nil cannot
// be done: a night that is only looked at has no Begin and no Do.
type Source struct {
	// Night is the night as it stands: planned, or past.
	Night night.Night
	// Begin begins the run. It may take a while.
	Begin func(ctx context.Context) error
	// Notes are what was met when it began, for the person.
	Notes func() []string
	// Warnings are what was met while it was planned.
	Warnings []string
	// Events are those of a past night, to be played again; nil where it cannot be.
	Events []night.Event
	// Next waits for what happens then; it is false at the end.
	Next func(ctx context.Context) ([]night.Event, bool)
	// Do passes on a decision.
	Do func(night.Command) error
	// Waive asks for a waiver before the night begins, and returns the night with it.
	Waive func(ctx context.Context) (night.Night, error)
	// Values asks for the values of the runbook anew before the night begins, and returns
	// the night with them, to be looked at in this one's place.
	Values func(ctx context.Context) (Source, error)
	// Tail returns the last lines of a device's transcript.
	Tail func(device string, lines int) []string
	// Transcript returns all of it.
	Transcript func(device string) ([]string, error)
	// Lines returns what will be sent to a device, before the night begins.
	Lines func(device string) []string
	// Rehearse reads and checks the devices and computes what the night will do to them.
	Rehearse func(ctx context.Context, each func(...night.Event)) error
	// Rehearsed sums up the newest rehearsal; "" where there was none.
	Rehearsed func(ctx context.Context) string
	// Found tells all that it found, nothing where there was none.
	Found func(ctx context.Context) []string
	// Elsewhere says who runs the night in another process; "" for one that nobody
	// runs.
	Elsewhere string
	// Login has the login of a device typed anew.
	Login func(ctx context.Context, device string) error
	// Console works a device by hand.
	Console func(ctx context.Context, device string) *console.Command
	// Compare opens what is different after a past night, Back plans taking it back, and
	// Report opens its report; Again plans it once more for what it did not keep. nil where
	// that cannot be.
	Compare, Back, Report, Again func(h *screen.Host)
	// Pushed waits until the backups of a night that is over are pushed to Places, or ctx
	// ends.
	Pushed func(ctx context.Context) error
	Places []string
	// Close ends what the night has open, once it is not running.
	Close func() error
}

// OfNight is a night that was planned here. With wait it waits, when it is begun, for
// another that has the workspace.
func OfNight(n *acts.Night, wait bool) Source {
	return Source{
		Night: n.Planned(), Begin: func(ctx context.Context) error { return n.Begin(ctx, wait, func(string) {}) },
		Next: n.Events.Next, Do: n.Do, Tail: n.Tail, Transcript: n.Transcript, Lines: n.Lines, Close: n.Close, Warnings: n.Warnings(),
		Rehearsed: n.Rehearsed, Found: n.Found,
		Rehearse: func(ctx context.Context, each func(...night.Event)) error {
			_, err := n.Rehearse(ctx, each)
			return err
		},
		Notes: n.Notes, Login: n.Login, Pushed: n.Pushed, Places: n.Places(),
		Waive: func(ctx context.Context) (night.Night, error) {
			err := n.Waive(ctx)
			return n.Planned(), err
		},
		Values: func(ctx context.Context) (Source, error) {
			again, err := n.Replan(ctx)
			if err != nil {
				return Source{}, err
			}
			return OfNight(again, wait), nil
		},
		Console: func(ctx context.Context, device string) *console.Command {
			return &console.Command{Ctx: ctx, Title: console.Title(device, n.ClearText(device)), Needs: n.Needs,
				Open: func(ctx context.Context, columns, rows int) (console.Session, error) {
					return n.Console(ctx, device, columns, rows)
				}}
		},
	}
}

// OfPast is a night of the journal.
func OfPast(p *acts.Past) Source {
	return Source{Night: p.Night, Events: p.Events, Elsewhere: p.Elsewhere, Tail: p.Tail, Transcript: p.Transcript}
}
