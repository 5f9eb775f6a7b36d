// Package plan turns a runbook, a fleet and the asked values into what will be
// done: which devices, in which batches, with every line rendered. It also does
// the arithmetic of the window: how long things take, until when a batch may
// start so that everything can still be taken back in time, when the night will
// be over.
//
// Everything here is pure. A plan is made before any device is reached, and
// what cannot be planned is an error then, not at night.
package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
)

// TimerKind is how a platform takes a change back by itself.
type TimerKind string

// The kinds of rollback timer.
const (
	NoTimer      TimerKind = "none"     // it cannot
	RestartTimer TimerKind = "restart"  // it restarts with its saved configuration
	PutBackTimer TimerKind = "put back" // a job on it puts the saved configuration back; it goes on running
	TrialTimer   TimerKind = "trial"    // it drops a change that is not confirmed
)

// BringsBack tells whether a timer of this kind brings back what is saved, when it
// fires: then nothing may be saved while it is pending (law 2).
func (k TimerKind) BringsBack() bool { return k == RestartTimer || k == PutBackTimer }

// Guards tells whether there is a timer of this kind at all.
func (k TimerKind) Guards() bool { return k.BringsBack() || k == TrialTimer }

// What names what is on the clock of a device that brings back what is saved.
func (k TimerKind) What() string {
	if k == PutBackTimer {
		return "putting back what is saved"
	}
	return "a restart"
}

// Does says what the device does by itself at a time, such as "restarts at 02:41".
func (k TimerKind) Does(at string) string {
	//exhaustive:enforce
	switch k {
	case PutBackTimer:
		return "puts back at " + at
	case TrialTimer:
		return "trial until " + at
	case NoTimer:
		return "no way back of its own"
	case RestartTimer:
	}
	return "restarts at " + at
}

// Word is the same in a word or two.
func (k TimerKind) Word() string {
	//exhaustive:enforce
	switch k {
	case PutBackTimer:
		return "put back"
	case TrialTimer:
		return "trial"
	case NoTimer:
		return "no way back"
	case RestartTimer:
	}
	return "restart"
}

// Traits are what planning and running must know of a platform.
type Traits struct {
	Timer TimerKind
	Boot  time.Duration // from the timer's firing to the first prompt
	// Stages tells that lines take effect all at once, when they are applied, and not one by
	// one as they are taken.
	Stages bool
	// Whole tells that whole configurations are put in place: what no lines lead back from, a
	// whole one does.
	Whole bool
	// Once tells that nothing more can be applied while a change is on trial: all steps of a
	// device go into one apply.
	Once bool
	// ByClock tells that its timer is set to a time of day by its own clock.
	ByClock bool
	// Extends tells that the time of a trial that runs can be set anew.
	Extends bool
	Style   config.Style
	// Language is how lines change its configuration; nil where nobody knows.
	Language *config.Language
	Connect  time.Duration // usual time to connect and log in
	Command  time.Duration // usual time for a command or line
	Never    []*regexp.Regexp
	// ClearText tells that it is usually reached without encryption.
	ClearText bool
	// TellsPair tells that its profile reads the health of its pair.
	TellsPair bool
	// HandsOver tells that the member of a pair that does the work can be told to hand it over.
	HandsOver bool
	// TakesBack tells that the member of a pair that had the work takes it back by itself.
	TakesBack bool
	// Saves tells that what runs can be saved, and TellsSaved that what is saved can
	// be read. Where it cannot, nothing is said of it.
	Saves, TellsSaved bool
	// One tells that its profile calls one and the same thing what runs and what is
	// saved, such as a file: then neither proves the other.
	One bool
	// Restores tells that a whole backup can be put back.
	Restores bool
	// Tables are what its profile reads.
	Tables map[string]runbook.Table
	// TellsName, TellsSerial and ShowsKey tell by what a device of the platform says who it
	// is; a key is shown only where the way to it is encrypted.
	TellsName, TellsSerial, ShowsKey bool
	// NameLine is the line of a configuration that gives the device its name, with the name as
	// its last group; nil where none is known.
	NameLine *regexp.Regexp
	// Unsendable says why a line cannot be sent, "" when it can; nil is never.
	Unsendable func(line string) string
	// ChangesNothing tells whether a command only looks; nil knows of none.
	ChangesNothing func(command string) bool
	// Prints tells of a command which table it prints; false is none that is known.
	Prints func(command string) (Printed, bool)
	// TakesCommands tells that commands that do something can be given to it.
	TakesCommands bool
	// Restarts is how it is restarted; nil where its profile does not say.
	Restarts *Restarts
	// Software is how its software is exchanged; nil where its profile does not say.
	Software *Software
	// Reaches tells that it can be asked whether an address answers it.
	Reaches bool
	Modes   []string // in which commands can be given
	// Mask takes secrets out of one line of a configuration; nil masks nothing.
	Mask func(string) string
}

