package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"syscall"

	tea "charm.land/bubbletea/v2"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/settings"
	"metabasis/internal/store/locks"
	"metabasis/internal/workspace"
)

// watch runs a night on the screen. When the screen ends before the night, because
// its terminal is closed, or the system asks us to end, what is in change is taken
// back, as without a screen; asked again, everything is let go of.
func (a *app) watch(ctx context.Context, ws *workspace.Workspace, n *workspace.Night, wait bool) error {
	signal.Ignore(syscall.SIGPIPE)
	onScreen, closeScreen := context.WithCancel(ctx)
	defer closeScreen()
	planned := run.Event{Kind: run.Planned, Outline: run.Outlined(n.Plan)}
	w := &watched{n: n, left: make(chan struct{})}
	defer onInterrupts(func(sig os.Signal) {
		closeScreen()
		w.end(ctx, sig.String())
	})()
	src := screen.Source{
		Night:      run.Fold(run.Night{}, planned),
		Start:      func() (<-chan []run.Event, error) { return w.start(onScreen, ctx, wait) },
		Do:         func(c run.Command) error { return n.Run.Do(ctx, c) },
		Tail:       n.Tail,
		Transcript: n.Transcript,
		Lines:      func(name string) []string { return report.Lines(n.Plan, name) },
		Console: func(name string) tea.ExecCommand {
			return &consoleCommand{ctx: onScreen, c: n.Connector, d: deviceOf(n, name), needs: &w.need}
		},
		By: who(),
	}
	_, err := screen.Run(onScreen, src, screen.Theme(ws.Settings.Get(settings.Theme)))
	return a.afterScreen(ctx, w, err)
}

// watched is a night on the screen.
type watched struct {
	n    *workspace.Night
	left chan struct{} // closed when nobody looks any more
	need needs

	mu          sync.Mutex
	over        chan result // nil before it has begun
	interrupted bool
}

// start begins the night.
func (w *watched) start(begin, ctx context.Context, wait bool) (<-chan []run.Event, error) {
	if err := w.n.Begin(begin, wait, func(string) {}); err != nil {
		var held *locks.Held
		if errors.As(err, &held) {
			err = fmt.Errorf("%w; leave, and wait for its end with --wait", err)
		}
		return nil, err
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	w.over = make(chan result, 1)
	shown := make(chan []run.Event)
	over := w.over
	go func() { over <- runNight(ctx, w.n.Run, shown, w.left, &w.need) }()
	return shown, nil
}

// running is where the end of a night that has begun will come out; nil when none
// has.
func (w *watched) running() chan result {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.over
}

// end asks the night to end: the first time by taking back what is in change, then
// by letting go of everything.
func (w *watched) end(ctx context.Context, why string) {
	w.mu.Lock()
	choice := run.BackDevice
	if w.interrupted {
		choice = run.Release
	}
	w.interrupted = true
	begun := w.over != nil
	w.mu.Unlock()
	if begun {
		_ = w.n.Run.Do(ctx, run.Command{Choice: choice, By: who() + " (" + why + ")"}) // the night may be over
	}
}

// afterScreen sees the night to its end and tells it, to whoever still reads.
func (a *app) afterScreen(ctx context.Context, w *watched, err error) error {
	close(w.left)
	over := w.running()
	if over == nil { // it never began
		if errors.Is(err, context.Canceled) || errors.Is(err, tea.ErrProgramKilled) {
			return &exitError{code: exitInterrupted}
		}
		return err
	}
	var end result
	select {
	case end = <-over:
	default:
		w.mu.Lock()
		asked := w.interrupted
		w.mu.Unlock()
		if !asked { // the screen is gone, and nobody has said what becomes of the night
			w.end(ctx, "the screen ended")
		}
		fmt.Fprintln(a.err, "metabasis: the screen is gone; what is in change is taken back, and this ends then")
		end = <-over
		err = nil
	}
	for _, note := range w.n.Notes {
		fmt.Fprintln(a.err, "warning:", note)
	}
	fmt.Fprintln(a.out, report.Summary(&end.night))
	for _, l := range report.Needs(&end.night) {
		fmt.Fprintln(a.out, "  "+l)
	}
	if err = errors.Join(err, end.err); err != nil {
		return &exitError{int(run.NeedsPerson), err}
	}
	return outcome(&end.night, end.night.Aborted != "" || end.night.Released)
}

// deviceOf finds a device of a night's plan.
func deviceOf(n *workspace.Night, name string) fleet.Device {
	for _, t := range n.Plan.Targets() {
		if t.Device.Name == name {
			return t.Device
		}
	}
	return fleet.Device{Name: name}
}
