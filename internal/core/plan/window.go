package plan

import (
	"fmt"
	"math"
	"slices"
	"time"

	"metabasis/internal/core/runbook"
)

// Window is the time we may work in.
type Window struct {
	Open, Close time.Time
	Reserve     time.Duration // at its end, kept free for taking things back
	Now         bool          `json:",omitempty"` // it opens when the run begins; until then Open is only where it would be
	None        bool          `json:",omitempty"` // there is none: it is open, and does not close
}

// endless is how long a window is that there is none of: longer than any night.
const endless = 10 * 365 * 24 * time.Hour

// Begun is the plan of a run that begins at that time: a window that opens with the run
// opens then.
func (p *Plan) Begun(at time.Time) *Plan {
	if !p.Window.Now && !p.Window.None {
		return p
	}
	begun := *p
	begun.Window.Open, begun.Window.Close = at, at.Add(p.Window.Close.Sub(p.Window.Open))
	return &begun
}

// Contains tells whether the window is open at that time.
func (w Window) Contains(t time.Time) bool { return !t.Before(w.Open) && t.Before(w.Close) }

// Ends is when the reserve begins: nothing more is changed then, but taken back. Without
// a window, and without a reserve before its end, that is when it closes.
func (w Window) Ends() time.Time { return w.Close.Add(-w.Reserve) }

// newWindow places the runbook's window around or after now: the one that is open, else
// the next to open. Notes say what of it may not be as it was meant. It is an error when
// the window was on a day that has passed.
func newWindow(rb *runbook.Runbook, now time.Time) (w Window, notes []string, err error) {
	rw := rb.Window
	if !rw.To.IsZero() {
		return Window{rw.From, rw.To, rb.Reserve, false, false}, nil, nil
	}
	if rw.None {
		return Window{Open: now, Close: now.Add(endless), None: true}, []string{"no window: nothing must be over by any time, and there is no turn-back time"}, nil
	}
	if rw.Now {
		return Window{now, now.Add(rw.Length), rb.Reserve, true, false}, nil, nil
	}
	at := now
	if rw.Zone != "" {
		zone, err := time.LoadLocation(rw.Zone)
		if err != nil {
			return w, nil, fmt.Errorf("the time zone of the window: %w", err)
		}
		at = now.In(zone)
	}
	if rw.Date != "" {
		day, err := time.ParseInLocation("2006-01-02", rw.Date, at.Location())
		if err != nil {
			return w, nil, fmt.Errorf("the day of the window: %w", err)
		}
		open, notes := onTheClock(day, 0, rw.Start)
		w = Window{open, open.Add(rw.Length), rb.Reserve, false, false}
		if !w.Close.After(now) {
			return w, nil, fmt.Errorf("the window of %s closed at %s: give it another day", rw.Date, w.Close.Format("15:04 MST"))
		}
		return w, notes, nil
	}
	for day := -1; ; day++ {
		open, notes := onTheClock(at, day, rw.Start)
		if end := open.Add(rw.Length); end.After(now) && (rw.Day == "" || at.AddDate(0, 0, day).Weekday().String() == rw.Day) {
			return Window{open, end, rb.Reserve, false, false}, notes, nil
		}
	}
}

// onTheClock is a time of day so many days after at. Counting from midnight in wall-clock
// fields keeps 01:30 at 01:30 on the nights the clocks change; a time that is not there on
// such a night, or there twice, is told.
func onTheClock(at time.Time, days int, of time.Duration) (t time.Time, notes []string) {
	y, mo, d := at.Date()
	h, mi := int(of/time.Hour), int(of/time.Minute%60)
	t = time.Date(y, mo, d+days, h, mi, 0, 0, at.Location())
	said := fmt.Sprintf("%02d:%02d", h, mi)
	if t.Hour() != h || t.Minute() != mi {
		return t, []string{fmt.Sprintf("the clocks change that night, and %s is not there: the window opens at %s", said, t.Format("15:04 MST"))}
	}
	for _, shift := range []time.Duration{-time.Hour, time.Hour} {
		if o := t.Add(shift); o.Hour() == h && o.Minute() == mi {
			if shift < 0 {
				t = o
			}
			return t, []string{fmt.Sprintf("the clocks change that night, and %s is there twice: the window opens the first time, at %s", said, t.Format("15:04 MST"))}
		}
	}
	return t, nil
}

// Margin is how much longer than the worst case of its work a rollback timer
// must run.
const Margin = 15 * time.Second

