package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/profile"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

func (a *app) profileCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "profile",
		Short: "Write, check or try a profile: what teaches Metabasis a platform",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var file string
	var change bool
	try := &cobra.Command{
		Use:   "try FILE DEVICE",
		Short: "Go through a profile line by line on a live device",
		Long: `Connect to a device of the fleet and go through the profile line by line: login,
prompts, modes, pager, configuration, timer, readers. For each it shows what was
sent, what came, which pattern fitted, and what decided. A word that no device knows
is sent, with ? and a tab in it too. Nothing is changed; with --change, after you have
confirmed it, edit mode is entered and the word is sent there, a rollback timer is
armed and disarmed, the harmless line of its language is put there and taken away, and a
trial is applied and taken back, where the profile has them.`,
		Args: exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.profileTry(cmd.Context(), file, args[0], args[1], change)
		},
	}
	try.Flags().StringVar(&file, "fleet", "", "a fleet file in place of the workspace's")
	try.Flags().BoolVar(&change, "change", false, "also enter edit mode, and arm and disarm the rollback timer")
	var printed string
	check := &cobra.Command{
		Use:   "check FILE...",
		Short: "Check profiles and print every error with its place",
		Args:  atLeast(1),
		RunE: func(_ *cobra.Command, files []string) error {
			if printed != "" && len(files) > 1 {
				return errors.New("--config goes with one profile")
			}
			if err := a.profileCheck(files); err != nil || printed == "" {
				return err
			}
			return a.checkConfig(files[0], printed)
		},
	}
	check.Flags().StringVar(&printed, "config", "", "a configuration that a device has printed: say which of its lines the profile's language does not know")
	cmd.AddCommand(check, try, a.profileNewCommand(), a.profileLinesCommand())
	return cmd
}

func (a *app) profileCheck(files []string) error {
	bad := false
	for _, f := range files {
		p, err := acts.LoadProfile(a.dir, f)
		if err != nil {
			printError(a.err, err)
			bad = true
			continue
		}
		said := fmt.Sprintf("%s: %s over %s; %s; it can %s.\n", f, p.Platform, p.Connect.Protocol, report.Count(len(p.Readers), "reader"), strings.Join(p.Abilities(), ", "))
		for _, lack := range p.Lacks() {
			said += "  without " + lack + "\n"
		}
		said += claims(p)
		if _, err := fmt.Fprint(a.out, said); err != nil {
			return err
		}
	}
	if bad {
		return &exitError{code: exitUsage}
	}
	return nil
}

// claims is the table of what can and cannot be proven.
func claims(p *profile.Profile) string {
	var b strings.Builder
	fmt.Fprintf(&b, "  what can be proven on a %s:\n", p.Platform)
	for _, c := range p.Claims() {
		mark, word := "●", "known"
		switch c.Is {
		case profile.Partly:
			mark, word = "◐", "partly"
		case profile.Not:
			mark, word = "○", "NOT KNOWN"
		}
		for i, l := range ink.Wrap(c.How, 50, 9) {
			if i == 0 {
				fmt.Fprintf(&b, "    %s %-9s  %-31s  %s\n", mark, word, c.What, l)
			} else {
				fmt.Fprintf(&b, "%50s%s\n", "", l)
			}
		}
	}
	return b.String()
}

func (a *app) profileTry(ctx context.Context, fleetFile, file, name string, change bool) error {
	p, err := acts.LoadProfile(a.dir, file)
	if err != nil {
		return err
	}
	desk, err := a.desk()
	if err != nil {
		return err
	}
	e, err := desk.Trial(p, file, fleetFile, name)
	if err != nil {
		return err
	}
	d := e.Devices()[0]
	if change {
		fmt.Fprintf(a.err, "On %s, %s. Write its name to go on: ", d.Name, strings.Join(p.Touches(), ", "))
		line, _ := bufio.NewReader(a.in).ReadString('\n')
		if strings.TrimSpace(line) != d.Name {
			return errors.New("not confirmed; nothing was connected to")
		}
	}
	if err := a.ready(ctx, e, "try"); err != nil {
		return err
	}
	defer a.closes(e)
	ctx, over := signalled(ctx)
	bad, err := e.Connector.Try(ctx, d, change, a.printFinding)
	if err != nil {
		over()
		return fmt.Errorf("%s: %w", d.Name, err)
	}
	if bad == 0 {
		fmt.Fprintln(a.out, "\nEvery line of the profile that was tried fits.")
	} else {
		fmt.Fprintf(a.out, "\n%s not right.\n", linesAre(bad))
	}
	return ended(over(), bad)
}

func linesAre(n int) string {
	if n == 1 {
		return "1 line is"
	}
	return fmt.Sprintf("%d lines are", n)
}

func (a *app) printFinding(f lines.Finding) {
	mark := "●"
	if f.Not != "" {
		mark = "▲"
	}
	fmt.Fprintf(a.out, "%s %s\n", mark, f.Line)
	if f.Sent != "" {
		fmt.Fprintf(a.out, "    sent  %s\n", f.Sent)
	}
	for _, l := range f.Got {
		fmt.Fprintf(a.out, "    came  %s\n", l)
	}
	if f.Fits != "" {
		fmt.Fprintf(a.out, "    fits  %s\n", f.Fits)
	}
	if f.Not != "" {
		fmt.Fprintf(a.out, "    NOT   %s\n", f.Not)
	}
}
