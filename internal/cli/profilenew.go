package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/scope"
	"metabasis/internal/device/profile"
)

type newFlags struct{ fleet, platform, protocol string }

func (a *app) profileNewCommand() *cobra.Command {
	var f newFlags
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
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error { return a.profileNew(cmd.Context(), f, args[0]) },
	}
	cmd.Flags().StringVar(&f.fleet, "fleet", "", "a fleet file in place of the workspace's")
	cmd.Flags().StringVar(&f.platform, "platform", "", "the platform's name; usually the fleet's")
	cmd.Flags().StringVar(&f.protocol, "protocol", "", "ssh or telnet; usually the fleet's, else ssh")
	return cmd
}

// The questions of a login over Telnet that are usual.
var (
	asksName = regexp.MustCompile(`(?i)^.*(?:user|login|name)[^:?]*[:?]\s*$`)
	asksWord = regexp.MustCompile(`(?i)^.*(?:pass|word)[^:?]*[:?]\s*$`)
)

var platformName = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)

func (a *app) profileNew(ctx context.Context, f newFlags, name string) error {
	ws, err := a.workspace()
	if err != nil {
		return err
	}
	e := &evening{ws: ws}
	d, err := a.newDevice(e, f, name)
	if err != nil {
		return err
	}
	file := filepath.Join(ws.Dir, "profiles", d.Platform+".yaml")
	switch _, err := os.Stat(file); {
	case !platformName.MatchString(d.Platform):
		return fmt.Errorf("%q cannot be the name of a platform: small letters, digits and -, such as heron", d.Platform)
	case ws.Profiles[d.Platform] != nil:
		return fmt.Errorf("there is a profile of %s already; a variant of it says like: %s, see docs/profiles.md", d.Platform, d.Platform)
	case err == nil:
		return fmt.Errorf("%s is there already; nothing was written over", relative(file))
	case !errors.Is(err, fs.ErrNotExist):
		return err
	}
	ws.Profiles[d.Platform] = scratch(d)
	e.scope = &scope.Scope{Devices: []fleet.Device{d}}
	if err := a.ready(ctx, e, "new"); err != nil {
		return err
	}
	defer e.close()
	ctx, over := signalled(ctx)
	fmt.Fprintf(a.err, "Looking at %s. A few words that no device knows are sent, and the commands that you give,\nas they are: give none that changes something. Ctrl-C ends it; nothing is written then.\n\n", d.Name)
	seen, err := e.connector.Explore(ctx, d, &personHere{a, ctx})
	gaveUp := over()
	if gaveUp {
		fmt.Fprintln(a.err, "Given up. No profile was written, and nothing was changed.")
		return ended(true, 0)
	}
	if err != nil {
		return fmt.Errorf("%s: %w; no profile was written, what was said is in %s", d.Name, err, relative(e.dir))
	}
	return a.writeDraft(file, seen.Draft())
}

// scratch says no more than how a device is connected to.
func scratch(d fleet.Device) *profile.Profile {
	p := &profile.Profile{Platform: d.Platform, Connect: profile.Connect{Protocol: d.Protocol, Prompt: 30 * time.Second}}
	if p.Connect.Protocol == "" {
		p.Connect.Protocol = profile.SSH
	}
	if p.Connect.Port = d.Port; p.Connect.Port == 0 {
		p.Connect.Port = profile.UsualPort(p.Connect.Protocol)
	}
	if p.Connect.Protocol == profile.Telnet {
		p.Connect.Login = []profile.Answer{{Question: profile.Pattern{Regexp: asksName}, Send: "<<user>>"}, {Question: profile.Pattern{Regexp: asksWord}, Secret: "password"}}
	}
	return p
}

// newDevice finds the device: in the fleet, whatever its platform, or at an address.
func (a *app) newDevice(e *evening, f newFlags, name string) (fleet.Device, error) {
	all, err := e.ws.FleetOfAny(f.fleet)
	d := fleet.Device{Name: name, Address: name}
	if host, port, err := net.SplitHostPort(name); err == nil {
		d.Name, d.Address = host, host
		if d.Port, err = strconv.Atoi(port); err != nil || d.Port < 1 || d.Port > 65535 {
			return d, fmt.Errorf("%q is not a port", port)
		}
	}
	found := false
	if err == nil {
		for _, have := range all.Devices {
			if have.Name == name {
				d, found = have, true
			}
		}
	} else if f.platform == "" {
		return d, err
	}
	if !found && f.platform == "" {
		return d, fmt.Errorf("%s is not in the fleet; for an address say which platform it is: --platform heron", name)
	}
	if e.fleet = all; all == nil {
		e.fleet = &fleet.Fleet{}
	}
	if f.platform != "" {
		d.Platform = f.platform
	}
	if f.protocol != "" {
		d.Protocol = f.protocol
	}
	if d.Protocol != "" && d.Protocol != profile.SSH && d.Protocol != profile.Telnet {
		return d, fmt.Errorf("protocol %q is not known; write ssh or telnet", d.Protocol)
	}
	return d, nil
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

// personHere is whoever is at the terminal. What is asked is given up with ctx: who
// presses Ctrl-C at a question has answered it.
type personHere struct {
	a   *app
	ctx context.Context
}

func (p *personHere) Ask(question, hint string) (string, error) {
	fmt.Fprintf(p.a.err, "\n▌ %s  (%s)\n  ▸ ", question, hint)
	line, err := p.answer(func() (string, error) { return readLine(p.a.in) })
	return strings.TrimSpace(line), err
}

func (p *personHere) Hidden(question string) (string, error) {
	ask := p.a.asker()
	if ask == nil {
		line, err := p.answer(func() (string, error) { return readLine(p.a.in) })
		return strings.TrimRight(line, "\r"), err
	}
	in := int(p.a.in.(*os.File).Fd())
	if before, err := term.GetState(in); err == nil { // what was typed is shown again, whatever happens
		defer func() { _ = term.Restore(in, before) }()
	}
	return p.answer(func() (string, error) { return ask("\n▌ " + question) })
}

// answer waits for an answer, or until it is given up.
func (p *personHere) answer(read func() (string, error)) (string, error) {
	type given struct {
		text string
		err  error
	}
	got := make(chan given, 1)
	go func() {
		text, err := read()
		got <- given{text, err}
	}()
	select {
	case g := <-got:
		if g.err != nil {
			return "", errors.New("no answer was given")
		}
		return g.text, nil
	case <-p.ctx.Done():
		fmt.Fprintln(p.a.err)
		return "", context.Cause(p.ctx)
	}
}

func (p *personHere) Tell(text string, ok bool) {
	mark := "●"
	if !ok {
		mark = "▲"
	}
	fmt.Fprintf(p.a.out, "%s %s\n", mark, text)
}
