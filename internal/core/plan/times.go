package plan

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"time"

	"gonum.org/v1/gonum/stat"
)

// How long things take is learned from the nights that were: of each platform, how long
// each part of a device's night took, and how much devices differ from one another. What
// was never seen is estimated from the profile. A night that runs adds what it shows.

// The parts of a device's night, beside its steps.
const (
	Before  = "reach and check"
	Guard   = "back up and arm"
	Closing = "disarm and save" // the soak not counted
	// Away is how long a device was away that was restarted; it is a part of a step.
	Away = "away in a restart"
	// AwayNew is the same of one that was started with other software.
	AwayNew = "away for other software"
)

// StepPart is the part of a step of that title.
func StepPart(title string) string { return "step " + title }

// Spread is how long something took: so many times, and the quantiles of it, in seconds,
// from the shortest to the longest in even shares.
type Spread struct {
	N  int       `json:"n"`
	At []float64 `json:"at"`
}

// kept is how many quantiles are kept of a spread.
const kept = 21

// SpreadOf sums up how long something took.
func SpreadOf(seconds []float64) Spread {
	slices.Sort(seconds)
	s := Spread{N: len(seconds), At: seconds}
	if len(seconds) > kept {
		s.At = nil
		for i := range kept {
			s.At = append(s.At, between(seconds, float64(i)/(kept-1)))
		}
	}
	return s
}

// Times is what one night showed: how long each part took, by platform, and what the
// whole of a device took, as a share of what the parts make together.
type Times struct {
	Parts  map[string]map[string]Spread `json:"parts,omitempty"`
	Shares map[string]Spread            `json:"shares,omitempty"`
	// Rehearsed tells that it was a rehearsal: it shows some parts only.
	Rehearsed bool `json:"rehearsed,omitempty"`
}

// Part is a part of one device's night, as it was.
type Part struct {
	Device, Platform, Name string
	Took                   time.Duration
}

// Sum sums up the parts of a night.
func Sum(parts []Part) Times {
	t := Times{Parts: map[string]map[string]Spread{}, Shares: map[string]Spread{}}
	seconds := map[string]map[string][]float64{}
	for _, p := range parts {
		if seconds[p.Platform] == nil {
			seconds[p.Platform] = map[string][]float64{}
		}
		seconds[p.Platform][p.Name] = append(seconds[p.Platform][p.Name], p.Took.Seconds())
	}
	for platform, of := range seconds {
		t.Parts[platform] = map[string]Spread{}
		for name, s := range of {
			t.Parts[platform][name] = SpreadOf(s)
		}
	}
	took, usual, platform := map[string]float64{}, map[string]float64{}, map[string]string{}
	for _, p := range parts {
		if p.Name == Away || p.Name == AwayNew { // its step has it
			continue
		}
		took[p.Device] += p.Took.Seconds()
		usual[p.Device] += t.Parts[p.Platform][p.Name].quantile(0.5)
		platform[p.Device] = p.Platform
	}
	shares := map[string][]float64{}
	for _, d := range slices.Sorted(maps.Keys(took)) {
		if usual[d] > 0 {
			shares[platform[d]] = append(shares[platform[d]], took[d]/usual[d])
		}
	}
	for name, s := range shares {
		t.Shares[name] = SpreadOf(s)
	}
	return t
}

func (s Spread) quantile(p float64) float64 {
	if len(s.At) == 0 {
		return 0
	}
	return between(s.At, p)
}

// between is the value so far from the first to the last of a sorted list.
func between(sorted []float64, p float64) float64 {
	at := p * float64(len(sorted)-1)
	i := min(int(at), len(sorted)-1)
	v := sorted[i]
	if i+1 < len(sorted) {
		v += (at - float64(i)) * (sorted[i+1] - v)
	}
	return v
}

