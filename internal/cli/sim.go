package cli

import (
	"context"
	"fmt"
	"maps"
	"net"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/demo"
	"metabasis/internal/core/textfile"
	"metabasis/internal/sim"
	"metabasis/internal/workspace"
)

func (a *app) simCommand() *cobra.Command {
	var file, faults, write string
	var base int
	cmd := &cobra.Command{
		Use:   "sim",
		Short: "Start the simulated fleet alone and say how to log in to it",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			return a.sim(cmd.Context(), file, faults, write, base)
		},
	}
	cmd.Flags().StringVar(&file, "scenario", "", "a scenario file in place of the demo's")
	cmd.Flags().StringVar(&faults, "faults", "none", "how much goes wrong in the demo's: none, few or many")
	cmd.Flags().StringVar(&write, "write", "", "make this directory a workspace over the simulated fleet")
	cmd.Flags().IntVar(&base, "port", 0, "first TCP port on 127.0.0.1; 0 takes free ones")
	return cmd
}

func (a *app) sim(ctx context.Context, file, faults, write string, base int) error {
	s, err := demo.Scenario(faults)
	if file != "" {
		var data []byte
		if data, err = textfile.Read(file, textfile.Small); err == nil {
			s, err = sim.ReadScenario(file, data)
		}
	}
	if err != nil {
		return err
	}
	fleet, err := sim.New(s)
	if err != nil {
		return err
	}
	stop, done := interrupts() // before anybody can see that it is up
	defer done()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	addrs, err := fleet.Listen(ctx, "127.0.0.1", base)
	if err != nil {
		return err
	}
	if write != "" {
		if file != "" {
			err = demo.WriteFleet(write, scenarioFleet(fleet, s, addrs))
		} else {
			err = demo.Write(write, faults, addrs)
		}
		if err != nil {
			return err
		}
	}
	a.simHelp(fleet, s, addrs)
	if write != "" {
		a.simWorkspace(s, write, file == "")
	}
	fmt.Fprintln(a.out, "Ctrl-C ends it.")
	<-stop
	cancel()
	fleet.Close()
	return nil
}

// scenarioFleet is the fleet file of a scenario's own devices.
func scenarioFleet(fleet *sim.Fleet, s sim.Scenario, addrs map[string]string) string {
	var b strings.Builder
	b.WriteString("name,address,port,platform,site,login\n")
	for _, d := range fleet.Devices() {
		host, port, _ := net.SplitHostPort(addrs[d.Name()])
		login := first(s.Logins)
		if d.Platform() == "plover" {
			login = first(s.ClearLogins)
		}
		fmt.Fprintf(&b, "%s,%s,%s,%s,%s,%s\n", d.Name(), host, port, d.Platform(), d.Site(), login)
	}
	return b.String()
}

// first is the first of a scenario's logins.
func first(logins map[string]string) string {
	for _, name := range slices.Sorted(maps.Keys(logins)) {
		return name
	}
	return ""
}

func (a *app) simHelp(fleet *sim.Fleet, s sim.Scenario, addrs map[string]string) {
	fmt.Fprintf(a.out, "%d simulated devices are up. Log in with any SSH or Telnet client:\n\n", len(addrs))
	user := first(s.Logins)
	clear := false
	for _, d := range fleet.Devices() {
		host, port, _ := net.SplitHostPort(addrs[d.Name()])
		if d.Platform() == "plover" {
			clear = true
			fmt.Fprintf(a.out, "  %-12s telnet %s %s\n", d.Name(), host, port)
			continue
		}
		fmt.Fprintf(a.out, "  %-12s ssh -p %s %s@%s\n", d.Name(), port, user, host)
	}
	fmt.Fprintf(a.out, "\nSSH: user %s, password %s; operator password %s. Try: tell clock, work, edit, restart in 5 m.\n", user, s.Logins[user], s.Operator)
	if clear {
		gates := first(s.ClearLogins)
		fmt.Fprintf(a.out, "Telnet: name %s, word %s; master's word %s. Try: list gates, screen off, master, bye.\n", gates, s.ClearLogins[gates], s.Master)
	}
}

// simWorkspace says how to work in the workspace that was written.
func (a *app) simWorkspace(s sim.Scenario, dir string, runbook bool) {
	var vars []string
	add := func(login, part, secret string) {
		if login != "" && secret != "" {
			vars = append(vars, workspace.Variable(login, part)+"="+secret)
		}
	}
	crew, gates := first(s.Logins), first(s.ClearLogins)
	add(crew, "password", s.Logins[crew])
	add(crew, "operator", s.Operator)
	add(gates, "password", s.ClearLogins[gates])
	add(gates, "master", s.Master)
	fmt.Fprintf(a.out, "Workspace: %s. Its keys are new each time; begin with\n  export %s METABASIS_HOST_KEYS=remember\n  metabasis -C %s reach\n",
		dir, strings.Join(vars, " "), dir)
	if runbook {
		fmt.Fprintf(a.out, "  metabasis -C %s run %s\n", dir, filepath.Join(dir, demo.Runbook))
	}
}
