// Package cli is the command line: it wires the workspace, the run and the
// screen together and turns outcomes into exit codes.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"sync/atomic"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"golang.org/x/term"

	"metabasis/internal/acts"
	"metabasis/internal/core/problem"
	"metabasis/internal/diag"
	"metabasis/internal/door"
	"metabasis/internal/settings"
)

// Exit codes. 0, 2, 3 and 4 are night.Outcome.
const (
	exitUsage       = 1
	exitInterrupted = 130
)

// exitError carries an exit code. Its text, if any, is printed.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

// app is what commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	dir      string
	flags    map[string]*string // of settings, by key
	given    map[string]string  // those that were given
	debug    bool               // more is logged
	words    []string           // the command, without its arguments
	logged   *diag.Log          // nil before it is first wanted
	logFile  string
	stdout   io.Writer                // as it was given to us; out is what text is printed to
	stderr   io.Writer                // the same of err
	dumpTo   atomic.Pointer[diag.Log] // where SIGQUIT has written what runs; nil for nowhere
	args     []string                 // all of them
	here     bool                     // a night ends with its screen
	doorAt   int                      // the number of its socket; 0 is none
	below    bool                     // the workspace's view lies below an attached night
	door     *door.Inside             // nil outside
}

// desk opens the workspace with the settings that were given as flags, for whoever is
// at the terminal.
func (a *app) desk() (*acts.Desk, error) { return a.deskIn(a.dir) }

func (a *app) deskIn(dir string) (*acts.Desk, error) {
	d, err := acts.Open(dir, a.given, a.person())
	if err == nil {
		d.Log, d.Working = a.log(), a.working
	}
	return d, err
}

// Main runs the command line and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) (code int) {
	// The heap is small and short-lived beside what a device's keys cost; collect
	// it less often, unless the person has said how often.
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(400)
	}
	a := &app{in: in, out: out, stdout: out, err: errOut, stderr: errOut, flags: map[string]*string{}, given: map[string]string{}, args: args}
	if f, is := out.(*os.File); is && term.IsTerminal(int(f.Fd())) { // what goes elsewhere goes as it was said
		a.out, a.err = straight{out}, straight{errOut}
	}
	defer a.dumps()()
	defer func() {
		if r := recover(); r != nil {
			a.caught(r)
			code = exitUsage
		}
		if a.logged != nil {
			_ = a.logged.Close()
		}
	}()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(context.Background())
	var exit *exitError
	switch {
	case err == nil:
		return 0
	case errors.Is(err, syscall.EPIPE):
		return exitUsage
	case errors.As(err, &exit):
		if exit.err != nil {
			printError(errOut, exit.err)
		}
		return exit.code
	}
	printError(errOut, err)
	return exitUsage
}

// printError prints problems in full, other errors on a line.
func printError(w io.Writer, err error) {
	var full fmt.Stringer
	if errors.As(err, &full) {
		fmt.Fprint(w, full.String())
		return
	}
	fmt.Fprintln(w, "metabasis:", problem.Printable(err.Error()))
}

