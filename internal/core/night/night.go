package night

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/plan"
)

// Night is the state of a run. It is never changed: [Fold] makes the next one.
type Night struct {
	Seq      int64
	Outline  *Outline
	Began    time.Time
	Ended    time.Time // zero while it runs
	Last     time.Time // time of the newest event
	Batch    int       // the batch that runs or ran last, from 1
	Devices  []*Device // in the order of their batches
	Holds    []Hold    // open ones, oldest first
	Notes    []Note    // what was written into the journal, in order
	Alone    Absence   // nobody is there to decide; its Since is zero where somebody is
	Decided  []Decision
	Failures int
	Aborted  Choice // "" unless the run was aborted
	Released bool   // everything was let go of
	Slots    []plan.Slot
	Likely   time.Time // when it will be over, likely
	Late     time.Time // and in nine cases of ten
	Stays    float64   // the chance that it is over before the reserve begins
	Reckoned time.Time // when these four were
	index    map[string]int
}

// Hold is a question that waits for a person.
type Hold struct {
	Number   int
	Device   string // "" when it is about the run
	Why      string
	Evidence []string
	Offers   []Offer
	Since    time.Time
	Told     time.Time // when its offers were reckoned
	Devices  []string  // that it is about, where they are several: those without contact
}

// Foremost is the oldest hold that waits for a person, else the oldest of those beside which devices
// wait by themselves; false where there is none.
func (n *Night) Foremost() (Hold, bool) {
	if len(n.Holds) == 0 {
		return Hold{}, false
	}
	return n.Holds[max(slices.IndexFunc(n.Holds, func(h Hold) bool { return !h.Aside() }), 0)], true
}

// Aside tells whether what it is about waits by itself: whether to go on waiting is what is asked.
func (h Hold) Aside() bool { return aside(h.Offers) }

// Alike are the holds that wait for the same reason as h does on other devices, in order: one
// decision can be taken of all of them. What differs from device to device, such as names, numbers
// and times, is passed over; what a device said to a line is not.
func (n *Night) Alike(h Hold) (out []Hold) {
	if h.Device == "" {
		return nil
	}
	like := h.likeness()
	for _, o := range n.Holds {
		if o.Number != h.Number && o.Device != "" && o.likeness() == like {
			out = append(out, o)
		}
	}
	return out
}

var figures = regexp.MustCompile(`[0-9]+`)

// likeness is what a hold has in common with others of the same kind.
func (h Hold) likeness() string {
	parts := []string{h.Why}
	for _, e := range h.Evidence {
		if strings.HasPrefix(e, "said: ") {
			parts = append(parts, e)
		}
	}
	if len(h.Offers) > 0 {
		parts = append(parts, string(h.Offers[0].Choice))
	}
	return figures.ReplaceAllString(strings.ReplaceAll(strings.Join(parts, "\n"), h.Device, "·"), "0")
}

// Decision is a hold that was answered.
type Decision struct {
	At     time.Time
	Device string
	Choice Choice
	By     string
	Reason string // where one was given
}

// Device is one device's night so far.
type Device struct {
	OutlineDevice
	Batch    int // from 1
	State    State
	Before   State  // the state it was in before it was held, taken back or dark
	Note     string // what it is doing, or why it ended so
	Over     bool   // its night is over
	Began    time.Time
	Since    time.Time // in this state since
	Ended    time.Time
	Step     int      // the step it is at, from 1; 0 before the first
	Marks    []string // one a step
	Line     int      // lines of the step that were sent
	Lines    int      // lines of the step
	TimerDue time.Time
	TimerFor time.Duration
	Timed    bool        // a timer was seen on it in this night
	Dues     []time.Time // when timers are due that may be on it, seen or intended
	ExpectBy time.Time
	// Usual and Most are when a device that restarts is usually back, and until when it is expected; zero
	// in every other state.
	Usual, Most time.Time
	Backup      string
	SHA256      string
	Left        string // the backup of what the night left on it; "" where none was kept
	LeftSum     string // its SHA-256
	Checks      []Check
	Diff        []string
	Hold        int
	Touched     bool      // a line of the change reached it
	Intent      Intention // what was last to be done to it; see [Device.WasAt]
	lined       bool      // lines of the change were to be sent
	Failed      bool      // it counts against the failure budget
	Connected   bool
	// QuietSince is since when it has not answered what it was asked; zero where it has.
	QuietSince time.Time

	Computed   bool     // it was read, and what the night does to it was computed
	WillDiffer []string // what will then differ from what it was
	Unknown    string   // what of it is not known, or why nothing is
	Notices    []string // what of the runbook does not fit it: undo lines that do not lead back, a loop without a row
	Predicted  bool     // what runs at the end is as predicted
	Unlike     []string // what runs at the end and was not predicted, and the other way round

	// Runs is the version of its software that it runs, and Ran the one that it ran before; "" where it is
	// given no other. OnTrial tells that what it runs is kept by nobody yet.
	Runs, Ran string
	OnTrial   bool

	// Deeds are the commands of its steps, with what came back, in order.
	Deeds []Deed
	// Reached are the addresses that were to answer, with what came of them, in order.
	Reached []Reach

	// Edits are the steps that had other lines on it than the runbook says, and Works when it was
	// worked by hand, in order.
	Edits []Edit
	Works []Work

	SavedUnread bool // it cannot be read what is saved on it

	Took     []Took // how long the parts of its night took
	Hindered bool   // it was held, dark or taken back: it says nothing of how long things take
	mark     time.Time
}

