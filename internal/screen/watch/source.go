package watch

import (
	"context"
	"errors"

	"metabasis/internal/acts"
	"metabasis/internal/attach"
	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/console"
)

// What is asked of a night, and of whom. Where a night has none of one kind, it is nil in its
// [Source], and what needs it is not offered.
type (
	// Run is a night that can be begun, or runs.
	Run interface {
		// Begin begins it. It may take a while.
		Begin(ctx context.Context) error
		// Next waits for what happens then; it is false at the end.
		Next(ctx context.Context) ([]night.Event, bool)
		// Do passes on a decision.
		Do(c night.Command) error
		// Notes are what was met when it began, for the person.
		Notes() []string
	}
	// Plan is a night that has not begun.
	Plan interface {
		// Waive asks for a waiver, and returns the night with it.
		Waive(ctx context.Context) (night.Night, error)
		// Values asks for the values of the runbook anew, and returns the night with them, to be
		// looked at in this one's place.
		Values(ctx context.Context) (Source, error)
		// Lines returns what will be sent to a device.
		Lines(device string) []string
		// Rehearse reads and checks the devices and computes what the night will do to them.
		Rehearse(ctx context.Context, each func(...night.Event)) error
		// Rehearsed sums up the newest rehearsal; "" where there was none.
		Rehearsed(ctx context.Context) string
		// Found tells all that it found, nothing where there was none.
		Found(ctx context.Context) []string
	}
	// Said is what was said with devices.
	Said interface {
		// Tail returns the last lines of a device's transcript.
		Tail(device string, lines int) []string
		// Transcript returns all of it.
		Transcript(device string) ([]string, error)
	}
	// Hands are what devices are worked with beside the night.
	Hands interface {
		// Login has the login of a device typed anew.
		Login(ctx context.Context, device string) error
		// Console works a device by hand.
		Console(ctx context.Context, device string) *console.Command
		// WayBack says what takes back by itself what is done on a device now, and when.
		WayBack(device string) string
	}
	// Shelf is where the backups of a night go.
	Shelf interface {
		// Pushed waits until those of a night that is over are pushed to the places, or ctx ends.
		Pushed(ctx context.Context) error
		Places() []string
	}
	// Beside is a night that is seen from several screens, of which one decides.
	Beside interface {
		// Own tells that it runs in this process: it ends with this screen.
		Own() bool
		// Screened tells that it ends with the screen on which it was begun.
		Screened() bool
		// Wheel is who decides, and who looks; Take takes it.
		Wheel() attach.Wheel
		Take() error
		// Turned waits until it is another; it is false when nothing more comes.
		Turned(ctx context.Context) ([]attach.Wheel, bool)
		// Err says why nothing more comes; nil is the end of the night.
		Err() error
		// Again is the night as it stands in the journal, once nothing more comes.
		Again(ctx context.Context) (Source, error)
	}
	// Morning is what can be done with a past night: compare opens what is different after it,
	// and report its report; back plans taking it back, and again plans it once more for what it
	// did not keep. What cannot be is nil.
	Morning struct{ Compare, Report, Back, Again func(h *screen.Host) }
)

// Source is where the view has a night from.
type Source struct {
	// Night is the night as it stands: planned, or past.
	Night night.Night
	// Warnings are what was met while it was planned.
	Warnings []string
	// Events are those of a past night, to be played again; nil where it cannot be.
	Events []night.Event
	// Elsewhere says who runs the night in another process; "" for one that nobody runs.
	Elsewhere string

	Run     Run
	Beside  Beside // nil for a night that only this screen can see
	Plan    Plan
	Said    Said
	Hands   Hands
	Shelf   Shelf
	Morning Morning
	// Close ends what the night has open, once it is not running.
	Close func() error
}

