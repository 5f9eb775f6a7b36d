package plan

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
)

// Which devices are worked on together follows from what the runbook says: canaries
// first, then batches by size, far ones before near ones, of a pair the standby before
// its partner. Each device carries why it is where it is.

// batches orders the targets and cuts them into batches.
func (m *maker) batches(p *Plan, in []*Target) {
	p.byName = map[string]*Target{}
	for _, t := range in {
		p.byName[t.Device.Name] = t
	}
	rules := m.rb.Batches
	if rules.FarFirst {
		slices.SortStableFunc(in, func(a, b *Target) int { return cmp.Compare(len(b.Above), len(a.Above)) })
	}
	ordered := slices.Clone(in)
	in, firsts := pairUp(in)
	p.number(in)
	p.collides(ordered, firsts)
	total := len(in)
	placed := map[*Target]bool{}
	if canaries := m.canaries(p, in, firsts); len(canaries) > 0 {
		in = slices.DeleteFunc(in, func(t *Target) bool { return slices.Contains(canaries, t) })
		p.add(canaries, placed)
	}
	for i := 0; len(in) > 0; i++ {
		size := rules.Sizes[min(i, len(rules.Sizes)-1)]
		n := size.Count
		if size.Percent > 0 {
			n = max(1, (total*size.Percent+99)/100)
		}
		var batch []*Target
		batch, in = cut(in, n, func(t *Target) bool {
			first := firsts[t]
			return !rules.PairsApart || first == nil || placed[first]
		})
		p.add(batch, placed)
	}
	for i, b := range p.Batches {
		for _, t := range b {
			t.Why = p.why(t, i)
		}
	}
}

// add makes the next batch.
func (p *Plan) add(batch []*Target, placed map[*Target]bool) {
	for _, t := range batch {
		t.Batch = len(p.Batches)
		placed[t] = true
	}
	p.Batches = append(p.Batches, batch)
}

// mates finds the other member of each pair of the fleet.
func mates(f *fleet.Fleet) map[string]*fleet.Device {
	first := map[string]*fleet.Device{}
	out := map[string]*fleet.Device{}
	for i := range f.Devices {
		d := &f.Devices[i]
		switch o := first[d.Pair]; {
		case d.Pair == "":
		case o == nil:
			first[d.Pair] = d
		default:
			out[d.Name], out[o.Name] = o, d
		}
	}
	return out
}

// pairUp names partners and moves the first member of a pair before the second. Firsts
// has the first of each second.
func pairUp(in []*Target) (out []*Target, firsts map[*Target]*Target) {
	members := map[string][]*Target{}
	for _, t := range in {
		if t.Device.Pair != "" {
			members[t.Device.Pair] = append(members[t.Device.Pair], t)
		}
	}
	firsts = map[*Target]*Target{}
	for _, m := range members {
		if len(m) != 2 {
			continue
		}
		a, b := m[0], m[1]
		if b.Device.Standby || !a.Device.Standby && b.Device.Name < a.Device.Name {
			a, b = b, a
		}
		a.Partner, b.Partner, b.Second = b.Device.Name, a.Device.Name, true
		firsts[b] = a
	}
	placed := map[*Target]bool{}
	for _, t := range in {
		if f := firsts[t]; f != nil && !placed[f] {
			out, placed[f] = append(out, f), true
		}
		if !placed[t] {
			out, placed[t] = append(out, t), true
		}
	}
	return out, firsts
}

// cut takes the next n targets of those that may be next.
func cut(in []*Target, n int, may func(*Target) bool) (batch, rest []*Target) {
	for i, t := range in {
		switch {
		case len(batch) == n:
			return batch, append(rest, in[i:]...)
		case may(t):
			batch = append(batch, t)
		default:
			rest = append(rest, t)
		}
	}
	return batch, rest
}

// collides says which of the runbook's rules cannot both hold, and which one gives way.
func (p *Plan) collides(ordered []*Target, firsts map[*Target]*Target) {
	var nearer []string
	for _, second := range ordered {
		first := firsts[second]
		if first != nil && p.Rules.FarFirst && len(first.Above) < len(second.Above) {
			nearer = append(nearer, fmt.Sprintf("%s before %s", first.Device.Name, second.Device.Name))
		}
	}
	if len(nearer) > 0 {
		p.Collisions = append(
			p.Collisions,
			"far first and the order of pairs collide: the pair counts, so the nearer one goes first: "+some(nearer),
		)
	}
}

