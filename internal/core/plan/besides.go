package plan

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// What people bring beside a runbook: tables of which a device may have no row, files of which
// it may have none, cells that hold several values and do not say so.

// own are the lines of the file of one device. What is not there is told for all devices
// together.
func (m *maker) own(t *Target, text *runbook.Text, env runbook.Env) []*runbook.Text {
	lines, err := m.rb.Own(text, env)
	var none *runbook.NoFile
	var wrong problem.List
	switch {
	case errors.As(err, &none):
		if m.absent == nil {
			m.absent = map[*runbook.Text][]string{}
		}
		m.absent[text] = append(m.absent[text], fmt.Sprintf("%s (%s)", t.Device.Name, none.File))
	case errors.As(err, &wrong):
		m.list = append(m.list, wrong...)
	case err != nil:
		m.fail(text.Line(), "%s: %v", t.Device.Name, err)
	}
	return lines
}

// absentFiles tells of which devices a file is not there, all of them together.
func (m *maker) absentFiles() {
	for text, names := range m.absent {
		slices.Sort(names)
		names = slices.Compact(names)
		m.fail(
			text.Line(),
			"there is no file %s for %s: %s",
			text.Source,
			devices(len(names)),
			strings.Join(names[:min(len(names), mostNamed)], ", ")+more(len(names)-mostNamed),
		)
	}
}

// mostNamed is how many devices without a file are named: who has more made another mistake.
const mostNamed = 40

func more(n int) string {
	if n <= 0 {
		return ""
	}
	return fmt.Sprintf(" and %d more", n)
}

// emptyLoop says why a loop goes through nothing on a device, where the fleet says so.
func emptyLoop(t *Target, s runbook.Step) string {
	l := s.For
	switch {
	case l == nil:
		return ""
	case l.Table == "":
		return fmt.Sprintf("step %q: its range is empty on %s", s.Title, t.Device.Name)
	case l.Where != nil && len(l.Given(t.Env)) > 0:
		return fmt.Sprintf("step %q: no row of %s fits, of %d", s.Title, l.Table, len(l.Given(t.Env)))
	}
	return fmt.Sprintf("step %q: no row of %s is for it", s.Title, l.Table)
}

// empties says on which devices a step does nothing since no row is for them: that may be
// meant, or a row may be missing.
func empties(p *Plan) (out []string) {
	type at struct {
		step int
		why  string
	}
	var order []at
	names := map[at][]string{}
	for _, t := range p.Targets() {
		for _, s := range t.Steps {
			if s.Empty == "" {
				continue
			}
			_, why, _ := strings.Cut(s.Empty, ": ")
			key := at{s.Number, strings.ReplaceAll(why, " on "+t.Device.Name, "")}
			if names[key] == nil {
				order = append(order, key)
			}
			names[key] = append(names[key], t.Device.Name)
		}
	}
	slices.SortStableFunc(order, func(a, b at) int { return cmp.Compare(a.step, b.step) })
	for _, key := range order {
		out = append(
			out,
			fmt.Sprintf("step %q does nothing on %s: %s: %s", p.StepTitles[key.step-1], devices(len(names[key])), key.why, some(names[key])),
		)
	}
	return out
}

// strangers says which lines are sent that no rule of a platform's language takes: the device
// refuses them, or nobody knows what they do.
func strangers(in []*Target) (out []string) {
	said := map[string]bool{}
	for _, t := range in {
		l := t.Traits.Language
		if l == nil || l.Tree {
			continue
		}
		for _, s := range t.Steps {
			if s.Want != nil || s.Was != nil || len(s.Put) > 0 || len(s.Send) == 0 || s.Through != nil {
				continue
			}
			key := fmt.Sprint(t.Device.Platform, s.Number, s.Send)
			if said[key] {
				continue
			}
			said[key] = true
			var lines []string
			for _, w := range l.Strange(s.Send) {
				lines = append(lines, fmt.Sprintf("%q", strings.TrimSpace(t.Masked([]string{w.Line})[0])))
			}
			if text := fmt.Sprintf("step %q sends what no rule of the language of %s takes: %s: it may be refused, and what it does is not known",
				s.Title, t.Device.Platform, some(lines)); len(lines) > 0 && !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
	}
	return out
}

// perhapsList refuses to take a text of several words for one value where a loop goes through
// nothing else: it is a list, more likely than not, and would be sent as one line.
func (m *maker) perhapsList(t *Target, s runbook.Step) {
	if s.For == nil || len(s.For.List) != 1 || m.fleet == nil {
		return
	}
	text := s.For.List[0]
	name := strings.TrimSuffix(strings.TrimPrefix(strings.TrimSpace(text.Source), "<<"), ">>")
	v := t.Device.Values[name]
	if k, has := m.fleet.Kinds[name]; !has || k.Type != kind.Text || m.fleet.SaysKind(name) || len(kind.Items(v)) < 2 {
		return
	}
	m.once(s.For.Line, fmt.Sprintf(
		"for %s in %s, and in the head of its file: %s: list of %s",
		s.For.Var,
		name,
		name,
		kind.Guess(kind.Items(v)).Type,
	),
		"%s of %s is %q, which the loop would take for one value; where it is one, say in the head of its file: %s: text", name, t.Device.Name, v, name)
}
