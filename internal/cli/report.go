package cli

import (
	"context"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/report"
)

func (a *app) reportCommand() *cobra.Command {
	var draws []string
	cmd := &cobra.Command{
		Use:   "report NIGHT [FILE...]",
		Short: "Write the report of a night: what changed, was that all, who decided what",
		Long: `Write the report of a night: how it ended, in a sentence; the window planned and used;
what is left to do and on which device; what went wrong, with evidence; what is
different now and whether that was predicted; who decided what, when and why; the
timeline; every device; the checksums of its backups and of its journal. NIGHT is its
number, or newest.

FILE.md is Markdown, FILE.pdf is to be read on paper, FILE.json has all of it for
programs, FILE.xml is JUnit's XML for pipelines, FILE.csv has a line a device. Without a
file it is printed as Markdown. --draw FILE.svg or FILE.pdf draws the timeline, how long
the stages took, and the failures by cause and by site.

At its end a night writes report.md and report.json into its folder by itself.`,
		Args: atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.report(cmd.Context(), args[0], args[1:], draws)
		},
	}
	cmd.Flags().StringArrayVar(&draws, "draw", nil, "draw it into FILE.svg or FILE.pdf; may be given many times")
	return cmd
}

func (a *app) report(ctx context.Context, night string, files, draws []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	id, err := nightNumber(ctx, d, night)
	if err != nil {
		return err
	}
	m, err := d.Morning(ctx, id)
	if m == nil {
		return err
	}
	if err != nil { // what can be read of it is told
		a.warn([]string{err.Error()})
	}
	if len(files)+len(draws) == 0 {
		return a.lines(report.MorningDocument(m).Markdown())
	}
	for _, file := range files {
		data, err := acts.ReportAs(m, file)
		if err != nil {
			return err
		}
		if err := a.wrote(file, data); err != nil {
			return err
		}
	}
	for _, file := range draws {
		data, err := acts.DrawingAs(m, file)
		if err != nil {
			return err
		}
		if err := a.wrote(file, data); err != nil {
			return err
		}
	}
	return nil
}

func suffixed(err error) string {
	if err == nil {
		return ""
	}
	return ": " + err.Error()
}
