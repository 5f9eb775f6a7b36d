package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"metabasis/internal/acts"
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

// wrongValue says what a flag wants that was given something else.
func wrongValue(e *pflag.InvalidValueError) error {
	f := e.GetFlag()
	switch f.Value.Type() {
	case "duration":
		return fmt.Errorf("--%s: %q is no time; write one such as 90s or 5m", f.Name, e.GetValue())
	case "int", "int64", "uint", "uint64":
		return fmt.Errorf("--%s: %q is no whole number, or too large a one; write: --%s N", f.Name, e.GetValue(), f.Name)
	case "bool":
		return fmt.Errorf("--%s: %q is neither true nor false; write: --%s", f.Name, e.GetValue(), f.Name)
	}
	return fmt.Errorf("--%s: %q: %w", f.Name, e.GetValue(), e.Unwrap())
}

// nightNumber is the number of a night as a person names it.
func nightNumber(ctx context.Context, d *acts.Desk, word string) (int64, error) {
	if word == acts.Newest {
		all, err := d.Nights(ctx)
		if len(all) == 0 {
			return 0, fmt.Errorf("there are no nights in the journal yet%s", suffixed(err))
		}
		return all[0].ID, nil
	}
	id, err := numbered(word)
	if err != nil {
		err = fmt.Errorf("%w, and newest is the last one", err)
	}
	return id, err
}

// numbered is the number of a night; which one is the newest another night may change.
func numbered(word string) (int64, error) {
	id, err := strconv.ParseInt(word, 10, 64)
	switch {
	case word == acts.Newest:
		return 0, errors.New("what is newest changes with each night: write the number, as metabasis journal check prints it")
	case err != nil || id < 1:
		return 0, fmt.Errorf("%q is not the number of a night; metabasis journal check prints them", word)
	}
	return id, nil
}
