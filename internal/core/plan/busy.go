package plan

import "fmt"

// Busy is the devices that are in change, and what may begin beside them: the caps of the
// runbook, pairs, and devices that are reached through one another. A run asks it, and so
// does the forecast: both go by the same rules.
type Busy struct {
	plan               *Plan
	n                  int
	in                 []bool // by the number of the device
	site, role, uplink []int
	crossed            []int // devices in change that are reached through it
	behind             []int // devices in change that it is reached through
	same               []int // lines of the fleet in change that lead to it
}

// place is where a device stands among the others, in numbers: a forecast asks for it
// some hundred thousand times.
type place struct {
	n, site, role, uplink int
	partner               int   // -1 for none
	above                 []int // those of them that are in scope
	below                 []int // those that are reached through it
	same                  int   // the first line of the fleet that leads to the same device
}

// number gives all devices their numbers.
func (p *Plan) number(in []*Target) {
	ids := map[string]int{}
	id := func(of, name string) int {
		key := of + "\x00" + name
		if _, ok := ids[key]; !ok {
			ids[key] = len(ids)
		}
		return ids[key]
	}
	at := map[string]int{}
	for i, t := range in {
		at[t.Device.Name] = i
	}
	for i, t := range in {
		t.place = place{
			n:       i,
			same:    i,
			site:    id("site", t.Device.Site),
			role:    id("role", t.Device.Role),
			uplink:  id("uplink", t.Device.Upstream()),
			partner: -1,
		}
		if n, ok := at[t.Partner]; ok {
			t.place.partner = n
		}
		for _, name := range t.Above {
			if n, ok := at[name]; ok {
				t.place.above = append(t.place.above, n)
			}
		}
	}
	for i, t := range in {
		for _, above := range t.place.above {
			in[above].place.below = append(in[above].place.below, i)
		}
	}
	p.places = len(ids)
}

// Busy is nothing in change yet.
func (p *Plan) Busy() *Busy {
	n := len(p.byName)
	counts := make([]int, 3*p.places+3*n)
	return &Busy{
		plan:    p,
		in:      make([]bool, n),
		site:    counts[:p.places],
		role:    counts[p.places : 2*p.places],
		uplink:  counts[2*p.places : 3*p.places],
		crossed: counts[3*p.places : 3*p.places+n],
		same:    counts[3*p.places+n : 3*p.places+2*n],
		behind:  counts[3*p.places+2*n:],
	}
}

// Begin puts a device in change.
func (b *Busy) Begin(t *Target) { b.in[t.place.n] = true; b.count(t, 1) }

// End takes it out.
func (b *Busy) End(t *Target) {
	if b.in[t.place.n] {
		b.in[t.place.n] = false
		b.count(t, -1)
	}
}

func (b *Busy) count(t *Target, n int) {
	b.n += n
	b.site[t.place.site] += n
	b.role[t.place.role] += n
	b.uplink[t.place.uplink] += n
	b.same[t.place.same] += n
	for _, above := range t.place.above {
		b.crossed[above] += n
	}
	for _, below := range t.place.below {
		b.behind[below] += n
	}
}

// Follow goes by another plan of the same devices.
func (b *Busy) Follow(p *Plan) { b.plan = p }

// Full tells whether no further device may begin, whichever it is.
func (b *Busy) Full() bool { return b.plan.Rules.Together > 0 && b.n >= b.plan.Rules.Together }

// keeper is what keeps a device from beginning.
type keeper int

const (
	nothing keeper = iota
	bySite
	byRole
	byUplink
	byPartner
	byAbove
	byBelow
	byTwin
)

// keeps tells what keeps a device from beginning beside those in change, as long as there
// is room for any.
func (b *Busy) keeps(t *Target) keeper {
	if k := b.capped(t); k != nothing {
		return k
	}
	if t.place.partner >= 0 && b.in[t.place.partner] {
		return byPartner
	}
	if b.behind[t.place.n] > 0 {
		return byAbove
	}
	if b.crossed[t.place.n] > 0 {
		return byBelow
	}
	if b.same[t.place.same] > 0 {
		return byTwin
	}
	return nothing
}

// capped is keeps for what all devices of a site, a role and an uplink have in common.
func (b *Busy) capped(t *Target) keeper {
	r := &b.plan.Rules
	switch {
	case r.PerSite > 0 && b.site[t.place.site] >= r.PerSite:
		return bySite
	case r.PerRole > 0 && b.role[t.place.role] >= r.PerRole:
		return byRole
	case r.PerUplink > 0 && t.Device.Upstream() != "" && b.uplink[t.place.uplink] >= r.PerUplink:
		return byUplink
	}
	return nothing
}

// Keeps says what keeps a device from beginning beside those in change; "" when nothing
// does.
func (b *Busy) Keeps(t *Target) string {
	if b.Full() {
		return fmt.Sprintf("%d are in change together", b.n)
	}
	switch d := t.Device; b.keeps(t) {
	case bySite:
		return fmt.Sprintf("%d of site %s are in change", b.site[t.place.site], d.Site)
	case byRole:
		return fmt.Sprintf("%d of role %s are in change", b.role[t.place.role], d.Role)
	case byUplink:
		return fmt.Sprintf("%d behind %s are in change", b.uplink[t.place.uplink], d.Upstream())
	case byPartner:
		return "its partner " + t.Partner + " is in change"
	case byAbove:
		for _, name := range t.Above {
			if o := b.plan.byName[name]; o != nil && b.in[o.place.n] {
				return name + ", which it is reached through, is in change"
			}
		}
	case byTwin:
		return "it is the same device as one that is in change"
	case byBelow:
		return fmt.Sprintf("%d in change reached through it", b.crossed[t.place.n])
	}
	return ""
}