// Plan is what will be done.
type Plan struct {
	Title      string
	Change     string
	Window     Window
	Batches    [][]*Target
	LeftOut    []LeftOut
	Rules      runbook.Batches
	Prechecks  []runbook.Precheck
	Waivers    []Waiver
	Timer      runbook.Timer
	Soak       time.Duration
	Record     runbook.Recording
	Unattended runbook.Unattended
	StepTitles []string
	Values     []Value
	Warnings   []string
	Only       string   // what of the scope is chosen for this night; "" is all of it
	Seal       string   // by whom it was sealed, and when; "" where nobody has
	Collisions []string // rules of the runbook that cannot both hold, and which gives way
	estimates  *Estimates
	late       string    // the warning that it does not fit
	places     int       // kinds of sites, roles and uplinks together
	taken      []float64 // seconds to take back everything up to each batch
	byName     map[string]*Target
	others     map[string]*Target // those that only reach something for others, by name
	unread     []notRead          // see [Plan.Readable]
	secrets    []string           // values that are shown nowhere
	whole      *whole
}

// Value is a value that was asked for, as it may be shown.
type Value struct {
	Name   string `json:"name"`
	Prompt string `json:"prompt"`
	Value  string `json:"value"`
	Usual  bool   `json:"usual,omitempty"` // nobody gave it: it is the runbook's own
}

// Hidden stands in the place of a secret.
const Hidden = "▒▒▒▒"

// Target is a device in scope with what will be done on it.
type Target struct {
	Device  fleet.Device
	Env     runbook.Env
	Traits  Traits
	Batch   int // from 0
	Partner string
	Second  bool          // its partner goes first
	Mate    *fleet.Device // the other member of its pair, in scope or not; nil for none
	// ClearText tells that it is reached without encryption.
	ClearText bool
	// Above are the devices that it is reached through, the nearest first.
	Above []string
	// Below are the devices that are reached through it, in scope or not.
	Below []string
	Steps []Step
	// Why says why it is where it is among the batches.
	Why    string
	canary string // why it goes first
	place  place
	// Secrets are values in its lines that are shown nowhere.
	Secrets []string
	// Record is what of the runbook's recording its platform reads.
	Record runbook.Recording
}

// Step is a step rendered for one device. What depends on the device is known once it
// was read; see [Target.Unroll] and [Target.Compute].
type Step struct {
	Title   string
	Number  int // its number in the runbook, from 1
	Kind    StepKind
	Alters  bool  // it may change the device, or have it do something, whatever was read since
	Needs   []int // numbers of the steps without which it is not sent
	Follows []int // numbers of the steps of which one must have sent something
	Send    []string
	Undo    []string
	Already []Check // all must hold; none means it is never known
	Expect  []Expect

	// Commands are what is looked at, or done.
	Commands []Command
	Deed     Deed
	Wait     *Wait
	Absence  *Absence // nil where it restarts nothing
	Tell     []string // what a person is told
	Upgrade  *Upgrade // what software the device shall run; nil where the step says nothing of that
	// Put is the whole configuration that the step puts in place; none where it does not.
	Put []string
	// Want is what shall be there, where the step says that; its lines are computed.
	Want *config.Want
	// Was is what the device had and gets back, where the step restores; its lines are
	// computed. Where none lead there, Whole is the text that is put back as a whole.
	Was   *runbook.Was
	Whole string
	// Uses are the values in its lines that are the device's own, with where each is said.
	Uses []Use
	// When is whether the step is for the device at all, where that is known once it was read; nil
	// where it is.
	When *Check
	// Not says why it is not, once the device was read.
	Not string
	// Through tells over which rows of a table of the device the step goes; nil for none.
	Through *Through
	// Rounds are the turns of its loop, one where it has none; none where they are not
	// known yet.
	Rounds []Round
	// UndoFirst tells that a take-back begins with its undo lines.
	UndoFirst bool
	// Unwritten tells that the runbook has no undo lines for it: they are computed.
	Unwritten bool

	// Done tells, once the device was read, that there is nothing to do.
	Done bool
	// Later tells that its lines are only known once the steps before it were done.
	Later bool
	// Empty says that its loop goes through nothing on the device; "" where it does.
	Empty string
	// Wrong says why its lines, or those that lead back, cannot be computed.
	Wrong error
	// After is what the configuration will be once it was done; nil where nobody knows.
	After *config.Config
}

