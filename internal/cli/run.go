package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metabasis/demo"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/device"
	devssh "metabasis/internal/device/ssh"
	"metabasis/internal/sim"
	"metabasis/internal/workspace"
)

// nightFlags are what run and demo share.
type nightFlags struct {
	headless bool
	json     bool
	fleet    string
	answers  []string
}

func (f *nightFlags) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.headless, "headless", false, "no screen: one line an event, decisions from the runbook's unattended line")
	cmd.Flags().BoolVar(&f.json, "json", false, "with --headless: one JSON object an event")
	cmd.Flags().StringArrayVar(&f.answers, "answer", nil, "NAME=VALUE for a value the runbook asks for; may be given many times")
}

func (a *app) runCommand() *cobra.Command {
	var f nightFlags
	cmd := &cobra.Command{
		Use:   "run RUNBOOK",
		Short: "Run a runbook",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ws, err := workspace.Open(a.dir)
			if err != nil {
				return err
			}
			return a.night(cmd.Context(), ws, args[0], f, workspace.Access{})
		},
	}
	f.add(cmd)
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
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
	cmd.Flags().StringVar(&dir, "dir", "", "keep the demo's workspace in this directory; else it is thrown away")
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
		defer os.RemoveAll(dir)
	}
	if err := demo.Write(dir, faults, nil); err != nil {
		return err
	}
	fleet, err := sim.New(s)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(ctx)
	defer func() {
		cancel()
		fleet.Close()
	}()
	addrs, err := fleet.Listen(ctx, "127.0.0.1", 0)
	if err != nil {
		return err
	}
	ws, err := workspace.Open(dir)
	if err != nil {
		return err
	}
	access := workspace.Access{
		Dial:    toLoopback(s, addrs),
		HostKey: fleet.CheckHostKey,
		Logins: map[string]device.Login{"crew": {Login: devssh.Login{User: "crew", Password: s.Logins["crew"]},
			Secrets: map[string]string{"operator": s.Operator}}},
	}
	return a.night(ctx, ws, dir+"/"+demo.Runbook, f, access)
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
func (a *app) night(ctx context.Context, ws *workspace.Workspace, file string, f nightFlags, access workspace.Access) error {
	if f.json && !f.headless {
		return errors.New("--json goes with --headless")
	}
	fl, err := ws.Fleet(f.fleet)
	if err != nil {
		return err
	}
	rb, text, err := ws.Runbook(file, fl)
	if err != nil {
		return err
	}
	answers, err := a.answers(rb, f)
	if err != nil {
		return err
	}
	p, err := plan.Make(rb, fl, answers, ws.Profiles.Traits(), time.Now())
	if err != nil {
		return err
	}
	if f.headless && !p.Unattended.Given {
		return fmt.Errorf("%s has no unattended line, so nobody would answer a hold; write, for example: unattended  take back the device", file)
	}
	if !f.headless && !a.isTerminal() {
		return errors.New("there is no terminal here for the screen; use --headless")
	}
	if access.Logins == nil {
		var ask workspace.Asker
		if a.isTerminal() {
			ask = a.askSecret
		}
		if access.Logins, err = workspace.Logins(ctx, ws.LoginNames(p), os.Getenv, ask); err != nil {
			return err
		}
	}
	n, err := ws.Prepare(p, file, text, access, f.headless, who())
	if err != nil {
		return err
	}
	defer n.Close()
	if f.headless {
		return a.headless(ctx, n, f.json)
	}
	return a.watch(ctx, ws, n)
}

// who is the person in front of us, for the journal.
func who() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
}

// answers gathers the values the runbook asks for: from the flags, else its
// defaults, else from the person.
func (a *app) answers(rb *runbook.Runbook, f nightFlags) (map[string]string, error) {
	out := map[string]string{}
	for _, ask := range rb.Ask {
		out[ask.Name] = ask.Default
	}
	for _, given := range f.answers {
		name, value, ok := strings.Cut(given, "=")
		if !ok || !slices.ContainsFunc(rb.Ask, func(k runbook.Ask) bool { return k.Name == name }) {
			return nil, fmt.Errorf("--answer %q: write NAME=VALUE with a name the runbook asks for", given)
		}
		out[name] = value
	}
	for _, ask := range rb.Ask {
		if out[ask.Name] == "" && !f.headless && a.isTerminal() {
			fmt.Fprintf(a.err, "%s (%s, %s): ", ask.Prompt, ask.Name, ask.Kind)
			var line string
			if _, err := fmt.Fscanln(a.in, &line); err != nil {
				return nil, fmt.Errorf("%s: no answer", ask.Name)
			}
			out[ask.Name] = line
		}
		if err := ask.Check(out[ask.Name]); err != nil {
			return nil, fmt.Errorf("%w; give it with --answer %s=VALUE", err, ask.Name)
		}
	}
	return out, nil
}

func (a *app) isTerminal() bool {
	in, ok1 := a.in.(*os.File)
	out, ok2 := a.out.(*os.File)
	return ok1 && ok2 && term.IsTerminal(int(in.Fd())) && term.IsTerminal(int(out.Fd()))
}

func (a *app) askSecret(prompt string) (string, error) {
	fmt.Fprint(a.err, prompt)
	b, err := term.ReadPassword(int(a.in.(*os.File).Fd()))
	fmt.Fprintln(a.err)
	return string(b), err
}
