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
	"cmp"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// TimerKind is how a platform takes a change back by itself.
type TimerKind string

// The kinds of rollback timer.
const (
	NoTimer      TimerKind = "none"    // it cannot
	RestartTimer TimerKind = "restart" // it restarts with its saved configuration
	TrialTimer   TimerKind = "trial"   // it drops a change that is not confirmed
)

// Traits are what planning and running must know of a platform.
type Traits struct {
	Timer   TimerKind
	Boot    time.Duration // from the timer's firing to the first prompt
	Style   config.Style
	Connect time.Duration // usual time to connect and log in
	Command time.Duration // usual time for a command or line
	Never   []*regexp.Regexp
	// ClearText tells that it is usually reached without encryption.
	ClearText bool
	// TellsPair tells that its profile reads the health of its pair.
	TellsPair bool
	// Mask takes secrets out of one line of a configuration; nil masks nothing.
	Mask func(string) string
}

// Masked takes the secrets out of lines, which may be paths of sections joined
// by " > ".
func (t Traits) Masked(lines []string) []string {
	if t.Mask == nil {
		return lines
	}
	out := make([]string, len(lines))
	for i, l := range lines {
		parts := strings.Split(l, " > ")
		for j, p := range parts {
			parts[j] = t.Mask(p)
		}
		out[i] = strings.Join(parts, " > ")
	}
	return out
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
	Unattended runbook.Unattended
	StepTitles []string
	Warnings   []string
}

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
	Distance  int
	Steps     []Step
}

