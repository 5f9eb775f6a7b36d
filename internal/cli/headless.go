package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"

	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/store/locks"
	"metabasis/internal/workspace"
)

// headless runs a night without a screen. The first interrupt aborts and takes
// back what is in change, the second lets go of everything.
func (a *app) headless(ctx context.Context, n *workspace.Night, f nightFlags) error {
	// A reader that goes away must not end a night half-way.
	signal.Ignore(syscall.SIGPIPE)
	if err := a.beginNight(ctx, n, f.wait); err != nil {
		return err
	}
	shown := make(chan []run.Event)
	over := make(chan result, 1)
	go func() { over <- runNight(ctx, n.Run, shown, make(chan struct{}), nil) }()
	interrupted, done := a.obeyInterrupts(ctx, n.Run)
	out := &eventPrinter{app: a, asJSON: f.json}
	for events := range shown {
		out.print(events)
	}
	done()
	end := <-over
	out.summary(&end.night)
	if out.lost != nil && !errors.Is(out.lost, syscall.EPIPE) { // a reader that has gone wants to hear nothing
		fmt.Fprintln(a.err, "metabasis: not all could be printed; the journal has all of it:", out.lost)
	}
	if end.err != nil {
		return &exitError{int(run.NeedsPerson), end.err}
	}
	return outcome(&end.night, interrupted.Load())
}

// beginNight begins a night where a person, if there is one, reads the terminal.
// Waiting for another night can be interrupted.
func (a *app) beginNight(ctx context.Context, n *workspace.Night, wait bool) error {
	ctx, over := signalled(ctx)
	err := n.Begin(ctx, wait, func(text string) { fmt.Fprintln(a.err, text) })
	for _, note := range n.Notes {
		fmt.Fprintln(a.err, "warning:", note)
	}
	if over() {
		return &exitError{code: exitInterrupted}
	}
	var held *locks.Held
	if errors.As(err, &held) {
		return fmt.Errorf("%w; wait for its end with --wait", err)
	}
	return err
}

// obeyInterrupts turns interrupts into decisions, even while nobody reads what
// is printed. The function it returns ends that.
func (a *app) obeyInterrupts(ctx context.Context, r *run.Run) (*atomic.Bool, func()) {
	var any atomic.Bool
	return &any, onInterrupts(func(sig os.Signal) {
		choice := run.BackDevice
		if any.Swap(true) {
			choice = run.Release
		}
		_ = r.Do(ctx, run.Command{Choice: choice, By: fmt.Sprintf("%s (%s)", who(), sig)}) // the night may be over
	})
}

// outcome turns the end of a night into an exit code. A device that needs a
// person counts for more than the interrupt.
func outcome(n *run.Night, interrupted bool) error {
	o := n.Outcome()
	switch {
	case o == run.NeedsPerson:
	case interrupted:
		return &exitError{code: exitInterrupted}
	case o == run.AllKept:
		return nil
	}
	return &exitError{code: int(o)}
}

// eventPrinter prints events as long as somebody reads them.
type eventPrinter struct {
	app    *app
	asJSON bool
	lost   error // why nothing more can be printed
}

func (p *eventPrinter) print(events []run.Event) {
	for _, e := range events {
		if p.asJSON {
			if b, err := json.Marshal(e); err == nil {
				p.line(string(b))
			}
		} else if text := report.Line(e); text != "" {
			p.line(e.At.Format("15:04:05") + "  " + text)
		}
	}
}

func (p *eventPrinter) line(s string) {
	if p.lost == nil {
		_, p.lost = fmt.Fprintln(p.app.out, s)
	}
}

func (p *eventPrinter) summary(n *run.Night) {
	if p.asJSON {
		return
	}
	p.line("")
	p.line(report.Summary(n))
	for _, l := range report.Needs(n) {
		p.line("  " + l)
	}
}