// Estimates are what the nights that were say of those to come. Without any, nil, all
// comes from the profiles.
type Estimates struct {
	Nights int // how many they come from
	parts  map[string]map[string]Estimate
	shares map[string][]float64 // by platform, sorted
	// between is how much whole nights differ, as the deviation of a logarithm.
	between float64
}

// Estimate is how long a part takes.
type Estimate struct {
	N           int // times it was seen
	Median, P90 time.Duration
}

// Learn makes estimates of what nights showed.
func Learn(nights []Times) *Estimates {
	e := &Estimates{parts: map[string]map[string]Estimate{}, shares: map[string][]float64{}, between: usualBetween}
	type weighted struct{ x, w []float64 }
	all := map[string]map[string]*weighted{}
	for _, n := range nights {
		if len(n.Parts) > 0 && !n.Rehearsed {
			e.Nights++
		}
		for platform, of := range n.Parts {
			if all[platform] == nil {
				all[platform] = map[string]*weighted{}
			}
			for name, s := range of {
				w := cmp.Or(all[platform][name], &weighted{})
				for _, at := range s.At {
					w.x, w.w = append(w.x, at), append(w.w, float64(s.N)/float64(len(s.At)))
				}
				all[platform][name] = w
			}
		}
		for platform, s := range n.Shares {
			e.shares[platform] = append(e.shares[platform], s.At...)
		}
	}
	for platform, of := range all {
		e.parts[platform] = map[string]Estimate{}
		for name, w := range of {
			stat.SortWeighted(w.x, w.w)
			total := 0.0
			for _, n := range w.w {
				total += n
			}
			at := func(p float64) time.Duration { return toDuration(stat.Quantile(p, stat.LinInterp, w.x, w.w)) }
			e.parts[platform][name] = Estimate{N: int(math.Round(total)), Median: at(0.5), P90: at(0.9)}
		}
	}
	for _, s := range e.shares {
		slices.Sort(s)
	}
	e.between = e.differ(nights)
	return e
}

// usualBetween is how much nights differ as long as too few were seen to tell.
const usualBetween = 0.2

// differ finds how much a night to come may differ from what all of them make: as much as
// they differ from one another, and by how badly a few tell what is usual.
func (e *Estimates) differ(nights []Times) float64 {
	var logs []float64
	for _, n := range nights {
		took, usual := 0.0, 0.0
		for platform, of := range n.Parts {
			if n.Rehearsed {
				continue
			}
			for name, s := range of {
				took += s.quantile(0.5)
				usual += e.parts[platform][name].Median.Seconds()
			}
		}
		if took > 0 && usual > 0 {
			logs = append(logs, math.Log(took/usual))
		}
	}
	n := float64(len(logs))
	v := 3 * usualBetween * usualBetween // what is usual counts as three nights
	if n > 1 {
		v += stat.Variance(logs, nil) * (n - 1)
	}
	return math.Sqrt(v / max(n+2, 3) * (1 + 1/max(n, 1)))
}

// Part is what the nights say of a part; ok is false where they say nothing.
func (e *Estimates) Part(platform, name string) (est Estimate, ok bool) {
	if e == nil {
		return Estimate{}, false
	}
	est, ok = e.parts[platform][name]
	return est, ok
}

// Sharing is how a device's time is spread around what its parts make: quantiles in even
// shares, from the shortest. Where few were seen, what the profile leaves open counts
// beside them.
func (e *Estimates) sharing(platform string, worst float64) []float64 {
	open := []float64{0.8, 0.9, 0.95, 1, 1.05, 1 + (worst-1)*0.15, 1 + (worst-1)*0.3, worst}
	if e == nil {
		return sorted(open)
	}
	seen := e.shares[platform]
	if len(seen) >= 2*len(open) {
		return seen
	}
	return sorted(slices.Concat(open, seen, seen))
}

func sorted(x []float64) []float64 {
	slices.Sort(x)
	return x
}

func toDuration(seconds float64) time.Duration {
	return time.Duration(seconds * float64(time.Second))
}
