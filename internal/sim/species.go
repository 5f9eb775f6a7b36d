package sim

import (
	"io"
	"maps"
	"net"
	"slices"

	"golang.org/x/crypto/ssh"
)

// species is what kinds of device do each in its own way. What they have in common, their place
// in the network, faults, a clock, connections, is a [Device]'s.
type species interface {
	// born gives a device its own state, made of its configuration. It returns the
	// configuration of a tern that has the same place in the network.
	born(d *Device, text string) string
	// drafted takes in a draft of somebody's that stands on the device.
	drafted(d *Device)
	// needs says what a scenario must say for such devices and does not; "" where it says all.
	needs(s *Scenario) string
	// hears serves a connection up to where SSH begins; nil is a connection that is over.
	hears(d *Device, g *gate) net.Conn
	// shell begins a session of SSH with a terminal, which run serves; nil where it has none.
	shell(d *Device, rw ssh.Channel, user string) (run func())
	// subsystem serves one of SSH's subsystems; it returns nil where there is none of that name.
	subsystem(d *Device, name string) func(rw io.ReadWriter, user string)
	// keepsFiles tells whether it has files that SFTP reaches.
	keepsFiles() bool
	// datagrams tells whether it is spoken to by datagrams.
	datagrams() bool
	// goesOn tells whether such a device goes on running when its timer fires.
	goesOn(d *Device) bool
	// What runs and what is saved on a device, as text. The caller holds d.mu.
	running(d *Device) string
	saved(d *Device) string
	// boots makes of what is saved what runs, as far as that is its own state; so does drifts
	// with a change that nobody has made. The caller holds d.mu.
	boots(d *Device)
	drifts(d *Device)
}

// speciesNames are the names of the simulated platforms.
func speciesNames() []string {
	return []string{"tern", "osier", "skerry", "bittern", "plover", "dunlin"}
}

// speciesOf is the species of that name; nil where there is none.
func speciesOf(name string) species {
	return map[string]species{"tern": ternKind{}, "osier": osierKind{}, "skerry": skerryKind{},
		"bittern": bitternKind{}, "plover": ploverKind{}, "dunlin": dunlinKind{}}[name]
}

// ternKind is the plainest: it is all in a Device. The others are a tern but for what they say.
type ternKind struct{}

func (ternKind) born(_ *Device, text string) string { return text }
func (ternKind) drafted(*Device)                    {}
func (ternKind) needs(*Scenario) string             { return "" }
func (ternKind) hears(_ *Device, g *gate) net.Conn  { return g }
func (ternKind) shell(d *Device, rw ssh.Channel, user string) func() {
	return newShell(d, rw, user).run
}
func (ternKind) subsystem(*Device, string) func(io.ReadWriter, string) { return nil }
func (ternKind) keepsFiles() bool                                      { return true }
func (ternKind) datagrams() bool                                       { return false }
func (ternKind) goesOn(*Device) bool                                   { return false }
func (ternKind) running(d *Device) string                              { return d.running.String() }
func (ternKind) saved(d *Device) string                                { return d.saved.String() }
func (ternKind) boots(*Device)                                         {}
func (ternKind) drifts(d *Device)                                      { d.running.logs = append(d.running.logs, "192.0.2.253") }

type osierKind struct{ ternKind }

func (osierKind) goesOn(*Device) bool { return true }
func (osierKind) shell(d *Device, rw ssh.Channel, user string) func() {
	return newOsier(d, rw, user).run
}

type dunlinKind struct{ ternKind }

func (dunlinKind) keepsFiles() bool { return false }

func (dunlinKind) goesOn(d *Device) bool                            { return d.fleet.scenario.Manners.PutsBack }
func (dunlinKind) shell(d *Device, rw ssh.Channel, _ string) func() { return d.newDunlin(rw).run }

func (dunlinKind) needs(s *Scenario) string {
	if s.Manners == nil {
		return "nothing says how a dunlin talks; write manners: in the scenario"
	}
	return ""
}

type skerryKind struct{ ternKind }

func (skerryKind) keepsFiles() bool { return false }

func (skerryKind) goesOn(*Device) bool                       { return true }
func (skerryKind) hears(d *Device, g *gate) net.Conn         { return d.serveSkerry(g) }
func (skerryKind) shell(*Device, ssh.Channel, string) func() { return nil }
func (skerryKind) drafted(d *Device)                         { d.netconf.candidate = d.draft.config.data() }
func (skerryKind) subsystem(d *Device, name string) func(io.ReadWriter, string) {
	if name == "netconf" {
		return d.serveNetconf
	}
	return nil
}

type ploverKind struct{ ternKind }

func (ploverKind) keepsFiles() bool { return false }

// Its place in the network is that of a tern with one port.
func (ploverKind) born(d *Device, text string) string {
	d.gates, d.users = newPloverState(d.spec, text), d.fleet.scenario.ClearLogins
	return "name " + d.spec.Name + "\nmanage from any\nport 1\n  trunk\n"
}

func (ploverKind) hears(d *Device, g *gate) net.Conn {
	d.servePlover(g)
	return nil
}
func (ploverKind) running(d *Device) string { return text(d.gates.running) }
func (ploverKind) saved(d *Device) string   { return text(d.gates.stored) }
func (ploverKind) boots(d *Device)          { d.gates.running = slices.Clone(d.gates.stored) }
func (ploverKind) drifts(d *Device) {
	d.gates.running = with(d.gates.running, []string{"report", "host", "192.0.2.253"})
}

type bitternKind struct{ ternKind }

func (bitternKind) keepsFiles() bool { return false }

func (bitternKind) born(d *Device, _ string) string {
	d.signs = newBitternState(d.spec, d.fleet.scenario.Logins, d.fleet.scenario.Privacy)
	return "name " + d.spec.Name + "\ntime source 192.0.2.9 first\nmanage from any\nport 1\n  trunk\n"
}
func (bitternKind) datagrams() bool          { return true }
func (bitternKind) running(d *Device) string { return signText(d.signs.running) }
func (bitternKind) saved(d *Device) string   { return signText(d.signs.stored) }
func (bitternKind) boots(d *Device) {
	d.signs.running = maps.Clone(d.signs.stored)
	d.running.times = []string{d.signs.running[signs+"2.0"]}
}
func (bitternKind) drifts(d *Device) { d.signs.running[signs+"10.1.2.3"] = "drifted" }
