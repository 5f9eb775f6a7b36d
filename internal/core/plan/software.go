package plan

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// Software is how devices of a platform are given other software.
type Software struct {
	Images              []software.Image // what there is for the platform
	Install, Next, Keep string           // the commands, with <<path>> and <<version>> in them; Keep may be ""
	Takes               time.Duration    // for installing, at most
	// Falls is for how long new software runs that is not kept, until the device goes back by itself to what
	// it ran before; 0 where it does not.
	Falls  time.Duration
	Path   func(file string) string // where a file of that name is on a device
	Proves bool                     // the device tells the checksum of a file
}

// Upgrade is what software a device shall run.
type Upgrade struct {
	Wanted   string
	Unproven string   // why a file is installed whose checksum nothing tells; "" where none is
	May      []string // patterns of lines that new software may change by itself
	Model    string
	Hops     int // the restarts to be reckoned with, as long as nothing was read
	// Was is what the device said of its software, and Way the images that lead from that to what is wanted;
	// known once it was read.
	Was   software.State
	Way   []software.Image
	Known bool
}

// Move is one thing that is done to exchange the software of a device.
type Move struct {
	Kind  MoveKind
	Image software.Image
	Line  string // the command
}

// MoveKind is what is done.
type MoveKind string

// What is done for each image of a way, in that order; what is so already is passed over.
const (
	InstallMove MoveKind = "install"
	NextMove    MoveKind = "start next"
	RestartMove MoveKind = "restart"
	KeepMove    MoveKind = "keep"
)

// Line is the command of a move.
func (s *Software) Line(k MoveKind, i software.Image, restart string) string {
	//exhaustive:enforce
	switch k {
	case InstallMove:
		return strings.ReplaceAll(s.Install, "<<path>>", s.Path(i.Name()))
	case NextMove:
		return strings.ReplaceAll(s.Next, "<<version>>", i.Version)
	case KeepMove:
		return s.Keep
	case RestartMove:
	}
	return restart
}

// Moves are the commands that lead a device along its way, as far as they are known.
func (t *Target) Moves(u Upgrade) (out []Move) {
	sw := t.Traits.Software
	for _, i := range u.Way {
		add := func(k MoveKind) { out = append(out, Move{k, i, sw.Line(k, i, t.Traits.Restarts.Sends)}) }
		if !u.Was.Installed(i.Version) {
			add(InstallMove)
		}
		add(NextMove)
		add(RestartMove)
		if sw.Keep != "" {
			add(KeepMove)
		}
	}
	return out
}

// Upgrades is the step that gives the device other software, from 0; false where none does.
func (t *Target) Upgrades() (i int, does bool) {
	i = slices.IndexFunc(t.Steps, func(s Step) bool { return s.Kind == SoftwareStep && s.Not == "" })
	return i, i >= 0
}

// software takes from the runbook what software the device shall run.
func (m *maker) software(t *Target, on runbook.On, out *Step) {
	out.Kind = SoftwareStep
	sw := t.Traits.Software
	if sw == nil || t.Traits.Restarts == nil {
		m.once(on.Software.Line, "software: with install: and next:; or the step under on, for platforms that can be given other software",
			"the profile of %s does not say how its software is exchanged", t.Device.Platform)
		return
	}
	wanted, err := on.Software.Version.Render(t.Env)
	if err != nil {
		m.fail(on.Software.Line, "%s: %v%s", t.Device.Name, err, m.unsaid(t, on.Software.Version))
		return
	}
	u := &Upgrade{Wanted: wanted, Unproven: on.Software.Unproven, Model: t.Device.Values["model"]}
	u.May = m.patternsOf(t, on.Software.May, t.Env)
	u.Hops = m.hops(t.Device.Platform, u.Model, u.Wanted, sw.Images)
	if err := software.Wanted(sw.Images, u.Model, u.Wanted); err != nil {
		m.once(on.Software.Line, "", "%s: %v", t.Device.Platform, err)
		return
	}
	usual := t.Traits.Restarts.Usual
	for _, i := range sw.Images {
		if i.Version == u.Wanted && i.Fits(u.Model) && i.Restart > 0 {
			usual = i.Restart
		}
	}
	out.Upgrade, out.Absence = u, m.absence(t, on, usual)
	if sw.Falls > 0 && sw.Falls < time.Minute {
		m.once(on.Software.Line, "within: 10m in its profile", "%s goes back to its old software %s after a start: that cannot be proven in time",
			t.Device.Platform, runbook.FormatDuration(sw.Falls))
	}
}

