// Package device connects to devices: it finds the profile, the way and the
// login for each, dials, logs in and starts a session. It is where SSH, Telnet
// and profiles come together, and where no account is locked out.
package device

import (
	"context"
	"crypto/rand"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/work"
	"metabasis/internal/device/lines"
	"metabasis/internal/device/netconf"
	"metabasis/internal/device/profile"
	"metabasis/internal/device/ssh"
	"metabasis/internal/device/telnet"
	"metabasis/internal/person"
)

// Login is a credential with the secrets a profile may ask for.
type Login struct {
	ssh.Login
	Secrets map[string]string // by the names profiles use, such as "operator"
	Keys    []string          // files with private keys for it
}

// Connector opens sessions with devices. It implements [driver.Connector] and can
// be used by many goroutines at a time.
type Connector struct {
	Profiles profile.Set
	// Dial opens a connection to an address; net.Dialer.DialContext fits.
	Dial ssh.Dial
	// Resolve finds the addresses of a name; nil asks the system.
	Resolve func(ctx context.Context, host string) ([]string, error)
	// Login looks up a credential by its name.
	Login func(ctx context.Context, name string) (Login, error)
	// LoginName names the credential of a device; nil takes the fleet's.
	LoginName func(fleet.Device) string
	// JumpLogin names the credential of a jump host; nil is "jump" for all.
	JumpLogin func(host string) string
	// Encrypted tells whether a login, or its password, is used over SSH too.
	// nil is never.
	Encrypted func(login string, l Login) bool
	// Answer answers what the login of a host asks beyond its password, such as
	// a code; nil answers nothing.
	Answer   func(ctx context.Context, host, question string, shown bool) (string, error)
	HostKeys ssh.HostKeys
	Keys     *ssh.Keys       // nil: none
	Config   *ssh.UserConfig // nil: none
	Jumps    *ssh.Jumps      // nil: no device behind a jump host can be reached
	Guard    *Lockout        // nil: logins are tried as often as there are devices
	Alive    time.Duration   // between two signs of life, unless the configuration says otherwise
	// Who keeps who devices were seen to be; nil knows nobody.
	Who work.Identities
	// Transcript is where what is said with a device is kept.
	Transcript func(device string) profile.Transcript

	mu       sync.Mutex
	memories map[string]*netconf.Memory // by device
}

// Session is a session with a device, whatever it speaks.
type Session interface {
	driver.Session
	// Host is the device's own name, as it says; "" when it says none.
	Host() string
	// Hide adds secrets that the session does not know of by itself.
	Hide(secrets []string)
	// Ask asks what a person wants to know; see [lines.Session.Ask].
	Ask(ctx context.Context, command string, anything bool) ([]string, error)
}

var _ driver.Connector = (*Connector)(nil)

// Connect implements [driver.Connector].
func (c *Connector) Connect(ctx context.Context, t *plan.Target) (driver.Session, error) {
	s, err := c.open(ctx, t.Device, nil)
	if err != nil {
		return nil, err
	}
	s.Hide(t.Secrets)
	return s, nil
}

// open is Open without seeing who it is: a night sees to that itself.
func (c *Connector) open(ctx context.Context, d fleet.Device, watch ssh.Watch) (Session, error) {
	if watch == nil {
		watch = func(reach.Stage) {}
	}
	if p := c.Profiles[d.Platform]; p != nil && !p.Typed() && !profile.OverSSH(p.Connect.Protocol) {
		return c.openOther(ctx, d, watch)
	}
	w, rw, opt, err := c.stream(ctx, d, watch)
	if err != nil {
		return nil, err
	}
	if w.Protocol == profile.NETCONF {
		return begun(netconf.Start(ctx, w.profile, rw, opt, c.memory(d.Name)))
	}
	s, err := lines.Start(ctx, w.profile, rw, opt)
	w.judge(err)
	return begun(s, err)
}

// memory is what is known of a device from earlier sessions with it.
func (c *Connector) memory(device string) *netconf.Memory {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.memories == nil {
		c.memories = map[string]*netconf.Memory{}
	}
	m := c.memories[device]
	if m == nil {
		m = &netconf.Memory{Name: "metabasis-" + rand.Text()}
		c.memories[device] = m
	}
	return m
}

// Try connects to a device and goes through its profile; see [lines.Try]. The
// error says that it could not be connected to.
func (c *Connector) Try(ctx context.Context, d fleet.Device, change bool, report func(lines.Finding)) (int, error) {
	if p := c.Profiles[d.Platform]; p != nil && !p.Typed() {
		s, err := c.Open(ctx, d, nil)
		if err != nil {
			return 0, err
		}
		defer s.Close()
		return tryModels(ctx, p, s, report), nil
	}
	unseen := 0
	if change {
		if err := c.mayChange(ctx, d); errors.Is(err, work.ErrOther) {
			return 0, err
		} else if err != nil { // with this profile nobody can tell who it is
			change, unseen = false, 1
			report(lines.Finding{Line: "identity", Not: err.Error()})
		}
	}
	w, rw, opt, err := c.stream(ctx, d, func(reach.Stage) {})
	if err != nil {
		return 0, err
	}
	bad := lines.Try(ctx, w.profile, rw, opt, change, report)
	w.judge(nil)
	if bad == 0 && !change { // else it was seen, or cannot be
		bad += c.tryIdentity(ctx, d, report)
	}
	return bad + unseen, nil
}

