package cli

import (
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"metabasis/internal/diag"
	"metabasis/internal/store/within"
)

func (a *app) manCommand() *cobra.Command {
	return &cobra.Command{
		Use:    "man DIRECTORY",
		Short:  "Write the man pages into a directory",
		Hidden: true,
		Args:   exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			root := cmd.Root()
			root.InitDefaultCompletionCmd()
			header := &doc.GenManHeader{Title: "METABASIS", Section: "1", Source: "Metabasis " + diag.Version(), Manual: "Metabasis"}
			if err := doc.GenManTree(root, header, args[0]); err != nil {
				return err
			}
			pages, err := within.Match(args[0], "*.1")
			if err != nil {
				return err
			}
			_, err = fmt.Fprintf(a.out, "%d man pages in %s\n", len(pages), args[0])
			return err
		},
	}
}