// Edit is that a step had other lines on a device than the runbook says, by decision.
type Edit struct {
	Step   int       `json:"step"`  // from 1
	Lines  []string  `json:"lines"` // masked
	By     string    `json:"by"`
	Reason string    `json:"reason"`
	At     time.Time `json:"at"`
}

// Work is that somebody worked a device by hand in the midst of a night.
type Work struct {
	Step    int       `json:"step,omitempty"` // from 1; one more than there are is behind all
	By      string    `json:"by"`
	Began   time.Time `json:"began"`
	Over    time.Time `json:"over,omitzero"`     // zero where nobody has read what came of it
	Differs []string  `json:"differs,omitempty"` // what was different after it, masked
}

// Deed is a command that was given to a device by a step: to look, or to do something.
type Deed struct {
	Step    int       `json:"step"` // from 1
	Command string    `json:"command"`
	Got     []string  `json:"got,omitempty"`
	Looks   bool      `json:"looks,omitempty"` // it changes nothing
	OK      bool      `json:"ok,omitempty"`    // else nobody knows whether it was done
	Note    string    `json:"note,omitempty"`
	At      time.Time `json:"at"`
	// Compared is what is different from the first look by the same command, where it prints a
	// table; nil where it was not compared so.
	Compared *Compared `json:"compared,omitempty"`
}

// Check is the result of a precheck.
type Check struct {
	Name   string
	OK     bool
	Note   string
	Waived string // why it was passed although it does not hold
}

// predict takes in what was computed before the device was changed.
func (d *Device) predict(e Event) {
	if !e.IsNotice() {
		d.Computed, d.WillDiffer, d.Unknown, d.Notices = !e.Unpredicted(), e.Lines, e.Note, nil
		if d.State == Waiting {
			d.Note = d.willChange()
		}
		return
	}
	d.Notices = append(slices.Clone(d.Notices), append([]string{e.Note}, e.Lines...)...)
	if d.State == Waiting {
		d.Note = d.willChange() + "; " + d.Notices[0]
	}
}

// willChange says in a few words what will change on a device that waits.
func (d *Device) willChange() string {
	n := len(d.WillDiffer)
	switch {
	case !d.Computed:
		return "cannot be said: " + d.Unknown
	case d.Unknown != "":
		return CountLines(n) + " will differ, and more that is not known"
	case n == 0:
		return "nothing will change"
	}
	return CountLines(n) + " will differ"
}

// Kind is what a step does, counted from 0.
func (d *Device) Kind(step int) plan.StepKind {
	if step >= 0 && step < len(d.Kinds) {
		return d.Kinds[step]
	}
	return plan.ChangeStep
}

// LeftSteps counts the steps that were left out on the device.
func (d *Device) LeftSteps() int {
	n := 0
	for _, m := range d.Marks {
		if m == StepLeft {
			n++
		}
	}
	return n
}

// LeftTitles are the titles of the steps that were left out on it.
func (d *Device) LeftTitles() (out []string) {
	for i, m := range d.Marks {
		if m == StepLeft {
			out = append(out, d.Steps[i])
		}
	}
	return out
}

// failedNow tells whether the state the device is in counts as a failure: it was
// taken back, needs a person, or was lost without a timer that takes it back.
func (d *Device) failedNow() bool {
	switch d.State {
	case Reverted, Stranded:
		return d.Over
	case Dark:
		return d.Over || d.Touched && d.TimerDue.IsZero()
	}
	return false
}

