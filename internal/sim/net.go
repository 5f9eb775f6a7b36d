package sim

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"metabasis/internal/sim/pipe"
)

// Fleet is a set of simulated devices and the network between them.
type Fleet struct {
	scenario Scenario
	devices  map[string]*Device
	order    []*Device
	keys     []ssh.PublicKey // that may log in
	sources  map[string]bool

	stand  sync.Mutex
	stands map[string]string // the device that stands in the place of another

	closed  atomic.Bool
	over    chan struct{}         // closed with the fleet
	topo    sync.Mutex            // one working-out of reachability at a time
	pairs   map[string]*pairState // by name; guarded by topo
	mu      sync.Mutex
	changed chan struct{} // closed and replaced whenever reachability may have changed
	wg      sync.WaitGroup
}

// New builds a fleet. Keys, if given, may log in besides the passwords.
func New(s Scenario, keys ...ssh.PublicKey) (*Fleet, error) {
	if err := s.Prepare(); err != nil {
		return nil, err
	}
	f := &Fleet{scenario: s, devices: map[string]*Device{}, keys: keys,
		changed: make(chan struct{}), over: make(chan struct{}), sources: map[string]bool{}}
	for _, t := range s.TimeSources {
		f.sources[t] = true
	}
	for _, spec := range s.Devices {
		text, err := s.initial(spec)
		if err != nil {
			return nil, err
		}
		spec.Faults = slices.Clone(spec.Faults) // each device counts its own
		signer, key, err := newKeys(spec.Serial + " " + spec.Name)
		if err != nil {
			return nil, err
		}
		d := &Device{
			born:    time.Now().Add(-old),
			fleet:   f,
			signer:  signer,
			key:     key,
			spec:    spec,
			kind:    speciesOf(spec.Platform),
			users:   s.Logins,
			conns:   map[*gate]struct{}{},
			shells:  map[*shell]*session{},
			netconf: &skerryState{sessions: map[*skerry]bool{}, locks: map[string]*skerry{}},
		}
		d.soft = soft{runs: spec.Version, next: spec.Version, has: []string{spec.Version}}
		d.files = &flash{d: d, of: map[string]*flashFile{}}
		text = d.kind.born(d, text)
		d.running = newTernConfig(spec.Ports)
		load := d.running.load
		if strings.Contains(text, " {\n") {
			load = d.running.loadBraces
		}
		if err := load(text); err != nil {
			return nil, fmt.Errorf("configuration of %s: %w", spec.Name, err)
		}
		d.saved = d.running.clone()
		if spec.Draft != "" {
			d.draft = &draft{config: d.running.clone(), by: spec.Draft, since: time.Now().Add(-7 * time.Hour)}
			d.draft.config.logs = append(d.draft.config.logs, "192.0.2.252")
			d.kind.drafted(d)
		}
		if spec.Unsaved != "" {
			if _, err := d.running.apply("", spec.Unsaved); err != nil {
				return nil, fmt.Errorf("unsaved line of %s: %w", spec.Name, err)
			}
		}
		d.follow()
		d.up.Store(true)
		f.devices[spec.Name] = d
		f.order = append(f.order, d)
	}
	for _, d := range f.order {
		for _, fault := range d.spec.Faults {
			if fault.Kind == Exchanged && fault.Match == "" {
				f.exchange(d.spec.Name, fault.With)
			}
		}
	}
	f.pairUp()
	f.wire()
	f.topology()
	return f, nil
}

// wire gives each device the ports that lead down from it: the last one to the first device
// below it.
func (f *Fleet) wire() {
	for _, d := range f.order {
		d.ports = map[string]int{}
	}
	for _, d := range f.order {
		if up := f.devices[d.spec.Uplink]; up != nil {
			up.ports[d.spec.Name] = up.spec.Ports - len(up.below)
			up.below = append(up.below, d.spec.Name)
		}
	}
}

// Devices lists the devices in the order of the scenario.
func (f *Fleet) Devices() []*Device { return f.order }

// Device returns a device by name, or nil.
func (f *Fleet) Device(name string) *Device { return f.devices[name] }

// newKeys makes the host key of a simulated device. It is the same each time that the same
// device is simulated, as that of hardware is.
func newKeys(of string) (ssh.Signer, ed25519.PrivateKey, error) {
	seed := sha256.Sum256([]byte("simulated " + of))
	key := ed25519.NewKeyFromSeed(seed[:])
	signer, err := ssh.NewSignerFromKey(key)
	return signer, key, err
}

// HostKeys knows the true key of each device, by its address or name.
func (f *Fleet) HostKeys() HostKeys { return HostKeys{f} }

// HostKeys checks the keys that devices show against their own.
type HostKeys struct{ f *Fleet }