// Round is one turn of a step's loop.
type Round struct {
	Send    []string
	Does    []Command
	Undo    []string
	Want    config.Want
	Already []Check
	Expect  []Expect
}

// Through is a loop whose turns are known once the device was read: over the rows of a table of
// it, or over those of the fleet that fit what was read.
type Through struct {
	Table  string
	Reads  bool          // the table is read from the device
	Where  *runbook.Cond // nil for all rows
	Var    string
	loop   *runbook.Loop
	render func(t *Target, env runbook.Env) (Round, error)
}

// Use is a value of a device that stands in a step's lines.
type Use struct{ Name, Value, From string }

// Changes tells whether the step may change the device.
func (s Step) Changes() bool {
	return len(s.Send) > 0 || s.Want != nil || s.Through != nil || len(s.Put) > 0 || s.Was != nil
}

// Check is a condition with the values it is evaluated over.
type Check struct {
	Cond *runbook.Cond
	Env  runbook.Env
}

// Expect is an expectation of a step.
type Expect struct {
	Check
	Within time.Duration
}

// LeftOut is a device of the fleet that is not in scope.
type LeftOut = scope.LeftOut

// Targets lists all devices in the order of their batches.
func (p *Plan) Targets() []*Target {
	return slices.Concat(p.Batches...)
}

// Devices are the devices of all targets.
func (p *Plan) Devices() (out []fleet.Device) {
	for _, t := range p.Targets() {
		out = append(out, t.Device)
	}
	return out
}

// Make plans a compiled runbook over a fleet. Traits are by platform. The
// error, if any, is a problem.List. Whether its prechecks can be looked at is said by
// [Plan.Readable], once waivers are known. A part is what of its scope is chosen for this night.
func Make(
	rb *runbook.Runbook, f *fleet.Fleet, answers map[string]string, traits map[string]Traits, now time.Time, part ...*scope.Part,
) (*Plan, error) {
	m := &maker{rb: rb, answers: answers, traits: traits, fleet: f, columns: f.Columns, said: map[string]bool{}}
	window, notes, err := newWindow(rb, now)
	if err != nil {
		m.fail(rb.Window.Line, "%v", err)
	}
	if len(part) > 0 {
		m.part = part[0]
	}
	p := &Plan{
		Title: rb.Title, Change: rb.Change, Window: window, Rules: rb.Batches, Prechecks: withIdentity(rb.Prechecks),
		Timer: rb.Timer, Soak: rb.Soak, Record: rb.Record, Unattended: rb.Unattended,
	}
	for _, s := range rb.Steps {
		p.StepTitles = append(p.StepTitles, s.Title)
	}
	m.values(p)
	if m.part != nil {
		p.Only = m.part.Source
	}
	if m.list == nil {
		in := m.targets(f, p)
		for _, t := range in {
			m.reaches(t, p)
		}
		m.platforms(in)
		p.unread = unread(rb, in)
		m.batches(p, in)
	}
	if err := m.list.Err(); err != nil {
		return nil, err
	}
	p.taken = p.backs()
	p.Warnings = p.maskedEach(slices.Concat(notes, f.Notes, m.toldEarlier(), warnings(p)))
	return p, nil
}

