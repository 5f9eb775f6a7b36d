package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/run"
	"metabasis/internal/core/textfile"
	"metabasis/internal/settings"
	"metabasis/internal/store"
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
file of their own.`,
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
	commands, words, err := readCommands(f.files, words)
	if err != nil {
		return err
	}
	e, err := a.selected(f.fleet, words)
	if err != nil {
		return err
	}
	if err := e.harmless(commands, f.anything); err != nil {
		return err
	}
	if err := a.ready(ctx, e, "ask"); err != nil {
		return err
	}
	defer e.close()
	a.say(e.scope)
	if f.anything {
		fmt.Fprintln(a.err, "warning: commands are sent that the profiles do not know to change nothing")
	}
	ctx, over := signalled(ctx)
	dir := e.ws.Settings.Get(settings.Evidence)
	if !filepath.IsAbs(dir) {
		dir = filepath.Join(e.ws.Dir, dir)
	}
	q := &questioner{evening: e, commands: commands, anything: f.anything, evidence: &store.Evidence{Dir: dir}, at: time.Now()}
	q.sweep(ctx)
	if err := a.printAnswers(q, f.json); err != nil {
		return err
	}
	return ended(over(), q.failed())
}

// commandList are the commands for devices of a role; "" is any other.
type commandList map[string][]string

func (c commandList) of(d fleet.Device) []string {
	if list, ok := c[d.Role]; ok {
		return list
	}
	return c[""]
}

// readCommands reads the commands from files, else the first word is one.
func readCommands(files, words []string) (commandList, []string, error) {
	out := commandList{}
	if len(files) == 0 {
		if len(words) == 0 {
			return nil, nil, errors.New(`no command: write metabasis ask "COMMAND" [SCOPE]`)
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

// harmless refuses, before anything connects, what may not be sent.
func (e *evening) harmless(commands commandList, anything bool) error {
	var list problem.List
	told := map[string]bool{}
	none := 0
	for _, d := range e.scope.Devices {
		p := e.ws.Profiles[d.Platform]
		if len(commands.of(d)) == 0 {
			none++
		}
		for _, c := range commands.of(d) {
			key := d.Platform + " " + c
			switch {
			case told[key]:
			case p.NeverSent(c):
				list = append(list, problem.Problem{File: d.Platform, Msg: fmt.Sprintf("%q is never sent", c)})
			case !anything && !p.Safe(c):
				list = append(list, problem.Problem{File: d.Platform, Msg: fmt.Sprintf("%q is not among the commands that the profile knows to change nothing", c),
					Hint: "another command; or --any, if you know that it changes nothing"})
			}
			told[key] = true
		}
	}
	if none > 0 && len(list) == 0 {
		return fmt.Errorf("%s in scope have no commands: give a --file for their role, or one for all others", count(none, "device"))
	}
	return list.Err()
}

// answer is what a device answered to a command.
type answer struct {
	Device  string   `json:"device"`
	Host    string   `json:"host,omitempty"`
	Command string   `json:"command"`
	Lines   []string `json:"lines"`
	Refused string   `json:"refused,omitempty"`
	File    string   `json:"file,omitempty"`
	Error   string   `json:"error,omitempty"`
}

// questioner asks many devices.
type questioner struct {
	*evening
	commands commandList
	anything bool
	evidence *store.Evidence
	at       time.Time

	mu      sync.Mutex
	answers map[string][]answer // by device
}

func (q *questioner) sweep(ctx context.Context) {
	q.answers = map[string][]answer{}
	take := func(d fleet.Device, got []answer) {
		q.mu.Lock()
		defer q.mu.Unlock()
		q.answers[d.Name] = got
	}
	reach.Sweep(ctx, q.scope.Devices, q.together(), func(ctx context.Context, d fleet.Device) { take(d, q.one(ctx, d)) },
		func(_ context.Context, d fleet.Device) {
			take(d, []answer{{Device: d.Name, Error: "not begun: given up before"}})
		})
}

// one asks one device all its commands.
func (q *questioner) one(ctx context.Context, d fleet.Device) (out []answer) {
	s, err := q.connector.Open(ctx, d, nil)
	if err != nil {
		f := reach.AsFailure(err)
		return []answer{{Device: d.Name, Error: fmt.Sprintf("%s: %v", f.Stage, f)}}
	}
	defer s.Close()
	for _, c := range q.commands.of(d) {
		one := answer{Device: d.Name, Host: s.Host(), Command: s.Mask(c)}
		one.Lines, err = s.Ask(ctx, c, q.anything)
		var refused *run.Refused
		switch {
		case errors.As(err, &refused):
			one.Refused = refused.Said
		case err != nil:
			one.Error = s.Mask(err.Error())
		}
		if one.Error == "" {
			if one.File, err = q.evidence.Put(q.at, d.Name, s.Host(), one.Command, one.Lines); err != nil {
				one.Error = err.Error()
			}
		}
		out = append(out, one)
		if one.Error != "" {
			break // the session is of no more use
		}
	}
	return out
}

func (q *questioner) failed() int {
	n := 0
	for _, answers := range q.answers {
		if slices.ContainsFunc(answers, func(a answer) bool { return a.Error != "" || a.Refused != "" }) {
			n++
		}
	}
	return n
}

// inOrder lists the answers in the fleet's order.
func (q *questioner) inOrder() (out []answer) {
	for _, d := range q.scope.Devices {
		out = append(out, q.answers[d.Name]...)
	}
	return out
}

// printAnswers prints each answer once, with all the devices that gave it.
func (a *app) printAnswers(q *questioner, asJSON bool) error {
	all := q.inOrder()
	if asJSON {
		e := json.NewEncoder(a.out)
		for _, one := range all {
			if err := e.Encode(one); err != nil {
				return err
			}
		}
		return nil
	}
	type key struct{ command, text string }
	devices := map[key][]string{}
	var order []key
	kept := ""
	for _, one := range all {
		k := key{one.Command, strings.Join(one.Lines, "\n")}
		if one.Error != "" {
			k.text = "✗ " + one.Error
		}
		if devices[k] == nil {
			order = append(order, k)
		}
		devices[k] = append(devices[k], one.Device)
		if one.File != "" {
			kept = filepath.Dir(filepath.Dir(one.File))
		}
	}
	for _, k := range order {
		head := count(len(devices[k]), "device") + ": " + some(devices[k], 8)
		if k.command != "" {
			head = k.command + "  ·  " + head
		}
		if _, err := fmt.Fprintf(a.out, "── %s\n%s\n\n", head, k.text); err != nil {
			return err
		}
	}
	if kept != "" {
		fmt.Fprintf(a.err, "Kept under %s.\n", relative(kept))
	}
	return nil
}
