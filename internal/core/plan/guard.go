package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/veil"
)

// Guards tells whether a rollback timer runs on a device while it is changed (law 1).
func (p *Plan) Guards(t *Target) bool {
	return t.Traits.Timer.Guards() && !p.Timer.NoneFor(t.Device.Platform) && t.Touches()
}

// Way is how a device takes the change back by itself in this night.
func (p *Plan) Way(t *Target) TimerKind {
	if p.Guards(t) {
		return t.Traits.Timer
	}
	return NoTimer
}

// BringsBack tells whether a timer runs on a device that brings back what is saved.
func (p *Plan) BringsBack(t *Target) bool { return p.Guards(t) && t.Traits.Timer.BringsBack() }

// platforms refuses a runbook that cannot be carried out on a platform in scope:
// one without a rollback timer where the runbook counts on it, and one that does
// not read what a condition looks at.
func (m *maker) platforms(in []*Target) {
	steps := map[string][]int{}
	first := map[string]string{}
	for _, t := range in {
		p := t.Device.Platform
		if first[p] == "" {
			first[p] = t.Device.Name
			steps[p] = []int{}
		}
		for _, s := range t.Steps {
			if !slices.Contains(steps[p], s.Number) {
				steps[p] = append(steps[p], s.Number)
			}
		}
	}
	schema := Schema(m.traits, m.fleet)
	for _, p := range slices.Sorted(maps.Keys(steps)) {
		if m.traits[p].Timer == TrialTimer && m.rb.Timer.NoneFor(p) {
			m.list = append(
				m.list,
				problem.Problem{
					File: m.rb.File,
					Line: m.rb.Timer.Line,
					Hint: "nothing of it: a trial takes no time that a change without one would not take",
					Msg:  fmt.Sprintf("timer none on %s: its changes are applied on trial, and in no other way", p),
				},
			)
		}
		if !m.traits[p].Timer.Guards() && !m.rb.Timer.NoneFor(p) && m.rb.Changes() {
			m.list = append(
				m.list,
				problem.Problem{
					File: m.rb.File,
					Line: m.rb.Timer.Line,
					Hint: "timer none on " + p + ", on a line of its own beside the other",
					Msg: fmt.Sprintf(
						"%s is in scope, and its platform %s has no rollback timer: nothing would take the change back if it is lost",
						first[p],
						p,
					),
				},
			)
		}
		for _, pc := range m.rb.Prechecks {
			if pc.Name == "saved" && pc.Off && m.traits[p].Timer.BringsBack() && !m.rb.Timer.NoneFor(p) {
				m.list = append(m.list, problem.Problem{File: m.rb.File, Line: pc.Line, Hint: "nothing of it",
					Msg: fmt.Sprintf("saved cannot be off on %s: its timer brings back what is saved, and with it would go what was never saved", p)})
			}
		}
		m.list = append(m.list, m.rb.Suits(p, schema, steps[p])...)
	}
}

// notRead is a precheck that looks at what the profile of a platform in scope does not read:
// each device of it would be blocked at night.
type notRead struct {
	check, platform string
	problem         problem.Problem
}

// unread are those prechecks, over the targets. That what is saved cannot be read is warned
// of; see [Plan.Waive].
func unread(rb *runbook.Runbook, in []*Target) (out []notRead) {
	looked := map[string]bool{}
	for _, t := range in {
		platform := t.Device.Platform
		if looked[platform] {
			continue
		}
		looked[platform] = true
		for _, pc := range rb.Prechecks {
			why := pc.Unread(t.Traits.Tables)
			if why == "" {
				continue
			}
			asked := ""
			if pc.From != "" {
				asked = ", which " + pc.From + " asks for,"
			}
			out = append(out, notRead{
				pc.Name,
				platform,
				problem.Problem{
					File: rb.File,
					Line: pc.Line,
					Hint: fmt.Sprintf(
						"%s off; or teach the profile of %s to read it; or plan with --waive \"%s on %s: REASON\"",
						pc.Name,
						platform,
						pc.Name,
						platform,
					),
					Msg: fmt.Sprintf(
						"%s%s cannot be looked at on %s, which is in scope: the profile of %s %s",
						pc.Name,
						asked,
						t.Device.Name,
						platform,
						why,
					),
				},
			})
		}
	}
	return out
}