// Step is a step rendered for one device.
type Step struct {
	Title   string
	Number  int // its number in the runbook, from 1
	Send    []string
	Undo    []string
	Already []Check // all must hold; none means it is never known
	Expect  []Expect
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
type LeftOut struct {
	Device string
	Why    string
}

// Targets lists all devices in the order of their batches.
func (p *Plan) Targets() []*Target {
	return slices.Concat(p.Batches...)
}

// Make plans a compiled runbook over a fleet. Traits are by platform. The
// error, if any, is a problem.List.
func Make(rb *runbook.Runbook, f *fleet.Fleet, answers map[string]string, traits map[string]Traits, now time.Time) (*Plan, error) {
	m := &maker{rb: rb, answers: answers, traits: traits}
	p := &Plan{
		Title: rb.Title, Change: rb.Change, Window: newWindow(rb, now), Rules: rb.Batches, Prechecks: rb.Prechecks,
		Timer: rb.Timer, Soak: rb.Soak, Unattended: rb.Unattended,
	}
	for _, s := range rb.Steps {
		p.StepTitles = append(p.StepTitles, s.Title)
	}
	for _, a := range rb.Ask {
		if err := a.Check(answers[a.Name]); err != nil {
			m.fail(a.Line, "%v", err)
		}
	}
	if m.list == nil {
		p.Batches = m.batches(m.targets(f, p))
	}
	if err := m.list.Err(); err != nil {
		return nil, err
	}
	p.Warnings = warnings(p)
	return p, nil
}

type maker struct {
	rb      *runbook.Runbook
	answers map[string]string
	traits  map[string]Traits
	list    problem.List
}

func (m *maker) fail(line int, format string, args ...any) {
	m.list = append(m.list, problem.Problem{File: m.rb.File, Line: line, Msg: fmt.Sprintf(format, args...)})
}

// targets selects the devices in scope and renders their steps.
func (m *maker) targets(f *fleet.Fleet, p *Plan) (in []*Target) {
	for _, d := range f.Devices {
		env := m.rb.DeviceEnv(f.Fields(d), m.answers)
		if why := m.outOfScope(env); why != "" {
			p.LeftOut = append(p.LeftOut, LeftOut{d.Name, why})
			continue
		}
		t := &Target{Device: d, Env: env, Traits: m.traits[d.Platform], Distance: f.Distance(d)}
		t.ClearText = t.Traits.ClearText && d.Protocol == "" || d.Protocol == "telnet"
		t.Mate = mate(f, d)
		for i, s := range m.rb.Steps {
			if step, ok := m.step(t, s, i+1); ok {
				t.Steps = append(t.Steps, step)
			}
		}
		if len(t.Steps) == 0 {
			m.fail(0, "%s is in scope, but no step is for it", d.Name)
		}
		in = append(in, t)
	}
	if len(in) == 0 {
		m.fail(0, "the scope selects no device: %s", reasons(p.LeftOut))
	}
	return in
}

// mate finds the other member of a device's pair.
func mate(f *fleet.Fleet, d fleet.Device) *fleet.Device {
	for i := range f.Devices {
		if o := &f.Devices[i]; d.Pair != "" && o.Pair == d.Pair && o.Name != d.Name {
			return o
		}
	}
	return nil
}

func (m *maker) outOfScope(env runbook.Env) string {
	for _, c := range m.rb.Scope {
		ok, err := c.Eval(env)
		if err != nil {
			return err.Error()
		}
		if !ok {
			return c.Explain(env)
		}
	}
	return ""
}

func reasons(out []LeftOut) string {
	count := map[string]int{}
	for _, l := range out {
		count[l.Why]++
	}
	var parts []string
	for why, n := range count {
		parts = append(parts, fmt.Sprintf("%d because %s", n, why))
	}
	slices.Sort(parts)
	return strings.Join(parts[:min(len(parts), 5)], "; ")
}

// step renders one step. It tells whether the step is for the device at all.
func (m *maker) step(t *Target, s runbook.Step, number int) (Step, bool) {
	if s.When != nil {
		if ok, err := s.When.Eval(t.Env); err != nil || !ok {
			return Step{}, false
		}
	}
	on, ok := onFor(s, t.Device.Platform)
	if !ok {
		return Step{}, false
	}
	out := Step{Title: s.Title, Number: number}
	envs := []runbook.Env{t.Env}
	if s.For != nil {
		envs = nil
		for _, v := range s.For.Values() {
			envs = append(envs, t.Env.With(s.For.Var, v))
		}
	}
	for _, env := range envs {
		out.Send = append(out.Send, m.render(t, on.Send, env)...)
		out.Undo = slices.Concat(m.render(t, on.Undo, env), out.Undo)
		if s.Already != nil {
			out.Already = append(out.Already, Check{s.Already, env})
		}
		for _, e := range s.Expect {
			out.Expect = append(out.Expect, Expect{Check{e.Cond, env}, e.Within})
		}
	}
	return out, true
}

// onFor finds the lines of a step for a platform. A step with lines for other
// platforms only is not for this one; a step without lines is for all.
func onFor(s runbook.Step, platform string) (runbook.On, bool) {
	for _, on := range s.On {
		if len(on.Platforms) == 0 || slices.Contains(on.Platforms, platform) {
			return on, true
		}
	}
	return runbook.On{}, len(s.On) == 0
}

func (m *maker) render(t *Target, texts []*runbook.Text, env runbook.Env) []string {
	var out []string
	for _, text := range texts {
		line, err := text.Render(env)
		if err != nil {
			m.fail(0, "%s: %v", t.Device.Name, err)
			continue
		}
		for _, never := range t.Traits.Never {
			if never.MatchString(strings.TrimSpace(line)) {
				m.fail(text.Line(), "%s: the profile of %s never lets a runbook send %q", t.Device.Name, t.Device.Platform, line)
			}
		}
		out = append(out, line)
	}
	return out
}

// batches orders the targets and cuts them into batches. Of a redundant pair,
// the standby comes first.
func (m *maker) batches(in []*Target) [][]*Target {
	rules := m.rb.Batches
	if rules.FarFirst {
		slices.SortStableFunc(in, func(a, b *Target) int { return cmp.Compare(b.Distance, a.Distance) })
	}
	in = pairUp(in)
	total := len(in)
	var out [][]*Target
	for i := 0; len(in) > 0; i++ {
		size := rules.Sizes[min(i, len(rules.Sizes)-1)]
		n := size.Count
		if size.Percent > 0 {
			n = max(1, (total*size.Percent+99)/100)
		}
		batch, rest := cut(in, n, rules.PairsApart)
		for _, t := range batch {
			t.Batch = i
		}
		out, in = append(out, batch), rest
	}
	return out
}

// pairUp names partners and moves the first member of a pair before the second.
func pairUp(in []*Target) []*Target {
	members := map[string][]*Target{}
	for _, t := range in {
		if t.Device.Pair != "" {
			members[t.Device.Pair] = append(members[t.Device.Pair], t)
		}
	}
	first := map[*Target]*Target{} // second member to first
	for _, m := range members {
		if len(m) != 2 {
			continue
		}
		a, b := m[0], m[1]
		if b.Device.Standby || !a.Device.Standby && b.Device.Name < a.Device.Name {
			a, b = b, a
		}
		a.Partner, b.Partner, b.Second = b.Device.Name, a.Device.Name, true
		first[b] = a
	}
	var out []*Target
	placed := map[*Target]bool{}
	for _, t := range in {
		if f := first[t]; f != nil && !placed[f] {
			out, placed[f] = append(out, f), true
		}
		if !placed[t] {
			out, placed[t] = append(out, t), true
		}
	}
	return out
}

// cut takes the next n targets. With pairs apart, the second of a pair waits
// for a later batch than the first.
func cut(in []*Target, n int, apart bool) (batch, rest []*Target) {
	waiting := map[string]bool{} // firsts that are not in an earlier batch
	for _, t := range in {
		if t.Partner != "" && !t.Second {
			waiting[t.Device.Name] = true
		}
	}
	for _, t := range in {
		if len(batch) < n && (!apart || !t.Second || !waiting[t.Partner]) {
			batch = append(batch, t)
		} else {
			rest = append(rest, t)
		}
	}
	if len(batch) == 0 { // cannot be: a first never waits
		return in, nil
	}
	return batch, rest
}

func warnings(p *Plan) []string {
	var out []string
	for _, pc := range p.Prechecks {
		if pc.Off {
			out = append(out, "precheck "+pc.Name+" is switched off"+fromOr(pc))
		}
	}
	if p.Timer.None {
		out = append(out, "timer none: no device takes the change back by itself; a lost device means a visit")
	}
	var clear []string
	for _, t := range p.Targets() {
		if t.ClearText {
			clear = append(clear, t.Device.Name)
		}
	}
	if len(clear) > 0 {
		out = append(out, fmt.Sprintf("clear text: all that is said with %s can be read on the way, the passwords too", strings.Join(clear, ", ")))
	}
	longer := 0
	worst := time.Duration(0)
	for _, t := range p.Targets() {
		if need := t.TimerFor(p); !p.Timer.None && need > p.Timer.For {
			longer++
			worst = max(worst, need)
		}
	}
	if longer > 0 {
		out = append(out, fmt.Sprintf("the timer of %s is shorter than the work it guards; it is armed for up to %s on %d devices",
			runbook.FormatDuration(p.Timer.For), runbook.FormatDuration(worst), longer))
	}
	if late := p.lastBatchTooLate(); late != "" {
		out = append(out, late)
	}
	return out
}

func fromOr(pc runbook.Precheck) string {
	if pc.From != "" {
		return " by " + pc.From
	}
	return ""
}
