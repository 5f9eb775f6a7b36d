package work

import (
	"slices"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// progress is how far the change has come on a device: a record of each step, and the order in
// which their lines were begun. It asks nobody.
type progress struct {
	steps []stepped
	ran   []int // steps whose lines may be in effect, in the order in which they were begun
}

// stepped is what is known of one step on a device.
type stepped struct {
	already bool           // it was so before, and nothing is sent
	left    bool           // it was left out
	before  *config.Config // what ran before it; nil where that was not read
	onto    config.Config  // what its lines were sent to
	sent    int            // how many of its lines were taken
	in      *link          // the session that they were sent in
	undone  bool           // its undo lines were all sent since

	did       int       // how many of its commands were done
	doubt     string    // why it is not known whether the next one was; "" where it was not given
	confirmed bool      // a person said that it is done
	worked    bool      // somebody has worked the device by hand in it
	away      sentAway  // when it was told to restart
	move      plan.Move // of its software, that was made last
}

// size makes room for so many steps.
func (p *progress) size(steps int) { p.steps = make([]stepped, steps) }

// begun tells whether lines of a step may be in effect.
func (p *progress) begun(i int) bool { return slices.Contains(p.ran, i) }

// begin takes note that lines of a step, sent in that session, may take effect from now on.
func (p *progress) begin(i int, in *link) {
	if !p.begun(i) {
		p.ran = append(p.ran, i)
	}
	s := &p.steps[i]
	s.undone, s.in, s.sent = false, in, 0
}

// forget takes note that none of the lines of those steps is in effect.
func (p *progress) forget(which func(i int) bool) {
	p.ran = slices.DeleteFunc(slices.Clone(p.ran), which)
}

// asBefore tells whether what runs is what ran before a step.
func (p *progress) asBefore(i int, now config.Config) bool {
	return p.steps[i].before != nil && config.Equal(*p.steps[i].before, now)
}

// unlikeBefore tells how what runs differs from what ran before a step: from nothing at all,
// where that was not read.
func (p *progress) unlikeBefore(i int, now config.Config) config.Diff {
	if p.steps[i].before == nil {
		return config.Compare(config.Config{}, now)
	}
	return config.Compare(*p.steps[i].before, now)
}

// skipped tells whether a step was not done: its lines were there already, or it was left out.
func (p *progress) skipped(i int) bool { return p.steps[i].already || p.steps[i].left }
