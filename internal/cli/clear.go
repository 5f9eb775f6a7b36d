package cli

import (
	"context"
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/freight"
	"metabasis/internal/person"
	"metabasis/internal/report"
)

type clearFlags struct {
	eveningFlags
	versions, yes bool
}

func (a *app) clearCommand() *cobra.Command {
	var f clearFlags
	cmd := &cobra.Command{
		Use:   "clear [SCOPE]",
		Short: "Make room on devices, once what may be cleared was shown",
		Long: `Look at devices and tell which of their files may be cleared, as the rules of their profiles
say (files: clear:), never the image of what a device runs or starts with next. With --versions
installed software is looked at, too: what is neither run nor next. Mind that an older version
is what a device is taken back to.

Then, asked on a terminal or with --yes, it is cleared: each file only if it is still what was
shown, and each is seen to be gone. Without --yes and without a terminal nothing is, and the exit
code is 5 where something would be.`,
		RunE: func(cmd *cobra.Command, words []string) error { return a.clear(cmd.Context(), f, words) },
	}
	a.eveningFlags(cmd, &f.eveningFlags)
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object a device")
	cmd.Flags().BoolVar(&f.versions, "versions", false, "installed software, too, that is neither run nor next")
	cmd.Flags().BoolVar(&f.yes, "yes", false, "clear without asking")
	return cmd
}

func (a *app) clear(ctx context.Context, f clearFlags, words []string) error {
	e, err := a.scoped(f.eveningFlags, words)
	if err != nil {
		return err
	}
	if err := a.ready(ctx, e, "clear"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	ctx, over := signalled(ctx)
	var lost error
	width, failed, files, room, versions := widest(e.Devices()), 0, 0, int64(0), 0
	all := e.Clearable(ctx, f.versions, func(one acts.Clearable) {
		if one.Error != "" {
			failed++
		}
		files, versions = files+len(one.Files), versions+len(one.Versions)
		for _, t := range one.Files {
			room += t.Size
		}
		if text, err := carryLine(f.json, width, one.Device, one.Said(), one); err != nil {
			lost = err
		} else if lost == nil {
			_, lost = fmt.Fprintln(a.out, text)
		}
	})
	if lost != nil || ctx.Err() != nil || files+versions == 0 {
		return errors.Join(lost, ended(over(), failed))
	}
	what := report.Count(files, "file") + ", " + freight.Bytes(room)
	if versions > 0 {
		what += ", and " + report.Count(versions, "installed version")
	}
	if !f.yes {
		if err := a.mayClear(ctx, e.Desk, what); err != nil {
			return errors.Join(err, ended(over(), 0))
		}
	}
	e.Clear(ctx, all, func(one acts.Cleared) {
		if one.Error != "" {
			failed++
		}
		if len(one.Gone) == 0 && one.Error == "" {
			return
		}
		if text, err := carryLine(f.json, width, one.Device, one.Said(), one); err != nil {
			lost = err
		} else if lost == nil {
			_, lost = fmt.Fprintln(a.out, text)
		}
	})
	return errors.Join(lost, ended(over(), failed))
}

// mayClear asks whether it is cleared.
func (a *app) mayClear(ctx context.Context, d *acts.Desk, what string) error {
	nothing := &exitError{code: exitDiffers, err: fmt.Errorf("nothing was cleared of %s; --yes clears it", what)}
	if d.Person == nil {
		return nothing
	}
	answers, err := d.Person.Ask(ctx, person.Form{Title: "Clear", Questions: []person.Question{{
		Text:    "Clear " + what + "?",
		Choices: []person.Choice{{Word: "no", Does: "leave all of it"}, {Word: "yes", Does: "remove what is shown above, and nothing else"}},
	}}})
	if errors.Is(err, person.ErrNobody) || err == nil && answers[0] != "yes" {
		return nothing
	}
	return err
}
