package person

import (
	"context"
	"errors"
	"sync"
)

// Front is whoever is there, who may be another one later. What was asked of one that has gone is
// asked of the one that has come.
type Front struct {
	mu   sync.Mutex
	p    Person
	came int // how many have, after the first
}

// NewFront is a front at which somebody sits; nil is nobody.
func NewFront(p Person) *Front { return &Front{p: p} }

// Sit has another one be asked from now on; nil is nobody.
func (f *Front) Sit(p Person) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.p = p
	f.came++
}

func (f *Front) who() (Person, int) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.p, f.came
}

// Ask implements [Person].
func (f *Front) Ask(ctx context.Context, form Form) ([]string, error) {
	for {
		p, came := f.who()
		if p == nil {
			return nil, ErrNobody
		}
		answers, err := p.Ask(ctx, form)
		if _, now := f.who(); now == came || !errors.Is(err, ErrLeft) {
			return answers, err
		}
	}
}