// Readable refuses a plan with prechecks that cannot be looked at on a platform and are not
// waived for it. The error is a problem.List.
func (p *Plan) Readable() error {
	var list problem.List
	for _, u := range p.unread {
		if slices.ContainsFunc(p.Targets(), func(t *Target) bool {
			_, waived := p.Waived(u.check, t)
			return t.Device.Platform == u.platform && !waived
		}) {
			list = append(list, u.problem)
		}
	}
	return list.Err()
}

// Schema is what runbooks over these platforms and this fleet, if there is one, may
// speak of.
func Schema(traits map[string]Traits, f *fleet.Fleet) runbook.Schema {
	if f == nil {
		f = &fleet.Fleet{}
	}
	s := runbook.Schema{Fields: f.Further(), Beside: f.Beside(), Tables: map[string]runbook.Table{}, Of: map[string]map[string]runbook.Table{},
		Reaches: map[string]bool{}}
	for _, name := range slices.Sorted(maps.Keys(traits)) {
		s.Platforms = append(s.Platforms, name)
		s.Of[name], s.Reaches[name] = traits[name].Tables, traits[name].Reaches
		for table, t := range traits[name].Tables {
			have, ok := s.Tables[table]
			if !ok {
				have = runbook.Table{Many: t.Many, Columns: map[string]runbook.ColumnType{}}
				s.Tables[table] = have
			}
			maps.Copy(have.Columns, t.Columns)
		}
	}
	return s
}

// Review holds a runbook against a fleet before its values are known: it finds
// what would fail whatever is answered. The error is a problem.List. A runbook
// whose devices depend on a value that is not known yet is not looked at; open
// names that value. Doubts are what is no mistake for certain.
func Review(rb *runbook.Runbook, f *fleet.Fleet, traits map[string]Traits) (open string, doubts []string, err error) {
	for _, a := range rb.Ask {
		if a.Default == "" && rb.DependsOn(a.Name) {
			return a.Name, nil, nil
		}
	}
	m := sampled(rb, f, traits)
	p := &Plan{}
	in := m.targets(f, p)
	for _, t := range in {
		m.reaches(t, p)
	}
	m.platforms(in)
	for _, u := range unread(rb, in) {
		m.list = append(m.list, u.problem)
	}
	return "", strangers(in), m.list.Err()
}

// sampled makes a maker that plans with answers that fit, before the real ones are known.
func sampled(rb *runbook.Runbook, f *fleet.Fleet, traits map[string]Traits) *maker {
	m := &maker{rb: rb, answers: map[string]string{}, traits: traits, fleet: f, columns: f.Columns, said: map[string]bool{}, lenient: true}
	for _, a := range rb.Ask {
		m.answers[a.Name] = a.Sample()
	}
	return m
}

// Platforms are those of the devices in scope, as far as that can be told before values
// are known.
func Platforms(rb *runbook.Runbook, f *fleet.Fleet, traits map[string]Traits) (out []string) {
	for _, t := range sampled(rb, f, traits).targets(f, &Plan{}) {
		if !slices.Contains(out, t.Device.Platform) {
			out = append(out, t.Device.Platform)
		}
	}
	return out
}

// InScope are the devices in scope, as far as that can be told before values are known.
func InScope(rb *runbook.Runbook, f *fleet.Fleet, traits map[string]Traits) (out []string) {
	for _, t := range sampled(rb, f, traits).targets(f, &Plan{}) {
		out = append(out, t.Device.Name)
	}
	return out
}

// Mask takes the values that were asked for as secrets out of a text.
func (p *Plan) Mask(text string) string { return hide(text, p.secrets) }

func (p *Plan) maskedEach(lines []string) []string {
	for i, l := range lines {
		lines[i] = p.Mask(l)
	}
	return lines
}

// Mask takes secrets out of a text about the device: values that were asked for
// as secrets.
func (t *Target) Mask(text string) string { return hide(text, t.Secrets) }

// Masked takes the secrets out of lines, which may be paths of sections joined
// by " > ": those that were asked for, and what the platform says is one.
func (t *Target) Masked(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		parts := strings.Split(t.Mask(l), " > ")
		if t.Traits.Mask != nil {
			for j, p := range parts {
				parts[j] = t.Traits.Mask(p)
			}
		}
		out[i] = strings.Join(parts, " > ")
	}
	return out
}

func hide(text string, secrets []string) string {
	if len(secrets) == 0 || text == "" {
		return text
	}
	return veil.Of(secrets...).Mask(text)
}
