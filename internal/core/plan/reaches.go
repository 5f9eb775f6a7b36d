package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
)

// Conditions may ask whether an address answers another device than the one that is changed. Who
// that is must be known before the night: it is logged in to, too.

// reaches checks what the conditions of a target ask for, as far as it is known before it was
// read, and takes note of the devices from which something is reached.
func (m *maker) reaches(t *Target, p *Plan) {
	ask := func(line int, a runbook.ReachAsk) {
		if err := a.Check(); err != nil {
			m.once(line, "an address or a name, such as \"198.51.100.14\", or \"198.51.100.14:22\" from here", "%v", err)
			return
		}
		if a.From == "" || a.From == runbook.Here {
			return
		}
		other, why := m.other(a.From)
		if other == nil {
			m.once(line, "", "%s is to be reached from %s: %s", a.To, a.From, why)
			return
		}
		if p.others == nil {
			p.others = map[string]*Target{}
		}
		p.others[a.From] = other
	}
	for _, pc := range m.rb.Prechecks {
		if pc.Own() {
			for _, a := range pc.Where.Reaches(t.Env) {
				ask(pc.Line, a)
			}
		}
	}
	for _, s := range t.Steps {
		of := m.rb.Steps[s.Number-1]
		for _, a := range of.ReachesOf(t.Device.Platform, t.Env) {
			ask(of.Line, a)
		}
	}
}

// other finds a device of the fleet from which something can be reached, or says why it is none.
func (m *maker) other(name string) (*Target, string) {
	d, ok := m.fleet.Get(name)
	if !ok {
		return nil, "there is no such device in the fleet" + m.fleet.Near(name)
	}
	if !m.traits[d.Platform].Reaches {
		return nil, fmt.Sprintf("the profile of %s does not say how it reaches an address", d.Platform)
	}
	traits := m.traits[d.Platform]
	return &Target{Device: d, Traits: traits, Secrets: m.secrets, ClearText: traits.clearText(d)}, ""
}

// clearText tells whether a device of the platform is reached without encryption.
func (t Traits) clearText(d fleet.Device) bool {
	return t.ClearText && d.Protocol == "" || d.Protocol == "telnet"
}

// Other is a device from which the conditions of others have something reached; nil where the
// plan knows of none of that name.
func (p *Plan) Other(name string) *Target { return p.others[name] }

// Others are all of them, by their names.
func (p *Plan) Others() (out []*Target) {
	for _, name := range slices.Sorted(maps.Keys(p.others)) {
		out = append(out, p.others[name])
	}
	return out
}

// lookedFrom says which devices are logged in to although nothing is changed on them.
func lookedFrom(p *Plan) []string {
	var names []string
	for _, t := range p.Others() {
		names = append(names, t.Device.Name)
	}
	if len(names) == 0 {
		return nil
	}
	return []string{"logged in to as well, to reach an address from there: " + strings.Join(names, ", ")}
}
