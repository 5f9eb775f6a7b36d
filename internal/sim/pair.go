package sim

import "time"

// Two osiers may be a pair: one of them does the work of both, and the other takes it over
// when the first cannot. Which one does it when both can again stays as it is.

// pairState is which of a pair does the work.
type pairState struct {
	members [2]*Device
	active  *Device // nil while neither can
	outages []time.Time
}

// pairUp finds the pairs of a scenario.
func (f *Fleet) pairUp() {
	f.pairs = map[string]*pairState{}
	for _, d := range f.order {
		if d.spec.Pair == "" {
			continue
		}
		p := f.pairs[d.spec.Pair]
		if p == nil {
			p = &pairState{active: d}
			f.pairs[d.spec.Pair] = p
			p.members[0] = d
			continue
		}
		p.members[1] = d
	}
}

// failOver has the other member of a pair take over where the one that does the work cannot.
// The caller holds f.topo; able tells which devices can.
func (f *Fleet) failOver(able map[string]bool) {
	for _, p := range f.pairs {
		if p.active != nil && able[p.active.spec.Name] {
			continue
		}
		was := p.active
		p.active = nil
		for _, m := range p.members {
			if m != nil && able[m.spec.Name] {
				p.active = m
			}
		}
		if p.active == nil && was != nil {
			p.outages = append(p.outages, time.Now())
		}
	}
}

// Active tells whether a device does the work of its pair.
func (f *Fleet) Active(device string) bool {
	f.topo.Lock()
	defer f.topo.Unlock()
	d := f.devices[device]
	p := f.pairs[d.spec.Pair]
	return p != nil && p.active == d
}

// Outages are the moments from which on neither member of a pair did its work.
func (f *Fleet) Outages(pair string) []time.Time {
	f.topo.Lock()
	defer f.topo.Unlock()
	return f.pairs[pair].outages
}

// inPair is what a device tells of its pair; "" where it is in none.
func (d *Device) inPair() (role, other string) {
	f := d.fleet
	f.topo.Lock()
	p := f.pairs[d.spec.Pair]
	if p == nil {
		f.topo.Unlock()
		return "", ""
	}
	role, other = "standby", "away"
	if p.active == d {
		role = "active"
	}
	mate := p.members[0]
	if mate == d {
		mate = p.members[1]
	}
	f.topo.Unlock()
	if mate != nil && mate.reachable.Load() && !d.hasFault(PairAway) {
		other = "well"
	}
	return role, other
}

// handOver has the other member of the pair do the work, and says why that cannot be.
func (d *Device) handOver(line string) string {
	f := d.fleet
	f.topo.Lock()
	p := f.pairs[d.spec.Pair]
	var mate *Device
	if p != nil {
		mate = p.members[0]
		if mate == d {
			mate = p.members[1]
		}
	}
	defer f.topo.Unlock()
	switch {
	case mate == nil:
		return "this one stands alone"
	case p.active != d:
		return "this one does not do the work"
	case !mate.reachable.Load() || mate.hasFault(StaysStandby):
		return "the other does not take it"
	case d.hasFaultFor(Ignores, line):
		return ""
	}
	p.active = mate
	d.mu.Lock()
	d.note(HandedOver, mate.spec.Name)
	d.mu.Unlock()
	return ""
}

// hasFaultFor tells whether a fault strikes at a line.
func (d *Device) hasFaultFor(kind, line string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.fault(kind, line) != nil
}

// takesBack has a member of a pair that is there again do the work, where that fault strikes.
func (d *Device) takesBack() {
	if !d.hasFault(TakesBack) {
		return
	}
	d.fleet.topo.Lock()
	defer d.fleet.topo.Unlock()
	if p := d.fleet.pairs[d.spec.Pair]; p != nil {
		p.active = d
	}
}
