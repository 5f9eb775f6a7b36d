package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/store"
)

type saveFlags struct {
	eveningFlags
	yes bool
}

func (a *app) saveCommand() *cobra.Command {
	var f saveFlags
	cmd := &cobra.Command{
		Use:   "save [SCOPE]",
		Short: "Save what runs and is not saved, once it was shown",
		Long: `Look at devices and tell what runs on them and is not saved, equal ones together, and
whose it may be: of a night that was cut off, of somebody who is changing it now, or of
somebody else. Then, asked on a terminal or with --yes, save it: a night of its own in the
journal, in which each device is backed up, saved, and what is saved is read and compared.

A device with something on its clock that brings back what is saved is not saved. Without
--yes and without a terminal nothing is saved, and the exit code is 5 where something would
be.`,
		RunE: func(cmd *cobra.Command, words []string) error { return a.save(cmd.Context(), f, words) },
	}
	a.eveningFlags(cmd, &f.eveningFlags)
	cmd.Flags().BoolVar(&f.yes, "yes", false, "save without asking")
	return cmd
}

func (a *app) save(ctx context.Context, f saveFlags, words []string) error {
	words, err := f.chosen(words)
	if err != nil {
		return err
	}
	d, err := a.desk()
	if err != nil {
		return err
	}
	r, err := a.unsaved(ctx, d, f, words)
	left, blocked := 0, 0
	if err == nil {
		left, blocked = tally(r)
	}
	switch {
	case err != nil:
		return err
	case left == 0 && blocked > 0:
		return &exitError{code: exitSome}
	case left == 0:
		return nil
	case !f.yes:
		if err := a.mayGoOn(ctx, d, left); err != nil {
			return err
		}
	}
	again, err := a.desk() // what was planned to be looked at is over
	if err != nil {
		return err
	}
	c, err := again.Save(f.fleet, words)
	if err != nil {
		return err
	}
	return a.nightOf(ctx, again, c, nightFlags{headless: true, shown: r}) // what is another thing by now nobody has seen
}

// unsaved looks, and tells what is not saved.
func (a *app) unsaved(ctx context.Context, d *acts.Desk, f saveFlags, words []string) (r *store.Rehearsal, err error) {
	c, err := d.Save(f.fleet, words)
	if err != nil {
		return nil, err
	}
	n, err := c.Plan(ctx, acts.Request{Unattended: true})
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, d.Close()) }()
	if r, err = n.Rehearse(ctx, func(...night.Event) {}); r == nil {
		return nil, cmp.Or(err, errors.New("nothing was looked at"))
	}
	return r, errors.Join(err, a.lines(slices.Concat([]string{"Looked; nothing was saved yet."}, report.Rehearsal(r)[1:])))
}

// tally counts the devices on which something would be saved, and those on which that cannot be
// told.
func tally(r *store.Rehearsal) (left, blocked int) {
	for _, dev := range r.Devices {
		switch dev.Verdict() {
		case work.WouldDiffer:
			left++
		case work.CannotBeTold:
			blocked++
		case work.AsIntended:
		}
	}
	return left, blocked
}

// mayGoOn asks whether what was shown is to be saved.
func (a *app) mayGoOn(ctx context.Context, d *acts.Desk, left int) error {
	nothing := &exitError{code: exitDiffers, err: errors.New("nothing was saved; save it with --yes")}
	if d.Person == nil {
		return nothing
	}
	answers, err := d.Person.Ask(ctx, person.Form{Title: "Save", Questions: []person.Question{{
		Text:    fmt.Sprintf("Save what runs on %s?", report.Count(left, "device")),
		Choices: []person.Choice{{Word: "no", Does: "leave it as it is"}, {Word: "yes", Does: "save, and prove it"}},
	}}})
	if errors.Is(err, person.ErrNobody) || err == nil && answers[0] != "yes" {
		return nothing
	}
	return err
}
