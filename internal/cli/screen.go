package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync/atomic"
	"syscall"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/grid"
	"metabasis/internal/screen/home"
	"metabasis/internal/screen/open"
	"metabasis/internal/settings"
	"metabasis/internal/workspace"
)

// open shows what the workspace holds.
func (a *app) open(ctx context.Context) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	if !a.isTerminal() {
		return errors.New("there is no terminal here for the screen; try metabasis --help")
	}
	return a.onScreen(ctx, d, func(h *screen.Host, workspace *home.View) {
		open.OfferCutOff(h.Open(workspace), d)
	})
}

// onScreen shows the application until the person leaves. Begin opens the first view.
// The nights that were begun there are seen to their end.
func (a *app) onScreen(ctx context.Context, d *acts.Desk, begin func(h *screen.Host, workspace *home.View)) error {
	signal.Ignore(syscall.SIGPIPE)
	app := screen.New(
		screen.Options{
			Theme:   d.Settings.Get(settings.Theme),
			Mouse:   d.Settings.Get(settings.Mouse) == "yes",
			Log:     d.Log.Logger,
			LogFile: a.logFile,
		},
	)
	before := person.NewFront(app)
	d.Person = before
	ctx, closeScreen := context.WithCancel(ctx)
	defer closeScreen()
	var begun atomic.Pointer[acts.Tonight] // what goes on behind
	if a.door != nil {
		var told workspace.Confided
		if err := a.door.Told(&told); err != nil {
			return err
		}
		d.Confide(told)
		d.Outlives = func(n *acts.Tonight, who person.Person) {
			before.Sit(who)
			begun.Store(n)
			app.Quit()
		}
		go func() {
			select {
			case <-a.door.Gone(): // the terminal is, or who was waited for there
				closeScreen()
			case <-ctx.Done():
			}
		}()
	}
	defer onInterrupts(func(sig os.Signal) {
		closeScreen()
		if a.door != nil && sig == syscall.SIGHUP { // a night goes on without it
			return
		}
		for _, n := range d.Planned() {
			n.Interrupt(sig.String())
		}
	})()
	view := home.New(d)
	app.SetHome(view)
	app.SetPage(func(h *screen.Host, device string) { open.Device(h, d, device) })
	err := app.Run(ctx, func(h *screen.Host) { begin(h, view) })
	if n := begun.Load(); n != nil {
		return a.behind(context.WithoutCancel(ctx), d, n)
	}
	return a.afterScreen(d, err)
}

// afterScreen sees the nights that were begun to their end and tells it, to whoever
// still reads.
func (a *app) afterScreen(d *acts.Desk, err error) error {
	var last error
	begun := false
	for _, n := range d.Planned() {
		if !n.Began() {
			continue
		}
		begun = true
		if n.Running() {
			changes := n.InChange()
			if !n.Interrupted() { // nobody has said what becomes of it, or it had not begun when they did
				n.Interrupt("the screen ended")
			}
			if changes {
				fmt.Fprintln(a.err, "metabasis: the screen is gone; what is in change is taken back, and this ends then")
			} else {
				fmt.Fprintln(a.err, "metabasis: the screen is gone; nothing is in change, no further device is begun, and this ends then")
			}
			err = nil
		}
		last = a.tell(n)
		a.awaitPush(context.Background(), n)
	}
	if closeErr := d.Close(); closeErr != nil { // what there was to tell is told
		fmt.Fprintln(a.err, "metabasis:", closeErr)
	}
	switch {
	case begun && err == nil:
		return last
	case errors.Is(err, context.Canceled), errors.Is(err, tea.ErrProgramKilled):
		return &exitError{code: exitInterrupted}
	}
	return err
}

// tell waits for the end of a night and tells it.
func (a *app) tell(n *acts.Tonight) error {
	told, err := n.Wait()
	for _, note := range n.Notes() {
		fmt.Fprintln(a.err, "warning:", note)
	}
	fmt.Fprintln(a.out, report.Summary(&told))
	for _, l := range report.Needs(&told) {
		fmt.Fprintln(a.out, "  "+l)
	}
	if text := errand(n.ID, &told); text != "" {
		fmt.Fprintln(a.out, text)
	}
	if err != nil {
		return &exitError{int(night.NeedsPerson), err}
	}
	return outcome(&told, told.Aborted != "" || told.Released)
}

// nightOnScreen shows one night.
func (a *app) nightOnScreen(ctx context.Context, d *acts.Desk, c *acts.Change, r acts.Request, wait bool) error {
	return a.onScreen(ctx, d, func(h *screen.Host, _ *home.View) {
		open.Night(h, c.Runbook.Title, func(ctx context.Context) (*acts.Tonight, error) { return c.Plan(ctx, r) }, wait, h.Fail)
	})
}

// fleetOnScreen shows the selected devices, to be reached.
func (a *app) fleetOnScreen(ctx context.Context, e *acts.Evening) error {
	return a.onScreen(ctx, e.Desk, func(h *screen.Host, _ *home.View) { open.Fleet(h, e, h.Fail) })
}

// tableOnScreen reads a table on the screen.
func (a *app) tableOnScreen(ctx context.Context, e *acts.Evening, r *acts.Reading) error {
	var shown *grid.View
	err := a.onScreen(ctx, e.Desk, func(h *screen.Host, _ *home.View) {
		open.Table(h, r, e, h.Fail, func(v *grid.View) { shown = v })
	})
	if err != nil || shown == nil {
		return err
	}
	return ended(false, shown.NotRead())
}
