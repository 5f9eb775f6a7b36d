package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/home"
	"metabasis/internal/screen/open"
)

func (a *app) attachCommand() *cobra.Command {
	var headless, asJSON, wheel bool
	var note string
	cmd := &cobra.Command{
		Use:         "attach",
		Annotations: shows(),
		Short:       "Look at the night that runs in this workspace, from another terminal, and decide on it",
		Long: `Look at the night that runs in this workspace, from another terminal. Any number of people
can look. One has the wheel: only what that one decides is done, and it stands in the journal
with who it was. H takes the wheel; all are told. Leaving leaves the night as it is.

With --note a line is written into the journal of the night, and nothing is decided; E on the
screen does the same. With --headless what happens is printed, one line an event, from now on, and the exit code at
the end of the night is that of the night. Nothing can be decided so.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("%s says nothing here: a workspace runs one night at a time, and that is attached to; -C DIR names another workspace", args[0])
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			if asJSON && !headless {
				return errors.New("--json goes with --headless")
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			if cmd.Flags().Changed("note") {
				if strings.TrimSpace(note) == "" {
					return errors.New("a note says something: it stands in the journal")
				}
				return writeNote(cmd.Context(), d, note)
			}
			if headless {
				return a.attachHeadless(cmd.Context(), d, asJSON)
			}
			if !a.isTerminal() {
				return errors.New("there is no terminal here for the screen; use --headless")
			}
			n, err := d.Attach(cmd.Context())
			if err != nil {
				return err
			}
			if !wheel { // else it was begun here, and is told there
				a.warn(n.Notes())
			}
			return a.attachOnScreen(cmd.Context(), d, n, wheel)
		},
	}
	cmd.Flags().StringVar(&note, "note", "", "write a note into the journal of the night, and go")
	cmd.Flags().BoolVar(&a.below, belowFlag, false, "")
	_ = cmd.Flags().MarkHidden(belowFlag)
	cmd.Flags().BoolVar(&wheel, "wheel", false, "take the wheel at once")
	cmd.Flags().BoolVar(&headless, "headless", false, "no screen: one line an event")
	cmd.Flags().BoolVar(&asJSON, "json", false, "with --headless: one JSON object an event")
	return cmd
}

// attachOnScreen shows a night that runs in another process, and tells, once that is left, how it
// stands.
func (a *app) attachOnScreen(ctx context.Context, d *acts.Desk, n *acts.Attached, wheel bool) error {
	err := a.onScreen(ctx, d, func(h *screen.Host, workspace *home.View) {
		if a.below {
			h.Open(workspace)
		}
		open.Attached(h, d, n, wheel)
	})
	if err != nil || slices.ContainsFunc(d.Planned(), (*acts.Tonight).Began) { // another one was run since
		return err
	}
	return a.left(ctx, d, n)
}

// writeNote writes a note into the journal of the night that runs.
func writeNote(ctx context.Context, d *acts.Desk, text string) error {
	n, err := d.Attach(ctx)
	if err != nil {
		return err
	}
	return errors.Join(n.Do(night.Command{Choice: night.Remark, Reason: text}), n.Close())
}

// attachHeadless prints what happens in a night that runs in another process, to its end.
func (a *app) attachHeadless(ctx context.Context, d *acts.Desk, asJSON bool) error {
	ctx, over := signalled(ctx)
	n, err := d.Attach(ctx)
	if err != nil {
		over()
		return err
	}
	defer n.Close()
	a.warn(n.Notes())
	told := n.Past.Night
	fmt.Fprintf(a.err, "attached to night %d, %s, process %d\n", n.Client.Night.Night, n.Client.Night.Title, n.Client.Night.PID)
	out := &eventPrinter{app: a, asJSON: asJSON}
	for _, e := range n.Past.Events[:min(1, len(n.Past.Events))] { // the plan has the names of the steps
		out.teller.Line(e)
	}
	for events, more := n.Next(ctx); more; events, more = n.Next(ctx) {
		told = night.Fold(told, events...)
		if out.print(events); out.lost != nil { // who only looks has nothing left to do
			break
		}
	}
	if over() {
		return &exitError{code: exitInterrupted}
	}
	if err := n.Err(); err != nil {
		return &exitError{int(night.NeedsPerson), err}
	}
	if out.lost != nil && !errors.Is(out.lost, syscall.EPIPE) {
		return fmt.Errorf("what happens cannot be printed any more, and the night goes on: %w", out.lost)
	}
	if out.lost != nil {
		return nil
	}
	out.summary(&told)
	out.errand(n.Past.ID, &told)
	return outcome(&told, false)
}
