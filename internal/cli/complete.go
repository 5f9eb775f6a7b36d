package cli

import (
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"metabasis/internal/settings"
)

// completer says what a word may be.
type completer func(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective)

// devices completes the names of devices, of saved selections, and of settings for
// a workspace that can be read; it asks nobody and connects to nothing.
func (a *app) devices(after int) completer {
	return func(_ *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		if len(args) < after {
			return nil, cobra.ShellCompDirectiveDefault
		}
		d, err := a.desk()
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		if fl, err := d.FleetOfAny(""); err == nil {
			for _, dev := range fl.Devices {
				out = append(out, dev.Name+"\t"+strings.Join(strings.Fields(dev.Platform+" "+dev.Site+" "+dev.Role), ", "))
			}
		}
		if saved, err := d.Selections(); err == nil {
			for _, name := range slices.Sorted(maps.Keys(saved)) {
				out = append(out, "@"+name+"\tsaved selection")
			}
		}
		return begun(out, args, word), cobra.ShellCompDirectiveNoFileComp
	}
}

// begun are the words that begin as one does and are not there yet.
func begun(all, args []string, word string) (out []string) {
	for _, w := range all {
		name, _, _ := strings.Cut(w, "\t")
		if strings.HasPrefix(name, word) && !slices.Contains(args, name) {
			out = append(out, w)
		}
	}
	return out
}

// runbooks completes the runbooks of the workspace, with their titles, and other files.
func (a *app) runbooks(_ *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	d, err := a.desk()
	if err != nil {
		return nil, cobra.ShellCompDirectiveDefault
	}
	fl, _ := d.Fleet("")
	var out []string
	for _, file := range d.Runbooks() {
		title := "has mistakes"
		if rb, _, _, err := d.Check(file, fl); err == nil && rb != nil {
			title = rb.Title
		}
		out = append(out, filepath.Clean(file)+"\t"+title)
	}
	return begun(out, args, word), cobra.ShellCompDirectiveDefault
}

// tables completes the tables that profiles read, then devices.
func (a *app) tables(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return a.devices(1)(cmd, args, word)
	}
	d, err := a.desk()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	all := map[string][]string{}
	for _, platform := range d.Profiles.Platforms() {
		for name := range d.Profiles[platform].Readers {
			all[name] = append(all[name], platform)
		}
	}
	var out []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, name+"\tread from "+strings.Join(all[name], ", "))
	}
	return begun(out, args, word), cobra.ShellCompDirectiveNoFileComp
}

// oneOf completes words.
func oneOf(words ...string) completer {
	return func(_ *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
		return begun(words, nil, word), cobra.ShellCompDirectiveNoFileComp
	}
}

// complete says what the words of each command may be.
func (a *app) complete(root *cobra.Command) {
	of := func(path string) *cobra.Command {
		cmd, _, err := root.Find(strings.Fields(path))
		if err != nil {
			panic(err)
		}
		return cmd
	}
	for _, path := range []string{"scope", "reach", "console"} {
		of(path).ValidArgsFunction = a.devices(0)
	}
	of("ask").ValidArgsFunction = a.devices(1)
	of("profile try").ValidArgsFunction = a.devices(1)
	of("profile new").ValidArgsFunction = a.devices(0)
	of("read").ValidArgsFunction = a.tables
	for _, path := range []string{"run", "check", "tidy"} {
		of(path).ValidArgsFunction = a.runbooks
	}
	for flag, words := range map[string][]string{settings.Theme: {"auto", "dark", "light"}, settings.HostKeys: {"strict", "ask", "remember"}} {
		_ = root.RegisterFlagCompletionFunc(strings.ReplaceAll(flag, "_", "-"), oneOf(words...))
	}
	_ = of("demo").RegisterFlagCompletionFunc("faults", oneOf("none", "few", "many"))
	_ = of("sim").RegisterFlagCompletionFunc("faults", oneOf("none", "few", "many"))
	_ = root.MarkPersistentFlagDirname("workspace")
}
