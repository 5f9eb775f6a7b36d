package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/acts"
	"metabasis/internal/core/textfile"
	"metabasis/internal/person"
	"metabasis/internal/settings"
	"metabasis/internal/store/secrets"
)

func (a *app) secretCommand() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "secret",
		Short: "Keep passwords in an encrypted file",
		Long: `Keep passwords and the like in the workspace's secrets.age, encrypted with age:
behind a passphrase, or for the holders of keys (see rekey). A secret is a part
of a login: password, or what a profile asks for, such as operator.`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	var recipients string
	rekey := &cobra.Command{
		Use:   "rekey",
		Short: "Change what opens the file: a new passphrase, or keys",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return a.secretRekey(cmd.Context(), recipients) },
	}
	rekey.Flags().StringVar(&recipients, "recipients", "", "a file of public keys (age1… or ssh-ed25519 …), one a line: their holders can open it")
	cmd.AddCommand(&cobra.Command{
		Use:   "add LOGIN PART",
		Short: "Put a secret in; it is asked for, or read from standard input",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 2 {
				return errors.New("write the login and the part only: a secret on the command line can be read by everybody on this machine, and stays in the shell's history; it is asked for")
			}
			if len(args) < 2 {
				return errors.New("write the login and the part, for example: metabasis secret add crew password")
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.secretAdd(cmd.Context(), secrets.ID{Login: args[0], Part: args[1]})
		},
	}, &cobra.Command{
		Use:   "list",
		Short: "Name the secrets that are in, without their values",
		Args:  cobra.NoArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return a.secretList(cmd.Context()) },
	}, &cobra.Command{
		Use:   "remove LOGIN PART",
		Short: "Take a secret out",
		Args:  exactly(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.secretRemove(cmd.Context(), secrets.ID{Login: args[0], Part: args[1]})
		},
	}, rekey)
	return cmd
}

// openSecrets opens the workspace's secrets file.
func (a *app) openSecrets(ctx context.Context) (*acts.Desk, *secrets.File, error) {
	ws, err := a.desk()
	if err != nil {
		return nil, nil, err
	}
	f, err := secrets.Open(ws.SecretsPath(), ws.Finder(os.Getenv, a.person()).Key(ctx))
	return ws, f, err
}

func (a *app) secretAdd(ctx context.Context, id secrets.ID) error {
	ws, f, err := a.openSecrets(ctx)
	if errors.Is(err, secrets.ErrNone) {
		var phrase string
		if phrase, err = a.newPassphrase(ctx, ws); err == nil {
			f = secrets.New(ws.SecretsPath(), phrase)
		}
	}
	if err != nil {
		return err
	}
	value, err := a.secretValue(ctx, id)
	if err != nil {
		return err
	}
	if err := f.Update(func(now *secrets.File) error { return now.Set(id, value) }); err != nil {
		return err
	}
	fmt.Fprintf(a.err, "%s is in %s.\n", id, relative(ws.SecretsPath()))
	return nil
}

// secretValue asks for a secret twice, or reads one line of standard input.
func (a *app) secretValue(ctx context.Context, id secrets.ID) (string, error) {
	ask := a.person()
	if ask == nil {
		return oneLine(a.in)
	}
	return twice(ctx, ask, id.String())
}

// oneLine reads a secret that is all there is: of several lines nobody knows which is meant.
func oneLine(in io.Reader) (string, error) {
	data, err := io.ReadAll(io.LimitReader(in, textfile.Small))
	if err != nil {
		return "", fmt.Errorf("reading the secret from standard input: %w", err)
	}
	line := strings.TrimSuffix(strings.TrimSuffix(string(data), "\n"), "\r")
	switch {
	case line == "":
		return "", errors.New("there is no secret on standard input: nothing was changed")
	case strings.ContainsAny(line, "\r\n"):
		return "", fmt.Errorf("standard input has %d lines, and a secret is one: nothing was changed", strings.Count(line, "\n")+1)
	}
	return line, nil
}

func twice(ctx context.Context, p person.Person, what string) (string, error) {
	one, err := person.AskOne(ctx, p, "", person.Question{Text: what, Secret: true})
	if err != nil {
		return "", err
	}
	two, err := person.AskOne(ctx, p, "", person.Question{Text: "Again, " + what, Secret: true})
	if err != nil {
		return "", err
	}
	if one != two {
		return "", errors.New("the two are not the same; nothing was changed")
	}
	return one, nil
}

// newPassphrase asks for the passphrase of a new file.
func (a *app) newPassphrase(ctx context.Context, ws *acts.Desk) (string, error) {
	ask := a.person()
	if ask == nil || os.Getenv("METABASIS_SECRETS_PASSPHRASE") != "" || ws.Settings.Get(settings.Helper) != "" {
		return ws.Finder(os.Getenv, nil).Key(ctx).Passphrase()
	}
	return twice(ctx, ask, "new passphrase of the secrets file")
}

func (a *app) secretList(ctx context.Context) error {
	_, f, err := a.openSecrets(ctx)
	if err != nil {
		return err
	}
	for _, id := range f.List() {
		fmt.Fprintln(a.out, id)
	}
	return nil
}

func (a *app) secretRemove(ctx context.Context, id secrets.ID) error {
	_, f, err := a.openSecrets(ctx)
	if err != nil {
		return err
	}
	return f.Update(func(now *secrets.File) error {
		if !now.Remove(id) {
			return fmt.Errorf("%s is not in the secrets file; metabasis secret list names what is", id)
		}
		return nil
	})
}

func (a *app) secretRekey(ctx context.Context, recipients string) error {
	ws, f, err := a.openSecrets(ctx)
	if err != nil {
		return err
	}
	if recipients != "" {
		data, err := textfile.Read(recipients, textfile.Small)
		if err != nil {
			return err
		}
		return f.Rekey(data, "")
	}
	ask := a.person()
	var phrase string
	switch {
	case ask != nil:
		phrase, err = twice(ctx, ask, "new passphrase of the secrets file")
	case ws.Settings.Get(settings.Helper) != "":
		phrase, err = ws.Finder(func(string) string { return "" }, nil).Key(ctx).Passphrase()
	default:
		if phrase = os.Getenv("METABASIS_NEW_PASSPHRASE"); phrase == "" {
			err = errors.New("nobody can be asked for the new passphrase: set METABASIS_NEW_PASSPHRASE, or give --recipients")
		}
	}
	if err != nil {
		return err
	}
	return f.Rekey(nil, phrase)
}
