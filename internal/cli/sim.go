package cli

import (
	"context"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"metabasis/demo"
	"metabasis/internal/sim"
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
		if data, err = os.ReadFile(file); err == nil {
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
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	addrs, err := fleet.Listen(ctx, "127.0.0.1", base)
	if err != nil {
		return err
	}
	if write != "" {
		if err := demo.Write(write, faults, addrs); err != nil {
			return err
		}
	}
	a.simHelp(fleet, s, addrs, write)
	stop, done := interrupts()
	defer done()
	<-stop
	cancel()
	fleet.Close()
	return nil
}

func first(logins map[string]string) string { return slices.Sorted(maps.Keys(logins))[0] }

func (a *app) simHelp(fleet *sim.Fleet, s sim.Scenario, addrs map[string]string, write string) {
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
	vars := fmt.Sprintf("METABASIS_CREW_PASSWORD=%s METABASIS_CREW_OPERATOR=%s", s.Logins[user], s.Operator)
	if clear {
		gates := first(s.ClearLogins)
		fmt.Fprintf(a.out, "Telnet: name %s, word %s; master's word %s. Try: list gates, screen off, master, bye.\n", gates, s.ClearLogins[gates], s.Master)
		vars += fmt.Sprintf(" METABASIS_GATES_PASSWORD=%s METABASIS_GATES_MASTER=%s", s.ClearLogins[gates], s.Master)
	}
	if write != "" {
		fmt.Fprintf(a.out, "Workspace: %s. Its keys are new each time; begin with\n  export %s METABASIS_HOST_KEYS=remember\n  metabasis -C %s reach\n  metabasis -C %s run %s\n",
			write, vars, write, write, filepath.Join(write, demo.Runbook))
	}
	fmt.Fprintln(a.out, "Ctrl-C ends it.")
}