// Check accepts the key that is a device's own.
func (h HostKeys) Check(host string, _ net.Addr, key ssh.PublicKey) error {
	name := host
	if h, _, err := net.SplitHostPort(host); err == nil {
		name = h
	}
	for _, d := range h.f.order {
		// Who has exchanged two devices has taken their keys for right, too.
		if (d.spec.Address == name || d.spec.Name == name) && (shows(d, key) || shows(h.f.inPlaceOf(d), key)) {
			return nil
		}
	}
	return fmt.Errorf("this is not the host key of %s", host)
}

// Algorithms says nothing: every device has one key.
func (h HostKeys) Algorithms(string) []string { return nil }

// Resolve finds the address of a device by its name, as a name server would.
func (f *Fleet) Resolve(_ context.Context, host string) ([]string, error) {
	for _, d := range f.order {
		if d.spec.Name == host && !d.hasFault(NoName) {
			return []string{d.spec.Address}, nil
		}
	}
	return nil, &net.DNSError{Err: "no such host", Name: host, IsNotFound: true}
}

func (f *Fleet) answers(source string) bool { return f.sources[source] }

// Close ends all sessions and waits for them.
func (f *Fleet) Close() {
	if !f.closed.Swap(true) {
		close(f.over)
	}
	for _, d := range f.order {
		d.mu.Lock()
		if d.timer != nil {
			d.timer.Stop()
		}
		for c := range d.conns {
			c.drop()
		}
		for _, c := range d.orphans {
			c.drop()
		}
		d.mu.Unlock()
	}
	f.wake()
	f.wg.Wait()
}

func (f *Fleet) wake() {
	f.mu.Lock()
	close(f.changed)
	f.changed = make(chan struct{})
	f.mu.Unlock()
}

func (f *Fleet) waitChange() <-chan struct{} {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.changed
}

// topology works out anew which devices are in reach.
func (f *Fleet) topology() {
	f.topo.Lock()
	defer f.topo.Unlock()
	linked := map[string]bool{}
	for _, d := range f.order {
		d.mu.Lock()
		linked[d.spec.Name] = d.up.Load() && d.linked()
		d.mu.Unlock()
	}
	able := map[string]bool{}
	for _, d := range f.order {
		ok := linked[d.spec.Name]
		below := d
		for hops := 0; ok && below.spec.Uplink != "" && hops <= len(f.order); hops++ {
			above := f.devices[below.spec.Uplink]
			above.mu.Lock()
			port := above.running.ports[above.portTo(below.spec.Name)]
			above.mu.Unlock()
			ok = linked[above.spec.Name] && !port.shut
			below = above
		}
		able[d.spec.Name] = ok
		d.reachable.Store(ok)
		if ok {
			d.inReach()
		}
	}
	f.failOver(able)
	f.wake()
}

// inReach lets connections learn what they missed.
func (d *Device) inReach() {
	d.mu.Lock()
	orphans, conns := d.orphans, slices.Collect(maps.Keys(d.conns))
	d.orphans = nil
	d.mu.Unlock()
	for _, c := range orphans {
		c.drop()
	}
	for _, c := range conns {
		c.flush()
	}
}

// gate is a connection that goes silent while its device is out of reach.
type gate struct {
	net.Conn
	d    *Device
	once sync.Once
	done chan struct{}

	mu     sync.Mutex
	unsent []byte
}

func (g *gate) drop() { g.once.Do(func() { close(g.done); g.Conn.Close() }) }

// Close ends the connection from the device's side.
func (g *gate) Close() error {
	g.drop()
	g.d.mu.Lock()
	delete(g.d.conns, g)
	g.d.mu.Unlock()
	return nil
}

// pass waits until the device is in reach.
func (g *gate) pass() error {
	for {
		changed := g.d.fleet.waitChange()
		if g.d.reachable.Load() {
			return nil
		}
		select {
		case <-changed:
			if g.d.fleet.closed.Load() {
				return net.ErrClosed
			}
		case <-g.done:
			return net.ErrClosed
		}
	}
}

func (g *gate) Read(b []byte) (int, error) {
	n, err := g.Conn.Read(b)
	if err != nil {
		return n, err
	}
	if !g.d.reachable.Load() {
		return n, g.pass()
	}
	return n, nil
}

// maxUnsent is how much the device's own network stack holds for a peer that
// does not answer.
const maxUnsent = 256 << 10

// Write never waits for reach: as with a real network stack, what cannot be
// delivered now is held, and sent when the device is in reach again.
func (g *gate) Write(b []byte) (int, error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.d.reachable.Load() && len(g.unsent) == 0 {
		return g.Conn.Write(b)
	}
	if len(g.unsent)+len(b) > maxUnsent {
		return 0, net.ErrClosed
	}
	g.unsent = append(g.unsent, b...)
	return len(b), nil
}