// expected is the share of an expectation's time that it usually takes.
const expected = 3

// Work estimates the change on one device, from the first line to the proof
// that it is kept: the usual time and the worst case. Restarts are not counted: they come before it.
func (t *Target) Work(soak time.Duration) (usual, worst time.Duration) {
	for i := range t.Steps {
		if t.Steps[i].Away() { // no timer runs over one
			continue
		}
		u, w := t.stepWork(i)
		usual, worst = usual+u, worst+w
	}
	closing := time.Duration(6+2*len(t.Record.Reads())) * t.Traits.Command // read, disarm, look, save, compare twice; and records
	usual, worst = usual+soak+closing, worst+soak+closing
	if len(t.Record.Compare) > 0 {
		usual, worst = usual+t.Record.Within/expected, worst+t.Record.Within
	}
	return usual, worst
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
	u, w := s.Work(t.Traits.Command)
	if s.Kind == SoftwareStep {
		u, w = t.UpgradeWork(s)
	}
	usual, worst = usual+u, worst+w
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
	case s.Whole != "", s.Was != nil && len(s.Send) == 0:
		return putLines
	case s.Want != nil && len(s.Send) == 0:
		return 2*s.Want.Size() + 2
	}
	if len(s.Put) > 0 {
		return putLines
	}
	return len(s.Send)
}

// putLines is how many lines a whole file counts for: it is handed over at once.
const putLines = 6

