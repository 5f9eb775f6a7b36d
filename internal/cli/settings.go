package cli

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/settings"
)

func (a *app) settingsCommand() *cobra.Command {
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "settings",
		Short: "Show every setting, its value and where it comes from",
		Long: `Show every setting, its value and where it comes from. A flag comes before an
environment variable, that before the workspace's metabasis.yaml, that before
your own settings file, that before the default. Secrets are not settings; where
they are looked for is shown last.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error { return a.settings(asJSON) },
	}
	cmd.Flags().BoolVar(&asJSON, "json", false, "one JSON object a setting")
	a.settingFlag(cmd.Flags(), settings.Together)
	a.settingFlag(cmd.Flags(), settings.Evidence)
	return cmd
}

func (a *app) settings(asJSON bool) error {
	ws, err := a.desk()
	if err != nil {
		return err
	}
	_, wrong := ws.Prechecks() // told last: the rest is shown all the same
	if asJSON {
		e := json.NewEncoder(a.out)
		for _, v := range ws.Settings.Values() {
			if err := e.Encode(map[string]string{"key": v.Key, "value": v.Value, "from": v.From}); err != nil {
				return err
			}
		}
		return wrong
	}
	for _, v := range ws.Settings.Values() {
		shown := v.Value
		if shown == "" {
			shown = "-"
		}
		if _, err := fmt.Fprintf(a.out, "%-12s %-20s %-36s %s\n", v.Key, shown, v.From, v.Help); err != nil {
			return err
		}
	}
	for i, r := range ws.Settings.Logins {
		fmt.Fprintf(a.out, "login rule %d: %s → %s\n", i+1, ruleText(r), r.Login)
	}
	for _, name := range slices.Sorted(maps.Keys(ws.Settings.Prechecks)) {
		fmt.Fprintf(a.out, "precheck %s: %s\n", name, ws.Settings.Prechecks[name])
	}
	fmt.Fprint(a.out, `
Secrets of a login, first found: environment METABASIS_LOGIN_PART, the secrets
file, the program in askpass, the terminal. Keys: METABASIS_LOGIN_KEY, a rule's
key, IdentityFile, the SSH agent. The login of a device: the fleet's login
column, the first rule that fits, the setting login.
`)
	return wrong
}

func ruleText(r settings.Rule) string {
	var parts []string
	for _, p := range []struct{ name, value string }{{"device", r.Device}, {"site", r.Site}, {"role", r.Role},
		{"platform", r.Platform}, {"jump", r.Jump}} {
		if p.value != "" {
			parts = append(parts, p.name+" "+p.value)
		}
	}
	return strings.Join(parts, ", ")
}