// OfNight is a night that was planned here. With wait it waits, when it is begun, for
// another that has the workspace.
func OfNight(n *acts.Tonight, wait bool) Source {
	t := tonight{n, wait}
	return Source{Night: n.Planned(), Warnings: n.Warnings(), Run: t, Beside: own{n}, Plan: t, Said: t, Hands: t, Shelf: t, Close: n.Close}
}

// tonight is a night that was planned here, as its view asks for it.
type tonight struct {
	*acts.Tonight
	wait bool
}

func (t tonight) Begin(ctx context.Context) error {
	return t.Tonight.Begin(ctx, t.wait, func(string) {})
}
func (t tonight) Next(ctx context.Context) ([]night.Event, bool) { return t.Events.Next(ctx) }

func (t tonight) Waive(ctx context.Context) (night.Night, error) {
	err := t.Tonight.Waive(ctx)
	return t.Planned(), err
}

func (t tonight) Values(ctx context.Context) (Source, error) {
	again, err := t.Replan(ctx)
	if err != nil {
		return Source{}, err
	}
	return OfNight(again, t.wait), nil
}

func (t tonight) Rehearse(ctx context.Context, each func(...night.Event)) error {
	_, err := t.Tonight.Rehearse(ctx, each)
	return err
}

func (t tonight) Console(ctx context.Context, device string) *console.Command {
	return &console.Command{Ctx: ctx, Title: console.Title(device, t.ClearText(device)), Needs: t.Needs, LeastReason: acts.LeastReason,
		Never: func(line string) bool { return t.NeverSent(device, line) },
		Open: func(ctx context.Context, columns, rows int) (console.Session, error) {
			return t.Tonight.Console(ctx, device, columns, rows)
		}}
}

// Console implements [Hands].
func (b beside) Console(ctx context.Context, device string) *console.Command {
	return &console.Command{Ctx: ctx, Title: console.Title(device, b.ClearText(device)), Needs: b.Needs, LeastReason: acts.LeastReason,
		Never: func(line string) bool { return b.NeverSent(device, line) },
		Open: func(ctx context.Context, columns, rows int) (console.Session, error) {
			return b.Attached.Console(ctx, device, columns, rows)
		}}
}

// OfAttached is a night that runs in another process. Again makes a source of what the journal
// has of it.
func OfAttached(a *acts.Attached, again func(ctx context.Context) (Source, error)) Source {
	b := beside{a, again}
	return Source{Night: a.Past.Night, Run: b, Beside: b, Said: a.Past, Hands: b, Close: a.Close}
}

// beside is a night that runs in another process, as its view asks for it.
type beside struct {
	*acts.Attached
	again func(ctx context.Context) (Source, error)
}

func (b beside) Begin(context.Context) error               { return nil } // it has
func (b beside) Again(ctx context.Context) (Source, error) { return b.again(ctx) }

// Own implements [Beside].
func (beside) Own() bool { return false }

// Screened implements [Beside].
func (b beside) Screened() bool { return b.Client.Night.Screen }

// own is a night of this process, among those that look at it.
type own struct{ *acts.Tonight }

func (own) Own() bool                             { return true }
func (own) Err() error                            { return nil }
func (own) Again(context.Context) (Source, error) { return Source{}, errors.New("it is over") }

// Screened implements [Beside].
func (o own) Screened() bool { return o.EndsWithScreen() }

func (o own) Wheel() attach.Wheel {
	if l := o.Local(); l != nil {
		return l.Wheel()
	}
	return attach.Wheel{Mine: true}
}

func (o own) Take() error {
	if l := o.Local(); l != nil {
		return l.Take()
	}
	return errors.New("nobody else can look at this night")
}

func (o own) Turned(ctx context.Context) ([]attach.Wheel, bool) {
	if l := o.Local(); l != nil {
		return l.Turned(ctx)
	}
	return nil, false
}

// OfPast is a night of the journal.
func OfPast(p *acts.Past) Source {
	return Source{Night: p.Night, Events: p.Events, Elsewhere: p.Elsewhere, Said: p}
}
