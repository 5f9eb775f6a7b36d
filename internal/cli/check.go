package cli

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
	"metabasis/internal/workspace"
)

func (a *app) checkCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE...",
		Short: "Check runbooks and print every error with its place",
		Args:  atLeast(1),
		RunE:  func(_ *cobra.Command, files []string) error { return a.check(files) },
	}
}

func (a *app) check(files []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	read := a.working("reading the fleet")
	f, err := d.Fleet("")
	read()
	if err != nil && !errors.Is(err, workspace.ErrNoFleet) {
		return err
	}
	if f != nil {
		for _, n := range f.Notes {
			fmt.Fprintln(a.err, n)
		}
	}
	var list problem.List
	for _, file := range files {
		rb, open, doubts, err := d.Check(file, f)
		for _, doubt := range doubts {
			fmt.Fprintf(a.err, "%s: %s\n", file, doubt)
		}
		if open != "" {
			fmt.Fprintf(a.err, "%s: not held against the fleet: which devices it is for depends on %s, which is asked for\n", rb.File, open)
		}
		var l problem.List
		if errors.As(err, &l) {
			list = append(list, l...)
		} else if err != nil {
			list = append(list, problem.Problem{File: file, Msg: err.Error()})
		}
	}
	if err := list.Err(); err != nil {
		return err
	}
	if f == nil {
		fmt.Fprintln(a.err, "checked without a fleet: columns of one's own are unknown names")
	}
	return nil
}

func (a *app) tidyCommand() *cobra.Command {
	var list, want bool
	cmd := &cobra.Command{
		Use:   "tidy FILE...",
		Short: "Give runbooks their one layout",
		Args:  atLeast(1),
		RunE: func(_ *cobra.Command, files []string) error {
			if want {
				return a.asWant(files)
			}
			return a.tidy(files, list)
		},
	}
	cmd.Flags().BoolVar(
		&want,
		"want",
		false,
		"change no file: print the runbook with its steps saying what shall be there, where they can, and why others cannot",
	)
	cmd.Flags().BoolVar(&list, "list", false, "only list the files that are not tidy; exit 1 if there are any")
	return cmd
}

// asWant prints runbooks with the steps that can be saying what shall be there.
func (a *app) asWant(files []string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	fl, err := d.Workspace.Fleet("")
	if err != nil {
		return err
	}
	traits := d.Profiles.Traits()
	for _, file := range files {
		rb, _, _, err := d.Check(file, fl)
		if err != nil {
			return err
		}
		src, err := textfile.Read(file, textfile.Small)
		if err != nil {
			return err
		}
		inScope := plan.Platforms(rb, fl, traits)
		out, left, err := runbook.AsWant(file, src, func(platforms []string) (list []*config.Language) {
			if len(platforms) == 0 {
				platforms = inScope
			}
			for _, p := range platforms {
				list = append(list, traits[p].Language)
			}
			return list
		})
		if err != nil {
			return err
		}
		_, _ = a.out.Write(out)
		for _, l := range left {
			fmt.Fprintln(a.err, "left as it is:", l)
		}
	}
	return nil
}

func (a *app) tidy(files []string, list bool) error {
	var untidy bool
	for _, file := range files {
		src, err := textfile.Read(file, textfile.Small)
		if err != nil {
			return err
		}
		out, err := runbook.Format(file, src)
		if err != nil {
			return err
		}
		if bytes.Equal(src, out) {
			continue
		}
		untidy = true
		if list {
			fmt.Fprintln(a.out, file)
			continue
		}
		if err := textfile.Replace(file, out, 0o644); err != nil {
			return err
		}
	}
	if list && untidy {
		return &exitError{code: exitUsage}
	}
	return nil
}
