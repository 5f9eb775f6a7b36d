package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"metabasis/internal/core/fleet"
)

// booked is the book with other lines under batches.
func booked(lines ...string) string {
	return strings.Replace(book, "  sizes     1, 2, 50%\n", "  "+strings.Join(lines, "\n  ")+"\n", 1)
}

func batched(t require.TestingT, text, csv string) (*Plan, error) {
	kinds := maps.Clone(traits)
	kinds["heron"] = traits["tern"]
	fl, err := fleet.Read("fleet.csv", []byte(csv), []string{"tern", "heron"})
	require.NoError(t, err)
	return Make(parse(t, text), fl, map[string]string{"lan": "310"}, kinds, night)
}

// topology draws a fleet: sites, roles, what is reached through what, pairs.
func topology(t *rapid.T) string {
	n := rapid.IntRange(1, 25).Draw(t, "devices")
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,pair,via\n")
	for i := range n {
		via, pair := "", ""
		if i > 0 && rapid.IntRange(0, 3).Draw(t, "reached") > 0 {
			via = fmt.Sprintf("d%d", rapid.IntRange(0, i-1).Draw(t, "via"))
		}
		if i < n/2*2 && rapid.Bool().Draw(t, "paired") && i%2 == 0 || i%2 == 1 && strings.Contains(csv.String(), fmt.Sprintf(",p%d,", i/2)) {
			pair = fmt.Sprintf("p%d", i/2)
		}
		platform := rapid.SampledFrom([]string{"tern", "tern", "heron"}).Draw(t, "platform")
		fmt.Fprintf(&csv, "d%d,192.0.2.%d,%s,%s,quay,%s,%s\n", i, i+1, platform, rapid.SampledFrom([]string{"ALD", "BRM", "CLD"}).Draw(t, "site"), pair, via)
	}
	return csv.String()
}

// rules draws what stands under batches.
func rules(t *rapid.T) []string {
	lines := []string{"sizes     " + rapid.SampledFrom([]string{"1, 2, 50%", "3", "100%", "1"}).Draw(t, "sizes")}
	for _, l := range []string{"pairs     apart, standby first", "order     far first", "per site  2", "per role  3", "per uplink 1", "together  4", "canaries  one of each platform and role"} {
		if rapid.Bool().Draw(t, l) {
			lines = append(lines, l)
		}
	}
	return lines
}

// However devices hang together, each is in one batch, of a pair the first comes before
// the second, far ones before near ones, the canaries before all, and each says why; the
// plan of the same is the same.
func TestBatchesOfAnyTopology(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		csv, lines := topology(t), rules(t)
		p, err := batched(t, booked(lines...), csv)
		require.NoError(t, err)
		again, err := batched(t, booked(lines...), csv)
		require.NoError(t, err)
		assert.Equal(t, names(p.Batches), names(again.Batches), "the same plan, the same batches")
		at := map[string]int{}
		for i, target := range p.Targets() {
			_, twice := at[target.Device.Name]
			assert.False(t, twice)
			at[target.Device.Name] = i
			assert.NotEmpty(t, target.Why, target.Device.Name)
			assert.NotContains(t, target.Above, target.Device.Name)
		}
		text := strings.Join(lines, "\n")
		apart, far := strings.Contains(text, "apart"), strings.Contains(text, "far first")
		canaries := 0
		if strings.Contains(text, "canaries") {
			collided := strings.Join(p.Collisions, "\n")
			for _, platform := range []string{"tern", "heron"} {
				all, chosen := 0, 0
				for _, target := range p.Targets() {
					all += map[bool]int{true: 1}[target.Device.Platform == platform]
					chosen += map[bool]int{true: 1}[strings.Contains(target.Why, "canary: the most ordinary "+platform+" quay")]
				}
				assert.Equal(t, all > 0 && !strings.Contains(collided, "every "+platform+" quay"), chosen == 1, "a canary of each kind, or why there is none")
				canaries = max(canaries, chosen)
			}
			assert.True(t, canaries == 0 || len(p.Batches[0]) <= 4, "they are by themselves")
		}
		for _, target := range p.Targets() {
			first := p.byName[target.Partner]
			if target.Second {
				assert.Less(t, at[target.Partner], at[target.Device.Name], "of a pair")
				assert.True(t, !apart || first.Batch < target.Batch, "pairs apart")
			}
			for _, o := range p.Targets() {
				if far && target.Partner == "" && o.Partner == "" && target.Batch >= canaries && o.Batch >= canaries && len(target.Above) > len(o.Above) {
					assert.Less(t, at[target.Device.Name], at[o.Device.Name], "far first")
				}
			}
		}
	})
}

