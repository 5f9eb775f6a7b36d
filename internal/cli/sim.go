package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metabasis/demo"
	"metabasis/internal/core/textfile"
	"metabasis/internal/device/profile"
	"metabasis/internal/sim"
	"metabasis/internal/workspace"
)

func (a *app) simCommand() *cobra.Command {
	var file, faults, write string
	var base int
	var strangers uint64
	cmd := &cobra.Command{
		Use:   "sim",
		Short: "Start the simulated fleet alone and say how to log in to it",
		Args:  cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Flags().Changed("strangers") {
				return a.simScenario(cmd.Context(), strange(strangers), nil, true, faults, write, base)
			}
			return a.sim(cmd.Context(), file, faults, write, base)
		},
	}
	cmd.Flags().StringVar(&file, "scenario", "", "a scenario file in place of the demo's")
	cmd.Flags().StringVar(&faults, "faults", "none", "how much goes wrong in the demo's: none, few or many")
	cmd.Flags().
		Uint64Var(&strangers, "strangers", 0, "in place of the demo's, three dunlins: devices with manners of their own, drawn by this number")
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
	return a.simScenario(ctx, s, err, file != "", faults, write, base)
}

// strange is a scenario of devices whose manners nobody has seen before.
func strange(seed uint64) sim.Scenario {
	m := sim.DrawManners(rand.New(rand.NewPCG(seed, 13)))
	s := sim.Scenario{Manners: &m, Boot: 15 * time.Second, Settle: 8 * time.Second, TimeSources: []string{"192.0.2.9", "192.0.2.40"},
		Logins: map[string]string{"crew": "ferry-crew"}, Operator: "deep-water",
		Config: "name {{.Name}}\ntime source 192.0.2.9 first\nlog host 198.51.100.9\nmanage from any\nlogin crew secret k3lp\nport 1\n  trunk\n"}
	for i := range 3 {
		s.Devices = append(
			s.Devices,
			sim.Spec{Name: fmt.Sprintf("drf-post-%d", i+1), Platform: "dunlin", Site: "DRF", Address: fmt.Sprintf("192.0.2.%d", 71+i)},
		)
	}
	return s
}

// simScenario plays a scenario. Own tells that it is not the demo's.
func (a *app) simScenario(ctx context.Context, s sim.Scenario, err error, own bool, faults, write string, base int) error {
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
		if own {
			err = demo.WriteFleet(write, scenarioFleet(fleet, s, addrs))
		} else {
			err = demo.Write(write, faults, addrs)
		}
		if err = errors.Join(err, s.WriteStock(write)); err != nil {
			return err
		}
	}
	a.simHelp(fleet, s, addrs)
	if write != "" {
		a.simWorkspace(s, write, !own)
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
	paired := slices.ContainsFunc(s.Devices, func(d sim.Spec) bool { return d.Pair != "" })
	b.WriteString("name,address,port,platform,site,login")
	if paired {
		b.WriteString(",pair")
	}
	b.WriteString("\n")
	pairs := map[string]string{}
	for _, d := range s.Devices {
		pairs[d.Name] = d.Pair
	}
	for _, d := range fleet.Devices() {
		host, port, _ := net.SplitHostPort(addrs[d.Name()])
		login := first(s.Logins)
		if d.Platform() == "plover" {
			login = first(s.ClearLogins)
		}
		fmt.Fprintf(&b, "%s,%s,%s,%s,%s,%s", d.Name(), host, port, d.Platform(), d.Site(), login)
		if paired {
			b.WriteString("," + pairs[d.Name()])
		}
		b.WriteString("\n")
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
	fmt.Fprintf(a.out, "%d simulated devices are up. Log in with any client:\n\n", len(addrs))
	user := first(s.Logins)
	clear := false
	for _, d := range fleet.Devices() {
		host, port, _ := net.SplitHostPort(addrs[d.Name()])
		how := fmt.Sprintf("ssh -p %s %s@%s", port, user, host)
		switch d.Platform() {
		case "plover":
			clear = true
			how = fmt.Sprintf("telnet %s %s", host, port)
		case "skerry":
			how = fmt.Sprintf("ssh -p %s -s %s@%s netconf    and RESTCONF at https://%s:%s/restconf/data", port, user, host, host, port)
		case "bittern":
			how = fmt.Sprintf("snmpwalk -v 2c -c %s %s:%s 1.3.6.1    and version 3, SHA-256 and AES", s.Logins[user], host, port)
		}
		fmt.Fprintf(a.out, "  %-12s %s\n", d.Name(), how)
	}
	if s.Manners != nil {
		fmt.Fprintf(
			a.out,
			"\nSSH: user %s, password %s; the word for more rights is %s. A dunlin understands:\n",
			user,
			s.Logins[user],
			s.Operator,
		)
		for _, c := range s.Manners.Commands() {
			fmt.Fprintf(a.out, "  %-20s %s\n", c[0], c[1])
		}
		return
	}
	fmt.Fprintf(
		a.out,
		"\nSSH: user %s, password %s; operator password %s. Try: tell clock, work, edit, restart in 5 m.\n",
		user,
		s.Logins[user],
		s.Operator,
	)
	if clear {
		gates := first(s.ClearLogins)
		fmt.Fprintf(
			a.out,
			"Telnet: name %s, word %s; master's word %s. Try: list gates, screen off, master, bye.\n",
			gates,
			s.ClearLogins[gates],
			s.Master,
		)
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
	add(crew, profile.Privacy, s.Privacy)
	add(gates, "password", s.ClearLogins[gates])
	add(gates, "master", s.Master)
	fmt.Fprintf(
		a.out,
		"Workspace: %s. Nobody has seen its keys yet; begin with\n  export %s METABASIS_HOST_KEYS=remember\n  metabasis -C %s reach\n",
		dir,
		strings.Join(vars, " "),
		dir,
	)
	if runbook {
		fmt.Fprintf(a.out, "  metabasis -C %s run %s\n", dir, filepath.Join(dir, demo.Runbook))
	}
}
