package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metabasis/demo"
	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/sim"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// nightFlags are what run and demo share.
type nightFlags struct {
	headless bool
	json     bool
	fleet    string
	only     []string
	answers  []string
	file     string // of values
	sealed   string
	shown    *store.Rehearsal // what was confirmed of each device
	waivers  []string
	wait     bool
}

func (f *nightFlags) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.headless, "headless", false, "no screen: one line an event, decisions from the runbook's unattended line")
	cmd.Flags().BoolVar(&f.json, "json", false, "with --headless: one JSON object an event")
	f.values(cmd)
	cmd.Flags().BoolVar(&f.wait, "wait", false, "wait for devices, and for the workspace, that another night has, in place of going on without them")
}

// values adds the flags by which a night is planned.
func (f *nightFlags) values(cmd *cobra.Command) {
	cmd.Flags().StringArrayVar(&f.only, "only", nil, onlyHelp)
	cmd.Flags().StringArrayVar(&f.answers, "answer", nil, "NAME=VALUE for a value the runbook asks for; may be given many times")
	cmd.Flags().StringVar(&f.file, "values", "", "a YAML file of NAME: VALUE for values the runbook asks for; --answer goes before it")
	cmd.Flags().StringArrayVar(&f.waivers, "waive", nil, "\"CHECK on DEVICE: REASON\" passes a precheck that does not hold; may be given many times")
}

// request is what a night is planned from.
func (f *nightFlags) request() acts.Request {
	return acts.Request{
		Only: f.only, Answers: f.answers, ValuesFile: f.file, Waivers: f.waivers, Unattended: f.headless, Sealed: f.sealed, Shown: f.shown,
	}
}

func (a *app) runCommand() *cobra.Command {
	var f nightFlags
	cmd := &cobra.Command{
		Use:         "run RUNBOOK",
		Annotations: shows(),
		Short:       "Run a runbook",
		Args:        exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			return a.night(cmd.Context(), d, args[0], f)
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().StringVar(&f.sealed, "sealed", "", "do what was approved in this file (metabasis plan --seal), or do not begin")
	return cmd
}

func (a *app) demoCommand() *cobra.Command {
	var f nightFlags
	var faults, dir string
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Play a whole night on 24 simulated switches",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.demo(cmd.Context(), f, faults, dir)
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&faults, "faults", "few", "how much goes wrong: none, few or many")
	cmd.Flags().StringVar(&dir, "dir", "", "put the demo's workspace into this directory; with --headless it is thrown away otherwise")
	return cmd
}

func (a *app) demo(ctx context.Context, f nightFlags, faults, dir string) error {
	s, err := demo.Scenario(faults)
	if err != nil {
		return err
	}
	if dir == "" {
		if dir, err = os.MkdirTemp("", "metabasis-demo-"); err != nil {
			return err
		}
		defer func() { a.leaveDemo(dir, f.headless) }()
	}
	if err := demo.Write(dir, faults, nil); err != nil {
		return err
	}
	simulated, err := sim.New(s)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer func() {
		cancel()
		simulated.Close()
	}()
	addrs, err := simulated.Listen(ctx, "127.0.0.1", 0)
	if err != nil {
		return err
	}
	d, err := a.deskIn(dir)
	if err != nil {
		return err
	}
	d.Access = func(fl *fleet.Fleet) *workspace.Access {
		access := d.Fixed(fl, toLoopback(s, addrs), simulated.HostKeys(), demo.Logins(s))
		access.Resolve = simulated.Resolve
		return access
	}
	return a.night(ctx, d, filepath.Join(dir, demo.Runbook), f)
}

// leaveDemo throws the demo's workspace away, unless a person has seen a night leave
// something in it.
func (a *app) leaveDemo(dir string, headless bool) {
	_, err := os.Stat(filepath.Join(dir, "metabasis.db"))
	if headless || errors.Is(err, fs.ErrNotExist) {
		_ = os.RemoveAll(dir)
		return
	}
	fmt.Fprintf(a.err, "The demo's journal, report, backups and transcripts are in %s: metabasis -C %s opens them. Remove the directory when you are done.\n", dir, dir)
}

// toLoopback dials a device of the scenario by its address: it listens on a
// port of this machine.
func toLoopback(s sim.Scenario, addrs map[string]string) func(context.Context, string, string) (net.Conn, error) {
	at := map[string]string{}
	for _, d := range s.Devices {
		at[d.Address] = addrs[d.Name]
	}
	return func(ctx context.Context, network, addr string) (net.Conn, error) {
		host, _, err := net.SplitHostPort(addr)
		if err != nil {
			return nil, err
		}
		to, ok := at[host]
		if !ok {
			return nil, fmt.Errorf("no route to %s in the demo", host)
		}
		return (&net.Dialer{}).DialContext(ctx, network, to)
	}
}

// night plans a runbook and runs it, on the screen or without.
func (a *app) night(ctx context.Context, d *acts.Desk, file string, f nightFlags) error {
	c, err := d.Change(file, f.fleet)
	if err != nil {
		return err
	}
	return a.nightOf(ctx, d, c, f)
}

// nightOf plans a change and runs it, on the screen or without.
func (a *app) nightOf(ctx context.Context, d *acts.Desk, c *acts.Change, f nightFlags) error {
	if f.json && !f.headless {
		return errors.New("--json goes with --headless")
	}
	r := f.request()
	if !f.headless {
		if !a.isTerminal() {
			return errors.New("there is no terminal here for the screen; use --headless")
		}
		return a.nightOnScreen(ctx, d, c, r, f.wait)
	}
	n, err := c.Plan(ctx, r)
	if err != nil {
		return err
	}
	defer func() {
		if err := d.Close(); err != nil { // the night itself is over and told
			fmt.Fprintln(a.err, "metabasis:", err)
		}
	}()
	a.warn(n.Warnings())
	return a.headless(ctx, n, f)
}

// warn prints what was met while something was got ready.
func (a *app) warn(warnings []string) {
	for _, w := range warnings {
		fmt.Fprintln(a.err, "warning:", w)
	}
}

func (a *app) isTerminal() bool {
	in, ok1 := a.in.(*os.File)
	out, ok2 := a.stdout.(*os.File)
	return ok1 && ok2 && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd()))
}
