package workspace

import (
	"bytes"
	"context"
	"fmt"
	"maps"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"

	"metabasis/internal/device"
)

// Asker asks a person for a secret without showing it.
type Asker func(prompt string) (string, error)

var notWord = regexp.MustCompile(`[^A-Z0-9]+`)

// Variable is the environment variable a part of a login is taken from, such as
// METABASIS_CREW_PASSWORD.
func Variable(login, part string) string {
	clean := func(s string) string { return notWord.ReplaceAllString(strings.ToUpper(s), "_") }
	if login == "" {
		login = "login"
	}
	return "METABASIS_" + clean(login) + "_" + clean(part)
}

// Logins finds every login that is needed: from the environment, else from the
// program named by METABASIS_ASKPASS, else by asking. The user's name is the
// login's name unless its _USER variable says otherwise. What cannot be found
// is an error that names the variable to set.
func Logins(ctx context.Context, need map[string][]string, getenv func(string) string, ask Asker) (map[string]device.Login, error) {
	out := map[string]device.Login{}
	for _, name := range slices.Sorted(maps.Keys(need)) {
		l := device.Login{Secrets: map[string]string{}}
		l.User = getenv(Variable(name, "user"))
		if l.User == "" {
			l.User = name
		}
		if l.User == "" {
			return nil, fmt.Errorf("some devices have no login in the fleet file: name one in its login column, or set %s", Variable(name, "user"))
		}
		for _, part := range need[name] {
			v, err := secret(ctx, name, part, getenv, ask)
			if err != nil {
				return nil, err
			}
			if part == "password" {
				l.Password = v
			} else {
				l.Secrets[part] = v
			}
		}
		out[name] = l
	}
	return out, nil
}

func secret(ctx context.Context, login, part string, getenv func(string) string, ask Asker) (string, error) {
	variable := Variable(login, part)
	if v := getenv(variable); v != "" {
		return v, nil
	}
	prompt := fmt.Sprintf("%s of login %s: ", part, login)
	if helper := getenv("METABASIS_ASKPASS"); helper != "" {
		cmd := exec.CommandContext(ctx, helper, prompt)
		cmd.Stderr = os.Stderr
		b, err := cmd.Output()
		if err != nil {
			return "", fmt.Errorf("METABASIS_ASKPASS: %s: %w", helper, err)
		}
		return string(bytes.TrimRight(b, "\r\n")), nil
	}
	if ask == nil {
		return "", fmt.Errorf("the %s of login %q is not known: set %s, or METABASIS_ASKPASS to a program that prints it", part, login, variable)
	}
	return ask(prompt)
}
