package plan

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"
	"sort"
	"sync"
	"time"

	"gonum.org/v1/gonum/stat"
)

// When the rest of a night will be over is found by living through it many times, each
// time with other durations drawn from what is known of them, under the same caps by
// which devices are begun. The median of these is the likely end; nine in ten end by the
// late one.

// Progress is how far a night is.
type Progress struct {
	Now   time.Time
	Batch int                  // the batch that runs or is next, from 0
	Over  map[string]bool      // devices of it whose night is over
	Began map[string]time.Time // devices in change, with when they were begun
	Pace  Pace
}

// Outlook is when the rest of a night will run.
type Outlook struct {
	Slots        []Slot // of the batches from the one that runs on
	Likely, Late time.Time
	Stays        float64 // the chance that all is over before the reserve begins
}

// Slot is the time a batch is planned for.
type Slot struct {
	Start, End time.Time
	Late       time.Time // by when it is over in nine cases of ten
	// TurnBack is the last moment the batch may start and everything done by
	// its end can still be taken back inside the window.
	TurnBack time.Time
}

// Pace is how the devices of this night compare with what was estimated of them.
type Pace struct {
	n   int
	sum float64 // of the logarithms of what they took as a share of the estimate
}

// Add takes in a device: what it took and what was estimated, the soak in neither.
func (p *Pace) Add(took, usual time.Duration) {
	if took > 0 && usual > 0 {
		share := min(max(took.Seconds()/usual.Seconds(), 0.05), 20)
		p.n++
		p.sum += math.Log(share)
	}
}

// Usual is the pace itself: 1 is as estimated, 2 is twice as slow. What was estimated
// counts, so that a single quick or slow device does not swing it.
func (p Pace) Usual() float64 { return math.Exp(p.like(usualBetween, 0, usualWithin).mean) }

// usualWithin is how much devices of a night differ, as the deviation of a logarithm.
const usualWithin = 0.25

// unsure is how much less is known of a night than the few that were seen make believe:
// with it the ends given for nine cases in ten hold in nine of ten (TestForecastsHold).
const unsure = 1.6

type normal struct{ mean, deviation float64 }

// like is what is known of the logarithm of the pace: what nights usually are, corrected
// by the devices that were seen. Middle is where the shares of devices lie on a usual night.
func (p Pace) like(between, middle, within float64) normal {
	precision := 1/(between*between) + float64(p.n)/(within*within)
	return normal{(p.sum - float64(p.n)*middle) / (within * within) / precision, math.Sqrt(1 / precision)}
}

// spared is how often a night is lived through: more often the fewer devices are left,
// so that a forecast takes a moment and no more.
func spared(devices int) int {
	return min(max(40_000/max(devices, 1), 25-min(devices/10_000, 10)), 300)
}

// whole is the forecast of a whole night, reckoned once: it is asked for by each who tells
// of the plan.
type whole struct {
	once    sync.Once
	outlook Outlook
}

// Whole is the forecast of the whole night, from its window's opening on.
func (p *Plan) Whole() Outlook {
	if p.whole == nil {
		return p.Forecast(Progress{Now: p.Window.Open})
	}
	p.whole.once.Do(func() { p.whole.outlook = p.Forecast(Progress{Now: p.Window.Open}) })
	o := p.whole.outlook
	o.Slots = slices.Clone(o.Slots)
	return o
}

// Forecast is when the rest of the night will run.
func (p *Plan) Forecast(at Progress) Outlook {
	s := p.living(at)
	n := spared(s.left)
	starts, ends := make([][]float64, len(p.Batches)), make([][]float64, len(p.Batches))
	var over []float64
	in := 0
	reserve := p.Window.Ends()
	// The same question, the same answer: and a batch draws the same whichever are asked for
	// with it, so that one turn-back time is shown and heeded.
	src := rand.NewPCG(0, 0)
	rng := rand.New(src)
	for k := range n {
		src.Seed(uint64(len(p.byName)), uint64(k)<<32)
		now := 0.0
		pace := math.Exp(s.pace.mean + s.pace.deviation*rng.NormFloat64())
		for i := at.Batch; i < len(p.Batches); i++ {
			src.Seed(uint64(len(p.byName)), uint64(k)<<32|uint64(i+1))
			starts[i] = append(starts[i], now)
			now = s.batch(i, now, pace, rng)
			ends[i] = append(ends[i], now)
		}
		over = append(over, now)
		if !at.Now.Add(toDuration(now)).After(reserve) {
			in++
		}
	}
	q := func(x []float64, p float64) time.Duration {
		slices.Sort(x)
		return toDuration(stat.Quantile(p, stat.LinInterp, x, nil)).Round(time.Second)
	}
	out := Outlook{Stays: float64(in) / float64(n), Likely: at.Now, Late: at.Now}
	backs := p.backs()
	for i := at.Batch; i < len(p.Batches); i++ {
		lasts := make([]float64, n)
		for k := range lasts { // before they are sorted: of the same life
			lasts[k] = ends[i][k] - starts[i][k]
		}
		slot := Slot{TurnBack: p.turnBack(q(lasts, 0.9), backs[i], at.Pace)}
		slot.Start, slot.End, slot.Late = at.Now.Add(q(starts[i], 0.5)), at.Now.Add(q(ends[i], 0.5)), at.Now.Add(q(ends[i], 0.9))
		out.Slots = append(out.Slots, slot)
	}
	if len(over) > 0 && len(out.Slots) > 0 {
		out.Likely, out.Late = at.Now.Add(q(over, 0.5)), at.Now.Add(q(over, 0.9))
	}
	return out
}

