package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/table"
	"metabasis/internal/report"
)

func (a *app) readCommand() *cobra.Command {
	var f eveningFlags
	var asCSV bool
	var column string
	cmd := &cobra.Command{
		Use:         "read TABLE [SCOPE]",
		Annotations: shows(),
		Short:       "Read one table from many devices: versions, clocks, ports, neighbours",
		Long: `Read a table that the profiles know, such as version or neighbours, from every
device in scope. What few devices share comes first. Without a table, the tables
of the fleet are listed.`,
		RunE: func(cmd *cobra.Command, words []string) error {
			if f.json && asCSV {
				return errors.New("write --json or --csv, not both")
			}
			return a.read(cmd.Context(), f, asCSV, column, words)
		},
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().BoolVar(&f.headless, "headless", false, "no screen: print the table as text")
	cmd.Flags().BoolVar(&f.json, "json", false, "no screen: print the table as one JSON object")
	cmd.Flags().BoolVar(&asCSV, "csv", false, "no screen: print the table as CSV")
	cmd.Flags().StringVar(&column, "by", "", "the column to sum up by")
	return cmd
}

func (a *app) read(ctx context.Context, f eveningFlags, asCSV bool, column string, words []string) error {
	if len(words) == 0 {
		return a.listTables(f.fleet)
	}
	name := words[0]
	words, err := f.chosen(words[1:])
	if err != nil {
		return err
	}
	e, err := a.selected(f.fleet, words)
	if err != nil {
		return err
	}
	r, err := e.Reading(name, column)
	if err != nil {
		return err
	}
	if !f.headless && !f.json && !asCSV && a.isTerminal() {
		return a.tableOnScreen(ctx, e, r)
	}
	if err := a.ready(ctx, e, "read-"+name); err != nil {
		return err
	}
	defer a.closes(e)
	r = r.With(e)
	a.say(r.Scope)
	ctx, over := signalled(ctx)
	t := r.Read(ctx, nil)
	t.OutliersFirst()
	if err := a.print(t, f.json, asCSV, column); err != nil {
		return err
	}
	return ended(over(), len(t.Failed))
}

// print prints the table for programs or for people.
func (a *app) print(t *table.Table, asJSON, asCSV bool, column string) error {
	switch {
	case asJSON:
		return t.WriteJSON(a.out)
	case asCSV:
		for _, f := range t.Failed {
			fmt.Fprintf(a.err, "%s: %s\n", f.Device, f.Why)
		}
		return t.WriteCSV(a.out)
	}
	if err := t.WriteText(a.out); err != nil {
		return err
	}
	for _, l := range report.Table(t, column) {
		if _, err := fmt.Fprintln(a.out, l); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) listTables(file string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	platforms := d.Profiles.Platforms()
	if e, err := a.selected(file, nil); err == nil { // without a fleet, those of all that are known
		platforms = slices.DeleteFunc(platforms, func(p string) bool {
			return !slices.ContainsFunc(e.Fleet.Devices, func(d fleet.Device) bool { return d.Platform == p })
		})
	}
	for _, platform := range platforms {
		p := d.Profiles[platform]
		for _, name := range slices.Sorted(maps.Keys(p.Readers)) {
			fmt.Fprintf(a.out, "%-10s %-12s %s\n", platform, name, strings.Join(p.Readers[name].Order(), ", "))
		}
	}
	return nil
}