// flush sends what was held.
func (g *gate) flush() {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.unsent) > 0 {
		_, _ = g.Conn.Write(g.unsent)
		g.unsent = nil
	}
}

// Dial connects to a device in memory, by its address in the scenario; it is
// like net.Dialer.DialContext. A device out of reach lets the caller wait for as
// long as ctx allows, as a silent network does.
func (f *Fleet) Dial(ctx context.Context, network, addr string) (net.Conn, error) {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(f.order, func(d *Device) bool { return d.spec.Address == host })
	if i < 0 {
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: errors.New("no route to host " + host)}
	}
	if d := f.order[i]; network == "udp" { // there is nobody to wait for
		client, server := net.Pipe() // which keeps what is written at once together
		f.wg.Go(func() { d.datagrams(server) })
		return client, nil
	}
	d := f.inPlaceOf(f.order[i])
	for {
		changed := f.waitChange()
		if f.closed.Load() {
			return nil, net.ErrClosed
		}
		if d.reachable.Load() {
			break
		}
		select {
		case <-changed:
		case <-ctx.Done():
			return nil, &net.OpError{Op: "dial", Net: "tcp", Err: ctx.Err()}
		}
	}
	switch {
	case d.hasFault(Refuses):
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: syscall.ECONNREFUSED}
	case d.hasFault(NoRoute):
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: syscall.EHOSTUNREACH}
	case d.hasFault(Silent):
		<-ctx.Done()
		return nil, &net.OpError{Op: "dial", Net: "tcp", Err: ctx.Err()}
	}
	client, server := pipe.New(64 << 10)
	f.wg.Go(func() { d.serve(server) })
	return client, nil
}

// Listen serves every device on a TCP port of its own on host (a loopback
// address), counting up from base, or on free ports when base is 0. It returns
// the address of each device by name and serves until ctx ends.
func (f *Fleet) Listen(ctx context.Context, host string, base int) (map[string]string, error) {
	addrs := map[string]string{}
	var ends []func()
	end := func() {
		for _, e := range ends {
			e()
		}
	}
	for i, d := range f.order {
		port := 0
		if base > 0 {
			port = base + i
		}
		addr, over, err := f.listen(host, port, d)
		if err != nil {
			end()
			return nil, fmt.Errorf("listen for %s: %w", d.spec.Name, err)
		}
		addrs[d.spec.Name] = addr
		ends = append(ends, over)
	}
	f.wg.Go(func() { <-ctx.Done(); end() })
	return addrs, nil
}

// listen takes connections to one device. A device that refuses them has its
// port all the same.
func (f *Fleet) listen(host string, port int, d *Device) (addr string, end func(), err error) {
	if d.kind.datagrams() {
		return f.listenUDP(host, port, d)
	}
	for _, f := range d.spec.Faults {
		if f.Kind == Refuses && (f.Times > 0 || f.After > 0) {
			return "", nil, fmt.Errorf(
				"%s: nobody can count who comes to a closed port, so %q takes no times and no after here; write %q",
				d.spec.Name,
				Refuses,
				Closes,
			)
		}
	}
	if d.hasFault(Refuses) {
		return hold(host, port)
	}
	l, err := net.Listen("tcp", net.JoinHostPort(host, fmt.Sprint(port)))
	if err != nil {
		return "", nil, err
	}
	f.wg.Go(func() { f.accept(l, d) })
	return l.Addr().String(), func() { l.Close() }, nil
}

func (f *Fleet) accept(l net.Listener, d *Device) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		f.wg.Go(func() { f.inPlaceOf(d).serve(c) })
	}
}

func shows(d *Device, key ssh.PublicKey) bool {
	return bytes.Equal(d.signer.PublicKey().Marshal(), key.Marshal())
}

// inPlaceOf is the device that stands where one should: itself, unless it was exchanged.
func (f *Fleet) inPlaceOf(d *Device) *Device {
	f.stand.Lock()
	defer f.stand.Unlock()
	if other := f.devices[f.stands[d.spec.Name]]; other != nil {
		return other
	}
	return d
}

// Stands is the name of the device that stands where one should.
func (f *Fleet) Stands(device string) string { return f.inPlaceOf(f.devices[device]).Name() }

// exchange lets two devices stand in each other's place from now on. Whoever is connected
// to them is cut off.
func (f *Fleet) exchange(a, b string) {
	f.stand.Lock()
	if f.stands == nil {
		f.stands = map[string]string{}
	}
	f.stands[a], f.stands[b] = b, a
	f.stand.Unlock()
	for _, name := range []string{a, b} {
		d := f.devices[name]
		d.mu.Lock()
		conns := slices.Collect(maps.Keys(d.conns))
		d.mu.Unlock()
		for _, c := range conns {
			c.drop()
		}
	}
}
