package workspace

import (
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"metabasis/internal/core/carry"
	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/textfile"
	"metabasis/internal/device/profile"
	"metabasis/internal/store"
)

// Carrying is the configuration of one device as another is to have it.
type Carrying struct {
	carry.Carried
	Old, New fleet.Device
	Backup   store.Shelved // the newest of the old one
	Text     string        // as the new one prints it
	Mapping  string        // the file that says how; "" where ports have the same names
	// Path are the lines that will differ on the way by which the new one is managed.
	Path []string
	// Differs is how many lines the new one's newest backup has from what is carried over.
	Differs int
}

// keyIn is by what lines replace one another on a platform.
func keyIn(l *config.Language) func(path []string) string {
	return func(path []string) string {
		if key, ok := l.Key(path); ok {
			return key
		}
		return strings.Join(path, " > ")
	}
}

// ownLine says why a line is a device's own, whoever's place it takes; "" where it is not.
func ownLine(p *profile.Profile, at []string) string {
	line := at[len(at)-1]
	switch {
	case p.Identity.Line.Matches(line):
		return "its own name"
	case p.Mask(line) != line:
		return "its own login or key"
	case p.Language().OnPath(at):
		return "its own way in"
	}
	return ""
}

// MappingFile is where it stands how devices of one platform become those of another.
func (w *Workspace) MappingFile(from, to string) string {
	return filepath.Join(w.Dir, "maps", from+"-"+to+".yaml")
}

// ErrNoMapping says that nobody has said which port becomes which.
var ErrNoMapping = errors.New("there is no mapping of its ports yet")

// Carry works out what a device that takes another's place is to have: the newest backup of
// the old one, carried over. What the new one has now must be on the shelf, so that it is
// known which ports there are.
func (w *Workspace) Carry(old, fresh string) (*Carrying, error) {
	if old == fresh {
		return nil, fmt.Errorf("%s cannot take its own place: the new device has a line, and a name, of its own", old)
	}
	f, err := w.Fleet("")
	if err != nil {
		return nil, err
	}
	c := &Carrying{}
	var ok bool
	if c.Old, ok = f.Get(old); !ok {
		return nil, fmt.Errorf("%s is not in the fleet, or is retired already", old)
	}
	if c.New, ok = f.Get(fresh); !ok {
		return nil, fmt.Errorf("%s is not in the fleet: metabasis replace %s %s --address ADDRESS puts it there", fresh, old, fresh)
	}
	from, to := w.Profiles[c.Old.Platform], w.Profiles[c.New.Platform]
	var had, has config.Config
	if c.Backup, had, err = w.newest(old, from); err != nil {
		return nil, err
	}
	if _, has, err = w.newest(fresh, to); err != nil {
		return nil, fmt.Errorf("what %s has now is not on the shelf: back it up first: %w", fresh, err)
	}
	m, file, err := w.mapping(c.Old, c.New, had, has)
	if err != nil {
		return nil, err
	}
	l := to.Language()
	c.Mapping = file
	c.Carried = m.Over(had, to.Style(), map[string]string{old: fresh}, func(path []string) string {
		switch {
		case l.Fixed(path[0]) && !slices.ContainsFunc(has.Lines, func(x config.Line) bool { return x.Text == path[0] }):
			return fmt.Sprintf("there is no %s on %s", path[0], fresh)
		case !l.Knows(path):
			return "the language of " + to.Platform + " does not know it"
		}
		return ""
	}, keyIn(l))
	c.Stays(m, has, to.Style(), func(at []string) string { return ownLine(to, at) }, keyIn(l), l.Fixed)
	lost := config.Compare(has, c.Config)
	c.Differs = len(lost.Added) + len(c.Loses) // ports are there by themselves, whatever is carried over
	c.Path = l.ManagementPath(lost, nil, []string{c.New.Address})
	c.Text = c.Config.Text(to.Style())
	return c, nil
}

// newest is a device's newest backup.
func (w *Workspace) newest(device string, p *profile.Profile) (s store.Shelved, c config.Config, err error) {
	shelf := w.Backups("")
	all, err := shelf.Shelf(device)
	if err != nil {
		return s, c, err
	}
	if len(all) == 0 {
		return s, c, fmt.Errorf("%s: %w", device, store.ErrNoBackup)
	}
	if was := all[0].Platform; was != "" && was != p.Platform {
		return s, c, fmt.Errorf(
			"the newest backup of %s is of platform %s, and the fleet says %s: correct the fleet, or back it up",
			device,
			was,
			p.Platform,
		)
	}
	text, err := shelf.Read(all[0])
	return all[0], config.Parse(config.Alone(text), p.Style()), err
}

// mapping reads how ports and lines carry over; where both are of one platform and every
// port of the old is there on the new, none is needed.
func (w *Workspace) mapping(old, fresh fleet.Device, had, has config.Config) (*carry.Mapping, string, error) {
	file := w.MappingFile(old.Platform, fresh.Platform)
	data, err := textfile.Read(file, textfile.Small)
	switch {
	case err == nil:
		m, err := carry.Read(file, data)
		if err == nil && (m.From != old.Platform || m.To != fresh.Platform) {
			err = fmt.Errorf("%s is from %s to %s, and %s is a %s, %s a %s", file, m.From, m.To, old.Name, old.Platform, fresh.Name, fresh.Platform)
		}
		return m, file, err
	case !errors.Is(err, fs.ErrNotExist):
		return nil, "", err
	}
	ports := w.PortsOf(old.Platform, had)
	there := w.PortsOf(fresh.Platform, has)
	if old.Platform == fresh.Platform && !slices.ContainsFunc(ports, func(p string) bool { return !slices.Contains(there, p) }) {
		return &carry.Mapping{From: old.Platform, To: fresh.Platform}, "", nil
	}
	return nil, "", fmt.Errorf("%w: metabasis replace %s %s --map proposes one in %s", ErrNoMapping, old.Name, fresh.Name, file)
}

// PortsOf are the ports in a configuration: sections that are there by themselves.
func (w *Workspace) PortsOf(platform string, c config.Config) (out []string) {
	l := w.Profiles[platform].Language()
	for _, line := range c.Lines {
		if l.Fixed(line.Text) {
			out = append(out, line.Text)
		}
	}
	return out
}

// ProposeMapping proposes how the ports of one device become those of another.
func (w *Workspace) ProposeMapping(old, fresh fleet.Device) (*carry.Mapping, error) {
	_, had, err := w.newest(old.Name, w.Profiles[old.Platform])
	if err != nil {
		return nil, err
	}
	_, has, err := w.newest(fresh.Name, w.Profiles[fresh.Platform])
	if err != nil {
		return nil, err
	}
	return &carry.Mapping{
		From:  old.Platform,
		To:    fresh.Platform,
		Ports: carry.Propose(w.PortsOf(old.Platform, had), w.PortsOf(fresh.Platform, has)),
	}, nil
}

// carried is what a step restores that carries a configuration over.
func (w *Workspace) carried(r runbook.Restore, device string) (runbook.Was, error) {
	c, err := w.Carry(r.From, device)
	if err != nil {
		return runbook.Was{}, err
	}
	return runbook.Was{Name: c.Backup.File + " of " + r.From, At: c.Backup.Last(), SHA256: c.Backup.SHA256, Text: c.Text}, nil
}
