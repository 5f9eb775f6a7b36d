package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/report"
)

func (a *app) reportCommand() *cobra.Command {
	var draws []string
	var errand bool
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

With --errand it is what the night could not put back, for the person who drives there: of
each device that nobody has proven to be what it was, or was meant to be, what is known of
it line by line, its own way back, and where its backup is; as FILE.txt, FILE.md or
FILE.pdf, or printed as text.

At its end a night writes report.md and report.json into its folder by itself, and
errand.txt and errand.pdf where something was left so.`,
		Args: atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.report(cmd.Context(), args[0], args[1:], draws, errand)
		},
	}
	cmd.Flags().StringArrayVar(&draws, "draw", nil, "draw it into FILE.svg or FILE.pdf; may be given many times")
	cmd.Flags().BoolVar(&errand, "errand", false, "what could not be put back, line by line, for the person who drives there")
	return cmd
}

func (a *app) report(ctx context.Context, night string, files, draws []string, errand bool) error {
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
	as := acts.ReportAs
	if errand {
		as = d.ErrandAs
	}
	if errand && len(files)+len(draws) == 0 {
		text, err := d.ErrandAs(m, acts.ErrandFile)
		if err != nil {
			return err
		}
		return a.lines(strings.Split(strings.TrimSuffix(string(text), "\n"), "\n"))
	}
	if len(files)+len(draws) == 0 {
		return a.lines(report.MorningDocument(m).Markdown())
	}
	for _, file := range files {
		data, err := as(m, file)
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
