package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync/atomic"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/store"
)

func (a *app) imagesCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "images",
		Short: "List what software there is, and whether its files are what they should be",
		Long: `List the catalogue images.yaml: for each platform its versions, from which others each can be
reached, and whether its file is here with the checksum that the catalogue says. Nobody is
reached. The exit code is 1 where a file that may be installed is another, or not here.`,
		Args: exactly(0),
		RunE: func(*cobra.Command, []string) error { return a.images(asJSON) },
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "one JSON object an image")
	return cmd
}

func (a *app) images(asJSON bool) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	all, err := d.ImagesHere()
	if err != nil {
		return err
	}
	wrong, platform := 0, ""
	for _, i := range all {
		if i.Never == "" && !i.Here {
			wrong++
		}
		if asJSON {
			line, err := json.Marshal(i)
			if err != nil {
				return err
			}
			if err := a.lines([]string{string(line)}); err != nil {
				return err
			}
			continue
		}
		if i.Platform != platform {
			platform = i.Platform
			if err := a.lines([]string{platform}); err != nil {
				return err
			}
		}
		if err := a.lines([]string{"  " + i.Said()}); err != nil {
			return err
		}
	}
	if wrong > 0 {
		return fmt.Errorf("%s not here as the catalogue says", report.Count(wrong, "image"))
	}
	return nil
}

// readyFlags are those of ready.
type readyFlags struct {
	nightFlags
	show int64
	kept bool
}

func (a *app) readyCommand() *cobra.Command {
	var f readyFlags
	cmd := &cobra.Command{
		Use:   "ready RUNBOOK [FILE...]",
		Short: "Say which devices are ready for the software that a runbook wants",
		Long: `Look at every device in scope of a runbook that gives them other software: what it runs, over
which versions the way leads, which files are missing on it or are others, how much room it
has, and for how long it will be away. Who cannot be done as it is now is told with why.
Nothing is changed: it is a rehearsal, and kept as one.

FILE.pdf is to be read on paper, FILE.csv has a line a device, FILE.md and FILE.txt are text.
Without a file it is printed. With --show N nobody is reached: that rehearsal is told again.
The exit code is 2 where a device is not ready.`,
		Args: atLeast(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			f.kept = cmd.Flags().Changed("show")
			return a.readiness(cmd.Context(), args[0], args[1:], f)
		},
	}
	f.values(cmd)
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().Int64Var(&f.show, "show", 0, "reach nobody: tell the rehearsal of that number again, 0 for the newest of this runbook")
	return cmd
}

func (a *app) readiness(ctx context.Context, file string, files []string, f readyFlags) (err error) {
	for _, out := range files { // before anybody is reached
		if _, err := acts.ReadinessAs(&store.Rehearsal{}, out); err != nil {
			return err
		}
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	r, err := a.rehearsed(ctx, d, file, f)
	if r == nil {
		return err
	}
	if err != nil {
		fmt.Fprintln(a.err, "warning: what was found is told here, and not kept:", err)
	}
	if len(files) == 0 {
		if err := a.lines(report.Readiness(r).Plain()); err != nil {
			return err
		}
	}
	for _, out := range files {
		data, err := acts.ReadinessAs(r, out)
		if err != nil {
			return err
		}
		if err := a.wrote(out, data); err != nil {
			return err
		}
	}
	if len(report.NotReady(r)) > 0 {
		return &exitError{code: int(night.SomeBlocked)}
	}
	return nil
}

// rehearsed looks at the devices of a runbook, or opens what was found of them.
func (a *app) rehearsed(ctx context.Context, d *acts.Desk, file string, f readyFlags) (*store.Rehearsal, error) {
	c, err := d.Change(file, f.fleet)
	if err != nil {
		return nil, err
	}
	if f.kept {
		return d.Rehearsed(ctx, f.show, c.Runbook.Title)
	}
	if !c.Runbook.Exchanges() {
		return nil, fmt.Errorf("%s gives no device other software: write in a step, for example: software \"5.0\"", file)
	}
	n, err := c.Plan(ctx, f.request())
	if err != nil {
		return nil, err
	}
	a.warn(n.Warnings())
	var done atomic.Int64
	total := len(n.Plan.Targets())
	return n.Rehearse(ctx, func(events ...night.Event) {
		at := done.Add(1)
		for _, e := range events {
			if e.Kind == night.Software {
				fmt.Fprintf(a.err, "%d of %d  %s runs %s\n", at, total, e.Device, e.What)
			}
		}
	})
}
