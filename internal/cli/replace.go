package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/workspace"
)

// replaceFlags are those of replace.
type replaceFlags struct {
	nightFlags
	acts.Restoring
	address, platform string
	base, mapPorts    bool
	template, console string
	carry, plan       bool
	check, finish     bool
	losing            int
	byHand            bool
}

func (a *app) replaceCommand() *cobra.Command {
	var f replaceFlags
	cmd := &cobra.Command{
		Use:         "replace OLD NEW",
		Annotations: shows(),
		Short:       "Put new hardware in the place of a device",
		Long: `Put new hardware in the place of a device, stage by stage:

  --address A    put NEW into fleet.csv, with OLD's site, role and values
  --base         print what is typed on the console of NEW, from bases/PLATFORM.txt with
                 the fleet's values; with --console HOST:PORT it is sent over Telnet
  --map          propose which port of OLD becomes which of NEW, in maps/FROM-TO.yaml
  --carry        a night that gives NEW the newest backup of OLD, carried over; NEW must
                 have been backed up (metabasis backup NEW)
  --check        compare NEW with the newest record that OLD is in: the same neighbours,
                 ports and routes. The exit code is that of compare
  --finish       change fleet.csv: NEW takes OLD's place, with its serial and version, and
                 OLD is retired; refused while NEW does not have what was to be carried over

Without any of these it tells what would be carried over, what would not, and why.`,
		Args: exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := oneFlag(cmd, false, "address", "base", "map", "carry", "check", "finish"); err != nil {
				return err
			}
			return a.replace(cmd.Context(), args[0], args[1], f)
		},
	}
	f.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.address, "address", "", "the address of NEW, or address:port, to put it into fleet.csv")
	flags.StringVar(&f.platform, "platform", "", "with --address: its platform, where it is another")
	flags.BoolVar(&f.base, "base", false, "its base configuration, as it is typed on its console")
	flags.StringVar(&f.template, "template", "", "with --base: a file in place of bases/PLATFORM.txt")
	flags.StringVar(&f.console, "console", "", "with --base: send it to this Telnet port, HOST:PORT, of a console server")
	flags.BoolVar(&f.mapPorts, "map", false, "propose how its ports are mapped")
	flags.BoolVar(&f.carry, "carry", false, "a night that carries the configuration over")
	flags.IntVar(&f.losing, "losing", 0, "with --carry: so many lines that NEW has now may go, as they were listed; on a terminal it is asked")
	flags.BoolVar(&f.plan, "plan", false, "with --carry: only tell how the night would go")
	flags.StringVar(&f.Window, "window", "", "with --carry: the window; without it any time will do")
	flags.StringVar(&f.Change, "change", "", "with --carry: the number of the change")
	flags.BoolVar(&f.check, "check", false, "let the records of OLD decide")
	flags.BoolVar(&f.finish, "finish", false, "change the fleet file")
	flags.BoolVar(&f.byHand, "by-hand", false, "with --finish: NEW was set up in another way, and is not held against what OLD had")
	return cmd
}

func (a *app) replace(ctx context.Context, old, fresh string, f replaceFlags) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	switch {
	case f.address != "":
		if err := d.AddDevice(old, fresh, f.address, f.platform); err != nil {
			return err
		}
		return a.lines([]string{fresh + " is in fleet.csv. Next: metabasis replace " + old + " " + fresh + " --base"})
	case f.base:
		return a.base(ctx, d, old, fresh, f)
	case f.mapPorts:
		file, err := d.MapPorts(old, fresh)
		if err != nil {
			return err
		}
		return a.lines([]string{file + " is written. Look at it: it is a proposal"})
	case f.carry:
		c, carrying, err := d.CarryOver(old, fresh, f.Restoring)
		if err != nil {
			return err
		}
		if err := a.carried(carrying); err != nil {
			return err
		}
		if !f.plan {
			if err := a.mayLose(ctx, d, carrying, f.losing); err != nil {
				return err
			}
		}
		if f.plan {
			return a.told(ctx, c, planFlags{nightFlags: f.nightFlags})
		}
		return a.nightOf(ctx, d, c, f.nightFlags)
	case f.check:
		c, err := d.Judged(ctx, old, fresh)
		if err != nil {
			return &exitError{exitSome, err}
		}
		return a.judge(c, compareFlags{})
	case f.finish:
		return a.finishReplace(ctx, d, old, fresh, f.byHand)
	}
	carrying, err := d.Carry(old, fresh)
	if errors.Is(err, workspace.ErrNoMapping) {
		return err
	}
	if err != nil {
		return fmt.Errorf("%w; metabasis replace --help tells the stages", err)
	}
	return a.carried(carrying)
}

