package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/textfile"
	"metabasis/internal/report"
	"metabasis/internal/settings"
)

type askFlags struct {
	eveningFlags
	files    []string
	anything bool
}

func (a *app) askCommand() *cobra.Command {
	var f askFlags
	cmd := &cobra.Command{
		Use:   `ask "COMMAND" [SCOPE]`,
		Short: "Ask many devices a command that changes nothing, and keep the answers",
		Long: `Send a command to every device in scope and keep what each answers as evidence:
a folder a night, in it one a device by its own name, in it a file a command.

Only commands that the device's profile knows to change nothing are sent; --any
sends others, too, except those that the profile never lets be sent. With --file
the commands stand in a file, one a line; ROLE=FILE gives devices of a role a
file of their own. With --only every word is a command:
ask "tell clock" "tell storage" --only ald-quay-1.`,
		RunE: func(cmd *cobra.Command, words []string) error { return a.ask(cmd.Context(), f, words) },
	}
	a.eveningFlags(cmd, &f.eveningFlags)
	cmd.Flags().StringArrayVar(&f.files, "file", nil, "FILE or ROLE=FILE with commands, one a line; may be given many times")
	cmd.Flags().BoolVar(&f.anything, "any", false, "send commands that the profile does not know to change nothing")
	cmd.Flags().BoolVar(&f.json, "json", false, "one JSON object an answer")
	a.settingFlag(cmd.Flags(), settings.Evidence)
	return cmd
}

func (a *app) ask(ctx context.Context, f askFlags, words []string) error {
	commands, words, err := readCommands(f.files, words, len(f.only) > 0)
	if err != nil {
		return err
	}
	if words, err = f.chosen(words); err != nil {
		return err
	}
	e, err := a.selected(f.fleet, words)
	if err != nil {
		return err
	}
	e, unasked, err := e.Askable(commands, f.anything)
	if err != nil {
		return err
	}
	if err := a.ready(ctx, e, "ask"); err != nil {
		return err
	}
	defer a.closes(e)
	a.say(e.Scope)
	if f.anything {
		fmt.Fprintln(a.err, "warning: commands are sent that the profiles do not know to change nothing")
	}
	ctx, over := signalled(ctx)
	answers := e.Ask(ctx, commands, f.anything)
	if err := a.printAnswers(answers, f.json); err != nil {
		return err
	}
	return ended(over(), acts.Unanswered(answers)+len(unasked))
}

// readCommands reads the commands from files, else the first word is one; all are where the
// scope stands elsewhere.
func readCommands(files, words []string, all bool) (acts.Commands, []string, error) {
	out := acts.Commands{}
	if len(files) == 0 {
		if len(words) == 0 {
			return nil, nil, errors.New(`no command: write metabasis ask "COMMAND" [SCOPE]`)
		}
		if all {
			out[""] = words
			return out, nil, nil
		}
		out[""] = []string{words[0]}
		return out, words[1:], nil
	}
	for _, f := range files {
		role, path, ok := strings.Cut(f, "=")
		if !ok {
			role, path = "", f
		}
		data, err := textfile.Read(path, textfile.Small)
		if err != nil {
			return nil, nil, err
		}
		if _, twice := out[role]; twice {
			return nil, nil, fmt.Errorf("--file %s: there is a file for these devices already", f)
		}
		for _, l := range strings.Split(string(data), "\n") {
			if l = strings.TrimSpace(l); l != "" && l[0] != '#' {
				out[role] = append(out[role], l)
			}
		}
		if len(out[role]) == 0 {
			return nil, nil, fmt.Errorf("%s has no commands", path)
		}
	}
	return out, words, nil
}

// printAnswers prints each answer once, with all the devices that gave it.
func (a *app) printAnswers(all []acts.Answer, asJSON bool) error {
	if asJSON {
		e := json.NewEncoder(a.out)
		for _, one := range all {
			if err := e.Encode(one); err != nil {
				return err
			}
		}
		return nil
	}
	for _, same := range acts.Together(all) {
		head := report.Count(len(same.Devices), "device") + ": " + report.Some(same.Devices, 8)
		if same.Command != "" {
			head = same.Command + "  ·  " + head
		}
		if same.Wrong {
			same.Text = "✗ " + same.Text
		}
		if _, err := fmt.Fprintf(a.out, "── %s\n%s\n\n", head, same.Text); err != nil {
			return err
		}
	}
	kept := ""
	for _, one := range all {
		if one.File != "" {
			kept = filepath.Dir(filepath.Dir(one.File))
		}
	}
	if kept != "" {
		fmt.Fprintf(a.err, "Kept under %s.\n", relative(kept))
	}
	return nil
}
