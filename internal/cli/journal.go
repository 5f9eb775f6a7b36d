package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/store"
)

func (a *app) journalCommand() *cobra.Command {
	cmd := &cobra.Command{Use: "journal", Short: "Look after the journal of past nights"}
	cmd.AddCommand(&cobra.Command{
		Use:   "check [FILE]",
		Short: "Say which nights of the journal are whole",
		Long: `Say of every night in the journal whether all of it can be read, and whether it
has an end. Nothing is changed. FILE is a journal that was set aside; without it,
the workspace's own is looked at. The exit code is 1 when anything is damaged.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.journalCheck(cmd.Context(), args) },
	})
	cmd.AddCommand(&cobra.Command{
		Use:   "settle NIGHT REASON",
		Short: "Say that you have seen to what a night left",
		Long: `Write into the journal that you have seen to what a night left: devices that were
stranded or dark, or the night's having no end. It is not among what needs you any
more. NIGHT is its number, as journal check prints it; REASON is what was found and
done.`,
		Args: exactly(2),
		RunE: func(_ *cobra.Command, args []string) error {
			id, err := numbered(args[0])
			if err != nil {
				return err
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if err := d.Settle(id, args[1]); err != nil {
				return err
			}
			return a.lines([]string{fmt.Sprintf("Night %d is seen to; it stands no more among what needs somebody.", id)})
		},
	})
	return cmd
}

func (a *app) journalCheck(ctx context.Context, args []string) error {
	ws, err := a.desk()
	if err != nil {
		return err
	}
	file := ws.JournalFile()
	if len(args) == 1 {
		file = args[0]
	}
	j, err := store.ReadJournal(file)
	if errors.Is(err, fs.ErrNotExist) && len(args) == 0 {
		_, err = fmt.Fprintln(a.out, "There is no journal yet.")
		return err
	}
	if err != nil {
		return fmt.Errorf("%w; a new night can be run all the same: the file is then set aside", err)
	}
	defer j.Close()
	return a.checkNights(ctx, ws, j)
}

func (a *app) checkNights(ctx context.Context, ws *acts.Desk, j *store.Journal) error {
	damaged := 0
	heads, listErr := j.List(ctx)
	for _, h := range heads {
		_, now := ws.Running(h.NightHead) // before its events: one that ends meanwhile has not crashed
		events, err := j.Events(ctx, h.ID)
		n := night.Fold(night.Night{}, events...)
		said := fmt.Sprintf("whole, %s", report.Count(len(events), "event"))
		switch {
		case errors.Is(err, store.ErrNoNight):
			said = "was never begun"
		case err != nil:
			damaged++
			said = "DAMAGED: " + err.Error()
		case h.Damage != nil:
			damaged++
			said = "DAMAGED: " + h.Damage.Error()
		case now:
			said += "; it runs now"
		case n.Ended.IsZero():
			said += "; " + report.Crashed(&n)
		default:
			said += "; " + report.Summary(&n)
		}
		if h.Seen != nil {
			said += "; " + h.Seen.String()
		}
		if _, err := fmt.Fprintf(a.out, "night %d, %s, %s: %s\n", h.ID, h.Began.Local().Format("2006-01-02 15:04"), h.Title, said); err != nil {
			return err
		}
	}
	if err := errors.Join(listErr, j.Whole(ctx)); err != nil {
		return fmt.Errorf("the journal's file is damaged: %w; a new night can be run all the same: the file is then set aside, and the nights that are whole come along", err)
	}
	if damaged > 0 {
		return fmt.Errorf("%s damaged; the others open, and new ones can be run", report.Count(damaged, "night"))
	}
	return nil
}
