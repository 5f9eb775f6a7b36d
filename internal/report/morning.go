package report

import (
	"cmp"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Morning is the report of a night, for whoever asks in the morning: what changed, was that
// all, who decided what, and what is left to do. It has no secrets: neither has the journal
// that it is made of.
type Morning struct {
	Night    int64        `json:"night"`
	Title    string       `json:"title"`
	Change   string       `json:"change,omitempty"`
	Runbook  string       `json:"runbook"` // its file
	By       string       `json:"by,omitempty"`
	Began    time.Time    `json:"began"`
	Ended    time.Time    `json:"ended,omitzero"`  // zero: it never saw its end
	Last     time.Time    `json:"last"`            // of its last event
	Likely   time.Time    `json:"likely,omitzero"` // when it was to be over, as it was planned
	Window   Windowed     `json:"window"`
	Code     int          `json:"code"`    // the exit code of the night
	Outcome  string       `json:"outcome"` // in a sentence
	Sealed   string       `json:"sealed,omitempty"`
	Only     string       `json:"only,omitempty"` // what of its scope was chosen for the night
	Sum      string       `json:"journal_sha256"` // of its events, as they stand in the journal
	Values   []plan.Value `json:"values,omitempty"`
	Warnings []string     `json:"warnings,omitempty"`

	Batches   []BatchReport  `json:"batches"`
	Devices   []DeviceReport `json:"devices"`
	LeftOut   []plan.LeftOut `json:"left_out,omitempty"`
	Decisions []Decided      `json:"decisions,omitempty"`
	Notes     []night.Note   `json:"notes,omitempty"` // what was written into the journal
	Waivers   []Waived       `json:"waivers,omitempty"`
	Failures  []Failure      `json:"failures,omitempty"`
	Runs      bool           `json:"runs,omitempty"`    // it has not ended yet
	Todo      []string       `json:"todo,omitempty"`    // what is left to do, and on which device
	Settled   string         `json:"settled,omitempty"` // who has seen to what it left, when, and how; "" for nobody
}

// Windowed is the window of a night, and what of it was used.
type Windowed struct {
	None    bool          `json:"none,omitempty"`
	Open    time.Time     `json:"open,omitzero"`
	Close   time.Time     `json:"close,omitzero"`
	Reserve time.Duration `json:"reserve,omitempty"` // nanoseconds
	Used    float64       `json:"used,omitempty"`    // the share of it until the night was over
}

// BatchReport is one batch.
type BatchReport struct {
	Number  int       `json:"number"`
	Began   time.Time `json:"began,omitzero"` // zero: it never began
	Ended   time.Time `json:"ended,omitzero"`
	Devices int       `json:"devices"`
	Kept    int       `json:"kept"`
}

// DeviceReport is one device's night.
type DeviceReport struct {
	Name       string        `json:"name"`
	Site       string        `json:"site,omitempty"`
	Role       string        `json:"role,omitempty"`
	Platform   string        `json:"platform"`
	Batch      int           `json:"batch"`
	Result     night.State   `json:"result"`
	Note       string        `json:"note,omitempty"`
	Began      time.Time     `json:"began,omitzero"`
	Ended      time.Time     `json:"ended,omitzero"`
	Stages     []Stage       `json:"stages,omitempty"`
	Steps      []StepReport  `json:"steps,omitempty"`
	Checks     []night.Check `json:"checks,omitempty"`
	Differs    []string      `json:"differs,omitempty"` // from its backup, at the end
	Prediction string        `json:"prediction"`        // kept, kept without STEP, not kept, or none
	Unlike     []string      `json:"unlike,omitempty"`
	Notices    []string      `json:"notices,omitempty"`
	Deeds      []night.Deed  `json:"deeds,omitempty"` // commands of its steps, with what came back
	// Reached are the addresses that were to answer, with what came of them, in order.
	Reached    []night.Reach `json:"reached,omitempty"`
	Backup     string        `json:"backup,omitempty"`
	SHA256     string        `json:"sha256,omitempty"`
	Left       string        `json:"left,omitempty"`
	LeftSHA256 string        `json:"left_sha256,omitempty"`
	// Ran is the version of its software that it ran before, and Runs the one that it was read to run last; ""
	// where it was given no other.
	Ran  string `json:"ran,omitempty"`
	Runs string `json:"runs,omitempty"`
	// Edits are the steps that had other lines on it, and Works when it was worked by hand.
	Edits []night.Edit `json:"edits,omitempty"`
	Works []night.Work `json:"works,omitempty"`
	// Sent are the lines of the change that it took, masked, and ReadAt is when what differs was
	// read; SentAt is when it was sent something last.
	Sent   []string  `json:"sent,omitempty"`
	SentAt time.Time `json:"sent_at,omitzero"`
	ReadAt time.Time `json:"read_at,omitzero"`
	// Due is when its timer was due, as far as was seen last; zero for none.
	Due time.Time `json:"due,omitzero"`
	// Cut says where it was when the night was cut off; "" where its end is known.
	Cut      string `json:"cut_off,omitempty"`
	mustLook bool   // what it is now is known by looking only
	lined    bool   // lines of the change were to be sent to it
}

// DiffersBy says by how many lines the device differs from its backup.
func (d DeviceReport) DiffersBy() string {
	switch {
	case d.mustLook && len(d.Differs) == 0:
		return NotKnown
	case !d.lined && len(d.Differs) == 0:
		return "nothing sent"
	}
	return Count(len(d.Differs), "line")
}

// Took is how long the device's night was.
func (d DeviceReport) Took() time.Duration {
	if d.Began.IsZero() || d.Ended.IsZero() {
		return 0
	}
	return d.Ended.Sub(d.Began)
}

// Stage is a time that a device spent in one state.
type Stage struct {
	State night.State `json:"state"`
	From  time.Time   `json:"from"`
	To    time.Time   `json:"to"`
}

// StepReport is what became of a step on a device.
type StepReport struct {
	Title string        `json:"title"`
	Mark  string        `json:"mark,omitempty"`
	Kind  plan.StepKind `json:"kind,omitempty"` // "" is lines of a configuration
}

// Decided is a decision, with what it was about.
type Decided struct {
	At       time.Time    `json:"at"`
	By       string       `json:"by"`
	Device   string       `json:"device,omitempty"`
	Choice   night.Choice `json:"choice"`
	Reason   string       `json:"reason,omitempty"`
	Why      string       `json:"why,omitempty"` // it was asked
	Evidence []string     `json:"evidence,omitempty"`
}

// Waived is a precheck that did not hold and was passed, or a waiver that was given.
type Waived struct {
	Check  string `json:"check"`
	On     string `json:"on"`
	By     string `json:"by"`
	Reason string `json:"reason"`
	Used   bool   `json:"used"` // a device passed by it
}

// Failure is why a device is not as it was meant to be.
type Failure struct {
	Device   string      `json:"device"`
	Site     string      `json:"site,omitempty"`
	At       time.Time   `json:"at"`
	State    night.State `json:"state"`
	Cause    string      `json:"cause"` // in a few words, the same for the same cause
	Why      string      `json:"why"`
	Evidence []string    `json:"evidence,omitempty"`
}

// MorningOf makes the report of a night from its events. File is its runbook, sum the
// checksum of its events in the journal.
func MorningOf(id int64, file, sum string, events []night.Event) *Morning {
	n := night.Fold(night.Night{}, events...)
	m := &Morning{Night: id, Runbook: filepath.Base(file), Sum: sum, Began: n.Began, Ended: n.Ended, Last: n.Last, Code: int(n.Outcome())}
	if n.Outline == nil {
		m.Outcome = "nothing of it can be read"
		return m
	}
	if m.Began.IsZero() && len(events) > 0 {
		m.Began = events[0].At
	}
	o := n.Outline
	m.Title, m.Change, m.Sealed, m.Values, m.Warnings, m.LeftOut, m.Only = o.Title, o.Change, o.Seal, o.Values, o.Warnings, o.LeftOut, o.Only
	t := &teller{m: m, n: &n, stages: map[string][]Stage{}, why: map[string]Failure{}, holds: map[int]night.Event{},
		used: map[string]bool{}, sent: map[string]*sent{}}
	for b, batch := range o.Batches {
		m.Batches = append(m.Batches, BatchReport{Number: b + 1, Devices: len(batch)})
	}
	for _, e := range events {
		t.event(e)
	}
	t.devices()
	t.window()
	for _, w := range o.Waivers {
		m.Waivers = append(m.Waivers, Waived{w.Check, w.Device, w.By, w.Reason, t.used[w.Check+" "+w.Reason]})
	}
	m.Todo = Needs(&n)
	m.Outcome = m.sentence()
	return m
}

// cutOff is why a device has no end whose night has none.
const cutOff = "the night was cut off"

// NotKnown stands in place of what nobody has read.
const NotKnown = "not known"

// StillRuns makes it the report of a night that runs now: what it comes to, and what it leaves
// to do, is not known yet.
func (m *Morning) StillRuns() {
	m.Runs, m.Todo = true, nil
	m.Failures = slices.DeleteFunc(m.Failures, func(f Failure) bool { return strings.HasPrefix(f.Why, cutOff) })
	for i := range m.Devices {
		m.Devices[i].Cut = "" // what it has is not known all the same
	}
	m.Outcome = m.sentence()
}

// teller takes in the events of a night.
type teller struct {
	m      *Morning
	n      *night.Night
	stages map[string][]Stage
	why    map[string]Failure // the first that went wrong on each device
	holds  map[int]night.Event
	used   map[string]bool
	sent   map[string]*sent
}

// sent is what a device was sent, and when it was read.
type sent struct {
	lines    []string
	at, read time.Time
}

func (t *teller) event(e night.Event) {
	t.lines(e)
	switch e.Kind {
	case night.Began:
		t.m.By = e.By
	case night.Forecast:
		if t.m.Likely.IsZero() {
			t.m.Likely = e.Due
		}
	case night.BatchBegan:
		t.m.Batches[e.Batch-1].Began = e.At
	case night.BatchEnded:
		t.m.Batches[e.Batch-1].Ended = e.At
	case night.Moved:
		t.moved(e)
	case night.Prechecked:
		if e.Waived != "" {
			t.used[e.What+" "+e.Waived] = true
		}
	case night.Lost:
		t.wrong(e.Device, e.At, "contact was lost: "+e.Note, nil)
	case night.Refusal:
		t.wrong(e.Device, e.At, "a line was refused: "+e.Note, append([]string{"said: " + e.Note}, e.Lines...))
	case night.HoldOpened:
		t.holds[e.Hold] = e
		if e.Device != "" && !e.Aside() { // a question beside the waiting is no cause of it
			t.wrong(e.Device, e.At, e.Note, e.Lines)
			f := t.why[e.Device] // what it was held for says more than what led to it
			f.At, f.Why, f.Evidence = e.At, e.Note, e.Lines
			t.why[e.Device] = f
		}
	case night.HoldClosed:
		if e.Choice != "" {
			asked := t.holds[e.Hold]
			t.m.Decisions = append(t.m.Decisions, Decided{e.At, e.By, e.Device, e.Choice, e.Note, asked.Note, asked.Lines})
		}
	case night.Alone, night.Unattended:
		t.m.Notes = append(t.m.Notes, night.Note{At: e.At, By: "metabasis", Text: (&Teller{}).Line(e)})
	case night.Noted:
		t.m.Notes = append(t.m.Notes, night.Note{At: e.At, By: e.By, Text: e.Note})
	case night.Aborted:
		t.m.Decisions = append(t.m.Decisions, Decided{At: e.At, By: e.By, Choice: "abort: " + e.Choice, Reason: e.Note})
	case night.LetGo:
		t.m.Decisions = append(t.m.Decisions, Decided{At: e.At, By: e.By, Choice: night.Release})
	}
}

// lines takes down what a device was sent, and when it was read what differs.
func (t *teller) lines(e night.Event) {
	if e.Device == "" {
		return
	}
	s := t.sent[e.Device]
	if s == nil {
		s = &sent{}
		t.sent[e.Device] = s
	}
	switch e.Kind {
	case night.Sent:
		if s.at = e.At; e.What == "" {
			s.lines = append(s.lines, e.Lines...)
		}
	case night.Worked:
		s.at = e.At
	case night.Intent: // what was intended last may have come true
		if e.What != night.ToArm && e.What != night.ToExtend {
			s.at = e.At
		}
	case night.Differs:
		s.read = e.At
	}
}

func (t *teller) wrong(device string, at time.Time, why string, evidence []string) {
	if _, told := t.why[device]; device != "" && !told {
		t.why[device] = Failure{Device: device, At: at, Why: why, Evidence: evidence}
	}
}

func (t *teller) moved(e night.Event) {
	list := t.stages[e.Device]
	if i := len(list) - 1; i >= 0 {
		list[i].To = e.At
	}
	if !e.OK {
		list = append(list, Stage{State: e.State, From: e.At, To: e.At})
	}
	t.stages[e.Device] = list
	switch e.State {
	case night.Blocked, night.Stranded, night.Dark:
		t.wrong(e.Device, e.At, e.Note, nil)
	}
}

// devices tells every device, and why some are not as they were meant to be.
func (t *teller) devices() {
	for _, d := range t.n.Devices {
		r := DeviceReport{
			Name:       d.Name,
			Site:       d.Site,
			Role:       d.Role,
			Platform:   d.Platform,
			Batch:      d.Batch,
			Result:     d.State,
			Note:       d.Note,
			Began:      d.Began,
			Ended:      d.Ended,
			Checks:     d.Checks,
			Differs:    d.Diff,
			Unlike:     d.Unlike,
			Notices:    d.Notices,
			Deeds:      d.Given(),
			Reached:    d.Reached,
			Stages:     t.stages[d.Name],
			Backup:     d.Backup,
			SHA256:     d.SHA256,
			Left:       d.Left,
			LeftSHA256: d.LeftSum,
			Prediction: "none",
		}
		r.Edits, r.Works, r.Due = d.Edits, d.Works, d.TimerDue
		r.Ran, r.Runs = d.Ran, d.Runs
		if s := t.sent[d.Name]; s != nil {
			r.Sent, r.SentAt, r.ReadAt = s.lines, s.at, s.read
		}
		if i := len(r.Stages) - 1; i >= 0 && !d.Over { // it never ended
			r.Stages[i].To = t.n.Last
		}
		for i, title := range d.Steps {
			r.Steps = append(r.Steps, StepReport{title, d.Marks[i], d.Kind(i)})
		}
		r.lined, r.mustLook = d.Changes(), d.MayRun() || d.State == night.Stranded
		if d.CutOff() {
			r.Cut = d.WasAt()
		}
		switch {
		case r.mustLook:
			r.Prediction = NotKnown
		case d.State == night.Kept && len(d.Unlike) > 0:
			r.Prediction = "not kept"
		case d.State == night.Kept && d.Predicted && d.LeftSteps() > 0:
			r.Prediction = "kept without " + strings.Join(d.LeftTitles(), ", ")
		case d.State == night.Kept && d.Predicted:
			r.Prediction = "kept"
		}
		t.m.Devices = append(t.m.Devices, r)
		if d.State.Good() {
			t.m.Batches[d.Batch-1].Kept++
			if d.LeftSteps() == 0 && len(d.Unlike) == 0 {
				continue
			}
		}
		if d.State == night.Skipped || d.State == night.Waiting {
			continue // nobody has tried
		}
		f, told := t.why[d.Name]
		switch {
		case told:
		case d.CutOff() && t.n.Ended.IsZero():
			f = Failure{Device: d.Name, At: t.n.Last, Why: cutOff + ": it was " + r.Cut}
		default:
			f = Failure{Device: d.Name, At: d.Since, Why: d.Note}
		}
		f.Site, f.State = d.Site, d.State
		f.Cause = cause(f.Why, d.Steps)
		t.m.Failures = append(t.m.Failures, f)
	}
}

// cause is what went wrong in a few words that are the same for the same cause: what stands
// before the details.
func cause(why string, titles []string) string {
	for _, t := range titles { // in which step it went wrong says nothing of why
		why = strings.TrimPrefix(why, t+": ")
	}
	c, _, _ := strings.Cut(why, ": ")
	if r := []rune(c); len(r) > 60 {
		c = string(r[:59]) + "…"
	}
	return cmp.Or(c, "not told")
}

func (t *teller) window() {
	w := t.n.Outline.Window
	t.m.Window = Windowed{None: w.None, Open: w.Open, Close: w.Close, Reserve: w.Reserve}
	if w.None {
		t.m.Window = Windowed{None: true}
		return
	}
	if w.Now && !t.m.Began.IsZero() {
		t.m.Window.Open, t.m.Window.Close = t.m.Began, t.m.Began.Add(w.Close.Sub(w.Open))
	}
	if !t.m.Ended.IsZero() {
		t.m.Window.Used = float64(t.m.Ended.Sub(t.m.Window.Open)) / float64(t.m.Window.Close.Sub(t.m.Window.Open))
	}
}

// sentence says how the night ended.
func (m *Morning) sentence() string {
	count := map[night.State]int{}
	for _, d := range m.Devices {
		count[d.Result]++
	}
	good, all := count[night.Kept]+count[night.Already], len(m.Devices)
	var s string
	switch {
	case m.Runs:
		s = "The night runs now. As far as it has come, "
	case m.Ended.IsZero():
		s = "The night never saw its end. As far as its journal goes, "
	case good == all:
		s = "All went as intended: "
	}
	var parts []string
	for _, st := range night.States() {
		if count[st] > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", count[st], st))
		}
	}
	of := "of"
	if s == "" {
		of = "Of"
	}
	s += fmt.Sprintf("%s %s, %s", of, Count(all, "device"), strings.Join(parts, ", "))
	look := 0
	for _, d := range m.Devices {
		if d.mustLook {
			look++
		}
	}
	switch {
	case m.Runs:
	case look > 0:
		s += fmt.Sprintf(". %s must be looked at by a person", Count(look, "device"))
	case len(m.Todo) == 0:
		s += ". Nothing is left to do"
	}
	return s + "."
}

