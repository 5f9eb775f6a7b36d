package sim

import (
	"crypto/ed25519"
	"fmt"
	"net/netip"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
)

// Truth is one thing that truly happened to a device.
type Truth struct {
	At     time.Time
	Device string
	What   What
	Line   string // the line, for Changed and Refused
	Armed  bool   // a restart was pending at that moment
}

// What happened.
type What string

// The things that happen to a device.
const (
	Denied     What = "denied"      // a login was denied
	Staged     What = "staged"      // a line arrived in a draft, which does not run
	Received   What = "received"    // a line arrived in edit mode
	Changed    What = "changed"     // a line changed the running configuration
	Loaded     What = "loaded"      // a whole configuration was put in its place
	Rejected   What = "rejected"    // a line was refused
	Armed      What = "armed"       // a restart was put on the clock
	Disarmed   What = "disarmed"    // it was cancelled
	Shown      What = "shown"       // a session was told whether a restart is pending
	Saved      What = "saved"       // the running configuration was saved
	Fired      What = "fired"       // the pending restart came due
	Restarted  What = "restarted"   // it went down
	Told       What = "told"        // to restart at once, by a line
	Up         What = "up"          // it is back
	PutBack    What = "put back"    // what was saved was put in the place of what ran
	Done       What = "done"        // a command that does something was carried out
	Drifted    What = "drifted"     // the running configuration changed by itself
	Weighed    What = "weighed"     // the checksum of that file was told
	Listed     What = "listed"      // it was told what it starts with next, which was that version
	Installed  What = "installed"   // a version of its software was
	NextSet    What = "next"        // what it starts with next was set
	Started    What = "started"     // it started with that version
	Dropped    What = "dropped"     // a version of its software was taken off it
	HandedOver What = "handed over" // the work of its pair, to that device
	AtWork     What = "at work"     // told to restart while it did the work of its pair
	KeptImage  What = "kept"        // what was on trial of its software was kept
	FellBack   What = "fell back"   // what was on trial was not: it goes back to that version
)

// Device is a simulated device.
type Device struct {
	fleet  *Fleet
	spec   Spec
	kind   species
	users  map[string]string
	signer ssh.Signer // its host key
	key    ed25519.PrivateKey

	up        atomic.Bool
	reachable atomic.Bool

	mu      sync.Mutex
	running *ternConfig
	saved   *ternConfig
	counted time.Time // when its frames were counted from none last
	renewed time.Time // until when its links are being renewed
	stale   string    // what it prints as running until late
	late    time.Time // when it prints what runs again
	draft   *draft    // an osier's
	netconf *skerryState
	signs   *bitternState // a bittern's own state; nil for others
	cut     bool          // contact is lost until it restarts
	dead    bool          // never comes back
	timer   *time.Timer
	due     time.Time
	source  string    // what the clock follows
	since   time.Time // when it began to
	born    time.Time // when it was up last
	files   *flash
	soft    soft
	conns   map[*gate]struct{}
	shells  map[*shell]*session
	gates   *ploverState // a plover's own state; nil for a tern
	orphans []*gate      // dropped while out of reach; the other side learns of it later
	truth   []Truth

	below []string       // the devices that are reached through it
	ports map[string]int // the port that leads to each of them
	stood place          // its place in the network when that was worked out last for it
}

// Name is the device's name in the scenario.
func (d *Device) Name() string { return d.spec.Name }

// Platform is the kind of device.
func (d *Device) Platform() string { return d.spec.Platform }

// Site is where the device stands.
func (d *Device) Site() string { return d.spec.Site }

// Running is the configuration that runs now.
func (d *Device) Running() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.kind.running(d)
}

// Saved is the configuration it would start with.
func (d *Device) Saved() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.kind.saved(d)
}

func text(lines []string) string { return strings.Join(lines, "\n") + "\n" }

// Due is when the pending restart comes, zero when none is pending.
func (d *Device) Due() time.Time { d.mu.Lock(); defer d.mu.Unlock(); return d.due }

// Truth lists what happened to the device.
func (d *Device) Truth() []Truth {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]Truth(nil), d.truth...)
}

// session is a session with a tern, as others see it.
type session struct {
	user, mode string
	since      time.Time
}

