package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"metabasis/internal/report"
)

// exactly checks that a command is given so many words.
func exactly(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) == n {
			return nil
		}
		return given(cmd, report.Count(n, "word"), args)
	}
}

// atLeast checks that a command is given so many words, or more.
func atLeast(n int) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) >= n {
			return nil
		}
		return given(cmd, report.Count(n, "word")+" or more", args)
	}
}

func given(cmd *cobra.Command, want string, args []string) error {
	_, words, _ := strings.Cut(cmd.Use, " ")
	return fmt.Errorf("%s takes %s and was given %d; write: %s %s", cmd.Name(), want, len(args), cmd.CommandPath(), words)
}

// oneFlag checks that no more than one of some flags is given, and where one is needed, that
// it is.
func oneFlag(cmd *cobra.Command, needed bool, flags ...string) error {
	var set []string
	cmd.Flags().Visit(func(f *pflag.Flag) {
		for _, name := range flags {
			if f.Name == name {
				set = append(set, "--"+name)
			}
		}
	})
	switch {
	case len(set) > 1:
		return fmt.Errorf("%s exclude each other; give one of them", strings.Join(set, " and "))
	case needed && len(set) == 0:
		return fmt.Errorf("%s needs one of --%s; metabasis %s --help tells what they mean", cmd.Name(), strings.Join(flags, ", --"), cmd.Name())
	}
	return nil
}
