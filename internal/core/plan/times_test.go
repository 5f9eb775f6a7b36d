package plan

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// shownBy is what a night shows whose devices take so many seconds, times a share each.
func shownBy(shares []float64, slow float64) Times {
	var parts []Part
	for i, s := range shares {
		for name, took := range map[string]float64{Before: 5, Guard: 2, StepPart("Lans"): 20, Closing: 3} {
			parts = append(parts, Part{Device: string(rune('a' + i)), Platform: "tern", Name: name, Took: toDuration(took * s * slow)})
		}
	}
	return Sum(parts)
}

// What nights showed is summed up and learned from: of each part, the median and nine in
// ten; of a platform, how much its devices differ.
func TestWhatNightsShow(t *testing.T) {
	shares := []float64{0.8, 0.9, 1, 1, 1.1, 1.2, 2}
	e := Learn([]Times{shownBy(shares, 1), shownBy(shares, 1.2), {}})
	assert.Equal(t, 2, e.Nights)
	got, ok := e.Part("tern", StepPart("Lans"))
	require.True(t, ok)
	assert.Equal(t, 14, got.N)
	assert.InDelta(t, 21.5, got.Median.Seconds(), 1.5)
	assert.Greater(t, got.P90, got.Median)
	for _, unknown := range [][2]string{{"tern", "step Never"}, {"plover", Before}} {
		_, ok := e.Part(unknown[0], unknown[1])
		assert.False(t, ok)
	}
	_, ok = (*Estimates)(nil).Part("tern", Before)
	assert.False(t, ok, "no night, no estimate")
	rehearsed := shownBy(shares, 3)
	rehearsed.Rehearsed, rehearsed.Shares = true, nil
	with := Learn([]Times{shownBy(shares, 1), rehearsed})
	assert.Equal(t, 1, with.Nights, "a rehearsal is no night")
	slower, _ := with.Part("tern", Before)
	assert.Greater(t, slower.Median, 5*time.Second, "and shows what it shows all the same")
	many := make([]float64, 500)
	for i := range many {
		many[i] = float64(i)
	}
	s := SpreadOf(many)
	assert.Equal(t, 500, s.N)
	assert.Len(t, s.At, kept)
	assert.InDelta(t, 250, s.quantile(0.5), 1)
	assert.Zero(t, Spread{}.quantile(0.5))
}

// A plan that has learned goes by what was seen, and by the profile for the rest.
func TestAPlanThatHasLearned(t *testing.T) {
	p, err := batched(t, booked("sizes     100%", "together  2"), chain)
	require.NoError(t, err)
	target := p.Targets()[0]
	before, _ := target.Estimate(p)
	learned := p.Learned(Learn([]Times{shownBy([]float64{1, 1, 1}, 10), shownBy([]float64{1, 1, 1}, 10)}))
	after, worst := target.Estimate(learned)
	lans, _ := target.stepWork(0)
	others := before - lans - target.Traits.Connect - 15*target.Traits.Command
	assert.Equal(t, 300*time.Second+others, after, "what was seen of these parts, and the rest as it was")
	assert.GreaterOrEqual(t, worst, after)
	assert.True(t, learned.Forecast(Progress{Now: p.Window.Open}).Likely.After(p.Forecast(Progress{Now: p.Window.Open}).Likely))
	short, err := batched(t, booked("sizes     1"), chain)
	require.NoError(t, err)
	assert.Empty(t, short.late)
	late := short.Learned(Learn([]Times{shownBy([]float64{1, 1, 1}, 60)}))
	assert.Contains(t, late.Warnings[len(late.Warnings)-1], "after its turn-back time", "what it has learned may not fit")
	again := late.Learned(nil)
	assert.Empty(t, again.Warnings)
}

// What a night has shown moves what is thought of the rest, the more of it the more.
func TestPace(t *testing.T) {
	var p Pace
	assert.Equal(t, 1.0, p.Usual())
	last := 1.0
	for range 8 {
		p.Add(200*time.Second, 100*time.Second)
		assert.Greater(t, p.Usual(), last)
		assert.Less(t, p.Usual(), 2.0)
		last = p.Usual()
	}
	assert.Greater(t, last, 1.6)
	p.Add(0, time.Second)
	p.Add(time.Second, 0)
	assert.Equal(t, last, p.Usual(), "what says nothing moves nothing")
}

