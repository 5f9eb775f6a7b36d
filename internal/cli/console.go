package cli

import (
	"errors"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"metabasis/internal/screen/grid"
)

func (a *app) consoleCommand() *cobra.Command {
	var file string
	var anyway bool
	var guard time.Duration
	cmd := &cobra.Command{
		Use:   "console DEVICE",
		Short: "Work one device by hand, with its login and jump hosts, recorded",
		Long: `Work one device by hand, through the same login and jump hosts as any other, recorded in a
transcript. A line that its profile says is never sent wants a reason before its end is sent.

With --guard 10m it is a night of its own: the device is backed up and its way back armed
first, for so long; that is watched and put off as long as the console is open, and runs on
once it is not. When you leave it, what runs is read and told
as a difference, and you adopt it, which saves it, or take it back. Where nobody is there
for ten minutes, it is taken back.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, words []string) error {
			if !a.isTerminal() {
				return errors.New("a console needs a terminal; to ask a device something, use metabasis ask")
			}
			if guard > 0 {
				d, err := a.desk()
				if err != nil {
					return err
				}
				c, err := d.ByHand(file, words, guard)
				if err != nil {
					return err
				}
				return a.nightOf(cmd.Context(), d, c, nightFlags{})
			}
			e, err := a.selected(file, words)
			if err != nil {
				return err
			}
			if len(e.Devices()) != 1 {
				return fmt.Errorf("a console is for one device, and %s are %d", words[0], len(e.Devices()))
			}
			if err := a.ready(cmd.Context(), e, "console"); err != nil {
				return err
			}
			defer a.closes(e)
			e.Person = nil // the terminal is the device's from now on
			c := grid.ConsoleOf(e, anyway)(cmd.Context(), e.Devices()[0].Name)
			c.SetStdin(a.in)
			c.SetStdout(a.stdout)
			return c.Run()
		},
	}
	cmd.Flags().BoolVar(&anyway, "anyway", false, "also where another device answers than the one that is meant")
	cmd.Flags().DurationVar(&guard, "guard", 0, "back it up and arm its way back for that long first, such as 10m; keep or take back what you did at the end")
	cmd.Flags().StringVar(&file, "fleet", "", "a fleet file in place of the workspace's")
	return cmd
}