// Left is the worst case of what remains from step i on (len(t.Steps) when
// only the soak and the closing remain).
func (t *Target) Left(i int, soak time.Duration) time.Duration {
	_, all := t.Work(soak)
	for j := range min(i, len(t.Steps)) {
		if t.Steps[j].Away() {
			continue
		}
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
	if t.Traits.Timer == TrialTimer {
		return t.TrialFor(p, 0)
	}
	_, worst := t.Work(p.Soak)
	return max(p.Timer.Long(t.Device.Platform), inSeconds(worst+Margin))
}

// TrialFor is how long what is applied at a step is on trial, from 0: as the runbook says,
// but never shorter than the worst case of the work that remains, or of the way back. A
// trial that cannot be given more time lasts twice that.
func (t *Target) TrialFor(p *Plan, step int) time.Duration {
	need := max(t.Left(min(step, len(t.Steps)), p.Soak)+2*Margin, 2*t.Back()+Margin)
	if !t.Traits.Extends {
		need *= 2
	}
	return max(inSeconds(need), p.Timer.Long(t.Device.Platform))
}

// inSeconds is a time in whole seconds that is not shorter.
func inSeconds(d time.Duration) time.Duration {
	return (d + time.Second - 1).Truncate(time.Second)
}

// Estimate is how long a device's night takes, the soak not counted: what the nights that
// were say, and for what they do not, the profile. Worst is the worst case as far as it
// can be told.
func (t *Target) Estimate(p *Plan) (usual, worst time.Duration) {
	add := func(name string, u, w time.Duration) {
		if e, ok := p.estimates.Part(t.Device.Platform, name); ok {
			u, w = e.Median, max(e.P90*5/4, e.Median)
		}
		usual, worst = usual+u, worst+w
	}
	before, guard, closing := t.Traits.Connect+5*t.Traits.Command, 4*t.Traits.Command, 6*t.Traits.Command
	add(Before, before, before)
	add(Guard, guard, guard)
	for i, s := range t.Steps {
		u, w := t.stepWork(i)
		add(StepPart(s.Title), u, w)
	}
	add(Closing, closing, closing)
	return usual, worst
}

// Usual is how long a step of that title usually takes on devices of the platform, as the
// nights that were say; ok is false where they say nothing.
func (p *Plan) Usual(t *Target, title string) (time.Duration, bool) {
	e, ok := p.estimates.Part(t.Device.Platform, StepPart(title))
	return e.Median, ok
}

// Night estimates a device's whole night: reaching, checking, backing up, arming and the
// change.
func (t *Target) Night(p *Plan) (usual, worst time.Duration) {
	usual, worst = t.Estimate(p)
	return usual + p.Soak, worst + p.Soak
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
	return t.Traits.Connect + time.Duration(lines+10)*t.Traits.Command + t.oldSoftware()
}

// oldSoftware is how long it takes to start the device with the software that it ran before.
func (t *Target) oldSoftware() time.Duration {
	i, does := t.Upgrades()
	if !does || t.Steps[i].Done || t.Steps[i].Absence == nil {
		return 0
	}
	return t.Steps[i].Absence.Usual + 8*t.Traits.Command
}

// lasting works out how long a set of devices takes under the caps: each next device
// begins as soon as there is room for it.
func (p *Plan) lasting(targets []*Target, each func(*Target) time.Duration) time.Duration {
	var ends ending
	now, busy, q := 0.0, p.Busy(), queue{groups: alike(targets)}
	for {
		q.begin(busy, nil, func(t *Target) { ends.add(end{now + each(t).Seconds(), t}) })
		if len(ends) == 0 {
			return toDuration(now)
		}
		e := ends.next()
		now = e.at
		busy.End(e.t)
	}
}

// tellings is for how many batches the time to take back is worked out; of more, those
// between take that of the next, which is longer.
const tellings = 24

// backs is how long taking back everything up to each batch takes.
func (p *Plan) backs() []float64 {
	if p.taken != nil {
		return p.taken
	}
	taken := make([]float64, len(p.Batches))
	every := (len(p.Batches) + tellings - 1) / tellings
	for i := len(p.Batches) - 1; i >= 0; i-- {
		if i+1 < len(p.Batches) && (len(p.Batches)-1-i)%every != 0 {
			taken[i] = taken[i+1]
			continue
		}
		taken[i] = p.lasting(slices.Concat(p.Batches[:i+1]...), (*Target).Back).Seconds()
	}
	return taken
}

// turnBack is the last moment a batch may start that lasts so long: it must end before
// the reserve begins, and taking back every device of this and all earlier batches must
// end before the window closes. Without a window it is zero: there is none.
func (p *Plan) turnBack(lasts time.Duration, back float64, pace Pace) time.Time {
	if p.Window.None {
		return time.Time{}
	}
	byReserve := p.Window.Ends().Add(-lasts)
	byBack := p.Window.Close.Add(-p.slow(toDuration(back), pace) - lasts)
	if byBack.Before(byReserve) {
		return byBack
	}
	return byReserve
}

// slow is a time to take back on a night of that pace. A quick night does not shorten it.
func (p *Plan) slow(back time.Duration, pace Pace) time.Duration {
	return toDuration(back.Seconds() * max(pace.Usual(), 1) * backMargin).Round(time.Second)
}

// backMargin is how much longer than estimated taking back may take.
const backMargin = 1.25

// TurnBack is the last moment batch i (from 0) may start.
func (p *Plan) TurnBack(i int, now time.Time, pace Pace) time.Time {
	if i >= len(p.Batches) || p.Window.None {
		return time.Time{}
	}
	only := *p
	only.Batches = p.Batches[:i+1]
	only.taken = p.backs()[:i+1]
	return only.Forecast(Progress{Now: now, Batch: i, Pace: pace}).Slots[0].TurnBack
}

// LastStart is the last moment at which a device of batch i may be begun, so that it is
// over before the reserve begins, in nine cases of ten, and it and all before it can be
// taken back before the window closes. Without a window it is zero.
func (p *Plan) LastStart(t *Target, i int, pace Pace) time.Time {
	usual, worst := t.Estimate(p)
	_, within := spreadOf(p.estimates.sharing(t.Device.Platform, float64(worst)/float64(max(usual, 1))))
	lasts := toDuration(usual.Seconds()*pace.Usual()*math.Exp(ninety*within)) + p.Soak
	return p.turnBack(lasts, p.backs()[i], pace)
}

// ninety is how many deviations above the middle nine cases of ten lie below.
const ninety = 1.28

// lastBatchTooLate warns when the plan does not fit even if it starts on time.
func (p *Plan) lastBatchTooLate() string {
	if p.Window.None {
		return ""
	}
	o := p.Whole()
	for i, s := range o.Slots {
		if s.Start.After(s.TurnBack) {
			return fmt.Sprintf("batch %d would start at %s, after its turn-back time %s; all would be over at %s",
				i+1, s.Start.Format("15:04"), s.TurnBack.Format("15:04"), o.Likely.Format("15:04"))
		}
	}
	return ""
}

// BackTime estimates taking some devices back under the caps.
func (p *Plan) BackTime(targets []*Target) time.Duration {
	return p.BackTimeOf(targets, (*Target).Back)
}

// BackTimeOf is BackTime where it is known how long each of them takes.
func (p *Plan) BackTimeOf(targets []*Target, each func(*Target) time.Duration) time.Duration {
	return p.lasting(targets, each)
}
