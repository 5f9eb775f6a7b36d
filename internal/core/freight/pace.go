package freight

import (
	"context"
	"io"
	"slices"
	"time"

	"golang.org/x/time/rate"
)

// Pace is how fast a file has been carried lately. The zero value has seen nothing.
type Pace struct {
	last  time.Time
	done  int64
	rates []float64 // in bytes a second, of the slices of time that were seen last
}

const (
	slice   = time.Second
	counted = 60 // how many of them count
)

// Saw takes down that so many bytes are there at a moment.
func (p *Pace) Saw(now time.Time, done int64) {
	if p.last.IsZero() || done < p.done {
		p.last, p.done = now, done
		return
	}
	if took := now.Sub(p.last); took >= slice {
		p.rates = append(p.rates, float64(done-p.done)/took.Seconds())
		if len(p.rates) > counted {
			p.rates = p.rates[1:]
		}
		p.last, p.done = now, done
	}
}

// Now is the pace, in bytes a second; 0 where nothing was seen.
func (p *Pace) Now() float64 { return p.quantile(0.5) }

// Left is how long so many bytes more take, likely and in nine cases of ten; known is false where nothing
// was seen yet, or nothing moves.
func (p *Pace) Left(bytes int64) (likely, late time.Duration, known bool) {
	middle, slow := p.quantile(0.5), p.quantile(0.1)
	if middle <= 0 {
		return 0, 0, false
	}
	likely = time.Duration(float64(bytes) / middle * float64(time.Second))
	if slow <= 0 {
		slow = middle / 4
	}
	return likely, time.Duration(float64(bytes) / slow * float64(time.Second)), true
}

func (p *Pace) quantile(q float64) float64 {
	if len(p.rates) == 0 {
		return 0
	}
	sorted := slices.Sorted(slices.Values(p.rates))
	return sorted[int(q*float64(len(sorted)-1)+0.5)]
}

// Limit is how many bytes a second pass, of all that share it; nil lets all pass.
type Limit struct{ of *rate.Limiter }

// NewLimit is a limit of so many bytes a second; nil for 0.
func NewLimit(bytes int64) *Limit {
	if bytes <= 0 {
		return nil
	}
	return &Limit{rate.NewLimiter(rate.Limit(bytes), int(max(bytes/8, 4<<10)))}
}

// Through reads r no faster than the limits allow.
func Through(ctx context.Context, r io.Reader, limits ...*Limit) io.Reader {
	limits = slices.DeleteFunc(limits, func(l *Limit) bool { return l == nil })
	if len(limits) == 0 {
		return r
	}
	return &limited{ctx, r, limits}
}

type limited struct {
	ctx    context.Context //nolint:containedctx // a reader has none with each call
	r      io.Reader
	limits []*Limit
}

func (l *limited) Read(p []byte) (int, error) {
	for _, of := range l.limits {
		p = p[:min(len(p), of.of.Burst())]
	}
	n, err := l.r.Read(p)
	for _, of := range l.limits {
		if wait := of.of.WaitN(l.ctx, n); wait != nil && n > 0 {
			return 0, wait
		}
	}
	return n, err
}
