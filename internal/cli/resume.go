package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/home"
	"metabasis/internal/screen/open"
)

// resumeFlags are what resume is told.
type resumeFlags struct {
	nightFlags
	back, on, look bool
}

func (a *app) resumeCommand() *cobra.Command {
	var f resumeFlags
	cmd := &cobra.Command{
		Use:         "resume [NIGHT]",
		Annotations: shows(),
		Short:       "Go on with a night that was cut off, or take back what it left",
		Long: `Go on with a night that was cut off: its process was killed, the machine lost its power, its
disk was full. Every device on which it had begun is looked at, and told as it is now, beside what
was last to be done to it. Then the night is gone on with, in what is left of its window, or what
it left is taken back: its timers are adopted, its backups are what is taken back to, and what it
had done is not done again. What is neither as before nor part of the change is left to a person.

Without a number it is the newest night that was cut off. With --look nothing but the look is done.`,
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 {
				return errors.New("one night is gone on with at a time")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			r := acts.Resuming{Back: f.back, Fleet: f.fleet}
			if len(args) == 1 {
				id, err := strconv.ParseInt(args[0], 10, 64)
				if err != nil || id < 1 {
					return fmt.Errorf("%s is no number of a night; metabasis journal check lists them", args[0])
				}
				r.Night = id
			}
			d, err := a.desk()
			if err != nil {
				return err
			}
			return a.resume(cmd.Context(), d, r, f)
		},
	}
	cmd.Flags().BoolVar(&f.back, "back", false, "take back what it left")
	cmd.Flags().BoolVar(&f.on, "go-on", false, "go on with it")
	cmd.Flags().BoolVar(&f.look, "look", false, "look at its devices, say what each has, and do nothing")
	cmd.Flags().BoolVar(&f.headless, "headless", false, "no screen: one line an event, decisions from the runbook's unattended line")
	cmd.Flags().BoolVar(&f.json, "json", false, "with --headless or --look: JSON")
	cmd.Flags().StringArrayVar(&f.only, "only", nil, onlyHelp)
	cmd.Flags().StringArrayVar(&f.answers, "answer", nil, "NAME=VALUE for a value the runbook asks for; those that the night had are known, but for secrets")
	cmd.Flags().StringArrayVar(&f.waivers, "waive", nil, "\"CHECK on DEVICE: REASON\" passes a precheck that does not hold; may be given many times")
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	return cmd
}

func (a *app) resume(ctx context.Context, d *acts.Desk, r acts.Resuming, f resumeFlags) error {
	switch {
	case f.back && f.on:
		return errors.New("--back takes back what the night left, and --go-on goes on with it: one of them")
	case f.look:
		return a.lookAtCutOff(ctx, d, r, f)
	case f.headless && !f.back && !f.on:
		return errors.New("nobody is asked with --headless: write --go-on or --back; --look says what the devices have now")
	case !f.headless && !a.isTerminal():
		return errors.New("there is no terminal here for the screen; use --headless, or --look")
	case !f.headless && !f.back && !f.on:
		return a.onScreen(ctx, d, func(h *screen.Host, _ *home.View) { open.CutOff(h, d, r.Night, h.Fail) })
	}
	c, answers, err := d.Resume(ctx, r)
	if err != nil {
		return err
	}
	f.answers = append(answers, f.answers...)
	return a.nightOf(ctx, d, c, f.nightFlags)
}

// lookAtCutOff looks at the devices of a night that was cut off, and says what each has now.
func (a *app) lookAtCutOff(ctx context.Context, d *acts.Desk, r acts.Resuming, f resumeFlags) error {
	l, err := d.LookAtCutOff(ctx, r, acts.Request{Only: f.only, Answers: f.answers})
	if err != nil {
		return err
	}
	if f.json {
		out := json.NewEncoder(a.out)
		for _, one := range l.Devices {
			if err := out.Encode(one); err != nil {
				return err
			}
		}
	} else if err := a.lines(append(report.CutOff(&l.Past.Night, l.Devices), howOn(l)...)); err != nil {
		return err
	}
	for _, one := range l.Devices {
		if one.Unreached != "" || one.Left != "" || one.NotOn != "" {
			return &exitError{code: int(night.NeedsPerson)}
		}
	}
	return nil
}

// howOn says how a night that was cut off is gone on with, or taken back.
func howOn(l *acts.CutOffLook) (out []string) {
	if l.GoesOn {
		out = append(out, fmt.Sprintf("metabasis resume %d --go-on goes on with it.", l.Past.ID))
	}
	if l.GoesBack {
		out = append(out, fmt.Sprintf("metabasis resume %d --back takes back what it left.", l.Past.ID))
	}
	if out == nil {
		out = []string{fmt.Sprintf("metabasis journal settle %d \"REASON\" says that it is seen to.", l.Past.ID)}
	}
	return append([]string{""}, out...)
}
