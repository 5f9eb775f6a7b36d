package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/report"
)

func (a *app) recordCommand() *cobra.Command {
	var f eveningFlags
	var tables string
	var list bool
	cmd := &cobra.Command{
		Use:   "record NAME [SCOPE]",
		Short: "Record tables and configurations of devices under a name, to compare by",
		Long: `Read tables and the configuration of every device in scope and keep them under a name.
metabasis compare NAME now tells later what has become different. Nothing is changed on
any device, and a record is never written over. Without --tables, all are recorded that
are no matter of the moment.`,
		RunE: func(cmd *cobra.Command, words []string) error {
			switch {
			case list:
				return a.recordList()
			case len(words) == 0:
				return errors.New("write a name for the record, such as: metabasis record before-the-quays")
			}
			return a.record(cmd.Context(), f, tables, words)
		},
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().StringVar(&tables, "tables", "", "what is recorded, such as ports,neighbours,config")
	cmd.Flags().BoolVar(&list, "list", false, "list the records there are")
	return cmd
}

func (a *app) recordList() error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	all, err := d.Records().List()
	if err != nil {
		return err
	}
	var out []string
	for _, r := range all {
		out = append(
			out,
			strings.TrimRight(fmt.Sprintf("%-24s  %s  %-20s  %s", r.Name, r.At.Local().Format("2006-01-02 15:04"), r.Of, r.By), " "),
		)
	}
	if len(out) == 0 {
		out = []string{"There are no records yet."}
	}
	return a.lines(out)
}

func (a *app) record(ctx context.Context, f eveningFlags, tables string, words []string) error {
	name := words[0]
	words, err := f.chosen(words[1:])
	if err != nil {
		return err
	}
	e, err := a.selected(f.fleet, words)
	if err != nil {
		return err
	}
	if err := e.RecordFree(name); err != nil {
		return err
	}
	asked := strings.FieldsFunc(tables, func(r rune) bool { return r == ',' || r == ' ' })
	if err := e.MayRecord(asked); err != nil {
		return err
	}
	if err := a.ready(ctx, e, "record"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	ctx, over := signalled(ctx)
	rec, err := e.Record(ctx, name, asked, nil)
	if err != nil {
		over()
		return err
	}
	if over() {
		fmt.Fprintln(a.err, "Interrupted: nothing was recorded.")
		return &exitError{code: exitInterrupted}
	}
	failed := 0
	for _, dev := range rec.Devices {
		if dev.Failed != "" {
			failed++
			fmt.Fprintf(a.err, "%s was not read: %s\n", dev.Device, dev.Failed)
		}
		for table, why := range dev.Wrong {
			failed++
			fmt.Fprintf(a.err, "%s: %s was not read: %s\n", dev.Device, table, why)
		}
	}
	if err := e.KeepRecord(rec); err != nil {
		return err
	}
	if err := a.lines(
		[]string{fmt.Sprintf("%s: %s recorded. Compare with: metabasis compare %s now", name, report.Count(len(rec.Devices), "device"), name)},
	); err != nil {
		return err
	}
	return ended(false, failed)
}