// Learned is the plan with what earlier nights say of how long things take.
func (p *Plan) Learned(e *Estimates) *Plan {
	learned := *p
	learned.estimates, learned.whole = e, &whole{}
	for i, w := range learned.Warnings { // of what was estimated without them
		if w == p.late {
			learned.Warnings = slices.Delete(slices.Clone(learned.Warnings), i, i+1)
			break
		}
	}
	if learned.late = learned.lastBatchTooLate(); learned.late != "" {
		learned.Warnings = append(slices.Clone(learned.Warnings), learned.late)
	}
	return &learned
}

// Together is the plan with so many devices in change at once.
func (p *Plan) Together(n int) *Plan {
	again := *p
	again.Rules.Together, again.whole = n, &whole{}
	return &again
}

// BeginningWith is the plan with those devices in a first batch of their own, for that reason: what a
// night that was cut off had begun with is on the clock.
func (p *Plan) BeginningWith(why string, begun func(device string) bool) *Plan {
	var first []*Target
	var rest [][]*Target
	for _, b := range p.Batches {
		var others []*Target
		for _, t := range b {
			if begun(t.Device.Name) {
				first = append(first, t)
			} else {
				others = append(others, t)
			}
		}
		if len(others) > 0 {
			rest = append(rest, others)
		}
	}
	if len(first) == 0 {
		return p
	}
	again := *p
	again.Batches = append([][]*Target{first}, rest...)
	for i, b := range again.Batches {
		for _, t := range b {
			t.Batch = i
		}
	}
	for _, t := range first {
		t.Why = why
	}
	again.taken, again.whole = nil, &whole{}
	again.taken = again.backs()
	return &again
}

type maker struct {
	rb      *runbook.Runbook
	answers map[string]string
	traits  map[string]Traits
	fleet   *fleet.Fleet
	columns []string
	secrets []string
	list    problem.List
	looks   scope.Looks                // what the scope goes by of what devices told earlier
	said    map[string]bool            // problems that are not told for every device
	refuses map[string][]string        // why a platform's language refuses what is wanted
	longest map[[3]string]int          // the longest ways to versions, by platform, model and version
	part    *scope.Part                // what of the scope is chosen for this night; nil is all
	lenient bool                       // a scope may be empty: the fleet may not be complete yet
	absent  map[*runbook.Text][]string // files of single devices that are not there
}

// values checks the asked values and notes which are secrets.
func (m *maker) values(p *Plan) {
	for _, a := range m.rb.Ask {
		v := m.answers[a.Name]
		if err := a.Check(v); err != nil {
			m.fail(a.Line, "%v", err)
		}
		shown := Value{Name: a.Name, Prompt: a.Prompt, Value: v, Usual: a.Default != "" && v == a.Default}
		if a.Kind.Type == kind.Secret {
			m.secrets = append(m.secrets, v)
			shown.Value = Hidden
		}
		p.Values = append(p.Values, shown)
	}
	p.secrets = m.secrets
}

func (m *maker) fail(line int, format string, args ...any) {
	m.list = append(m.list, problem.Problem{File: m.rb.File, Line: line, Msg: hide(fmt.Sprintf(format, args...), m.secrets)})
}

// once reports a problem that would be the same for many devices.
func (m *maker) once(line int, hint, format string, args ...any) {
	msg := hide(fmt.Sprintf(format, args...), m.secrets)
	if !m.said[msg] {
		m.said[msg] = true
		m.list = append(m.list, problem.Problem{File: m.rb.File, Line: line, Msg: msg, Hint: hint})
	}
}

// onceAt is once, about a text.
func (m *maker) onceAt(text *runbook.Text, hint, format string, args ...any) {
	n := len(m.list)
	m.once(text.Line(), hint, format, args...)
	if len(m.list) > n && text.File() != "" {
		m.list[n].File = text.File()
	}
}

func (m *maker) outOfScope(d fleet.Device, env runbook.Env) scope.Outside {
	for _, c := range m.rb.Scope {
		env := m.looks.Add(d, c, env, m.rb.Told)
		if _, err := c.Eval(env); err != nil && len(c.Told()) == 0 {
			m.once(0, "", "the scope cannot be settled: %v", err)
		}
		if o := scope.Why(c, env); o.Why != "" {
			return o
		}
	}
	return scope.Outside{}
}