// Took is how long the night was, as far as its journal goes.
func (m *Morning) Took() time.Duration { return cmp.Or(m.Ended, m.Last).Sub(m.Began) }

// Parts is how long devices were in a state, all together.
type Parts struct {
	State night.State
	Times []time.Duration // sorted
}

// Median is the middle of the times.
func (p Parts) Median() time.Duration { return p.Times[len(p.Times)/2] }

// Most is the longest.
func (p Parts) Most() time.Duration { return p.Times[len(p.Times)-1] }

// stageOrder is the order in which states follow one another.
var stageOrder = []night.State{
	night.Checking,
	night.Recording,
	night.Armed,
	night.Changing,
	night.Verifying,
	night.Soaking,
	night.Absent,
	night.Held,
	night.Dark,
	night.Reverting,
}

// Durations is how long devices were in each state, in the order of a night.
func (m *Morning) Durations() (out []Parts) {
	all := map[night.State][]time.Duration{}
	for _, d := range m.Devices {
		sum := map[night.State]time.Duration{}
		for _, s := range d.Stages {
			sum[s.State] += s.To.Sub(s.From)
		}
		for state, took := range sum {
			all[state] = append(all[state], took)
		}
	}
	for _, s := range stageOrder {
		if len(all[s]) > 0 {
			slices.Sort(all[s])
			out = append(out, Parts{s, all[s]})
		}
	}
	return out
}

// Causes counts the failures by cause, and by site, the most common first.
func (m *Morning) Causes() (causes, sites []Counted) {
	a, b := map[string]int{}, map[string]int{}
	for _, f := range m.Failures {
		a[f.Cause]++
		b[cmp.Or(f.Site, "no site")]++
	}
	return counted(a), counted(b)
}

// Counted is how often something was there.
type Counted struct {
	What string
	N    int
}

func counted(n map[string]int) (out []Counted) {
	for _, k := range slices.Sorted(maps.Keys(n)) {
		out = append(out, Counted{k, n[k]})
	}
	slices.SortStableFunc(out, func(a, b Counted) int { return b.N - a.N })
	return out
}