// Begun in the order of the plan, whenever there is room, all devices have their turn,
// and nothing that must not be in change at once is.
func TestBusyNeverStandsStill(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p, err := batched(t, booked(rules(t)...), topology(t))
		require.NoError(t, err)
		for _, batch := range p.Batches {
			b, waiting, in := p.Busy(), slices.Clone(batch), []*Target{}
			for len(waiting)+len(in) > 0 {
				for i := 0; i < len(waiting); i++ {
					if target := waiting[i]; b.Keeps(target) == "" && (!target.Second || !slices.Contains(waiting, p.byName[target.Partner]) && !slices.Contains(in, p.byName[target.Partner])) {
						b.Begin(target)
						in, waiting = append(in, target), slices.Delete(waiting, i, i+1)
						i--
					}
				}
				require.NotEmpty(t, in, "none can begin: %s", names([][]*Target{waiting}))
				for _, x := range in {
					site, uplink := 0, 0
					for _, y := range in {
						assert.NotContains(t, x.Above, y.Device.Name)
						assert.NotEqual(t, x.Partner, y.Device.Name)
						site += map[bool]int{true: 1}[x.Device.Site == y.Device.Site]
						uplink += map[bool]int{true: 1}[x.Device.Via != "" && x.Device.Via == y.Device.Via]
					}
					assert.True(t, p.Rules.PerSite == 0 || site <= p.Rules.PerSite)
					assert.True(t, p.Rules.PerUplink == 0 || uplink <= p.Rules.PerUplink)
					assert.True(t, p.Rules.PerRole == 0 || len(in) <= p.Rules.PerRole)
				}
				i := rapid.IntRange(0, len(in)-1).Draw(t, "ends")
				b.End(in[i])
				b.End(in[i]) // it is over once only
				in = slices.Delete(in, i, i+1)
			}
		}
	})
}

const chain = `name,address,platform,site,role,pair,via
core,192.0.2.1,tern,OPS,quay,,
dist-a,192.0.2.2,tern,ALD,quay,d standby,core
dist-b,192.0.2.3,tern,ALD,quay,d,core
edge-1,192.0.2.4,tern,ALD,quay,,dist-a
edge-2,192.0.2.5,tern,ALD,quay,,dist-a
edge-3,192.0.2.6,tern,BRM,quay,,dist-b
far,192.0.2.7,tern,BRM,quay,e,edge-3
near,192.0.2.8,tern,BRM,quay,e standby,core
`

// The plan says of each device why it is where it is, and which rules collide.
func TestThePlanExplainsItself(t *testing.T) {
	p, err := batched(t, booked("canaries  one of each platform and role", "sizes     3", "order     far first", "pairs     apart, standby first"), chain)
	require.NoError(t, err)
	assert.Equal(t, "edge-1 | near edge-2 edge-3 | far dist-a core | dist-b", names(p.Batches))
	why := map[string]string{}
	for _, target := range p.Targets() {
		why[target.Device.Name] = target.Why
	}
	assert.Equal(t, "canary: the most ordinary tern quay, its steps are those of 4 of 8", why["edge-1"])
	assert.Equal(t, "far first: reached through dist-a, core", why["edge-2"])
	assert.Equal(t, "far first: reached through no other", why["core"])
	assert.Equal(t, "far first: reached through edge-3, dist-b, core; in a later batch than its partner near, and only once that is kept; not while core, which it is reached through, is in change", why["far"])
	assert.Equal(t, []string{"far first and the order of pairs collide: the pair counts, so the nearer one goes first: near before far"}, p.Collisions)
	assert.Contains(t, strings.Join(p.Warnings, "\n"), p.Collisions[0])
}

