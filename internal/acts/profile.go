package acts

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
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/textfile"
	"metabasis/internal/device/profile"
	"metabasis/internal/person"
	"metabasis/internal/workspace"
)

// LoadProfile loads a profile from a file; one that it is like may be the workspace's
// own or a shipped one.
func LoadProfile(dir, file string) (*profile.Profile, error) {
	data, err := textfile.Read(file, textfile.Small)
	if err != nil {
		return nil, err
	}
	sources, err := workspace.ProfileSources(dir)
	if err != nil {
		return nil, err
	}
	return sources.Load(profile.Source{File: file, Data: data})
}

// Trial selects the device that a profile is tried on, with that profile in place of
// the one that its platform has.
func (d *Desk) Trial(p *profile.Profile, file, fleetFile, name string) (*Evening, error) {
	d.Profiles[p.Platform] = p // so that a fleet may name a platform whose only profile this is
	e, err := d.Select(fleetFile, []string{name})
	if err != nil {
		return nil, err
	}
	if len(e.Scope.Devices) != 1 {
		return nil, errors.New("a profile is tried on one device")
	}
	if dev := e.Scope.Devices[0]; dev.Platform != p.Platform {
		return nil, fmt.Errorf("%s is a %s, and %s is for %s", dev.Name, dev.Platform, file, p.Platform)
	}
	return e, nil
}

// Stranger says what a device of a platform without a profile is, where the fleet does
// not.
type Stranger struct{ Fleet, Platform, Protocol string }

var platformName = regexp.MustCompile(`^[a-z][a-z0-9_-]*$`)

// Stranger selects a device of a platform that has no profile yet, to be looked at: one
// of the fleet, whatever its platform, or an address. File is where its profile is to
// be written; nothing is there.
func (d *Desk) Stranger(s Stranger, name string) (e *Evening, file string, err error) {
	e = &Evening{Desk: d}
	dev, err := e.stranger(s, name)
	if err != nil {
		return nil, "", err
	}
	if !platformName.MatchString(dev.Platform) {
		return nil, "", fmt.Errorf("%q cannot be the name of a platform: small letters, digits and -, such as heron", dev.Platform)
	}
	file = filepath.Join(d.Dir, "profiles", dev.Platform+".yaml")
	switch _, err := os.Stat(file); {
	case d.Profiles[dev.Platform] != nil:
		return nil, "", fmt.Errorf(
			"there is a profile of %s already; a variant of it says like: %s, see docs/profiles.md",
			dev.Platform,
			dev.Platform,
		)
	case err == nil:
		return nil, "", fmt.Errorf("%s is there already; nothing was written over", file)
	case !errors.Is(err, fs.ErrNotExist):
		return nil, "", err
	}
	d.Profiles[dev.Platform] = scratch(dev)
	e.Scope = &scope.Scope{Devices: []fleet.Device{dev}}
	return e, file, nil
}

// The questions of a login over Telnet that are usual.
var (
	asksName = regexp.MustCompile(`(?i)^.*(?:user|login|name)[^:?]*[:?]\s*$`)
	asksWord = regexp.MustCompile(`(?i)^.*(?:pass|word)[^:?]*[:?]\s*$`)
)

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
		p.Connect.Login = []profile.Answer{
			{Question: profile.Pattern{Regexp: asksName}, Send: "<<user>>"},
			{Question: profile.Pattern{Regexp: asksWord}, Secret: "password"},
		}
	}
	return p
}

// stranger finds the device: in the fleet, or at an address.
func (e *Evening) stranger(s Stranger, name string) (fleet.Device, error) {
	all, err := e.FleetOfAny(s.Fleet)
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
	} else if s.Platform == "" {
		return d, err
	}
	if !found && s.Platform == "" {
		return d, fmt.Errorf("%s is not in the fleet; for an address say which platform it is: --platform heron", name)
	}
	if e.Fleet = all; all == nil {
		e.Fleet = &fleet.Fleet{}
	}
	if s.Platform != "" {
		d.Platform = s.Platform
	}
	if s.Protocol != "" {
		d.Protocol = s.Protocol
	}
	if d.Protocol != "" && d.Protocol != profile.SSH && d.Protocol != profile.Telnet {
		return d, fmt.Errorf("protocol %q is not known; write ssh or telnet", d.Protocol)
	}
	return d, nil
}

// Explore looks at the device, asking what cannot be seen, and returns a first profile
// of its platform.
func (e *Evening) Explore(ctx context.Context, p person.Person, tell func(string, bool)) (string, error) {
	seen, err := e.Connector.Explore(ctx, e.Scope.Devices[0], p, tell)
	if err != nil {
		return "", fmt.Errorf("%s: %w", e.Scope.Devices[0].Name, err)
	}
	return seen.Draft(), nil
}

// ReadConfig reads a configuration that a device of a platform has printed.
func ReadConfig(p *profile.Profile, file string) (config.Config, error) {
	data, err := textfile.Read(file, textfile.Large)
	if err != nil {
		return config.Config{}, err
	}
	return config.Parse(string(data), p.Style()), nil
}