// finishReplace changes the fleet file, and tells what it knows of the new device now.
func (a *app) finishReplace(ctx context.Context, d *acts.Desk, old, fresh string, byHand bool) error {
	noted, untold, err := d.Replaced(ctx, old, fresh, byHand)
	if err != nil {
		return err
	}
	out := []string{fresh + " has taken the place of " + old + ", which is retired. The fleet file of before stands beside it"}
	if byHand {
		out = append(out, "  what it has was NOT held against what "+old+" had")
	}
	for _, c := range slices.Sorted(maps.Keys(noted)) {
		out = append(out, "  "+c+" "+noted[c])
	}
	if untold != nil {
		out = append(out, "  serial and version are NOT noted: "+untold.Error())
	}
	return a.lines(out)
}

// carried tells what is carried over, and what is not.
func (a *app) carried(c *workspace.Carrying) error {
	out := []string{fmt.Sprintf("%s gets what %s had %s", c.New.Name, c.Old.Name, c.Backup.Last().Local().Format("Mon 2 Jan 2006 15:04"))}
	for _, m := range c.Moved {
		out = append(out, fmt.Sprintf("  %s becomes %s", m[0], m[1]))
	}
	mask := a.maskOf(c.Old.Platform)
	if len(c.Gaps) > 0 {
		out = append(out, report.Count(len(c.Gaps), "line")+" that cannot be carried over:")
		for _, g := range c.Gaps {
			out = append(out, "  "+mask(g.Path)+": "+g.Why)
		}
	}
	if len(c.Left) > 0 {
		out = append(out, report.Count(len(c.Left), "line")+" left behind:")
		for _, g := range c.Left {
			out = append(out, "  "+mask(g.Path)+": "+g.Why)
		}
	}
	if len(c.Gaps)+len(c.Left) == 0 {
		out = append(out, "All of it is carried over.")
	}
	mask = a.maskOf(c.New.Platform)
	if len(c.Own) > 0 {
		out = append(out, report.Count(len(c.Own), "line")+" of "+c.New.Name+" that it keeps as its own:")
		for _, g := range c.Own {
			out = append(out, "  "+mask(g.Path)+": "+g.Why)
		}
	}
	if len(c.Loses) > 0 {
		out = append(out, report.Count(len(c.Loses), "line")+" that "+c.New.Name+" has now and LOSES:")
		for _, l := range c.Loses {
			out = append(out, "  - "+mask(l))
		}
	}
	if len(c.Path) > 0 {
		out = append(out, c.New.Name+" is managed by what these lines change; a slip in them cuts it off:")
		for _, l := range c.Path {
			out = append(out, "  ! "+mask(l))
		}
	}
	return a.lines(out)
}

// mayLose asks for a yes where the new device loses lines that it has now.
func (a *app) mayLose(ctx context.Context, d *acts.Desk, c *workspace.Carrying, said int) error {
	n := len(c.Loses)
	switch {
	case n == said:
		return nil
	case said > 0:
		return fmt.Errorf("--losing %d: %s loses %s; look at the list", said, c.New.Name, report.Count(n, "line"))
	case d.Person == nil || !a.isTerminal():
		return fmt.Errorf("%s loses %s that it has now: where that is meant, add --losing %d", c.New.Name, report.Count(n, "line"), n)
	}
	word, err := person.AskOne(
		ctx,
		d.Person,
		"",
		person.Question{Text: fmt.Sprintf("%s loses %s. Go on?", c.New.Name, report.Count(n, "line")),
			Choices: []person.Choice{{Word: "no", Does: "nothing is done"}, {Word: "yes", Does: "these lines go"}}},
	)
	if err == nil && word != "yes" {
		err = errors.New("nothing was done")
	}
	return err
}

// maskOf takes the secrets of a platform out of a line.
func (a *app) maskOf(platform string) func(string) string {
	d, err := a.desk()
	if err != nil {
		return func(string) string { return "" }
	}
	return d.MaskPath(platform)
}

// base prints the base configuration of a new device, or sends it to its console.
func (a *app) base(ctx context.Context, d *acts.Desk, old, fresh string, f replaceFlags) error {
	lines, err := d.Base(old, fresh, f.template)
	if err != nil {
		return err
	}
	if f.console == "" {
		return a.lines(lines)
	}
	fl, err := d.Fleet("")
	if err != nil {
		return err
	}
	ctx, over := signalled(ctx)
	defer over()
	err = d.TypeOnConsole(ctx, f.console, d.PlatformOf(fl, fresh), lines, func(l string) { fmt.Fprintln(a.out, l) })
	if err != nil {
		return err
	}
	return a.lines([]string{report.Count(len(lines), "line") + " sent. Next: metabasis reach " + fresh})
}
