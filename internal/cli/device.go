package cli

import (
	"context"

	"github.com/spf13/cobra"
)

func (a *app) deviceCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "device NAME",
		Short: "Tell all that is known of a device, and since when",
		Long: `Tell all that is known of one device: who it is, how it is reached, what nights did with
it, what may be pending on it, what it told as it was read last, and its newest backup,
each line with where it came from: the night and the step, or somebody else between two
dates. Nothing connects: what is told was read, and when stands with it.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, words []string) error { return a.device(cmd.Context(), words[0]) },
	}
}

func (a *app) device(ctx context.Context, name string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	page, err := d.DevicePage(ctx, name)
	if err != nil {
		return err
	}
	return a.lines(page.Markdown())
}
