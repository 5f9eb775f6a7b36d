package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/identity"
	"metabasis/internal/person"
	"metabasis/internal/report"
)

func (a *app) whoCommand() *cobra.Command {
	var f eveningFlags
	var accept bool
	var reason string
	cmd := &cobra.Command{
		Use:   "who [SCOPE]",
		Short: "Tell who devices were last seen to be, and accept one that is another now",
		Long: `Tell who the devices in scope were last seen to be: what they call themselves, their
serial numbers, the keys they show. Nothing connects. What a device says is held against
this, and against the fleet, each time it is connected to; one that differs is not worked
on.

With --accept, one device is connected to, what it says is shown beside what was last seen,
and it is taken for the right one from then on, for a reason: new hardware, a new key. What
differs from the fleet is corrected there, in the columns "calls itself" and serial.`,
		RunE: func(cmd *cobra.Command, words []string) error {
			e, err := a.scoped(f, words)
			if err != nil {
				return err
			}
			if accept {
				return a.acceptOther(cmd.Context(), e, reason)
			}
			return a.who(e, f.json)
		},
	}
	a.eveningFlags(cmd, &f)
	cmd.Flags().BoolVar(&accept, "accept", false, "take the device for the right one, whoever was seen before")
	cmd.Flags().StringVar(&reason, "reason", "", "with --accept: why; on a terminal it is asked")
	return cmd
}

func (a *app) who(e *acts.Evening, asJSON bool) error {
	all, unread, err := e.Known()
	if err != nil {
		return err
	}
	if unread != "" {
		a.warn([]string{unread})
	}
	var out []string
	for _, w := range all {
		if asJSON {
			line, err := json.Marshal(w)
			if err != nil {
				return err
			}
			out = append(out, string(line))
			continue
		}
		text := "never seen"
		if !w.Seen.Nothing() {
			text = w.Seen.String() + ", since " + w.At.Local().Format("2006-01-02 15:04")
		}
		if w.Calls != "" {
			text += "; the fleet says that it calls itself " + w.Calls
		}
		if w.Serial != "" {
			text += "; the fleet says serial " + w.Serial
		}
		if len(w.Twins) > 0 {
			text += "; it is the same device as " + report.Some(w.Twins, 4)
		}
		out = append(out, fmt.Sprintf("%-20s  %s", w.Device, text))
	}
	return a.lines(out)
}

// acceptOther takes a device for the right one although another was seen before.
func (a *app) acceptOther(ctx context.Context, e *acts.Evening, reason string) error {
	if n := len(e.Devices()); n != 1 {
		return fmt.Errorf("one device at a time is looked at and accepted, and these are %d", n)
	}
	d := e.Devices()[0]
	if e.Person == nil && strings.TrimSpace(reason) == "" {
		return errors.New("nobody is there to be asked: give the reason with --reason")
	}
	if err := a.ready(ctx, e, "who"); err != nil {
		return err
	}
	defer a.closes(e)
	seen, err := e.AcceptOther(ctx, d, func(was identity.Last, is identity.Seen) (string, error) {
		if strings.TrimSpace(reason) != "" {
			return reason, nil
		}
		answers, err := e.Person.Ask(ctx, person.Form{
			Title: "Is this " + d.Name + "?",
			Lines: []string{
				"last seen  " + was.String() + ", since " + was.At.Local().Format("2006-01-02 15:04"), "now        " + is.String(), "",
				"Whatever was configured on the one is not on the other, unless somebody put it there."},
			Questions: []person.Question{
				{
					Text:    "Take it for the right one?",
					Choices: []person.Choice{{Word: "no", Does: "it is not worked on"}, {Word: "yes", Does: "it is " + d.Name + " from now on"}},
				},
				{Text: "Why", Hint: "such as: its board was exchanged"},
			},
		})
		switch {
		case err != nil:
			return "", err
		case answers[0] != "yes":
			return "", errors.New("it was not accepted")
		}
		return answers[1], nil
	})
	if err != nil {
		return fmt.Errorf("%s: %w", d.Name, err)
	}
	return a.lines([]string{d.Name + " " + seen.String() + ": taken for the right one from now on"})
}