// Get returns a device by name, or nil.
func (n *Night) Get(name string) *Device {
	if i, ok := n.index[name]; ok {
		return n.Devices[i]
	}
	return nil
}

// Schedule is the forecast as it stands at a moment: while something waits for
// a person, what has not begun moves on, so that nothing is ever shown as
// planned for the past, and the running batch does not end before the devices
// that wait for their timers are back; nor does it come nearer while all that is left of it is
// held. Turn-back times do not move.
func (n *Night) Schedule(now time.Time) (slots []plan.Slot, likely, late time.Time) {
	if len(n.Slots) == 0 {
		return nil, n.Likely, n.Late
	}
	first := len(n.Outline.Batches) - len(n.Slots) + 1
	var delay time.Duration
	for i, s := range n.Slots {
		s.Start = s.Start.Add(delay)
		if behind := now.Sub(s.Start); behind > 0 && first+i > n.Batch {
			delay += behind
			s.Start = now
		}
		if first+i == n.Batch {
			delay += n.standing(now)
		}
		s.End = s.End.Add(delay)
		atLeast := now
		if first+i == n.Batch {
			atLeast = n.backFromTimers(now)
		}
		if behind := atLeast.Sub(s.End); behind > 0 {
			delay += behind
			s.End = atLeast
		}
		slots = append(slots, s)
	}
	return slots, n.Likely.Add(delay), n.Late.Add(delay)
}

// standing is for how long nothing has been done about any device of the running batch, since all that
// have begun and are not over wait for a person.
func (n *Night) standing(now time.Time) time.Duration {
	since := n.Reckoned
	held := false
	for _, d := range n.Devices {
		switch {
		case d.State == Waiting:
			continue
		case d.State == Held && !d.Over:
			held = true
		case !d.Over:
			return 0
		}
		if d.Since.After(since) {
			since = d.Since
		}
	}
	if !held {
		return 0
	}
	return max(now.Sub(since), 0)
}

// WaitsForPerson tells whether nothing new begins before somebody has decided.
func (n *Night) WaitsForPerson() bool {
	for _, h := range n.Holds {
		if h.Aside() {
			continue
		}
		if h.Device == "" {
			return true
		}
		if d := n.Get(h.Device); d != nil && d.State == Held {
			return true
		}
	}
	return false
}

// backFromTimers is when the last of the devices that are dark will be back, at
// the earliest, once its timer has fired, or one that restarts usually is.
func (n *Night) backFromTimers(now time.Time) time.Time {
	for _, d := range n.Devices {
		if d.State == Dark && !d.Over && !d.TimerDue.IsZero() {
			if due := d.TimerDue.Add(d.Boot); due.After(now) {
				now = due
			}
		}
		if d.Usual.After(now) {
			now = d.Usual
		}
	}
	return now
}

// Count counts the devices in each state.
func (n *Night) Count() map[State]int {
	out := map[State]int{}
	for _, d := range n.Devices {
		out[d.State]++
	}
	return out
}

// Fold makes the night after some more events. The night given is not changed,
// so it can be drawn by one goroutine while another folds on.
func Fold(n Night, events ...Event) Night {
	n.Devices = slices.Clone(n.Devices)
	fresh := map[int]bool{}
	for _, e := range events {
		n.Seq, n.Last = e.Seq, e.At
		if e.Device == "" {
			n.apply(e)
			continue
		}
		i, ok := n.index[e.Device]
		if !ok {
			continue
		}
		if !fresh[i] {
			d := *n.Devices[i]
			d.Marks = slices.Clone(d.Marks)
			n.Devices[i], fresh[i] = &d, true
		}
		d := n.Devices[i]
		d.apply(e)
		n.applyHold(e)
		if !d.Failed && e.Kind == Moved && d.failedNow() {
			d.Failed = true
			n.Failures++
		}
	}
	return n
}

// Absence is that nobody is there to decide.
type Absence struct {
	Since time.Time
	Due   time.Time // when the runbook's unattended line begins to decide; zero is never
	Line  bool      // it does
}

// Note is what somebody wrote into the journal.
type Note struct {
	At   time.Time `json:"at"`
	By   string    `json:"by"`
	Text string    `json:"text"`
}

// String is a note in a line.
func (n Note) String() string { return n.By + " notes: " + n.Text }