// hops is the longest way to a version, worked out once for all devices of a kind.
func (m *maker) hops(platform, model, wanted string, images []software.Image) int {
	key := [3]string{platform, model, wanted}
	n, known := m.longest[key]
	if !known {
		n = software.Longest(images, model, wanted)
		if m.longest == nil {
			m.longest = map[[3]string]int{}
		}
		m.longest[key] = n
	}
	return n
}

// computeUpgrade computes the way to what is wanted.
func (t *Target) computeUpgrade(s *Step, was software.State) error {
	u := *s.Upgrade
	u.Was, u.Known = was, true
	if was.Stands(u.Wanted) {
		u.Way, s.Commands, s.Done, s.Upgrade = nil, nil, true, &u
		return nil
	}
	if was.Runs == "" {
		return fmt.Errorf("step %q: it runs none of the versions that are installed (%s)", s.Title, was)
	}
	way, err := software.Way(t.Traits.Software.Images, u.Model, was.Runs, u.Wanted)
	if err != nil {
		return fmt.Errorf("step %q: %w", s.Title, err)
	}
	u.Way, s.Done, s.Upgrade, s.Commands = way, false, &u, nil
	for _, m := range t.Moves(u) {
		s.Commands = append(s.Commands, Command{Line: m.Line})
	}
	return nil
}

// hops is how many restarts lead to what is wanted, as far as that is known.
func (s Step) hops() int {
	switch {
	case s.Done:
		return 0
	case s.Upgrade.Known:
		return max(len(s.Upgrade.Way), 1)
	}
	return s.Upgrade.Hops
}

// UpgradeWork is how long a step takes that gives the device other software: usually, and at most.
func (t *Target) UpgradeWork(s Step) (usual, worst time.Duration) {
	command := t.Traits.Command
	if s.Done || s.Upgrade == nil || t.Traits.Software == nil {
		return 0, 0
	}
	n := time.Duration(s.hops())
	return n * (t.Traits.Software.Takes/expected + s.Absence.Usual + 12*command), n * (t.Traits.Software.Takes + s.Absence.Most + 12*command)
}

// Rewritten tells whether all in which a configuration differs may be changed by new software itself. A
// pattern is held against a line with its sections, joined by " > ".
func (u Upgrade) Rewritten(d config.Diff) bool {
	return !d.Empty() && !slices.ContainsFunc(slices.Concat(d.Removed, d.Added), func(path string) bool { return !u.Changes(path) })
}

// Changes tells whether new software may change that line by itself.
func (u Upgrade) Changes(path string) bool {
	return slices.ContainsFunc(u.May, func(p string) bool { return Fits(p, path) })
}

// exchanges is what software is wanted in a step of that title, and how it is taken back; "" where it is none.
func (p *Plan) exchanges(title string) (wanted, back string) {
	for _, t := range p.Targets() {
		for _, s := range t.Steps {
			if s.Title != title || s.Upgrade == nil {
				continue
			}
			if wanted == "" {
				wanted, back = s.Upgrade.Wanted, "taken back, each is started with what it ran before"
			} else if !strings.Contains(" or "+wanted+" or ", " or "+s.Upgrade.Wanted+" or ") {
				wanted += " or " + s.Upgrade.Wanted
			}
		}
	}
	return wanted, back
}
