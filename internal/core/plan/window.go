package plan

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/runbook"
)

// Window is the time we may work in.
type Window struct {
	Open, Close time.Time
	Reserve     time.Duration // at its end, kept free for taking things back
	Now         bool          `json:",omitempty"` // it opens when the run begins; until then Open is only where it would be
}

// Begun is the plan of a run that begins at that time: a window that opens with
// the run opens then.
func (p *Plan) Begun(at time.Time) *Plan {
	if !p.Window.Now {
		return p
	}
	begun := *p
	begun.Window.Open, begun.Window.Close = at, at.Add(p.Window.Close.Sub(p.Window.Open))
	return &begun
}

// Contains tells whether the window is open at that time.
func (w Window) Contains(t time.Time) bool { return !t.Before(w.Open) && t.Before(w.Close) }

// newWindow places the runbook's window around or after now: the one that is
// open, else the next to open.
func newWindow(rb *runbook.Runbook, now time.Time) Window {
	if rb.Window.Now {
		return Window{now, now.Add(rb.Window.Length), rb.Reserve, true}
	}
	// Counting from midnight in wall-clock fields keeps 01:30 at 01:30 on the
	// nights the clocks change.
	y, mo, d := now.Date()
	h, mi := int(rb.Window.Start/time.Hour), int(rb.Window.Start/time.Minute%60)
	for day := d - 1; ; day++ {
		open := time.Date(y, mo, day, h, mi, 0, 0, now.Location())
		if end := open.Add(rb.Window.Length); end.After(now) {
			return Window{open, end, rb.Reserve, false}
		}
	}
}

// Margin is how much longer than the worst case of its work a rollback timer
// must run.
const Margin = 15 * time.Second

// expected is the share of an expectation's time that it usually takes.
const expected = 3

// Work estimates the change on one device, from the first line to the proof
// that it is kept: the usual time and the worst case.
func (t *Target) Work(soak time.Duration) (usual, worst time.Duration) {
	for i := range t.Steps {
		u, w := t.stepWork(i)
		usual, worst = usual+u, worst+w
	}
	closing := 6 * t.Traits.Command // read, disarm, look, save, compare twice
	return usual + soak + closing, worst + soak + closing
}

func (t *Target) stepWork(i int) (usual, worst time.Duration) {
	s := t.Steps[i]
	sent := s.lines()
	lines := time.Duration(sent+3) * t.Traits.Command
	if sent > 0 {
		lines += 4 * t.Traits.Command // what runs before it, who else is there, the timer, what runs after it
	}
	for _, e := range s.Expect {
		usual += e.Within / expected
		worst += e.Within
	}
	return usual + lines, worst + lines
}

// rowsGuessed is for how many rows of a table the work is reckoned before it was read.
const rowsGuessed = 4

// lines is how many lines are sent in a step, as far as that is known: before the device
// was read, as many as are wanted or may have to go.
func (s Step) lines() int {
	switch {
	case s.Done:
		return 0
	case s.Through != nil:
		return 4 * rowsGuessed
	case s.Want != nil && len(s.Send) == 0:
		return 2*s.Want.Size() + 2
	}
	return len(s.Send)
}

// Left is the worst case of what remains from step i on (len(t.Steps) when
// only the soak and the closing remain).
func (t *Target) Left(i int, soak time.Duration) time.Duration {
	_, all := t.Work(soak)
	for j := range min(i, len(t.Steps)) {
		_, w := t.stepWork(j)
		all -= w
	}
	return all
}

// At is the device as it is when a command takes that long on it, where that is
// longer than its platform's profile says.
func (t *Target) At(command time.Duration) *Target {
	if command <= t.Traits.Command {
		return t
	}
	slow := *t
	slow.Traits.Connect += 6 * (command - t.Traits.Command) // login, modes, pager
	slow.Traits.Command = command
	return &slow
}

// TimerFor is how long the rollback timer is armed: as the runbook says, but
// never shorter than the worst case of the work it guards and the margin.
func (t *Target) TimerFor(p *Plan) time.Duration {
	_, worst := t.Work(p.Soak)
	return max(p.Timer.For, (worst + Margin).Round(time.Second))
}

// Night estimates a device's whole night: reaching, checking, backing up,
// arming and the change.
func (t *Target) Night(p *Plan) (usual, worst time.Duration) {
	before := t.Traits.Connect + 9*t.Traits.Command
	usual, worst = t.Work(p.Soak)
	return usual + before, worst + before
}

