package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metabasis/demo"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/sim"
	"metabasis/internal/workspace"
)

// nightFlags are what run and demo share.
type nightFlags struct {
	headless bool
	json     bool
	fleet    string
	answers  []string
	waivers  []string
	wait     bool
}

func (f *nightFlags) add(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.headless, "headless", false, "no screen: one line an event, decisions from the runbook's unattended line")
	cmd.Flags().BoolVar(&f.json, "json", false, "with --headless: one JSON object an event")
	cmd.Flags().StringArrayVar(&f.answers, "answer", nil, "NAME=VALUE for a value the runbook asks for; may be given many times")
	cmd.Flags().BoolVar(&f.wait, "wait", false, "wait for devices, and for the workspace, that another night has, in place of going on without them")
	cmd.Flags().StringArrayVar(&f.waivers, "waive", nil, "\"CHECK on DEVICE: REASON\" passes a precheck that does not hold; may be given many times")
}

func (a *app) runCommand() *cobra.Command {
	var f nightFlags
	cmd := &cobra.Command{
		Use:   "run RUNBOOK",
		Short: "Run a runbook",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			ws, err := a.workspace()
			if err != nil {
				return err
			}
			return a.night(cmd.Context(), ws, args[0], f, nil)
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
	ws, err := workspace.OpenWith(dir, a.given)
	if err != nil {
		return err
	}
	fl, err := ws.Fleet("")
	if err != nil {
		return err
	}
	access := ws.Fixed(fl, toLoopback(s, addrs), simulated.HostKeys(), demo.Logins(s))
	access.Resolve = simulated.Resolve
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

// night plans a runbook and runs it, on the screen or without. Access is nil for
// the workspace's own.
func (a *app) night(ctx context.Context, ws *workspace.Workspace, file string, f nightFlags, access *workspace.Access) error {
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
	finder := ws.Finder(os.Getenv, a.asker())
	answers, err := a.answers(ctx, rb, f, finder)
	if err != nil {
		return err
	}
	p, err := plan.Make(rb, fl, answers, ws.Profiles.Traits(), time.Now())
	if err != nil {
		return err
	}
	if err := waive(p, f.waivers); err != nil {
		return err
	}
	if f.headless && !p.Unattended.Given {
		return fmt.Errorf("%s has no unattended line, so nobody would answer a hold; write, for example: unattended  take back the device", file)
	}
	if !f.headless && !a.isTerminal() {
		return errors.New("there is no terminal here for the screen; use --headless")
	}
	if access == nil {
		if access, err = a.accessWith(ctx, ws, fl, devicesOf(p), finder); err != nil {
			return err
		}
	}
	defer access.Close()
	n := ws.Prepare(p, file, text, access, f.headless, who())
	defer func() {
		if err := n.Close(); err != nil { // the night itself is over and told
			fmt.Fprintln(a.err, "metabasis:", err)
		}
	}()
	access.OpenJumps(ctx, n.Connector, devicesOf(p))
	if f.headless {
		return a.headless(ctx, n, f)
	}
	access.Quiet()
	return a.watch(ctx, ws, n, f.wait)
}

func waive(p *plan.Plan, texts []string) error {
	var list []plan.Waiver
	for _, text := range texts {
		w, err := plan.ParseWaiver(text, who())
		if err != nil {
			return err
		}
		list = append(list, w)
	}
	return p.Waive(list)
}

// devicesOf are the devices of a plan, and the partners of those in pairs.
func devicesOf(p *plan.Plan) []fleet.Device {
	var out []fleet.Device
	for _, t := range p.Targets() {
		out = append(out, t.Device)
		if t.Mate != nil && p.Asks("pair") {
			out = append(out, *t.Mate)
		}
	}
	return out
}

// access gets ready to reach devices, asking for what is not known.
func (a *app) access(ctx context.Context, ws *workspace.Workspace, f *fleet.Fleet, devices []fleet.Device) (*workspace.Access, error) {
	return a.accessWith(ctx, ws, f, devices, ws.Finder(os.Getenv, a.asker()))
}

func (a *app) accessWith(ctx context.Context, ws *workspace.Workspace, f *fleet.Fleet, devices []fleet.Device, finder *workspace.Finder) (*workspace.Access, error) {
	access, err := ws.Access(ctx, f, devices, finder)
	if err != nil {
		return nil, err
	}
	for _, w := range access.Warnings {
		fmt.Fprintln(a.err, "warning:", w)
	}
	return access, nil
}

// asker asks the person for secrets; nil when nobody is there.
func (a *app) asker() workspace.Asker {
	if in, ok := a.in.(*os.File); ok && term.IsTerminal(int(in.Fd())) {
		return a.askSecret
	}
	return nil
}

// who is the person in front of us, for the journal.
func who() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "somebody"
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