// Of devices in change, those that have taken long already take a little still; those that
// are over, nothing.
func TestTheForecastKnowsHowFarTheNightIs(t *testing.T) {
	p, err := batched(t, booked("sizes     100%", "together  8"), chain)
	require.NoError(t, err)
	now := p.Window.Open.Add(10 * time.Minute)
	at := func(began time.Duration, over ...string) time.Duration {
		g := Progress{Now: now, Over: map[string]bool{}, Began: map[string]time.Time{}}
		for _, name := range over {
			g.Over[name] = true
		}
		for _, target := range p.Targets() {
			if name := target.Device.Name; !g.Over[name] && name != "core" {
				g.Began[name] = now.Add(-began)
			}
		}
		g.Over["core"] = true
		return p.Forecast(g).Likely.Sub(now)
	}
	assert.Greater(t, at(time.Second), at(2*time.Minute))
	assert.Greater(t, at(time.Hour), time.Duration(0), "slower than any that was seen, and not over")
	assert.Zero(t, at(time.Second, "core", "dist-a", "dist-b", "edge-1", "edge-2", "edge-3", "far", "near"))
}

// Under the caps, however they are, a batch is over not much later than it could be at
// all: than the longest device, or than the work of what shares a cap, divided by it.
func TestTheScheduleIsShort(t *testing.T) {
	worst := 1.0
	rapid.Check(t, func(t *rapid.T) {
		rules := []string{"sizes     100%", "together  " + rapid.SampledFrom([]string{"2", "4", "8"}).Draw(t, "together")}
		if rapid.Bool().Draw(t, "per site") {
			rules = append(rules, "per site  2")
		}
		p := drawRules(t, rules)
		rng := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "seed"), 1))
		took := map[*Target]time.Duration{}
		total, longest, site := 0.0, 0.0, map[string]float64{}
		for _, target := range p.Targets() {
			took[target] = time.Duration(60+rng.IntN(240)) * time.Second
			total += took[target].Seconds()
			longest = max(longest, took[target].Seconds())
			site[target.Device.Site] += took[target].Seconds()
		}
		usual := make([]float64, len(took))
		for target, d := range took {
			usual[target.place.n] = d.Seconds()
		}
		bound := max(longest, total/float64(min(p.Rules.Together, len(took))))
		for _, s := range site {
			if p.Rules.PerSite > 0 {
				bound = max(bound, s/float64(p.Rules.PerSite))
			}
		}
		got := p.lasting(p.order(p.Targets(), usual), func(t *Target) time.Duration { return took[t] }).Seconds()
		require.GreaterOrEqual(t, got, bound-0.001)
		require.LessOrEqual(t, got, bound+longest, "the longest more than it could be, at the most")
		worst = max(worst, got/bound)
	})
	t.Logf("at the worst %.2f times the bound", worst)
}

// drawRules plans sixty devices on three sites under those rules.
func drawRules(t *rapid.T, rules []string) *Plan {
	csv := "name,address,platform,site,role,pair,via\n"
	for i := range 60 {
		csv += "d" + string(rune('a'+i/26)) + string(rune('a'+i%26)) + ",192.0.2.1" + string(rune('0'+i/10)) + string(rune('0'+i%10)) + ",tern," + []string{"ALD", "BRM", "CLD", "DRF", "OPS"}[i%5] + ",quay,,\n"
	}
	p, err := batched(t, booked(rules...), csv)
	require.NoError(t, err)
	return p
}

// The pace is a mean of logarithms: twice as slow and twice as quick are no pace at all.
func TestQuickAndSlowCancelOut(t *testing.T) {
	var p Pace
	p.Add(2*time.Second, time.Second)
	p.Add(time.Second, 2*time.Second)
	assert.InDelta(t, 1, p.Usual(), 1e-9)
	m, d := spreadOf([]float64{1, math.E})
	assert.InDelta(t, 0.5, m, 1e-9)
	assert.Positive(t, d)
}