// life is what is needed to live through the rest of a night.
type life struct {
	p      *Plan
	at     Progress
	left   int
	pace   normal
	usual  []float64            // what each takes, the soak not counted; 0 for those that are over
	shares map[string][]float64 // by platform
	queues [][]group            // of each batch, in the order in which they are begun
	gone   map[*Target]float64  // in change since so many seconds

	busy   *Busy // what follows is used by one life after another
	waits  []bool
	ends   ending
	groups []group
}

func (p *Plan) living(at Progress) *life {
	s := &life{p: p, at: at, usual: make([]float64, len(p.byName)), shares: map[string][]float64{}, queues: make([][]group, len(p.Batches)),
		gone: map[*Target]float64{}, busy: p.Busy(), waits: make([]bool, len(p.byName))}
	within, middle, platforms := 0.0, 0.0, 0
	for i := at.Batch; i < len(p.Batches); i++ {
		var queue []*Target
		for _, t := range p.Batches[i] {
			if i == at.Batch && at.Over[t.Device.Name] {
				continue
			}
			s.left++
			usual, worst := t.Estimate(p)
			s.usual[t.place.n] = usual.Seconds()
			if s.shares[t.Device.Platform] == nil {
				shares := p.estimates.sharing(t.Device.Platform, float64(worst)/float64(max(usual, 1)))
				s.shares[t.Device.Platform] = shares
				m, d := spreadOf(shares)
				within, middle, platforms = within+d, middle+m, platforms+1
			}
			if began, in := at.Began[t.Device.Name]; in {
				s.gone[t] = at.Now.Sub(began).Seconds()
				continue
			}
			queue = append(queue, t)
		}
		s.queues[i] = alike(p.order(queue, s.usual))
	}
	nights := usualBetween
	if p.estimates != nil {
		nights = p.estimates.between
	}
	n := float64(max(platforms, 1))
	s.pace = at.Pace.like(nights, middle/n, max(within/n, 0.02))
	s.pace.deviation *= unsure
	return s
}

// spreadOf is how much devices differ: the mean and the deviation of the logarithm of
// their shares.
func spreadOf(shares []float64) (mean, deviation float64) {
	logs := make([]float64, len(shares))
	for i, s := range shares {
		logs[i] = math.Log(max(s, 0.01))
	}
	if len(logs) < 2 {
		return 0, usualWithin
	}
	return stat.MeanStdDev(logs, nil)
}

// Order is a batch (from 0) in the order in which its devices are begun.
func (p *Plan) Order(batch int) []*Target {
	usual := make([]float64, len(p.byName))
	for _, t := range p.Batches[batch] {
		u, _ := t.Estimate(p)
		usual[t.place.n] = u.Seconds()
	}
	return p.order(p.Batches[batch], usual)
}

// order is the order in which devices of a batch are begun: those first on whose end the
// most waits, so that none is left over at the end: what is left of their site, where a cap
// lets only some of a site begin, and of their role and uplink; else the devices that take
// the longest. Far ones come before near ones all the same, where the runbook says so, and
// equals are in the order of the plan.
func (p *Plan) order(queue []*Target, usual []float64) []*Target {
	long := func(t *Target) float64 {
		d := usual[t.place.n]
		if second := p.byName[t.Partner]; second != nil && second.Second && second.Batch == t.Batch {
			d += usual[second.place.n]
		}
		return math.Round(d)
	}
	out := slices.Clone(queue)
	slices.SortStableFunc(out, func(a, b *Target) int { return cmp.Compare(long(b), long(a)) })
	waits := make([]float64, len(usual))
	left := map[int]float64{} // of what shares a cap
	for _, t := range slices.Backward(out) {
		waits[t.place.n] = long(t)
		for _, shared := range [...]struct{ limit, of int }{{p.Rules.PerSite, t.place.site},
			{p.Rules.PerRole, t.place.role}, {p.Rules.PerUplink, t.place.uplink}} {
			if shared.limit > 0 {
				left[shared.of] += usual[t.place.n]
				waits[t.place.n] = max(waits[t.place.n], math.Round(left[shared.of]/float64(shared.limit)))
			}
		}
	}
	slices.SortStableFunc(out, func(a, b *Target) int {
		if p.Rules.FarFirst && len(a.Above) != len(b.Above) {
			return cmp.Compare(len(b.Above), len(a.Above))
		}
		return cmp.Compare(waits[b.place.n], waits[a.place.n])
	})
	return out
}

