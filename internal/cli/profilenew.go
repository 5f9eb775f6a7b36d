package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/person"
)

func (a *app) profileNewCommand() *cobra.Command {
	var f acts.Stranger
	cmd := &cobra.Command{
		Use:   "new DEVICE",
		Short: "Look at a live device and write a first profile of its platform",
		Long: `Log in to a device of a platform that has no profile yet, look at its greeting,
its prompts, how it refuses a line, whether it says lines back, what its line
editor does with ? and tab, what ends a page, and what of its configuration
changes by itself; ask you for the few commands that cannot be seen; and write
profiles/PLATFORM.yaml with remarks on what is missing.

A few words that no device should know are sent, and the commands that you give,
as they are. Nothing is changed: give none that changes something. The mode for
changes is entered and left again, and the command that saves is not sent.

The device is one of the fleet, with the platform that its profile shall be for;
or an address, host or host:port, with --platform.`,
		Args: exactly(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.profileNew(cmd.Context(), f, args[0]) },
	}
	cmd.Flags().StringVar(&f.Fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().StringVar(&f.Platform, "platform", "", "the platform's name; usually the fleet's")
	cmd.Flags().StringVar(&f.Protocol, "protocol", "", "ssh or telnet; usually the fleet's, else ssh")
	return cmd
}

func (a *app) profileNew(ctx context.Context, f acts.Stranger, name string) error {
	d, err := a.desk()
	if err != nil {
		return err
	}
	e, file, err := d.Stranger(f, name)
	if err != nil {
		return err
	}
	if err := a.ready(ctx, e, "new"); err != nil {
		return err
	}
	defer a.closes(e)
	ctx, over := signalled(ctx)
	fmt.Fprintf(a.err, "Looking at %s. A few words that no device knows are sent, and the commands that you give,\nas they are: give none that changes something. Ctrl-C ends it; nothing is written then.\n\n", e.Devices()[0].Name)
	draft, err := e.Explore(ctx, askedHere{terminal{a}}, a.found)
	gaveUp := over()
	if gaveUp {
		fmt.Fprintln(a.err, "Given up. No profile was written, and nothing was changed.")
		return ended(true, 0)
	}
	if err != nil {
		return fmt.Errorf("%w; no profile was written, what was said is in %s", err, relative(e.Transcripts))
	}
	return a.writeDraft(file, draft)
}

// writeDraft writes a first profile, and says what can be proven with it.
func (a *app) writeDraft(file, text string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return err
	}
	out, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o644)
	if err != nil {
		return err
	}
	_, err = out.WriteString(text)
	if err = errors.Join(err, out.Close()); err != nil {
		fmt.Fprintf(a.out, "\n%s\n", text) // it is not lost
		return fmt.Errorf("writing %s: %w; it stands above", relative(file), errors.Join(err, os.Remove(file)))
	}
	fmt.Fprintf(a.out, "\nWritten to %s:\n\n", relative(file))
	return a.profileCheck([]string{relative(file)})
}

// askedHere marks each question, so that it stands out of what is told between them.
type askedHere struct{ person.Person }

// Ask implements [person.Person].
func (p askedHere) Ask(ctx context.Context, f person.Form) ([]string, error) {
	f.Questions = slices.Clone(f.Questions)
	for i := range f.Questions {
		f.Questions[i].Text = "\n▌ " + f.Questions[i].Text
	}
	return p.Person.Ask(ctx, f)
}

// found tells what was seen of a device, or, not ok, what it did not take.
func (a *app) found(text string, ok bool) {
	mark := "●"
	if !ok {
		mark = "▲"
	}
	fmt.Fprintf(a.out, "%s %s\n", mark, text)
}
