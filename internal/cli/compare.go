package cli

import (
	"context"
	"encoding/json"
	"fmt"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/config"
	"metabasis/internal/core/record"
	"metabasis/internal/report"
)

// compareFlags are those of compare.
type compareFlags struct {
	night    string // "" is none
	json     bool
	markdown bool
	lines    bool
	beside   int
}

func (a *app) compareCommand() *cobra.Command {
	var f compareFlags
	cmd := &cobra.Command{
		Use:   "compare A B [SCOPE]",
		Short: "Tell what is different between two records, two backups, two devices, or then and now",
		Long: `Tell what is different. A and B are each

  NAME                 a record; it is compared with another, or with now
  DEVICE               a device as it is now
  DEVICE@newest        its newest backup
  DEVICE@TIME          what it had then, such as ald-quay-1@"2026-11-20 03:00"
  DEVICE@"night 21"    what it had before that night; "after night 21" what that left
  DEVICE@BACKUP        a backup, by the name of its file
  DEVICE@predicted     what was last computed that it will have, by a night or a rehearsal;
                       "predicted night 21" what that night computed
  @WHEN                what each device had then: @newest, @"2026-11-20 03:00",
                       @"night 21", @"after night 21", @predicted
  now                  as B: the devices of A as they are now

Behind them may stand which devices of a record, or of @WHEN, are compared: names, a
condition such as site == "ALD", saved selections. None are all.

With --night N, what devices were before that night is compared with what it left, and
what was predicted stands apart from what nobody predicted.

Over many devices equal differences are folded, outliers first. Of two configurations
the difference is shown as a tree, with what is the same folded; --lines shows their
lines, as a patch has them, --beside the one beside the other. Secrets are masked.

The exit code is 0 when nothing is different, 1 when something is, and 2 when it cannot
be told.`,
		Args: func(cmd *cobra.Command, args []string) error {
			check := atLeast(2)
			if cmd.Flags().Changed("night") {
				check = exactly(0)
			}
			if err := check(cmd, args); err != nil {
				return &exitError{exitSome, err} // not as if something were different
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			err := oneFlag(cmd, false, "json", "markdown", "lines", "beside")
			if err == nil {
				err = a.compare(cmd.Context(), f, args)
			}
			if _, is := err.(*exitError); err != nil && !is { //nolint:errorlint // its own
				return &exitError{exitSome, err}
			}
			return err
		},
	}
	flags := cmd.Flags()
	flags.StringVar(&f.night, "night", "", "compare before and after this night, by its number, or newest")
	flags.BoolVar(&f.json, "json", false, "one JSON object")
	flags.BoolVar(&f.markdown, "markdown", false, "as Markdown")
	flags.BoolVar(&f.lines, "lines", false, "of two configurations: their lines, as a patch has them")
	flags.IntVar(&f.beside, "beside", 0, "of two configurations: one beside the other, in that many columns")
	flags.Lookup("beside").NoOptDefVal = "120"
	return cmd
}

func (a *app) compare(ctx context.Context, f compareFlags, args []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	ctx, over := signalled(ctx)
	var c *acts.Comparison
	if f.night != "" || len(args) == 0 {
		c, err = a.comparedNight(ctx, d, f.night)
	} else {
		c, err = d.Compare(ctx, args[0], args[1], args[2:]...)
	}
	if over() {
		return &exitError{code: exitInterrupted}
	}
	if err != nil {
		return err
	}
	return a.judge(c, f)
}

func (a *app) comparedNight(ctx context.Context, d *acts.Desk, word string) (*acts.Comparison, error) {
	id, err := nightNumber(ctx, d, word)
	if err != nil {
		return nil, err
	}
	return d.CompareNight(ctx, id)
}

// judge prints a comparison, and tells by the exit code what it came to.
func (a *app) judge(c *acts.Comparison, f compareFlags) error {
	if err := a.compared(c, f); err != nil {
		return err
	}
	switch {
	case c.Unknown():
		return &exitError{code: exitSome}
	case !c.Same():
		return &exitError{code: 1}
	}
	return nil
}

// compared prints a comparison.
func (a *app) compared(c *acts.Comparison, f compareFlags) error {
	switch {
	case f.json:
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		return e.Encode(comparedJSON(c))
	case f.markdown:
		return a.lines(report.ComparedDocument(c.A, c.B, c.Note, c.Devices, c.Tree).Markdown())
	case c.Tree == nil:
		return a.lines(report.ComparedLines(c.A, c.B, c.Note, c.Devices))
	case f.lines:
		if c.Note != "" {
			a.warn([]string{c.Note})
		}
		_, err := fmt.Fprint(a.out, config.Unified(c.A, c.B, c.TextA, c.TextB))
		return err
	}
	tables := []record.Differing{{Device: c.Devices[0].Device, Changes: c.Devices[0].Changes}}
	out := []string{"- " + c.A, "+ " + c.B}
	if len(c.Devices[0].Changes) > 0 {
		out = append(out, report.ComparedLines(c.A, c.B, "", tables)[4:]...)
	}
	if c.Note != "" {
		out = append(out, c.Note)
	}
	out = append(out, "")
	switch {
	case len(c.Devices[0].Config) == 0:
		out = append(out, "The configurations are equal.")
	case f.beside > 0:
		out = append(out, report.Beside(c.Tree, f.beside)...)
	default:
		out = append(out, report.Tree(c.Tree)...)
	}
	return a.lines(out)
}

// comparisonJSON is a comparison for programs.
type comparisonJSON struct {
	A       string             `json:"a"`
	B       string             `json:"b"`
	Same    bool               `json:"same"`
	Summary string             `json:"summary"`
	Note    string             `json:"note,omitempty"`
	Groups  []record.Group     `json:"groups"`
	Devices []record.Differing `json:"devices"`
}

func comparedJSON(c *acts.Comparison) comparisonJSON {
	out := comparisonJSON{A: c.A, B: c.B, Same: c.Same(), Summary: report.Compared(c.Devices), Note: c.Note, Groups: record.Fold(c.Devices)}
	for _, d := range c.Devices {
		if !d.Same() {
			out.Devices = append(out.Devices, d)
		}
	}
	return out
}