func (a *app) root() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "metabasis",
		Short: "Carry out a change on many network devices in a maintenance window",
		Long: `Metabasis runs a runbook over many devices in batches, watches it live, backs
every device up and arms a rollback timer on it first, and takes the change
back when a step fails.

Without a command it opens the workspace in the current directory.`,
		Version:       diag.Version(),
		Annotations:   shows(),
		Args:          cobra.NoArgs,
		SilenceUsage:  true,
		SilenceErrors: true,
		RunE:          func(cmd *cobra.Command, _ []string) error { return a.open(cmd.Context()) },
	}
	cmd.PersistentFlags().StringVarP(&a.dir, "workspace", "C", ".", "directory of the workspace")
	cmd.SetVersionTemplate(about())
	cmd.PersistentFlags().IntVar(&a.doorAt, door.Flag, 0, "")
	_ = cmd.PersistentFlags().MarkHidden(door.Flag)
	cmd.PersistentFlags().BoolVar(&a.debug, "debug", false, "write more into the diagnostic log; metabasis --version names it")
	var password string
	cmd.PersistentFlags().StringVar(&password, "password", "", "")
	_ = cmd.PersistentFlags().MarkHidden("password")
	a.settingFlag(cmd.PersistentFlags(), settings.Theme)
	a.settingFlag(cmd.PersistentFlags(), settings.HostKeys)
	cmd.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		if wrong := (*pflag.InvalidValueError)(nil); errors.As(err, &wrong) {
			return wrongValue(wrong)
		}
		given, unknown := strings.CutPrefix(err.Error(), "unknown flag: --")
		if !unknown {
			return err
		}
		var names []string
		cmd.Flags().VisitAll(func(f *pflag.Flag) {
			if !f.Hidden {
				names = append(names, f.Name)
			}
		})
		if near := problem.Nearest(given, names); near != "" {
			return fmt.Errorf("there is no flag --%s here; write: --%s", given, near)
		}
		return fmt.Errorf("there is no flag --%s here; metabasis %s --help lists those there are", given, cmd.Name())
	})
	cmd.PersistentPreRunE = func(cmd *cobra.Command, _ []string) error {
		a.words = strings.Fields(cmd.CommandPath())
		switch there, err := os.Stat(a.dir); {
		case errors.Is(err, fs.ErrNotExist):
			return fmt.Errorf("there is no directory %s: -C names the directory of a workspace", a.dir)
		case err != nil:
			return fmt.Errorf("the workspace %s cannot be opened: %w", a.dir, err)
		case !there.IsDir():
			return fmt.Errorf("%s is a file: -C names the directory of a workspace", a.dir)
		}
		if cmd.Flags().Changed("password") {
			return errors.New("a password on the command line can be read by everybody on this machine, and stays in the shell's history: " +
				"put it into the secrets file with metabasis secret add, or let yourself be asked")
		}
		for key, v := range a.flags {
			if *v != "" {
				a.given[key] = *v
			}
		}
		return a.atDoor(cmd)
	}
	cmd.AddCommand(
		a.runCommand(),
		a.attachCommand(),
		a.resumeCommand(),
		a.planCommand(),
		a.rehearseCommand(),
		a.demoCommand(),
		a.restoreCommand(),
		a.saveCommand(),
		a.deviceCommand(),
		a.replaceCommand(),
		a.backupCommand(),
		a.carryCommand(),
		a.fetchCommand(),
		a.clearCommand(),
		a.imagesCommand(),
		a.readyCommand(),
		a.backupsCommand(),
		a.recordCommand(),
		a.compareCommand(),
		a.reportCommand(),
		a.checkCommand(),
		a.tidyCommand(),
		a.simCommand(),
		a.scopeCommand(),
		a.reachCommand(),
		a.whoCommand(),
		a.readCommand(),
		a.askCommand(),
		a.settingsCommand(),
		a.secretCommand(),
		a.profileCommand(),
		a.consoleCommand(),
		a.journalCommand(),
		a.manCommand(),
	)
	for _, c := range append(cmd.Commands(), cmd) {
		if c.Annotations["shows"] != "" {
			c.Flags().BoolVar(&a.here, "here", false, "a night that is begun on this screen ends with it, in place of running on in a process of its own")
		}
	}
	a.complete(cmd)
	return cmd
}

// settingFlag adds the flag of a setting.
func (a *app) settingFlag(flags *pflag.FlagSet, key string) {
	for _, s := range settings.All() {
		if s.Key == key {
			if a.flags[key] == nil {
				a.flags[key] = new(string)
			}
			flags.StringVar(a.flags[key], strings.TrimPrefix(s.Flag(), "--"), "", s.Help)
		}
	}
}

// onInterrupts does something each time the person or the system asks us to end. The
// function it returns ends that.
func onInterrupts(do func(os.Signal)) (stop func()) {
	signals, off := interrupts()
	quit, gone := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(gone)
		for {
			select {
			case <-quit:
				return
			case sig := <-signals:
				do(sig)
			}
		}
	}()
	return func() { off(); close(quit); <-gone }
}

// interrupts delivers each time the person presses Ctrl-C, or the system asks us
// to end.
func interrupts() (<-chan os.Signal, func()) {
	c := make(chan os.Signal, 4)
	signal.Notify(c, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT)
	return c, func() { signal.Stop(c) }
}