// step renders one step. It tells whether the step is for the device at all.
func (m *maker) step(t *Target, s runbook.Step, number int) (Step, bool) {
	if s.When != nil {
		ok, err := s.When.Late(), error(nil)
		if !ok {
			ok, err = s.When.Eval(t.Env)
		}
		if err != nil {
			m.once(s.Line, "", "step %q: %v", s.Title, err)
		}
		if !ok {
			return Step{}, false
		}
	}
	on, ok := s.LinesFor(t.Device.Platform)
	if !ok {
		return Step{}, false
	}
	out := Step{
		Title:     s.Title,
		Number:    number,
		Needs:     m.numbers(s.Needs),
		UndoFirst: on.UndoFirst,
		Unwritten: len(on.Send) > 0 && len(on.Undo) == 0,
	}
	if s.When != nil && s.When.Late() {
		out.When = &Check{s.When, t.Env}
	}
	m.canRestore(t, s)
	if len(on.Put) > 0 {
		return m.put(t, s, on, out), true
	}
	m.deeds(t, s, on, &out)
	if on.Wants() {
		out.Want = &config.Want{}
	}
	out.Uses = m.uses(t, on)
	if s.For != nil && s.For.Late() {
		out.Through = m.through(s, on)
		m.suits(t, s, on, out)
		return out, true
	}
	m.rounds(t, s, on, &out)
	out.gather()
	m.suits(t, s, on, out)
	m.undoes(t, s, on, out)
	return out, true
}

// uses are the values of the device in a step's lines.
func (m *maker) uses(t *Target, on runbook.On) (out []Use) {
	for _, name := range on.Names() {
		if slices.Contains(m.columns, name) && t.Device.Values[name] != "" {
			out = append(out, Use{name, t.Device.Values[name], m.fleet.Source(t.Device, name)})
		}
	}
	return out
}

// round renders one turn of a step.
func (m *maker) round(t *Target, s runbook.Step, on runbook.On, env runbook.Env) (r Round) {
	r.Send, r.Undo = m.lines(t, on.Send, env), m.lines(t, on.Undo, env)
	r.Want = t.wanted(m.lines(t, on.Want, env), m.lines(t, on.Gone, env), m.patterns(t, on.NoOther, env))
	r.Does = m.commands(t, on, env)
	if slices.ContainsFunc(on.Want, (*runbook.Text).Pasted) {
		r.Want.Lines = t.Traits.Language.Printout(r.Want.Lines)
	}
	for _, already := range []*runbook.Cond{s.Already, on.Already} {
		if already != nil {
			r.Already = append(r.Already, Check{already, env})
		}
	}
	for _, e := range slices.Concat(s.Expect, on.Expect) {
		r.Expect = append(r.Expect, Expect{Check{e.Cond, env}, e.Within})
	}
	return r
}

// gather makes of the rounds of a step what is done in it.
func (s *Step) gather() {
	s.Send, s.Undo, s.Already, s.Expect, s.Commands = nil, nil, nil, nil, nil
	if s.Want != nil {
		wants := make([]config.Want, 0, len(s.Rounds))
		for _, r := range s.Rounds {
			wants = append(wants, r.Want)
		}
		w := config.All(wants)
		s.Want = &w
	}
	for _, r := range s.Rounds {
		s.Commands = append(s.Commands, r.Does...)
		s.Send = append(s.Send, r.Send...)
		s.Undo = slices.Concat(r.Undo, s.Undo)
		s.Already = append(s.Already, r.Already...)
		s.Expect = append(s.Expect, r.Expect...)
	}
}

// numbers finds steps by their titles.
func (m *maker) numbers(titles []string) (out []int) {
	for i, s := range m.rb.Steps {
		if slices.Contains(titles, s.Title) {
			out = append(out, i+1)
		}
	}
	return out
}

// loop gives the values of each round of a step.
func (m *maker) loop(t *Target, s runbook.Step) []any {
	values, err := s.For.Values(t.Env)
	if err != nil {
		m.fail(s.For.Line, "%s: %v", t.Device.Name, err)
	}
	m.perhapsList(t, s)
	return values
}

