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

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/scope"
	"metabasis/internal/report"
	"metabasis/internal/settings"
)

// exitSome is the exit code when some devices could not be reached or read.
const exitSome = 2

// eveningFlags are what the commands of the evening before share: those that
// reach devices and change nothing.
type eveningFlags struct {
	fleet    string
	only     []string
	headless bool
	json     bool
}

func (a *app) eveningFlags(cmd *cobra.Command, f *eveningFlags) {
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().StringArrayVar(&f.only, "only", nil, onlyHelp)
	a.settingFlag(cmd.Flags(), settings.Together)
}

// onlyHelp is what --only takes, everywhere alike.
const onlyHelp = `a part of the scope for this time: a condition, names, ald-quay-*, @SELECTION, a file of names, "not kept in night 21"; names add up`

// chosen are the words of a scope, which stand behind a command or behind --only.
func (f eveningFlags) chosen(words []string) ([]string, error) {
	if len(f.only) > 0 && len(words) > 0 {
		return nil, fmt.Errorf("the scope stands behind the command, %s, and behind --only: say it once", strings.Join(words, " "))
	}
	if len(f.only) > 0 {
		return scope.Only(f.only)
	}
	return words, nil
}

// selected opens the workspace and selects devices; it reaches none.
func (a *app) selected(file string, words []string) (*acts.Evening, error) {
	d, err := a.desk()
	if err != nil {
		return nil, err
	}
	return d.Select(file, words)
}

// scoped selects the devices of a scope that stands behind a command, or behind --only.
func (a *app) scoped(f eveningFlags, words []string) (*acts.Evening, error) {
	words, err := f.chosen(words)
	if err != nil {
		return nil, err
	}
	return a.selected(f.fleet, words)
}

// ready gets ready to reach the selected devices.
func (a *app) ready(ctx context.Context, e *acts.Evening, what string) error {
	err := e.Ready(ctx, what)
	a.warn(e.Warnings)
	return err
}

// say tells who is in scope and who is not, before anything connects.
func (a *app) say(s *scope.Scope) {
	for _, says := range s.Told.Says() {
		fmt.Fprintln(a.err, "metabasis:", says)
	}
	fmt.Fprintf(a.err, "%s in scope", report.Count(len(s.Devices), "device"))
	if len(s.LeftOut) == 0 {
		fmt.Fprintln(a.err)
		return
	}
	fmt.Fprintf(a.err, ", %d left out:\n", len(s.LeftOut))
	for _, g := range scope.Groups(s.LeftOut) {
		fmt.Fprintf(a.err, "  %s: %s\n", g.Why, report.Some(g.Devices, 6))
	}
}

func (a *app) scopeCommand() *cobra.Command {
	var file, save string
	cmd := &cobra.Command{
		Use:   "scope [SCOPE]",
		Short: "Show which devices a scope selects, and why the others are left out",
		Long: `Show which devices a scope selects, and why the others are left out. Nothing is
connected to.

A scope is a condition as in a runbook; or names of devices, patterns of names, saved
selections, files of names, in any number; or what a night did not keep:

  metabasis scope 'role == "quay" and site in ["ALD", "BRM"]'
  metabasis scope ald-quay-1 'brm-quay-*' @gates ./tonight.txt
  metabasis scope 'not kept in night 21'

A condition may look at tables as the devices told them when they were last read, by read, by
record or in a night. When that was is told, and how long ago it may be can be asked for:

  metabasis scope 'version.version == "4.1" and version read within 7d'
  metabasis scope 'not version read within 7d'

With --save NAME the scope is saved as a selection, which @NAME means from then on, in
runbooks, too: a condition as that, so that it means other devices when the fleet is another;
anything else as the names that it means now.`,
		RunE: func(_ *cobra.Command, words []string) error { return a.scope(file, save, words) },
	}
	cmd.Flags().StringVar(&save, "save", "", "save it as a selection of that name")
	cmd.Flags().StringVar(&file, "fleet", "", "a fleet file in place of the workspace's")
	return cmd
}

func (a *app) scope(file, save string, words []string) error {
	e, err := a.selected(file, words)
	if err != nil {
		return err
	}
	if save != "" {
		said, err := e.SaveScope(save)
		if err != nil {
			return err
		}
		fmt.Fprintln(a.err, said)
	}
	config, err := e.UserConfig()
	if err != nil {
		return err
	}
	for _, d := range e.Devices() {
		login, from := e.Workspace.LoginOf(d, config)
		if login == "" {
			login, from = "none", "no rule covers it"
		}
		note := ""
		if e.ClearText(d) {
			note = "  clear text"
		}
		if _, err := fmt.Fprintf(
			a.out,
			"%-20s %-8s %-6s %-8s login %s (%s)%s\n",
			d.Name,
			d.Platform,
			d.Site,
			d.Role,
			login,
			from,
			note,
		); err != nil {
			return err
		}
	}
	a.say(e.Scope)
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

// closes ends what an evening had open, and tells what of it could not be kept.
func (a *app) closes(e *acts.Evening) {
	if err := e.Close(); err != nil {
		fmt.Fprintln(a.err, "metabasis:", err)
	}
	if err := e.NotKept(); err != nil {
		fmt.Fprintf(a.err, "metabasis: a scope that goes by what devices told will not know of all of this: %v\n", err)
	}
}