// draw is how long a device takes, in seconds.
func (s *life) draw(t *Target, pace float64, rng *rand.Rand) float64 {
	share := between(s.shares[t.Device.Platform], rng.Float64())
	return s.p.Soak.Seconds() + s.usual[t.place.n]*share*pace
}

// rest is how long a device that is in change already takes still.
func (s *life) rest(t *Target, pace float64, rng *rand.Rand) float64 {
	gone := s.gone[t]
	for range 4 {
		if d := s.draw(t, pace, rng); d > gone {
			return d - gone
		}
	}
	return 0.1 * gone // it is slower than any that was seen
}

// batch lives through a batch that begins at that second, and returns when it is over.
func (s *life) batch(i int, now, pace float64, rng *rand.Rand) float64 {
	ends := s.ends[:0]
	for _, t := range s.p.Batches[i] { // in the plan's order: a map would draw another life each time
		if _, in := s.gone[t]; in && i == s.at.Batch {
			s.busy.Begin(t)
			ends.add(end{now + s.rest(t, pace, rng), t})
		}
		s.waits[t.place.n] = t.Partner != "" && !t.Second && s.usual[t.place.n] > 0
	}
	q := queue{groups: append(s.groups[:0], s.queues[i]...)}
	for {
		q.begin(s.busy, s.waits, func(t *Target) { ends.add(end{now + s.draw(t, pace, rng), t}) })
		if len(ends) == 0 {
			s.ends, s.groups = ends, q.groups
			return now
		}
		e := ends.next()
		now = e.at
		s.busy.End(e.t)
		s.waits[e.t.place.n] = false
	}
}

// queue is devices that wait, those together that a cap keeps together: where one may not
// begin, none of them may. The groups are in the order of the first of each.
type queue struct {
	groups []group
}

type group []waiting

// waiting is a device with its place in the order in which they are begun.
type waiting struct {
	rank int
	t    *Target
}

// alike puts devices together that the same caps are for, in the order of the list.
func alike(list []*Target) (groups []group) {
	type key struct{ site, role, uplink int }
	at := map[key]int{}
	for rank, t := range list {
		k := key{t.place.site, t.place.role, t.place.uplink}
		i, ok := at[k]
		if !ok {
			i = len(groups)
			at[k], groups = i, append(groups, nil)
		}
		groups[i] = append(groups[i], waiting{rank, t})
	}
	return groups
}

// begin begins all that may, in their order. Waits are the devices whose partners wait for
// them, by their numbers; nil is none.
func (q *queue) begin(busy *Busy, waits []bool, start func(*Target)) {
	for i := 0; i < len(q.groups) && !busy.Full(); {
		j := q.groups[i].ready(busy, waits)
		if j < 0 {
			i++
			continue
		}
		t := q.groups[i][j].t
		busy.Begin(t)
		start(t)
		q.take(i, j)
	}
}

// ready finds the first of a group that may begin; -1 when none may.
func (g group) ready(busy *Busy, waits []bool) int {
	if busy.capped(g[0].t) != nothing {
		return -1
	}
	for j, w := range g {
		t := w.t
		if (waits == nil || !t.Second || t.place.partner < 0 || !waits[t.place.partner]) && busy.keeps(t) == nothing {
			return j
		}
	}
	return -1
}

// take takes a device out of its group, and puts the group where its next one belongs.
func (q *queue) take(i, j int) {
	g := q.groups[i]
	switch {
	case len(g) == 1:
		q.groups = slices.Delete(q.groups, i, i+1)
		return
	case j > 0: // the group is another life's, too
		q.groups[i] = slices.Delete(slices.Clone(g), j, j+1)
		return
	}
	g = g[1:]
	later := q.groups[i+1:] // in the order of their first
	n := sort.Search(len(later), func(k int) bool { return later[k][0].rank > g[0].rank })
	copy(q.groups[i:], later[:n])
	q.groups[i+n] = g
}

// end is when a device's night is over; ending is those to come, the next first.
type end struct {
	at float64
	t  *Target
}

type ending []end

// add and next keep it a heap: container/heap would put each into an interface, which
// costs more than all else here.
func (e *ending) add(x end) {
	*e = append(*e, x)
	h := *e
	for i := len(h) - 1; i > 0 && h[i].at < h[(i-1)/2].at; i = (i - 1) / 2 {
		h[i], h[(i-1)/2] = h[(i-1)/2], h[i]
	}
}

func (e *ending) next() end {
	h := *e
	first, last := h[0], len(h)-1
	h[0] = h[last]
	h = h[:last]
	for i := 0; 2*i+1 < last; {
		k := 2*i + 1
		if k+1 < last && h[k+1].at < h[k].at {
			k++
		}
		if h[i].at <= h[k].at {
			break
		}
		h[i], h[k] = h[k], h[i]
		i = k
	}
	*e = h
	return first
}
