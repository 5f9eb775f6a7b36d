package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"metabasis/internal/core/runbook"
	"metabasis/internal/workspace"
)

// answers gathers the values the runbook asks for: from the flags, else its
// defaults, else from the person. Secrets come from where secrets are kept, never
// from a command line.
func (a *app) answers(ctx context.Context, rb *runbook.Runbook, f nightFlags, find *workspace.Finder) (map[string]string, error) {
	out := map[string]string{}
	for _, ask := range rb.Ask {
		out[ask.Name] = ask.Default
	}
	for _, given := range f.answers {
		if err := answered(rb, given, out); err != nil {
			return nil, err
		}
	}
	for _, ask := range rb.Ask {
		v, err := a.answer(ctx, ask, out[ask.Name], f, find)
		if err != nil {
			return nil, err
		}
		out[ask.Name] = v
	}
	return out, nil
}

// answered takes one --answer.
func answered(rb *runbook.Runbook, given string, out map[string]string) error {
	name, value, ok := strings.Cut(given, "=")
	i := slices.IndexFunc(rb.Ask, func(k runbook.Ask) bool { return k.Name == name })
	switch {
	case i >= 0 && rb.Ask[i].Kind == runbook.Secret:
		return fmt.Errorf("--answer %s: it is a secret, and a command line can be read by everybody on this machine and stays in the shell's history; "+
			"set %s, put it into the secrets file with metabasis secret add answer %s, or let yourself be asked", name, workspace.Variable("answer", name), name)
	case !ok || i < 0:
		return fmt.Errorf("--answer %q: write NAME=VALUE with a name the runbook asks for", name)
	}
	out[name] = value
	return nil
}

// asked is how often a person may try to answer a question.
const asked = 3

// answer settles one value.
func (a *app) answer(ctx context.Context, ask runbook.Ask, given string, f nightFlags, find *workspace.Finder) (string, error) {
	if ask.Kind == runbook.Secret {
		return a.secret(ctx, ask, find)
	}
	here := given == "" && !f.headless && a.isTerminal()
	for try := 1; ; try++ {
		if here {
			fmt.Fprintf(a.err, "%s (%s, %s): ", ask.Prompt, ask.Name, ask.Kind)
			line, err := readLine(a.in)
			if err != nil {
				return "", fmt.Errorf("%s: no answer", ask.Name)
			}
			given = strings.TrimSpace(line)
		}
		err := ask.Check(given)
		switch {
		case err == nil:
			return given, nil
		case here && try < asked:
			fmt.Fprintln(a.err, err)
		default:
			return "", fmt.Errorf("%w; give it with --answer %s=VALUE", err, ask.Name)
		}
	}
}

// secret settles a value that is asked for as a secret.
func (a *app) secret(ctx context.Context, ask runbook.Ask, find *workspace.Finder) (string, error) {
	for try := 1; ; try++ {
		v, err := find.Answer(ctx, ask.Name, ask.Prompt)
		if err != nil {
			return "", err
		}
		err = ask.Check(v)
		if err == nil || find.Ask == nil || try == asked {
			return v, err
		}
		fmt.Fprintln(a.err, err)
	}
}

// readLine reads a line and not a byte more: what follows is somebody else's.
func readLine(in io.Reader) (string, error) {
	var line []byte
	one := make([]byte, 1)
	for len(line) < 4096 {
		n, err := in.Read(one)
		switch {
		case n == 1 && one[0] == '\n':
			return string(line), nil
		case n == 1:
			line = append(line, one[0])
		case err != nil && len(line) > 0 && errors.Is(err, io.EOF):
			return string(line), nil
		case err != nil:
			return "", err
		}
	}
	return "", errors.New("the line is too long")
}
