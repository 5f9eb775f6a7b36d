package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"metabasis/internal/screen/grid"
)

func (a *app) consoleCommand() *cobra.Command {
	var file string
	var anyway bool
	cmd := &cobra.Command{
		Use:   "console DEVICE",
		Short: "Work one device by hand, with its login and jump hosts, recorded",
		Args:  exactly(1),
		RunE: func(cmd *cobra.Command, words []string) error {
			if !a.isTerminal() {
				return errors.New("a console needs a terminal; to ask a device something, use metabasis ask")
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
	cmd.Flags().StringVar(&file, "fleet", "", "a fleet file in place of the workspace's")
	return cmd
}
