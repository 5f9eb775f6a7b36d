package cli

import (
	"context"
	"fmt"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/door"
	"metabasis/internal/report"
	"metabasis/internal/settings"
)

// shows is the annotation of a command that may show the screen.
func shows() map[string]string { return map[string]string{"shows": "screen"} }

// plainFlags are those with which none does.
var plainFlags = []string{"headless", "json", "csv", "plan", "write", "note", "look"}

// atDoor has a command that may show the screen run in a process of its own, from which a night can
// go on without the terminal; this one waits for its end. Within that process, it takes the door.
func (a *app) atDoor(cmd *cobra.Command) (err error) {
	if a.doorAt != 0 {
		a.door, err = door.Enter(a.doorAt)
		return err
	}
	shows := cmd.Annotations["shows"] != "" || cmd.Flags().Changed("guard")
	if a.here || !shows || !a.isTerminal() || a.in != os.Stdin || a.stdout != os.Stdout {
		return nil
	}
	if slices.ContainsFunc(plainFlags, func(name string) bool { return cmd.Flags().Changed(name) }) {
		return nil
	}
	code, err := door.Keep(a.args)
	if err != nil {
		return err
	}
	return &exitError{code: code}
}

// belowFlag is the flag of a screen that takes the place of another which had the workspace's view
// below.
const belowFlag = "workspace-below"

// behind takes a night away from the terminal, to its end, and has a screen shown there that looks
// at it, unless the terminal is gone as well.
func (a *app) behind(ctx context.Context, d *acts.Desk, n *acts.Tonight) error {
	if err := a.door.Leave(); err != nil {
		d.Log.Error("leave", "night", n.ID, "err", err)
	}
	args := []string{"-C", d.Path(), "attach", "--wheel"}
	for _, s := range settings.All() {
		if v, given := a.given[s.Key]; given {
			args = append(args, s.Flag()+"="+v)
		}
	}
	if a.below || len(a.words) == 1 { // the workspace was opened first
		args = append(args, "--"+belowFlag)
	}
	if a.debug {
		args = append(args, "--debug")
	}
	if err := a.door.Hand(args, d.Confided()); err != nil {
		d.Log.Info("nobody is at the terminal", "night", n.ID, "err", err)
	}
	_, err := n.Wait()
	_ = n.Pushed(ctx)
	n.Hands()
	if closed := d.Close(); closed != nil {
		d.Log.Error("close", "night", n.ID, "err", closed)
	}
	return err
}

// left tells what is to be known of a night once a screen that looked at it is over, and returns how
// it ended.
func (a *app) left(ctx context.Context, d *acts.Desk, n *acts.Attached) error {
	id := n.Past.ID
	p, err := d.Open(ctx, id)
	switch {
	case p == nil:
		return fmt.Errorf("how night %d stands cannot be read from the journal: %w", id, err)
	case p.Elsewhere != "" && p.Night.Ended.IsZero(): // else it only tidies up
		fmt.Fprintf(a.out, "Night %d, %s, goes on in process %d. This looks at it again:\n  metabasis -C %s attach\n", id, n.Client.Night.Title, n.Client.Night.PID, quoted(d.Path()))
		return nil
	case p.Night.Ended.IsZero():
		return &exitError{int(night.NeedsPerson), fmt.Errorf("night %d was cut off: its process was ended, or has crashed; metabasis report %d tells what is known of it", id, id)}
	}
	fmt.Fprintln(a.out, report.Summary(&p.Night))
	for _, l := range report.Needs(&p.Night) {
		fmt.Fprintln(a.out, "  "+l)
	}
	if text := errand(id, &p.Night); text != "" {
		fmt.Fprintln(a.out, text)
	}
	return outcome(&p.Night, p.Night.Aborted != "" || p.Night.Released)
}
