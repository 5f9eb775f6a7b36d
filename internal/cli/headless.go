package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/report"
)

// headless runs a night without a screen. The first interrupt aborts and takes
// back what is in change, the second lets go of everything.
func (a *app) headless(ctx context.Context, n *acts.Tonight, f nightFlags) error {
	// A reader that goes away must not end a night half-way.
	signal.Ignore(syscall.SIGPIPE)
	if err := a.beginNight(ctx, n, f.wait); err != nil {
		return err
	}
	done := onInterrupts(func(sig os.Signal) { n.Interrupt(sig.String()) })
	out := &eventPrinter{app: a, asJSON: f.json}
	for events, more := n.Events.Next(ctx); more; events, more = n.Events.Next(ctx) {
		out.print(events)
	}
	told, err := n.Wait()
	done()
	out.summary(&told)
	out.errand(n.ID, &told)
	if out.lost != nil && !errors.Is(out.lost, syscall.EPIPE) { // a reader that has gone wants to hear nothing
		fmt.Fprintln(a.err, "metabasis: not all could be printed; the journal has all of it:", out.lost)
	}
	a.awaitPush(ctx, n)
	if err != nil {
		return &exitError{int(night.NeedsPerson), err}
	}
	return outcome(&told, n.Interrupted())
}

// awaitPush waits, behind the summary, for the backups of a night to be pushed off this
// machine, for as long as nobody interrupts that.
func (a *app) awaitPush(ctx context.Context, n *acts.Tonight) {
	places := n.Places()
	if len(places) == 0 {
		return
	}
	ctx, over := signalled(ctx)
	defer over()
	fmt.Fprintf(a.err, "The night is over. Its backups are pushed to %s, for %s at most; an interrupt leaves that for metabasis backups push.\n", strings.Join(places, ", "), acts.PushWithin)
	if err := n.Pushed(ctx); err != nil {
		fmt.Fprintln(a.err, "metabasis:", err)
	}
}

// beginNight begins a night. Waiting for another one can be interrupted.
func (a *app) beginNight(ctx context.Context, n *acts.Tonight, wait bool) error {
	ctx, over := signalled(ctx)
	err := n.Begin(ctx, wait, func(text string) { fmt.Fprintln(a.err, text) })
	a.warn(n.Notes())
	if over() {
		return &exitError{code: exitInterrupted}
	}
	return err
}

// outcome turns the end of a night into an exit code. A device that needs a
// person counts for more than the interrupt.
func outcome(n *night.Night, interrupted bool) error {
	o := n.Outcome()
	switch {
	case o == night.NeedsPerson:
	case interrupted:
		return &exitError{code: exitInterrupted}
	case o == night.AllKept:
		return nil
	}
	return &exitError{code: int(o)}
}

// eventPrinter prints events as long as somebody reads them.
type eventPrinter struct {
	app    *app
	asJSON bool
	teller report.Teller
	lost   error // why nothing more can be printed
}

func (p *eventPrinter) print(events []night.Event) {
	for _, e := range events {
		if p.asJSON {
			if b, err := json.Marshal(e); err == nil {
				p.line(string(b))
			}
		} else if text := p.teller.Line(e); text != "" {
			p.line(e.At.Format("15:04:05") + "  " + text)
		}
	}
}

func (p *eventPrinter) line(s string) {
	if p.lost == nil {
		_, p.lost = fmt.Fprintln(p.app.out, s)
	}
}

func (p *eventPrinter) summary(n *night.Night) {
	if p.asJSON {
		return
	}
	p.line("")
	p.line(report.Summary(n))
	for _, l := range report.Needs(n) {
		p.line("  " + l)
	}
}

// errand says where what a night could not put back is listed; "" where there is nothing of that kind.
func errand(id int64, n *night.Night) string {
	if n.Outcome() != night.NeedsPerson {
		return ""
	}
	return fmt.Sprintf("  line by line, for whoever goes there: metabasis report %d --errand", id)
}

func (p *eventPrinter) errand(id int64, n *night.Night) {
	if text := errand(id, n); text != "" && !p.asJSON {
		p.line(text)
	}
}
