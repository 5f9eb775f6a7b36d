package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/spf13/cobra"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/table"
	"metabasis/internal/device"
	"metabasis/internal/screen/console"
	"metabasis/internal/screen/grid"
	"metabasis/internal/screen/roster"
	"metabasis/internal/settings"
	"metabasis/internal/store"
)

// roster shows the Fleet view over the selected devices, and the tables that
// are read from there.
func (a *app) roster(ctx context.Context, e *evening) error {
	if err := a.ready(ctx, e, "reach"); err != nil {
		return err
	}
	defer e.close()
	e.access.Quiet()
	return a.fleetView(ctx, e)
}

func (a *app) fleetView(ctx context.Context, e *evening) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	theme := e.ws.Settings.Get(settings.Theme)
	var board reach.Board
	for {
		var work sync.WaitGroup
		left, err := roster.Run(ctx, a.rosterSource(ctx, e, &work), theme, board)
		if left.Table == "" || err != nil {
			cancel() // reaching, if it goes on, ends now
			work.Wait()
			return err
		}
		work.Wait()
		board = left.Board
		if err := a.readMarked(ctx, e, left); err != nil {
			return err
		}
	}
}

// readMarked shows a table of the devices that were marked, else of all.
func (a *app) readMarked(ctx context.Context, e *evening, left roster.Result) error {
	part := *e
	if len(left.Marked) > 0 {
		s := *e.scope
		s.Devices = slices.DeleteFunc(slices.Clone(e.scope.Devices), func(d fleet.Device) bool { return !slices.Contains(left.Marked, d.Name) })
		part.scope = &s
	}
	t, err := part.newTable(left.Table)
	if err != nil {
		return err
	}
	_, err = a.showTable(ctx, &part, t, "")
	return err
}

func (a *app) rosterSource(ctx context.Context, e *evening, work *sync.WaitGroup) roster.Source {
	byName := map[string]fleet.Device{}
	src := roster.Source{Title: title(e), LeftOut: e.scope.LeftOut, Transcript: e.scripts.Read, Save: e.ws.SaveSelection, Tables: e.tables()}
	for _, d := range e.scope.Devices {
		byName[d.Name] = d
		login, _ := e.ws.LoginOf(d, e.access.Config)
		src.Devices = append(src.Devices, roster.Device{Device: d, Login: login, ClearText: e.ws.ClearText(d)})
	}
	src.Reach = func(names []string) <-chan []reach.Event {
		out := make(chan []reach.Event)
		work.Go(func() { e.watchReach(ctx, names, byName, out) })
		return out
	}
	src.Choose = func(condition string) ([]string, error) {
		saved, err := e.ws.Selections()
		if err != nil {
			return nil, err
		}
		s, err := scope.Select(&fleet.Fleet{File: e.fleet.File, Devices: e.scope.Devices, Columns: e.fleet.Columns}, []string{condition}, saved)
		if err != nil {
			return nil, err
		}
		var out []string
		for _, d := range s.Devices {
			out = append(out, d.Name)
		}
		return out, nil
	}
	src.Console = e.console(ctx)
	if keys, ok := e.access.HostKeys.(*store.HostKeys); ok {
		src.Fingerprint = fingerprint
		src.Accept = func(results []*reach.Result, forGood bool) error { return accept(keys, results, forGood) }
	}
	return src
}

func title(e *evening) string {
	dir, err := filepath.Abs(e.ws.Dir)
	if err != nil {
		dir = e.ws.Dir
	}
	if e.scope.Source != "" {
		return dir + "  where " + e.scope.Source
	}
	return dir
}

// tables are the tables that some profile in scope reads.
func (e *evening) tables() []string {
	all := map[string]bool{}
	for _, d := range e.scope.Devices {
		for n := range e.ws.Profiles[d.Platform].Readers {
			all[n] = true
		}
	}
	return slices.Sorted(maps.Keys(all))
}

func fingerprint(r *reach.Result) (string, bool) {
	var k *store.NewKey
	if r.Failure == nil || !errors.As(r.Failure.Err, &k) {
		return "", false
	}
	return k.Fingerprint() + "  " + k.Key.Type() + " of " + k.Host, true
}

func accept(keys *store.HostKeys, results []*reach.Result, forGood bool) error {
	for _, r := range results {
		var k *store.NewKey
		if errors.As(r.Failure.Err, &k) {
			if err := keys.Accept(k, forGood); err != nil {
				return err
			}
		}
	}
	return nil
}

