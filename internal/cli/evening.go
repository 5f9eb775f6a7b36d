package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/device"
	"metabasis/internal/settings"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// exitSome is the exit code when some devices could not be reached or read.
const exitSome = 2

// eveningFlags are what the commands of the evening before share: those that
// reach devices and change nothing.
type eveningFlags struct {
	fleet    string
	headless bool
	json     bool
}

func (a *app) eveningFlags(cmd *cobra.Command, f *eveningFlags) {
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	a.settingFlag(cmd.Flags(), settings.Together)
}

// evening is a workspace with devices selected, ready to be reached.
type evening struct {
	ws        *workspace.Workspace
	fleet     *fleet.Fleet
	scope     *scope.Scope
	access    *workspace.Access
	scripts   *store.Transcripts
	connector *device.Connector
	dir       string // of the transcripts
}

// selected opens the workspace and selects devices; it reaches none.
func (a *app) selected(file string, words []string) (*evening, error) {
	ws, err := a.workspace()
	if err != nil {
		return nil, err
	}
	return a.selectedIn(ws, file, words)
}

func (a *app) selectedIn(ws *workspace.Workspace, file string, words []string) (*evening, error) {
	e := &evening{ws: ws}
	var err error
	if e.fleet, err = ws.Fleet(file); err != nil {
		return nil, err
	}
	saved, err := ws.Selections()
	if err != nil {
		return nil, err
	}
	e.scope, err = scope.Select(e.fleet, words, saved)
	return e, err
}

// ready gets ready to reach the selected devices, whose transcripts are kept
// under a name.
func (a *app) ready(ctx context.Context, e *evening, what string) error {
	var err error
	if e.access, err = a.access(ctx, e.ws, e.fleet, e.scope.Devices); err != nil {
		return err
	}
	now := time.Now()
	e.dir = e.ws.TranscriptsAt(now, now.Format("150405")+"-"+what)
	if e.scripts, err = store.NewTranscripts(e.dir); err != nil {
		return errors.Join(err, e.access.Close())
	}
	e.connector = e.access.Connector(e.scripts.For)
	e.access.OpenJumps(ctx, e.connector, e.scope.Devices)
	return nil
}

func (e *evening) close() error { return errors.Join(e.access.Close(), e.scripts.Close()) }

// together is how many devices are worked on at once.
func (e *evening) together() int { return e.ws.Settings.Int(settings.Together) }

// say tells who is in scope and who is not, before anything connects.
func (a *app) say(s *scope.Scope) {
	fmt.Fprintf(a.err, "%s in scope", count(len(s.Devices), "device"))
	if len(s.LeftOut) == 0 {
		fmt.Fprintln(a.err)
		return
	}
	fmt.Fprintf(a.err, ", %d left out:\n", len(s.LeftOut))
	for _, g := range scope.Groups(s.LeftOut) {
		fmt.Fprintf(a.err, "  %s: %s\n", g.Why, some(g.Devices, 6))
	}
}

func some(names []string, n int) string {
	if len(names) <= n {
		return strings.Join(names, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(names[:n], ", "), len(names)-n)
}

func count(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// unreached is the result of a device that was not begun.
func unreached(d fleet.Device) reach.Result {
	return reach.Result{Device: d.Name, Failure: &reach.Failure{Stage: reach.Name, Cause: "not begun: given up before"}}
}

func (a *app) scopeCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "scope [SCOPE]",
		Short: "Show which devices a scope selects, and why the others are left out",
		Long: `Show which devices a scope selects, and why the others are left out. Nothing is
connected to.

A scope is a condition as in a runbook, or names of devices and of saved
selections:

  metabasis scope 'role == "quay" and site in ["ALD", "BRM"]'
  metabasis scope ald-quay-1 ald-quay-2 @gates`,
		RunE: func(_ *cobra.Command, words []string) error { return a.scope(file, words) },
	}
	cmd.Flags().StringVar(&file, "fleet", "", "a fleet file in place of the workspace's")
	return cmd
}

func (a *app) scope(file string, words []string) error {
	e, err := a.selected(file, words)
	if err != nil {
		return err
	}
	config, err := e.ws.UserConfig()
	if err != nil {
		return err
	}
	for _, d := range e.scope.Devices {
		login, from := e.ws.LoginOf(d, config)
		if login == "" {
			login, from = "none", "no rule covers it"
		}
		note := ""
		if e.ws.ClearText(d) {
			note = "  clear text"
		}
		if _, err := fmt.Fprintf(a.out, "%-20s %-8s %-6s %-8s login %s (%s)%s\n", d.Name, d.Platform, d.Site, d.Role, login, from, note); err != nil {
			return err
		}
	}
	a.say(e.scope)
	return nil
}

// signalled makes a context that ends at the first interrupt; the function it
// returns tells whether there was one.
func signalled(ctx context.Context) (context.Context, func() bool) {
	// A reader that goes away must not leave sessions behind on devices.
	signal.Ignore(syscall.SIGPIPE)
	ctx, cancel := context.WithCancelCause(ctx)
	signals, stop := interrupts()
	quit := make(chan struct{})
	go func() {
		select {
		case <-signals:
			cancel(errInterrupted)
		case <-quit:
		}
	}()
	return ctx, func() bool {
		stop()
		close(quit)
		was := errors.Is(context.Cause(ctx), errInterrupted)
		cancel(nil)
		return was
	}
}

var errInterrupted = errors.New("interrupted")

// ended turns the end of an evening's command into an exit code.
func ended(interrupted bool, failed int) error {
	switch {
	case interrupted:
		return &exitError{code: exitInterrupted}
	case failed > 0:
		return &exitError{code: exitSome}
	}
	return nil
}

// relative shortens a path for people.
func relative(path string) string {
	wd, err := os.Getwd()
	if err != nil {
		return path
	}
	if r, err := filepath.Rel(wd, path); err == nil && !strings.HasPrefix(r, "..") {
		return r
	}
	return path
}