// What the fleet does not say of the way to a device, its neighbours may; the plan says
// that it has it from them.
func TestThePlanSaysWhatItHasFromNeighbours(t *testing.T) {
	const csv = "name,address,platform,site,role\nnear,192.0.2.1,tern,ALD,quay\nmiddle,192.0.2.2,tern,ALD,quay\nfar,192.0.2.3,tern,ALD,quay\n"
	seen := fleet.Seen{At: time.Date(2026, 11, 25, 22, 10, 0, 0, time.Local), Neighbours: map[string][]string{"near": {"ops-core", "middle"}, "middle": {"near", "far"}, "far": {"middle"}}}
	p, err := Make(parse(t, booked("sizes     2", "per uplink 1", "order     far first")), read(t, csv).Placed(seen), map[string]string{"lan": "310"}, traits, night)
	require.NoError(t, err)
	assert.Equal(t, "far middle | near", names(p.Batches))
	assert.Equal(t, "far first: reached through middle, near (by its neighbours, read Wed 25 Nov 22:10); not while middle, which it is reached through, is in change", p.Targets()[0].Why)
}

// A pair whose member takes its work back by itself is warned of.
func TestAPairThatTakesItsWorkBack(t *testing.T) {
	keen := maps.Clone(traits)
	tern := keen["tern"]
	tern.TakesBack = true
	keen["tern"] = tern
	for _, c := range []struct {
		traits map[string]Traits
		warned bool
	}{{traits, false}, {keen, true}} {
		p, err := Make(parse(t, booked("sizes     100%")), read(t, chain), map[string]string{"lan": "310"}, c.traits, night)
		require.NoError(t, err)
		assert.Equal(t, c.warned, strings.Contains(strings.Join(p.Warnings, "\n"), "the work moves twice: pair d (dist-a, dist-b)"))
	}
}

func TestCanariesThatAreNamed(t *testing.T) {
	p, err := batched(t, booked("canaries  edge-2, core", "sizes     100%"), chain)
	require.NoError(t, err)
	assert.Equal(t, "edge-2 core | dist-a dist-b edge-1 edge-3 near far", names(p.Batches))
	assert.Equal(t, "canary: the runbook names it; not while core, which it is reached through, is in change", p.Targets()[0].Why)
	for line, want := range map[string]string{
		"canaries  egde-2":           "the canary egde-2 is not in scope",
		"canaries  core, core":       "the canary core is named twice",
		"canaries  dist-b":           "the canary dist-b is the second of its pair: dist-a goes before it",
		"canaries  dist-a, dist-b":   "canaries and pairs apart collide: dist-a and dist-b are one pair",
		"hold      after batch 1, 2": "",
	} {
		_, err := batched(t, booked(line, "sizes     100%", "pairs     apart, standby first"), chain)
		if want == "" {
			assert.NoError(t, err)
			continue
		}
		assert.ErrorContains(t, err, want, line)
	}
	p, err = batched(t, booked("sizes     4", "hold      after batch 1, 2"), chain)
	require.NoError(t, err)
	assert.Contains(t, strings.Join(p.Warnings, "\n"), "hold after batch 2: the last batch is 2, so it does not hold there")
}

// Of devices that are alike, a canary is one that nothing hangs on; of some that differ,
// one of the many.
func TestTheMostOrdinary(t *testing.T) {
	p, err := batched(t, booked("canaries  one of each platform and role", "sizes     9"), `name,address,platform,site,role,pair,via
a,192.0.2.1,tern,BRM,quay,,
b,192.0.2.2,tern,ALD,quay,p,
c,192.0.2.3,tern,ALD,quay,p standby,
d,192.0.2.4,tern,ALD,quay,,
e,192.0.2.5,tern,ALD,quay,,d
f,192.0.2.6,tern,ALD,quay,,d
`)
	require.NoError(t, err)
	assert.Equal(t, "e", names(p.Batches[:1]), "a has other steps, b and c are a pair, d leads to others")
	assert.Equal(t, "canary: the most ordinary tern quay, its steps are those of 5 of 6", p.Targets()[0].Why)
}

