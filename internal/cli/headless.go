package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"os/signal"
	"syscall"

	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/workspace"
)

// headless runs a night without a screen. The first interrupt aborts and takes
// back what is in change, the second lets go of everything.
func (a *app) headless(ctx context.Context, n *workspace.Night, asJSON bool) error {
	// A reader that goes away must not end a night half-way.
	signal.Ignore(syscall.SIGPIPE)
	stop, done := interrupts(ctx)
	defer done()
	over := make(chan error, 1)
	go func() { over <- n.Run.Go(ctx) }()
	var night run.Night
	interrupted := 0
	events := n.Run.Events()
	out := &eventPrinter{app: a, asJSON: asJSON}
	for events != nil {
		select {
		case batch, ok := <-events:
			if !ok {
				events = nil
				break
			}
			night = run.Fold(night, batch...)
			out.print(batch)
		case sig := <-stop:
			interrupted++
			choice := run.BackDevice
			if interrupted > 1 {
				choice = run.Release
			}
			_ = n.Run.Do(ctx, run.Command{Choice: choice, By: fmt.Sprintf("%s (%s)", who(), sig)})
		}
	}
	if err := <-over; err != nil {
		return &exitError{int(run.NeedsPerson), err}
	}
	out.summary(&night)
	return outcome(&night, interrupted > 0)
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
	closed bool
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
	if p.closed {
		return
	}
	if _, err := fmt.Fprintln(p.app.out, s); err != nil {
		p.closed = true
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
