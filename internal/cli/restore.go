package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/runbook"
)

// restoreFlags are those of restore.
type restoreFlags struct {
	nightFlags
	acts.Restoring
	at, before, back, again string // "" is not given
	plan                    bool
	write                   string
}

func (a *app) restoreCommand() *cobra.Command {
	var f restoreFlags
	cmd := &cobra.Command{
		Use:         "restore [SCOPE]",
		Annotations: shows(),
		Short:       "Put back what devices had at a time, or before a night",
		Long: `Put back what devices had. It is a night like any other: what leads from what runs to
what was is computed for each device and shown before it, a fresh backup is taken
first, batches, timer and window hold, and at the end it is proven that what runs and
what is saved is what was asked for.

  --at "2026-11-20 03:00"  what each device had at that time, from the shelf
  --before NIGHT           what each had before that night of the journal
  --back NIGHT             only what that night did is taken back; what others changed
                           since stays, and where they changed the same the device is
                           blocked
  --again NIGHT            the runbook of that night once more, for the devices that it
                           did not keep

A device of which there is nothing to put back is left out, and it is said why. With
--write FILE the runbook of the restore is written, to be read, changed, approved and
run as any other.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := oneFlag(cmd, true, "at", "before", "back", "again"); err != nil {
				return err
			}
			f.Words = args
			return a.restore(cmd.Context(), f)
		},
	}
	f.add(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.Fleet, "fleet", "", "a fleet file in place of the workspace's")
	flags.StringVar(&f.at, "at", "", "the time to go back to, such as \"2026-11-20 03:00\", or newest")
	flags.StringVar(&f.before, "before", "", "put back what was before this night")
	flags.StringVar(&f.back, "back", "", "take back what this night did")
	flags.StringVar(&f.again, "again", "", "run this night again for what it did not keep")
	flags.StringVar(&f.Window, "window", "", "the window, such as \"01:30 for 2h45m\"; without it any time will do")
	flags.StringVar(&f.Change, "change", "", "the number of the change")
	flags.DurationVar(&f.Soak, "soak", 0, "a quiet time after it")
	flags.StringVar(&f.Like, "like", "", "a runbook whose window, batches, prechecks, timer and end are taken")
	flags.BoolVar(&f.plan, "plan", false, "only tell how the night would go; nobody is reached")
	flags.StringVar(&f.write, "write", "", "only write the runbook of the restore into this file")
	return cmd
}

func (a *app) restore(ctx context.Context, f restoreFlags) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	if f.at == "" {
		if f.Night, err = numbered(cmp.Or(f.again, f.back, f.before)); err != nil {
			return err
		}
		f.Back = f.back != ""
	}
	if f.again != "" {
		return a.again(ctx, d, f)
	}
	if f.at != "" {
		if f.at == acts.Newest { // as it is now: what a rehearsal of it reads is not meant
			f.At = time.Now()
		} else if f.At, err = runbook.ParseRestoreTime(f.at); err != nil {
			return fmt.Errorf("%w, or newest; what was before a night is --before NIGHT", err)
		}
		if f.At.After(time.Now().Add(time.Minute)) { // a time without seconds is the end of its minute
			return fmt.Errorf("%s lies ahead: there is nothing to go back to", f.at)
		}
	}
	if f.write != "" {
		return a.writeRestore(d, f)
	}
	c, err := d.Restore(f.Restoring)
	if err != nil {
		return err
	}
	return a.changed(ctx, d, c, f)
}

// changed tells how a change is planned, or runs it.
func (a *app) changed(ctx context.Context, d *acts.Desk, c *acts.Change, f restoreFlags) error {
	if f.plan {
		return a.told(ctx, c, planFlags{nightFlags: f.nightFlags})
	}
	return a.nightOf(ctx, d, c, f.nightFlags)
}

// writeRestore writes the runbook of a restore into a file that is not there yet.
func (a *app) writeRestore(d *acts.Desk, f restoreFlags) error {
	text, err := d.RestoreText(f.Restoring)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(f.write, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if _, err := file.WriteString(text); err != nil {
		return errors.Join(err, file.Close())
	}
	if err := file.Close(); err != nil {
		return err
	}
	return a.lines([]string{f.write + " is written; run it with: metabasis run " + quoted(f.write)})
}

// again runs a past night once more, for what it did not keep.
func (a *app) again(ctx context.Context, d *acts.Desk, f restoreFlags) error {
	if len(f.Words) > 0 {
		return fmt.Errorf("--again runs night %d for all the devices that it did not keep: leave away %s", f.Night, strings.Join(f.Words, " "))
	}
	if f.write != "" || f.Like != "" || f.Window != "" || f.Change != "" {
		return errors.New("--again runs the night's own runbook: --write, --like, --window and --change do not go with it")
	}
	c, answers, err := d.Again(ctx, f.Night, f.Fleet)
	if err != nil {
		return err
	}
	f.answers = append(answers, f.answers...)
	return a.changed(ctx, d, c, f)
}