// What keeps a device from beginning is said with what it waits for.
func TestWhatKeepsADevice(t *testing.T) {
	p, err := batched(t, booked("sizes     100%", "together  5", "per site  2", "per role  4", "per uplink 1"), chain)
	require.NoError(t, err)
	for name, c := range map[string]struct{ in, of, want string }{
		"nothing":    {"edge-1", "near", ""},
		"site":       {"edge-1 dist-b", "dist-a", "2 of site ALD are in change"},
		"uplink":     {"edge-1", "edge-2", "1 behind dist-a are in change"},
		"above":      {"core", "far", "core, which it is reached through, is in change"},
		"below":      {"far edge-1", "core", "2 in change reached through it"},
		"partner":    {"far", "near", "its partner far is in change"},
		"role":       {"core edge-1 edge-2 far", "near", "4 of role quay are in change"},
		"all of all": {"core edge-1 edge-2 far near", "edge-3", "5 are in change together"},
	} {
		b := p.Busy()
		for _, n := range strings.Fields(c.in) {
			b.Begin(p.byName[n])
		}
		assert.Equal(t, c.want, b.Keeps(p.byName[c.of]), name)
	}
}

// BenchmarkMake plans 10,000 devices on 500 sites, each reached through another.
func BenchmarkMake(b *testing.B) {
	var csv strings.Builder
	csv.WriteString("name,address,platform,site,role,pair,via\n")
	for i := range 10_000 {
		via, pair := "", ""
		if i%20 != 0 {
			via = fmt.Sprintf("d%d", i/20*20+i%20/4)
		}
		if i%20 >= 18 {
			pair = fmt.Sprintf("p%d", i/20)
		}
		if via == fmt.Sprintf("d%d", i) {
			via = fmt.Sprintf("d%d", i/20*20)
		}
		fmt.Fprintf(&csv, "d%d,10.0.%d.%d,tern,S%d,quay,%s,%s\n", i, i/250, i%250+1, i/20, pair, via)
	}
	text := booked("canaries  one of each platform and role", "sizes     1, 1%", "together  40", "per site  2", "per uplink 2", "pairs     apart", "order     far first")
	rb, f := parse(b, text), read(b, csv.String())
	b.ResetTimer()
	for b.Loop() {
		_, err := Make(rb, f, map[string]string{"lan": "310"}, traits, time.Date(2026, 12, 2, 1, 0, 0, 0, time.UTC))
		require.NoError(b, err)
	}
}

// What a night that was cut off had begun with comes first, in a batch of its own; the rest stays in
// its order, and what is told of the plan is of the plan as it is then.
func TestThePlanBeginsWithWhatIsBegun(t *testing.T) {
	p, err := batched(t, booked("sizes     3"), chain)
	require.NoError(t, err)
	before := names(p.Batches)
	begun := map[string]bool{"edge-3": true, "dist-b": true}
	again := p.BeginningWith("it was begun", func(device string) bool { return begun[device] })
	assert.Equal(t, before, names(p.Batches), "the plan stays as it was")
	assert.ElementsMatch(t, []string{"edge-3", "dist-b"}, strings.Fields(names(again.Batches[:1])))
	assert.Len(t, again.Targets(), len(p.Targets()))
	for i, b := range again.Batches {
		for _, target := range b {
			assert.Equal(t, i, target.Batch)
		}
	}
	assert.Equal(t, "it was begun", again.Batches[0][0].Why)
	assert.Len(t, again.Whole().Slots, len(again.Batches))
	assert.Same(t, p, p.BeginningWith("", func(string) bool { return false }))
}