// rounds renders the turns of a step's loop.
func (m *maker) rounds(t *Target, s runbook.Step, on runbook.On, out *Step) {
	if s.For == nil {
		out.Rounds = []Round{m.round(t, s, on, t.Env)}
		return
	}
	values := m.loop(t, s)
	if len(values) == 0 {
		out.Empty = emptyLoop(t, s)
		return
	}
	out.Rounds = make([]Round, 0, len(values))
	asks := s.Already != nil || on.Already != nil || len(s.Expect)+len(on.Expect) > 0 // then each turn keeps its values
	env := t.Env.With(s.For.Var, nil)
	for _, v := range values {
		if asks {
			env = t.Env.With(s.For.Var, v)
		} else {
			env[s.For.Var] = v
		}
		out.Rounds = append(out.Rounds, m.round(t, s, on, env))
	}
}

// lines renders lines. A text of several lines that is not ended is refused: on a device it would
// take in whatever is typed next.
func (m *maker) lines(t *Target, texts []*runbook.Text, env runbook.Env) []string {
	out := m.render(t, texts, env)
	first, end := "", ""
	for _, l := range out {
		if end == "" {
			first = l
		}
		end = t.Traits.Style.After(end, l)
	}
	if end != "" {
		m.onceAt(texts[len(texts)-1], end, "%q begins a text of several lines, and the line that ends it is missing", first)
	}
	return out
}

func (m *maker) render(t *Target, texts []*runbook.Text, env runbook.Env) []string {
	var out []string
	end := "" // of the text of several lines that is being written
	for _, text := range texts {
		if text.Each() {
			out = append(out, m.render(t, m.own(t, text, env), env)...)
			continue
		}
		line, err := text.Render(env)
		if err != nil {
			m.fail(0, "%s: %v%s", t.Device.Name, err, m.unsaid(t, text))
			continue
		}
		inText := end != ""
		if !inText && !text.Whole() && strings.TrimSpace(line) == "" {
			continue
		}
		if end = t.Traits.Style.After(end, line); inText && end != "" {
			out = append(out, line)
			continue
		}
		for _, v := range t.Traits.Style.Volatile {
			if !text.Whole() && !text.Pasted() && v.MatchString(strings.TrimSpace(line)) && strings.ContainsFunc(line, unicode.IsLetter) {
				m.onceAt(
					text,
					"",
					"%q is what the profile of %s calls volatile: it is left out of every comparison, so nothing would prove it",
					line,
					t.Device.Platform,
				)
			}
		}
		if t.Traits.Unsendable != nil {
			if why := t.Traits.Unsendable(line); why != "" {
				m.onceAt(text, "", "%q: %s", line, why)
			}
		}
		for _, never := range t.Traits.Never {
			if never.MatchString(strings.TrimSpace(line)) {
				m.onceAt(text, "", "the profile of %s never lets a runbook send %q", t.Device.Platform, line)
			}
		}
		m.secretInTheOpen(t, text, line)
		out = append(out, line)
	}
	return out
}

// unsaid says of the values in a text that the device does not have who does not say them.
func (m *maker) unsaid(t *Target, text *runbook.Text) string {
	for _, name := range text.Names() {
		if m.fleet != nil && slices.Contains(m.columns, name) && t.Device.Values[name] == "" {
			if from := m.fleet.Source(t.Device, name); strings.HasPrefix(from, "neither") {
				return "; " + from
			}
		}
	}
	return ""
}

// secretInTheOpen refuses a value that stands where the profile masks a secret
// but was not asked for as one: it would be in the journal, in a shell's history
// or in the runbook.
func (m *maker) secretInTheOpen(t *Target, text *runbook.Text, line string) {
	if t.Traits.Mask == nil {
		return
	}
	masked := t.Traits.Mask(line)
	if masked == line {
		return
	}
	for _, a := range m.rb.Ask {
		v := m.answers[a.Name]
		if a.Kind.Type != kind.Secret && len(v) > 2 && strings.Contains(line, v) && !strings.Contains(masked, v) {
			m.onceAt(text, fmt.Sprintf("%s  secret  %q  where it is asked for, and give it hidden", a.Name, a.Prompt),
				"%s stands where the profile of %s masks a secret (%s), but is asked for as %s, which everybody may read",
				a.Name, t.Device.Platform, masked, a.Kind)
		}
	}
}