// apply takes in an event about the run.
func (n *Night) apply(e Event) {
	switch e.Kind {
	case Planned:
		n.Outline, n.Devices, n.index = e.Outline, nil, map[string]int{}
		for b, batch := range e.Outline.Batches {
			for _, o := range batch {
				n.index[o.Name] = len(n.Devices)
				n.Devices = append(n.Devices, &Device{OutlineDevice: o, Batch: b + 1, State: Waiting, Since: e.At,
					Marks: make([]string, len(o.Steps))})
			}
		}
	case Began:
		n.Began = e.At
	case BatchBegan:
		n.Batch = e.Batch
	case Forecast:
		n.Slots, n.Likely, n.Late, n.Stays, n.Reckoned = e.Slots, e.Due, e.Late, e.Stays, e.At
	case Alone:
		n.Alone = Absence{Since: e.At, Due: e.Due}
	case Unattended:
		n.Alone.Line = true
	case Attended:
		n.Alone = Absence{}
	case Noted:
		n.Notes = append(slices.Clone(n.Notes), Note{e.At, e.By, e.Note})
	case Aborted:
		n.Aborted = e.Choice
	case LetGo:
		n.Released = true
	case Ended:
		n.Ended = e.At
		n.Holds = nil
	}
	n.applyHold(e)
}

func (n *Night) applyHold(e Event) {
	switch e.Kind {
	case HoldOpened:
		n.Holds = append(slices.Clone(n.Holds), Hold{e.Hold, e.Device, e.Note, e.Lines, e.Offers, e.At, e.At, e.Devices})
	case HoldAnew:
		n.Holds = slices.Clone(n.Holds)
		for i := range n.Holds {
			if n.Holds[i].Number == e.Hold {
				n.Holds[i].Offers, n.Holds[i].Told = e.Offers, e.At
				if len(e.Devices) > 0 {
					n.Holds[i].Devices = e.Devices
				}
			}
		}
	case HoldClosed:
		n.Holds = slices.DeleteFunc(slices.Clone(n.Holds), func(h Hold) bool { return h.Number == e.Hold })
		if e.Choice != "" {
			n.Decided = append(slices.Clone(n.Decided), Decision{e.At, e.Device, e.Choice, e.By, e.Note})
		}
	}
}