// Explore looks at a device of a platform that nobody has taught yet; see
// [lines.Explore]. Its profile here says no more than how it is connected to.
func (c *Connector) Explore(ctx context.Context, d fleet.Device, who person.Person, tell func(string, bool)) (*lines.Seen, error) {
	w, rw, opt, err := c.stream(ctx, d, func(reach.Stage) {})
	if err != nil {
		return nil, err
	}
	seen, err := lines.Explore(ctx, w.profile, d.Name, rw, opt, who, tell)
	w.judge(nil)
	return seen, err
}

// stream connects to a device up to where its profile takes over.
func (c *Connector) stream(ctx context.Context, d fleet.Device, watch ssh.Watch) (*way, io.ReadWriteCloser, profile.Options, error) {
	log := c.Transcript(d.Name)
	w, err := c.way(ctx, d, watch)
	if err != nil {
		log.Note(err.Error())
		return nil, nil, profile.Options{}, err
	}
	log.Note("connecting to " + w.String())
	for _, warning := range w.Warnings {
		log.Note("warning: " + warning)
	}
	var rw io.ReadWriteCloser
	opt := c.options(w, log, watch)
	switch w.Protocol {
	case profile.Telnet:
		rw, err = c.openTelnet(ctx, w, &opt, telnet.Client(columns, rows))
	case profile.NETCONF:
		rw, err = ssh.OpenSubsystem(ctx, w.dial, w.hop, watch, "netconf")
	default:
		rw, err = ssh.Open(ctx, w.dial, w.hop, watch)
	}
	if err != nil {
		log.Note(err.Error())
		return nil, nil, opt, err
	}
	return w, rw, opt, nil
}

// The size of the terminal that devices are told of: wide, so that they do not
// fold lines.
const (
	columns = 250
	rows    = 60
)

// Reach reaches a device, lets go of it again and says what came of it.
func (c *Connector) Reach(ctx context.Context, d fleet.Device, watch ssh.Watch) reach.Result {
	r := reach.Result{Device: d.Name}
	began, entered := time.Now(), time.Now()
	at := reach.Stage(-1)
	pass := func(next reach.Stage) {
		if at >= 0 {
			r.Passed = append(r.Passed, reach.Passed{Stage: at, Took: time.Since(entered)})
		}
		at, entered = next, time.Now()
		if watch != nil && next >= 0 {
			watch(next)
		}
	}
	c.describe(&r, d)
	s, seen, err := c.OpenSeen(ctx, d, pass)
	r.Seen = seen
	r.Took = time.Since(began)
	if err != nil {
		r.Failure = reach.AsFailure(err)
		if at >= 0 && r.Failure.Stage > at { // a closed port proves the route
			pass(-1)
		}
		return r
	}
	pass(-1)
	r.Host = seen.Name
	_ = s.Close()
	return r
}

// OpenJumps connects to the jump hosts on the way to devices that lead over one
// of those wanted. What fails is said when a device needs it.
func (c *Connector) OpenJumps(ctx context.Context, devices []fleet.Device, wanted func(host string) bool) {
	seen := map[string]bool{}
	for _, d := range devices {
		w, err := c.plainWay(d)
		if err != nil || c.Jumps == nil || seen[strings.Join(w.jumps, ",")] {
			continue
		}
		seen[strings.Join(w.jumps, ",")] = true
		if !slices.ContainsFunc(w.jumps, func(j string) bool { _, host, _ := ssh.SplitJump(j); return wanted(host) }) {
			continue
		}
		if chain, err := c.chain(ctx, w); err == nil {
			_ = c.Jumps.Open(ctx, chain)
		}
	}
}

// Address is where a device is reached, as host:port; "" when nothing is known of
// its platform.
func (c *Connector) Address(d fleet.Device) string {
	w, err := c.plainWay(d)
	if err != nil {
		return ""
	}
	return w.Addr
}

// ClearText tells whether a device is reached without encryption.
func (c *Connector) ClearText(d fleet.Device) bool {
	w, err := c.plainWay(d)
	return err == nil && w.profile.ClearText(w.Protocol)
}

// describe says where a device is looked for, without looking.
func (c *Connector) describe(r *reach.Result, d fleet.Device) {
	w, err := c.plainWay(d)
	if err != nil {
		return
	}
	r.Address, r.Protocol, r.Warnings = w.Addr, w.Protocol, w.Warnings
	r.Through = append(r.Through, w.jumps...)
}

// lookup is the system's own resolver.
func lookup(ctx context.Context, host string) ([]string, error) {
	return net.DefaultResolver.LookupHost(ctx, host)
}
