package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/spf13/cobra"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/table"
	"metabasis/internal/report"
)

func (a *app) readCommand() *cobra.Command {
	var f eveningFlags
	var asCSV bool
	var column string
	cmd := &cobra.Command{
		Use:   "read TABLE [SCOPE]",
		Short: "Read one table from many devices: versions, clocks, ports, neighbours",
		Long: `Read a table that the profiles know, such as version or neighbours, from every
device in scope. What few devices share comes first. Without a table, the tables
are listed.`,
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
		return a.listTables()
	}
	name := words[0]
	e, err := a.selected(f.fleet, words[1:])
	if err != nil {
		return err
	}
	t, err := e.newTable(name)
	if err != nil {
		return err
	}
	if column != "" && t.Column(column) < 0 {
		return fmt.Errorf("table %s has no column %q%s", name, column, problem.Write(column, names(t)))
	}
	if err := a.ready(ctx, e, "read-"+name); err != nil {
		return err
	}
	defer e.close()
	if !f.headless && !f.json && !asCSV && a.isTerminal() {
		return a.readOnScreen(ctx, e, t, column)
	}
	a.say(e.scope)
	ctx, over := signalled(ctx)
	e.fill(ctx, t, nil)
	t.OutliersFirst()
	if err := a.print(t, f.json, asCSV, column); err != nil {
		return err
	}
	return ended(over(), len(t.Failed))
}

func names(t *table.Table) (out []string) {
	for _, c := range t.Columns {
		out = append(out, c.Name)
	}
	return out
}

// newTable makes an empty table with the columns that the profiles of the
// devices in scope give it. Devices whose profile has no such table are left
// out.
func (e *evening) newTable(name string) (*table.Table, error) {
	t := &table.Table{Name: name}
	all := map[string]bool{}
	s := scope.Scope{Source: e.scope.Source, LeftOut: slices.Clone(e.scope.LeftOut)}
	for _, d := range e.scope.Devices {
		p := e.ws.Profiles[d.Platform]
		for n := range p.Readers {
			all[n] = true
		}
		r, ok := p.Readers[name]
		if !ok {
			s.LeftOut = append(s.LeftOut, scope.LeftOut{Device: d.Name, Why: "the profile of " + d.Platform + " reads no " + name})
			continue
		}
		s.Devices = append(s.Devices, d)
		for _, c := range r.TableColumns() {
			if t.Column(c.Name) < 0 {
				t.Columns = append(t.Columns, c)
			}
		}
	}
	if len(s.Devices) == 0 {
		known := slices.Sorted(maps.Keys(all))
		return nil, fmt.Errorf("no profile of these devices reads %q%s", name, problem.Write(name, known))
	}
	e.scope = &s
	return t, nil
}

// fill reads the table from every device in scope. Each is called after each
// device, one at a time; it may be nil.
func (e *evening) fill(ctx context.Context, t *table.Table, each func(done int)) {
	type got struct {
		v   any
		err error
	}
	var mu sync.Mutex
	results := map[string]got{}
	take := func(d fleet.Device, v any, err error) {
		mu.Lock()
		defer mu.Unlock()
		results[d.Name] = got{v, err}
		if each != nil {
			each(len(results))
		}
	}
	reach.Sweep(ctx, e.scope.Devices, e.together(), func(ctx context.Context, d fleet.Device) {
		v, err := e.readOne(ctx, d, t.Name)
		take(d, v, err)
	}, func(_ context.Context, d fleet.Device) { take(d, nil, errors.New("not begun: given up before")) })
	for _, d := range e.scope.Devices { // in the fleet's order, whoever was first
		r := results[d.Name]
		if r.err != nil {
			t.Failed = append(t.Failed, table.Failed{Device: d.Name, Why: r.err.Error()})
			continue
		}
		t.Add(d.Name, d.Platform, r.v)
	}
}

func (e *evening) readOne(ctx context.Context, d fleet.Device, name string) (any, error) {
	s, err := e.connector.Open(ctx, d, nil)
	if err != nil {
		f := reach.AsFailure(err)
		return nil, fmt.Errorf("%s: %w", f.Stage, f)
	}
	defer s.Close()
	return s.Read(ctx, name)
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

func (a *app) listTables() error {
	ws, err := a.workspace()
	if err != nil {
		return err
	}
	for _, platform := range ws.Profiles.Platforms() {
		p := ws.Profiles[platform]
		for _, name := range slices.Sorted(maps.Keys(p.Readers)) {
			fmt.Fprintf(a.out, "%-10s %-12s %s\n", platform, name, strings.Join(p.Readers[name].Order(), ", "))
		}
	}
	return nil
}