// watchReach reaches devices and sends what happens, gathered so that a slow
// screen never holds up a device.
func (e *evening) watchReach(ctx context.Context, names []string, byName map[string]fleet.Device, out chan<- []reach.Event) {
	defer close(out)
	var devices []fleet.Device
	for _, n := range names {
		devices = append(devices, byName[n])
	}
	events := make(chan reach.Event)
	go func() {
		defer close(events)
		send := func(ev reach.Event) { ev.At = time.Now(); events <- ev }
		reach.Sweep(ctx, devices, e.together(), func(ctx context.Context, d fleet.Device) {
			r := e.connector.Reach(ctx, d, func(s reach.Stage) { send(reach.Event{Device: d.Name, Stage: s}) })
			send(reach.Event{Device: d.Name, Result: &r})
		}, func(_ context.Context, d fleet.Device) {
			r := unreached(d)
			send(reach.Event{Device: d.Name, Result: &r})
		})
	}()
	var waiting []reach.Event
	for events != nil || len(waiting) > 0 {
		to := out
		if len(waiting) == 0 {
			to = nil
		}
		select {
		case ev, ok := <-events:
			if !ok {
				events = nil
				continue
			}
			waiting = append(waiting, ev)
		case to <- waiting:
			waiting = nil
		case <-ctx.Done(): // nobody looks any more
			waiting = nil
			if events != nil {
				for range events {
				}
				events = nil
			}
		}
	}
}

// readOnScreen reads a table on the screen.
func (a *app) readOnScreen(ctx context.Context, e *evening, t *table.Table, column string) error {
	e.access.Quiet()
	read, err := a.showTable(ctx, e, t, column)
	if err != nil {
		return err
	}
	return ended(false, len(read.Failed))
}

func (a *app) showTable(ctx context.Context, e *evening, t *table.Table, column string) (*table.Table, error) {
	src := grid.Source{Title: title(e), Table: t, Devices: len(e.scope.Devices), By: column, ClearText: e.clearText(),
		Fill: func(ctx context.Context, each func(int)) *table.Table {
			full := *t
			e.fill(ctx, &full, each)
			return &full
		},
		Write:   func(shown *table.Table) (string, error) { return writeTable(e.ws.Dir, shown) },
		Console: e.console(ctx),
	}
	return grid.Run(ctx, src, e.ws.Settings.Get(settings.Theme))
}

// console opens consoles of the devices in scope.
func (e *evening) console(ctx context.Context) func(string) tea.ExecCommand {
	byName := map[string]fleet.Device{}
	for _, d := range e.scope.Devices {
		byName[d.Name] = d
	}
	return func(name string) tea.ExecCommand { return &consoleCommand{ctx: ctx, c: e.connector, d: byName[name]} }
}

// clearText names the devices that are reached without encryption.
func (e *evening) clearText() map[string]bool {
	out := map[string]bool{}
	for _, d := range e.scope.Devices {
		if e.ws.ClearText(d) {
			out[d.Name] = true
		}
	}
	return out
}

// writeTable writes a table as CSV into the workspace.
func writeTable(dir string, t *table.Table) (string, error) {
	path := filepath.Join(dir, t.Name+"-"+time.Now().Format("2006-01-02T150405")+".csv")
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	return relative(path), errors.Join(t.WriteCSV(f), f.Close())
}

// consoleCommand works a device by hand while the screen waits.
type consoleCommand struct {
	ctx context.Context
	c   *device.Connector
	d   fleet.Device
	in  io.Reader
	out io.Writer
	// needs is what the night needs meanwhile; nil outside one.
	needs *needs
}

func (c *consoleCommand) SetStdin(r io.Reader)  { c.in = r }
func (c *consoleCommand) SetStdout(w io.Writer) { c.out = w }
func (c *consoleCommand) SetStderr(io.Writer)   {}

// Run implements [tea.ExecCommand].
func (c *consoleCommand) Run() error {
	in, ok := c.in.(*os.File)
	if !ok {
		in = os.Stdin
	}
	open := func(ctx context.Context) (console.Session, error) {
		columns, rows := console.Size(in)
		return c.c.Console(ctx, c.d, columns, rows-1)
	}
	over := "SSH"
	if c.c.ClearText(c.d) {
		over = "Telnet, CLEAR TEXT"
	}
	return console.Run(c.ctx, in, c.out, fmt.Sprintf("console of %s over %s", c.d.Name, over), c.needs.get, open)
}

func (a *app) consoleCommand() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "console DEVICE",
		Short: "Work one device by hand, with its login and jump hosts, recorded",
		Args:  cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, words []string) error {
			if !a.isTerminal() {
				return errors.New("a console needs a terminal; to ask a device something, use metabasis ask")
			}
			e, err := a.selected(file, words)
			if err != nil {
				return err
			}
			if len(e.scope.Devices) != 1 {
				return fmt.Errorf("a console is for one device, and %s are %d", words[0], len(e.scope.Devices))
			}
			if err := a.ready(cmd.Context(), e, "console"); err != nil {
				return err
			}
			defer e.close()
			e.access.Quiet()
			c := &consoleCommand{ctx: cmd.Context(), c: e.connector, d: e.scope.Devices[0], in: a.in, out: a.out}
			return c.Run()
		},
	}
	cmd.Flags().StringVar(&file, "fleet", "", "a fleet file in place of the workspace's")
	return cmd
}