// Back estimates taking the change back on one device.
func (t *Target) Back() time.Duration {
	lines := 0
	for _, s := range t.Steps {
		undo := len(s.Undo)
		if undo == 0 { // it is computed, and about as long
			undo = s.lines()
		}
		lines += undo + 2
	}
	return t.Traits.Connect + time.Duration(lines+10)*t.Traits.Command
}

// lasting works out how long a set of devices takes under the caps: each next
// device starts in the lane that is free first.
func (p *Plan) lasting(targets []*Target, each func(*Target) time.Duration) time.Duration {
	if len(targets) == 0 {
		return 0
	}
	lanes := make([]time.Duration, p.lanes(targets))
	for _, t := range targets {
		i := slices.Index(lanes, slices.Min(lanes))
		lanes[i] += each(t)
	}
	return slices.Max(lanes)
}

// lanes is how many of the targets can be worked on at once.
func (p *Plan) lanes(targets []*Target) int {
	n := len(targets)
	if p.Rules.PerSite > 0 {
		site := map[string]int{}
		for _, t := range targets {
			site[t.Device.Site]++
		}
		n = 0
		for _, k := range site {
			n += min(k, p.Rules.PerSite)
		}
	}
	if p.Rules.Together > 0 {
		n = min(n, p.Rules.Together)
	}
	return max(n, 1)
}

// Pace corrects estimates by what this night has shown: 1 is as estimated, 2 is
// twice as slow.
type Pace float64

// Slot is the time a batch is planned for.
type Slot struct {
	Start, End time.Time
	// TurnBack is the last moment the batch may start and everything done by
	// its end can still be taken back inside the window.
	TurnBack time.Time
}

// Forecast says when the batches from number next on (from 0) will run if the
// first of them starts, or goes on, at that time, with the usual durations, and
// by when it will all be over in nine cases of ten. Rest is what is left of the
// first of them; nil means all of it.
func (p *Plan) Forecast(next int, rest []*Target, start time.Time, pace Pace) (slots []Slot, likely, late time.Time) {
	likely, late = start, start
	for i := next; i < len(p.Batches); i++ {
		batch := p.Batches[i]
		if i == next && rest != nil {
			batch = rest
		}
		usual := p.scaled(batch, pace, false)
		slots = append(slots, Slot{Start: likely, End: likely.Add(usual), TurnBack: p.TurnBack(i, pace)})
		likely = likely.Add(usual)
		late = late.Add((usual*2 + p.scaled(batch, pace, true)) / 3)
	}
	return slots, likely, late
}

func (p *Plan) scaled(batch []*Target, pace Pace, worst bool) time.Duration {
	d := p.lasting(batch, func(t *Target) time.Duration {
		u, w := t.Night(p)
		if worst {
			return w
		}
		return u
	})
	if pace <= 0 {
		pace = 1
	}
	return time.Duration(float64(d) * float64(pace))
}

// TurnBack is the last moment batch i (from 0) may start: it must end before
// the reserve begins, and taking back every device of this and all earlier
// batches must end before the window closes.
func (p *Plan) TurnBack(i int, pace Pace) time.Time {
	lasts := p.scaled(p.Batches[i], pace, false)
	back := p.lasting(slices.Concat(p.Batches[:i+1]...), (*Target).Back)
	byReserve := p.Window.Close.Add(-p.Window.Reserve - lasts)
	byBack := p.Window.Close.Add(-back - lasts)
	if byBack.Before(byReserve) {
		return byBack
	}
	return byReserve
}

// lastBatchTooLate warns when the plan does not fit even if it starts on time.
func (p *Plan) lastBatchTooLate() string {
	slots, likely, _ := p.Forecast(0, nil, p.Window.Open, 1)
	for i, s := range slots {
		if s.Start.After(s.TurnBack) {
			return fmt.Sprintf("batch %d would start at %s, after its turn-back time %s; all would be over at %s",
				i+1, s.Start.Format("15:04"), s.TurnBack.Format("15:04"), likely.Format("15:04"))
		}
	}
	return ""
}

// BackTime estimates taking some devices back under the caps.
func (p *Plan) BackTime(targets []*Target) time.Duration {
	return p.lasting(targets, (*Target).Back)
}
