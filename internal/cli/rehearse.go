package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/report"
	"metabasis/internal/store"
)

// rehearseFlags are those of rehearse.
type rehearseFlags struct {
	nightFlags
	show   int64
	device string
	drift  bool
}

func (a *app) rehearseCommand() *cobra.Command {
	var f rehearseFlags
	cmd := &cobra.Command{
		Use:   "rehearse RUNBOOK",
		Short: "Go through a night without changing anything",
		Long: `Go through the whole night without the change: every device in scope is reached,
checked and backed up, and the lines that would be sent to it, what is so already,
and the configuration that it would then have are computed. Nothing is changed.

What was found is told with devices alike together, those that are unlike the
others first, and kept in the workspace: --show opens it again. When the night
begins, what has changed on a device since is said before its first line. The exit
code is 2 when a device would be blocked.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if cmd.Flags().Changed("show") && len(args) == 0 {
				return nil
			}
			return exactly(1)(cmd, args)
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			d, err := a.desk()
			if err != nil {
				return err
			}
			if cmd.Flags().Changed("show") {
				return a.showRehearsal(cmd.Context(), d, f)
			}
			return a.rehearse(cmd.Context(), d, args[0], f)
		},
	}
	f.values(cmd)
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object with all that was found")
	cmd.Flags().Int64Var(&f.show, "show", 0, "reach nobody: open the rehearsal of that number again, 0 for the newest")
	cmd.Flags().BoolVar(&f.drift, "drift", false, "exit 0 when all is as intended, 5 when something would differ, 2 when it cannot be told")
	cmd.Flags().StringVar(&f.device, "device", "", "tell the lines that would be sent to this device")
	return cmd
}

// rehearse goes through a night without changing anything, and tells what was found.
func (a *app) rehearse(ctx context.Context, d *acts.Desk, file string, f rehearseFlags) (err error) {
	c, err := d.Change(file, f.fleet)
	if err != nil {
		return err
	}
	n, err := c.Plan(ctx, f.request())
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	a.warn(n.Warnings())
	var mu sync.Mutex
	done, total := 0, len(n.Plan.Targets())
	r, err := n.Rehearse(ctx, func(events ...night.Event) {
		mu.Lock()
		defer mu.Unlock()
		done++
		for _, e := range events {
			if !f.json && e.Kind == night.Prediction && !e.IsNotice() {
				if e.Unpredicted() {
					fmt.Fprintf(a.err, "%*d of %d  %-14s %s\n", len(fmt.Sprint(total)), done, total, e.Device, e.Note)
					continue
				}
				fmt.Fprintf(a.err, "%*d of %d  %s\n", len(fmt.Sprint(total)), done, total, report.Line(e))
			}
		}
	})
	if r == nil {
		return err
	}
	if err != nil {
		fmt.Fprintln(a.err, "warning: the rehearsal is told here, and not kept:", err)
	} else if !f.json {
		fmt.Fprintf(a.err, "kept as rehearsal %d: metabasis rehearse --show %d opens it again\n", r.ID, r.ID)
	}
	return a.tellRehearsal(r, f)
}

func (a *app) showRehearsal(ctx context.Context, d *acts.Desk, f rehearseFlags) error {
	r, err := d.Rehearsed(ctx, f.show, "")
	if errors.Is(err, store.ErrNoRehearsal) {
		return fmt.Errorf("%w; metabasis rehearse RUNBOOK makes one", err)
	}
	if err != nil {
		return err
	}
	return a.tellRehearsal(r, f)
}

func (a *app) tellRehearsal(r *store.Rehearsal, f rehearseFlags) error {
	if f.json {
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		if err := e.Encode(r); err != nil {
			return err
		}
	} else {
		lines := report.Rehearsal(r)
		if f.device != "" {
			d := r.Of(f.device)
			if d == nil {
				return fmt.Errorf("%s was not rehearsed", f.device)
			}
			lines = report.RehearsedLines(d)
		}
		if err := a.lines(lines); err != nil {
			return err
		}
	}
	if f.drift {
		return drifted(r)
	}
	if slices.ContainsFunc(r.Devices, func(d work.Rehearsed) bool { return d.Blocked != "" }) {
		return &exitError{code: int(night.SomeBlocked)}
	}
	return nil
}

// exitDiffers is the exit code, where that was asked for, when something would differ.
const exitDiffers = 5

// drifted tells by the exit code whether anything would be done: what cannot be told comes first.
func drifted(r *store.Rehearsal) error {
	worst := work.AsIntended
	for _, d := range r.Devices {
		worst = max(worst, d.Verdict())
	}
	switch {
	case worst == work.CannotBeTold || len(r.Devices) == 0:
		return &exitError{code: exitSome}
	case worst == work.WouldDiffer:
		return &exitError{code: exitDiffers}
	}
	return nil
}