// note records a truth. The caller holds d.mu.
func (d *Device) note(w What, line string) {
	d.truth = append(d.truth, Truth{At: time.Now(), Device: d.spec.Name, What: w, Line: line, Armed: !d.due.IsZero()})
}

// fault returns the fault of that kind that strikes at line, and counts it.
// The caller holds d.mu.
func (d *Device) fault(kind, line string) *Fault {
	for i := range d.spec.Faults {
		f := &d.spec.Faults[i]
		if f.Kind != kind || !f.re.MatchString(line) || f.Times > 0 && f.done >= f.Times {
			continue
		}
		if f.came++; f.came > f.After {
			f.done++
			return f
		}
	}
	return nil
}

func (d *Device) hasFault(kind string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.fault(kind, "") != nil
}

// hasFaultAt tells whether the device has a fault of that kind at all.
func (d *Device) hasFaultAt(kind string) bool {
	for i := range d.spec.Faults { // not copied: the counts in it move
		if d.spec.Faults[i].Kind == kind {
			return true
		}
	}
	return false
}

// arm puts a restart on the clock, in place of one that is pending. The caller
// holds d.mu.
func (d *Device) arm(in time.Duration) {
	if d.timer != nil {
		d.timer.Stop()
	}
	d.due = time.Now().Add(in)
	d.note(Armed, "")
	var t *time.Timer
	t = time.AfterFunc(in, func() {
		d.mu.Lock()
		if d.timer != t || d.due.IsZero() {
			d.mu.Unlock()
			return
		}
		if d.fault(NeverFires, "") != nil {
			d.timer, d.due, d.netconf.trial = nil, time.Time{}, nil
			d.mu.Unlock()
			return
		}
		d.note(Fired, "")
		if d.kind.goesOn(d) {
			d.putBack()
			d.mu.Unlock()
			d.moved()
			return
		}
		d.mu.Unlock()
		d.restart()
	})
	d.timer = t
}

// disarmIn takes the restart that is on the clock now off it after a while. The
// caller holds d.mu.
func (d *Device) disarmIn(after time.Duration) {
	pending := d.timer
	time.AfterFunc(after, func() {
		d.mu.Lock()
		defer d.mu.Unlock()
		if d.timer == pending && !d.due.IsZero() {
			d.disarm()
		}
	})
}

func (d *Device) disarm() {
	if d.timer != nil {
		d.timer.Stop()
	}
	d.timer, d.due, d.netconf.trial = nil, time.Time{}, nil
	d.note(Disarmed, "")
}

// old is how long a device had been up when the simulation began.
const old = 40 * 24 * time.Hour

// upFor is for how long it has been up, in whole seconds. The caller holds d.mu.
func (d *Device) upFor() int { return int(time.Since(d.born).Seconds()) }

// told restarts it because it was told so by that line.
func (d *Device) told(line string) {
	role, _ := d.inPair()
	d.mu.Lock()
	ignores := d.fault(Ignores, line) != nil
	if !ignores {
		d.note(Told, line)
		if role == "active" {
			d.note(AtWork, line)
		}
	}
	d.mu.Unlock()
	if !ignores {
		d.restart()
	}
}

// restart takes the device down and brings it back with what is saved.
func (d *Device) restart() {
	d.mu.Lock()
	if !d.up.Load() {
		d.mu.Unlock()
		return
	}
	if d.timer != nil {
		d.timer.Stop()
	}
	d.timer, d.due = nil, time.Time{}
	d.note(Restarted, "")
	inReach := d.reachable.Load()
	for c := range d.conns {
		if inReach {
			c.drop()
		} else {
			d.orphans = append(d.orphans, c)
		}
	}
	clear(d.conns)
	d.up.Store(false)
	d.dead = d.fault(NeverBack, "") != nil
	dead, takes := d.dead, d.fleet.scenario.Boot
	if f := d.fault(SlowBoot, ""); f != nil {
		takes += f.By
	}
	d.mu.Unlock()
	d.fleet.topology()
	if !dead {
		time.AfterFunc(takes, d.boot)
	}
}

// putBack puts what is saved in the place of what runs. The caller holds d.mu.
func (d *Device) putBack() {
	d.timer, d.due = nil, time.Time{}
	d.running = d.saved.clone()
	if t := d.netconf.trial; t != nil {
		d.running, d.netconf.trial = t.before, nil
	}
	d.cut = false
	d.follow()
	d.note(PutBack, "")
}