// some are the first of a list, and how many more there are.
func some(list []string) string {
	const shown = 4
	if len(list) <= shown {
		return strings.Join(list, ", ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(list[:shown], ", "), len(list)-shown)
}

// canaries are the devices that go first.
func (m *maker) canaries(p *Plan, in []*Target, firsts map[*Target]*Target) (out []*Target) {
	rules := m.rb.Batches
	if rules.CanaryEach {
		return p.ordinary(in, behind(in), firsts)
	}
	for _, name := range rules.Canaries {
		t := p.byName[name]
		switch {
		case t == nil:
			m.once(rules.CanaryLine, problem.Nearest(name, slices.Sorted(maps.Keys(p.byName))), "the canary %s is not in scope", name)
			continue
		case slices.Contains(out, t):
			m.once(rules.CanaryLine, "", "the canary %s is named twice", name)
			continue
		case rules.PairsApart && firsts[t] != nil && !slices.Contains(out, firsts[t]):
			m.once(rules.CanaryLine, firsts[t].Device.Name, "the canary %s is the second of its pair: %s goes before it", name, t.Partner)
		case rules.PairsApart && firsts[t] != nil:
			m.once(rules.CanaryLine, "one of them", "canaries and pairs apart collide: %s and %s are one pair", t.Partner, name)
		}
		t.canary = "canary: the runbook names it"
		out = append(out, t)
	}
	return out
}

// behind counts the devices in scope that are reached through each.
func behind(in []*Target) map[string]int {
	out := map[string]int{}
	for _, t := range in {
		for _, name := range t.Above {
			out[name]++
		}
	}
	return out
}

// ordinary chooses the most ordinary device of each platform and role: one that has the
// steps and values that most have, that nothing is reached through, that is in no pair.
// Where several are, the first counts. Where there is none but the second of a pair, the
// first of it goes before it, or, where both must not be in one batch, there is none.
func (p *Plan) ordinary(in []*Target, behind map[string]int, firsts map[*Target]*Target) (out []*Target) {
	groups, order := map[string][]*Target{}, []string{}
	for _, t := range in {
		key := strings.TrimSpace(t.Device.Platform + " " + t.Device.Role)
		if groups[key] == nil {
			order = append(order, key)
		}
		groups[key] = append(groups[key], t)
	}
	for _, key := range order {
		group := groups[key]
		alike := map[string]int{}
		for _, t := range group {
			alike[t.pattern()]++
		}
		best := slices.MinFunc(group, func(a, b *Target) int {
			return cmp.Or(
				cmp.Compare(seconds(a), seconds(b)),
				cmp.Compare(alike[b.pattern()], alike[a.pattern()]),
				cmp.Compare(behind[a.Device.Name], behind[b.Device.Name]),
				cmp.Compare(len(a.Partner), len(b.Partner)),
			)
		})
		first := firsts[best]
		if first != nil && p.Rules.PairsApart {
			p.Collisions = append(
				p.Collisions,
				fmt.Sprintf(
					"canaries and pairs apart collide: every %s is the second of its pair, as %s is, which goes after %s: there is no canary of that kind",
					key,
					best.Device.Name,
					first.Device.Name,
				),
			)
			continue
		}
		if first != nil && !slices.Contains(out, first) {
			first.canary = fmt.Sprintf("before its partner %s, a canary", best.Device.Name)
			out = append(out, first)
		}
		if slices.Contains(out, best) {
			continue
		}
		best.canary = fmt.Sprintf(
			"canary: the most ordinary %s, %s",
			key,
			best.ordinarily(alike[best.pattern()], len(group), behind[best.Device.Name]),
		)
		out = append(out, best)
	}
	return out
}

// seconds ranks those whose partner must go first last.
func seconds(t *Target) int {
	if t.Second {
		return 1
	}
	return 0
}

// pattern tells devices apart by the steps they have and the shape of their lines.
func (t *Target) pattern() string {
	var b strings.Builder
	for _, s := range t.Steps {
		fmt.Fprintf(&b, "%d:%d ", s.Number, s.lines())
	}
	return b.String()
}

// ordinarily says in what a canary is ordinary, and in what it is not.
func (t *Target) ordinarily(alike, group, behind int) string {
	parts := []string{"the only one"}
	if group > 1 {
		parts = []string{fmt.Sprintf("its steps are those of %d of %d", alike, group)}
	}
	if behind > 0 {
		parts = append(parts, devices(behind)+" reached through it")
	}
	if t.Partner != "" {
		parts = append(parts, "in a pair with "+t.Partner)
	}
	return strings.Join(parts, ", ")
}

// why says why a target is in its batch, and what it waits for there.
func (p *Plan) why(t *Target, batch int) string {
	var parts []string
	switch {
	case t.canary != "":
		parts = append(parts, t.canary)
	case p.Rules.FarFirst && len(t.Above) > 0:
		parts = append(parts, fmt.Sprintf("far first: reached through %s", some(t.Above))+t.told())
	case p.Rules.FarFirst:
		parts = append(parts, "far first: reached through no other")
	default:
		parts = append(parts, "as the fleet lists it")
	}
	if first := p.byName[t.Partner]; t.Second && first != nil {
		if first.Batch < batch && p.Rules.PairsApart {
			parts = append(parts, fmt.Sprintf("in a later batch than its partner %s, and only once that is kept", t.Partner))
		} else {
			parts = append(parts, fmt.Sprintf("only once its partner %s is kept", t.Partner))
		}
	} else if t.Partner != "" {
		parts = append(parts, "before its partner "+t.Partner)
	}
	var apart []string
	for _, name := range t.Above {
		if o := p.byName[name]; o != nil && o.Batch == batch {
			apart = append(apart, name)
		}
	}
	if len(apart) > 0 {
		told := t.told()
		if strings.Contains(parts[0], told) {
			told = ""
		}
		parts = append(parts, "not while "+some(apart)+", which it is reached through"+told+", is in change")
	}
	return strings.Join(parts, "; ")
}

// told says from where it is known what the device is reached through, where the fleet
// file does not say it.
func (t *Target) told() string {
	if t.Device.Behind == "" {
		return ""
	}
	return " (" + t.Device.BehindFrom + ")"
}
