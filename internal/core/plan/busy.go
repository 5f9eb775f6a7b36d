package plan

import "fmt"

// Busy is the devices that are in change, and what may begin beside them: the caps of the
// runbook, pairs, and devices that are reached through one another. A run asks it, and so
// does the forecast: both go by the same rules.
type Busy struct {
	plan               *Plan
	in                 map[string]*Target
	site, role, uplink map[string]int
	crossed            map[string]int // devices in change that are reached through it
}

// Busy is nothing in change yet.
func (p *Plan) Busy() *Busy {
	return &Busy{plan: p, in: map[string]*Target{}, site: map[string]int{}, role: map[string]int{}, uplink: map[string]int{}, crossed: map[string]int{}}
}

// Begin puts a device in change.
func (b *Busy) Begin(t *Target) { b.in[t.Device.Name] = t; b.count(t, 1) }

// End takes it out.
func (b *Busy) End(t *Target) {
	if b.in[t.Device.Name] != nil {
		delete(b.in, t.Device.Name)
		b.count(t, -1)
	}
}

func (b *Busy) count(t *Target, n int) {
	b.site[t.Device.Site] += n
	b.role[t.Device.Role] += n
	b.uplink[t.Device.Via] += n
	for _, name := range t.Above {
		b.crossed[name] += n
	}
}

// Full tells whether no further device may begin, whichever it is.
func (b *Busy) Full() bool { return b.plan.Rules.Together > 0 && len(b.in) >= b.plan.Rules.Together }

// Keeps says what keeps a device from beginning beside those in change; "" when nothing
// does.
func (b *Busy) Keeps(t *Target) string {
	if b.Full() {
		return fmt.Sprintf("%d are in change together", len(b.in))
	}
	if what := b.capped(t); what != "" {
		return what
	}
	if b.in[t.Partner] != nil {
		return "its partner " + t.Partner + " is in change"
	}
	for _, name := range t.Above {
		if b.in[name] != nil {
			return name + ", which it is reached through, is in change"
		}
	}
	if b.crossed[t.Device.Name] > 0 {
		return fmt.Sprintf("%d in change reached through it", b.crossed[t.Device.Name])
	}
	return ""
}

// capped is Keeps for what all devices of a site, a role and an uplink have in common.
func (b *Busy) capped(t *Target) string {
	r, d := b.plan.Rules, t.Device
	switch {
	case r.PerSite > 0 && b.site[d.Site] >= r.PerSite:
		return fmt.Sprintf("%d of site %s are in change", b.site[d.Site], d.Site)
	case r.PerRole > 0 && b.role[d.Role] >= r.PerRole:
		return fmt.Sprintf("%d of role %s are in change", b.role[d.Role], d.Role)
	case r.PerUplink > 0 && d.Via != "" && b.uplink[d.Via] >= r.PerUplink:
		return fmt.Sprintf("%d behind %s are in change", b.uplink[d.Via], d.Via)
	}
	return ""
}