func (d *Device) boot() {
	if d.fleet.closed.Load() {
		return
	}
	d.mu.Lock()
	d.running, d.draft = d.saved.clone(), nil
	d.netconf.trial, d.netconf.candidate, d.netconf.edited = nil, nil, nil
	d.kind.boots(d)
	d.bootsImage()
	if d.fault(Spoils, "") != nil {
		d.running.logs = append(d.running.logs, "192.0.2.254")
	}
	d.cut = false
	d.source = ""
	d.follow()
	d.up.Store(true)
	d.born = time.Now()
	d.note(Up, "")
	d.mu.Unlock()
	d.fleet.topology()
	d.takesBack()
}

// follow lets the clock follow the first time source that answers. The caller
// holds d.mu.
func (d *Device) follow() {
	want := ""
	for _, t := range d.running.times {
		if d.fleet.answers(t) {
			want = t
			break
		}
	}
	if want != d.source {
		first := d.source == "" && d.since.IsZero()
		d.source, d.since = want, time.Now()
		if first { // it has run for long when the night begins
			d.since = d.since.Add(-24 * time.Hour)
		}
	}
}

// clock tells the device's own time, what it follows and whether it has
// settled. The caller holds d.mu.
func (d *Device) clock() (now time.Time, source string, settled bool) {
	now = time.Now().Add(d.spec.ClockOff)
	changed := d.since
	settled = d.source != "" && time.Since(changed) >= d.fleet.scenario.Settle
	if settled && d.source != d.firstSource() && d.fault(NeverSettles, "") != nil {
		settled = false
	}
	return now, d.source, settled
}

// firstSource is what the clock followed when the night began.
func (d *Device) firstSource() string {
	for _, t := range d.saved.times {
		if d.fleet.answers(t) {
			return t
		}
	}
	return ""
}

// linked tells whether the device's own configuration leaves it in reach. The
// caller holds d.mu.
func (d *Device) linked() bool {
	p := d.running.ports[d.spec.UplinkPort]
	if p.shut || p.lan != 0 || d.cut {
		return false
	}
	if d.running.manage == "any" {
		return true
	}
	prefix, err := netip.ParsePrefix(d.running.manage)
	return err == nil && prefix.Contains(netip.MustParseAddr(d.fleet.scenario.Station))
}

// portTo is the port of d that leads down to the device named below.
func (d *Device) portTo(below string) int { return d.ports[below] }

// place is what of a device's own state its reach, and that of those below it, depends on.
type place struct {
	up, linked bool
	shut       string // which of the ports that lead down are
}

// moved has the network worked out anew where the device's place in it is another now: most
// lines change nothing of that, and a fleet is large.
func (d *Device) moved() {
	d.mu.Lock()
	now := place{up: d.up.Load(), linked: d.linked()}
	for _, below := range d.below {
		now.shut += fmt.Sprint(d.running.ports[d.ports[below]].shut, " ")
	}
	was := d.stood
	d.stood = now
	d.mu.Unlock()
	if now != was {
		d.fleet.topology()
	}
}

// neighbour is one row of what a device sees on its ports.
type neighbour struct {
	port   int
	name   string
	theirs int
}

// neighbours lists the devices on the other ends, in port order.
func (d *Device) neighbours() []neighbour {
	var out []neighbour
	open := func(x *Device, port int) bool {
		x.mu.Lock()
		defer x.mu.Unlock()
		return x.up.Load() && !x.running.ports[port].shut
	}
	if up := d.fleet.devices[d.spec.Uplink]; up != nil {
		theirs := up.portTo(d.spec.Name)
		if open(d, d.spec.UplinkPort) && open(up, theirs) {
			out = append(out, neighbour{d.spec.UplinkPort, d.spec.Uplink, theirs})
		}
	} else if open(d, d.spec.UplinkPort) {
		out = append(out, neighbour{d.spec.UplinkPort, "ops-core", len(out) + 1})
	}
	for _, name := range d.below {
		below, port := d.fleet.devices[name], d.portTo(name)
		if open(d, port) && open(below, below.spec.UplinkPort) {
			out = append(out, neighbour{port, name, below.spec.UplinkPort})
		}
	}
	return out
}

func (d *Device) String() string { return fmt.Sprintf("%s (%s)", d.spec.Name, d.spec.Address) }
