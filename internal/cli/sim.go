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

func (a *app) simHelp(fleet *sim.Fleet, s sim.Scenario, addrs map[string]string, write string) {
	fmt.Fprintf(a.out, "%d simulated switches are up. Log in with any SSH client:\n\n", len(addrs))
	user := slices.Sorted(maps.Keys(s.Logins))[0]
	for _, d := range fleet.Devices() {
		host, port, _ := net.SplitHostPort(addrs[d.Name()])
		fmt.Fprintf(a.out, "  %-12s ssh -p %s %s@%s\n", d.Name(), port, user, host)
	}
	fmt.Fprintf(a.out, "\nPassword %s; operator password %s. Try: tell clock, work, edit, restart in 5 m.\n", s.Logins[user], s.Operator)
	if write != "" {
		fmt.Fprintf(a.out, "Workspace: %s; run it with\n  METABASIS_CREW_PASSWORD=%s METABASIS_CREW_OPERATOR=%s metabasis -C %s run %s\n",
			write, s.Logins[user], s.Operator, write, filepath.Join(write, demo.Runbook))
	}
	fmt.Fprintln(a.out, "Ctrl-C ends it.")
}
