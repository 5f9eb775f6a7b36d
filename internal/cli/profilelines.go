package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/config"
	"metabasis/internal/report"
)

func (a *app) profileLinesCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lines PROFILE FROM TO",
		Short: "Find the lines that lead from one printed configuration to another, and back",
		Long: `Read two configurations as a device has printed them, say how they differ, and find
the fewest lines that lead from one to the other, and back, by the language of the
profile. What they do is proven by the same rules before they are printed. Nothing is
connected to.`,
		Args: exactly(3),
		RunE: func(_ *cobra.Command, args []string) error { return a.profileLines(args[0], args[1], args[2]) },
	}
}

func (a *app) profileLines(file, from, to string) error {
	p, err := acts.LoadProfile(a.dir, file)
	if err != nil {
		return err
	}
	l := p.Language()
	if l == nil {
		return fmt.Errorf("%s has no language: nothing says which lines change a configuration; see docs/profiles.md", file)
	}
	one, err := acts.ReadConfig(p, from)
	if err != nil {
		return err
	}
	two, err := acts.ReadConfig(p, to)
	if err != nil {
		return err
	}
	for _, line := range config.Lines(config.Explain(one, two)) {
		fmt.Fprintln(a.out, line)
	}
	return errors.Join(a.leads(l, one, two, "lead there"), a.leads(l, two, one, "lead back"))
}

// leads prints the lines that lead from one configuration to another.
func (a *app) leads(l *config.Language, from, to config.Config, where string) error {
	lines, err := l.Lead(from, to)
	if err != nil {
		return fmt.Errorf("no lines %s:\n%w", where, err)
	}
	fmt.Fprintf(a.out, "\n%s %s:\n", report.Count(len(lines), "line"), where)
	for _, line := range lines {
		fmt.Fprintln(a.out, "| "+line)
	}
	return nil
}

// checkConfig says which lines of a printed configuration the language does not know.
func (a *app) checkConfig(file, printed string) error {
	p, err := acts.LoadProfile(a.dir, file)
	if err != nil {
		return err
	}
	l := p.Language()
	if l == nil {
		return fmt.Errorf("%s has no language to hold %s against", file, printed)
	}
	c, err := acts.ReadConfig(p, printed)
	if err != nil {
		return err
	}
	unknown := l.Unknown(c)
	if len(unknown) == 0 {
		_, err := fmt.Fprintf(a.out, "  its language knows all %s of %s\n", report.Count(len(c.Paths()), "line"), printed)
		return err
	}
	for _, u := range unknown {
		fmt.Fprintf(a.out, "  ▲ no rule knows  %s\n", u)
	}
	return &exitError{
		code: exitUsage,
		err:  fmt.Errorf("%s of %s not known to the language of %s", report.Count(len(unknown), "line"), printed, file),
	}
}