// apply takes in an event about the device.
func (d *Device) apply(e Event) {
	d.timed(e)
	d.due(e)
	d.QuietSince = time.Time{} // it is heard of
	switch e.Kind {
	case Moved:
		if e.State == Held || e.State == Reverting || e.State == Dark {
			if d.State != Held && d.State != Reverting && d.State != Dark {
				d.Before = d.State
			}
		}
		d.State, d.Note, d.Since, d.Over = e.State, e.Note, e.At, e.OK
		d.ExpectBy, d.Usual, d.Most = time.Time{}, time.Time{}, time.Time{}
		if e.State == Absent {
			d.Usual, d.Most = e.Due, e.Late
		}
		if d.Began.IsZero() && e.State != Skipped {
			d.Began = e.At
		}
		if e.OK {
			d.Ended = e.At
		}
		d.SavedUnread = e.SavedIsUnread()
		if e.OK {
			d.over(e.State)
		}
	case Doing:
		d.Note = e.Note
	case Quiet:
		d.QuietSince = e.At.Add(-e.For)
		return
	case Contact:
		d.Connected = true
	case Lost:
		d.Connected = false
	case Prechecked:
		if e.What == "reachable" { // the first of them: what was found before is looked at anew
			d.Checks = nil
		}
		d.Checks = append(slices.Clone(d.Checks), Check{e.What, e.OK, e.Note, e.Waived})
	case BackedUp:
		d.Backup, d.SHA256 = e.What, e.Note
	case Shelved:
		if e.OK {
			d.Left, d.LeftSum = e.What, e.Note
		} else {
			d.Notices = append(slices.Clone(d.Notices), "what it is left with could not be put on the shelf: "+e.Note)
		}
	case Recorded:
		switch {
		case e.IsPredictionLost():
			d.Notices = append(slices.Clone(d.Notices), "what was predicted of it could not be kept: "+e.Note)
		case !e.OK:
			d.Notices = append(slices.Clone(d.Notices), "what was recorded "+e.What+" could not be kept: "+e.Note)
		}
	case Intent:
		if e.What != ToExtend { // which changes nothing of what is known
			d.Intent = Intention{What: e.What, Step: e.Step, At: e.At, For: e.For}
		}
		d.lined = d.lined || e.What != ToArm && e.What != ToExtend
		if e.What == ToSend || e.What == ToRestore && e.Step > 0 {
			d.Line, d.Lines = 0, len(e.Lines)
		}
		if e.What == ToDo || e.What == ToExchange {
			d.Line, d.Lines = 0, 0
			d.Intent.Command, d.Intent.deeds = strings.Join(e.Lines, ", "), len(d.Deeds)
		}
	case Sent:
		d.Touched = true
		if e.What == "" { // else it leads back
			d.Line = e.Line
		}
	case Reached:
		if e.Reach != nil {
			r := *e.Reach
			r.Step, r.At = e.Step, e.At
			d.Reached = append(slices.Clone(d.Reached), r)
		}
	case Software:
		d.Runs, d.Ran, d.OnTrial = e.What, e.Note, e.IsOnTrial()
	case Edited:
		d.Edits = append(slices.Clone(d.Edits), Edit{e.Step, e.Lines, e.By, e.Note, e.At})
	case Worked:
		d.Works = slices.Clone(d.Works)
		if k := len(d.Works); e.IsWorkedOver() && k > 0 {
			d.Works[k-1].Over, d.Works[k-1].Differs = e.At, e.Lines
		} else {
			d.Works = append(d.Works, Work{Step: e.Step, By: e.By, Began: e.At})
		}
	case Looked, Done:
		d.Deeds = append(slices.Clone(d.Deeds), Deed{e.Step, e.What, e.Lines, e.Kind == Looked, e.OK, e.Note, e.At, e.Compared})
	case TimerSeen:
		d.TimerDue, d.TimerFor = e.Due, e.For
		d.Timed = true
	case TimerGone:
		d.TimerDue, d.TimerFor = time.Time{}, 0
		if d.Intent.What == ToDisarm {
			d.Intent.What = disarmed
		}
	case Stepped:
		if e.Step >= 1 && e.Step <= len(d.Marks) {
			d.Step = e.Step
			d.Marks[e.Step-1] = e.What
			if e.What == StepBegan && d.Kind(e.Step-1) != plan.ChangeStep {
				d.Line, d.Lines = 0, 0
			}
		}
	case Expected:
		if !e.OK {
			d.Note, d.ExpectBy = e.Note, e.Due
		}
	case Differs:
		d.Diff = e.Lines
	case Prediction:
		d.predict(e)
	case Predicted:
		if e.IsAtTheEnd() {
			d.Predicted, d.Unlike = e.OK, e.Lines
		} else {
			d.Unlike = e.Lines // none where it is as predicted
		}
	case HoldOpened:
		d.Hold = e.Hold
	case HoldClosed:
		d.Hold = 0
	}
}

// over takes in that the device's night is over: what was so on the way is not so any more.
func (d *Device) over(s State) {
	switch s {
	case Kept, Already, Reverted, Blocked, Skipped: // nothing is pending on it
		d.TimerDue, d.TimerFor = time.Time{}, 0
	}
	if s != Reverted {
		return
	}
	d.Unlike, d.Diff, d.Predicted = nil, nil, false
	for i, m := range d.Marks {
		switch m {
		case StepBegan, StepDone, StepFailed: // however it was taken back
			d.Marks[i] = StepUndone
		}
	}
}

// Outcome is how a night ended, from best to worst.
type Outcome int

// The outcomes of a night. Each is the exit code of the command that ran it.
const (
	AllKept     Outcome = 0
	SomeBlocked Outcome = 2 // some devices were not touched
	SomeBack    Outcome = 3 // something was taken back
	NeedsPerson Outcome = 4 // something is stranded or dark
)

// Outcome tells how the night ended or how it stands.
func (n *Night) Outcome() Outcome {
	out := AllKept
	if n.Outline != nil && slices.ContainsFunc(n.Outline.LeftOut, func(l plan.LeftOut) bool { return l.Open }) {
		out = SomeBlocked
	}
	for _, d := range n.Devices {
		out = max(out, d.State.of().outcome)
		if d.LeftSteps() > 0 {
			out = max(out, SomeBack)
		}
	}
	return out
}

// Sites lists the sites of the night, in order of appearance.
func (n *Night) Sites() []string {
	seen := map[string]bool{}
	var out []string
	for _, d := range n.Devices {
		if !seen[d.Site] {
			out, seen[d.Site] = append(out, d.Site), true
		}
	}
	return out
}
