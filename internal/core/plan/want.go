package plan

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
)

// wanted is what lines, as the device prints them, and patterns say shall be there.
func (t *Target) wanted(want, gone, noOther []string) config.Want {
	lines := func(list []string) []config.Line { return config.Written(list, t.Traits.Style) }
	return config.Want{Lines: lines(want), Gone: lines(gone), NoOther: noOther}
}

// patterns renders patterns of lines. A value must not widen one.
func (m *maker) patterns(t *Target, texts []*runbook.Text, env runbook.Env) (out []string) {
	for i, p := range m.render(t, texts, env) {
		if i < len(texts) && strings.Count(p, "*") != strings.Count(texts[i].Source, "*") {
			m.onceAt(texts[i], "", "a value in %q has a *, which would take away more than the pattern says", texts[i].Source)
		}
		out = append(out, p)
	}
	return out
}

// suits refuses what the rules of a platform's language cannot do: what is wanted, and a
// way back that nobody has written.
func (m *maker) suits(t *Target, s runbook.Step, on runbook.On, out Step) {
	l, platform := t.Traits.Language, t.Device.Platform
	switch {
	case out.Want == nil && !out.Unwritten:
	case l == nil && out.Want != nil:
		m.once(
			on.Line,
			"send and undo on "+platform,
			"the profile of %s has no language: which lines lead to what is wanted in step %q is not known",
			platform,
			s.Title,
		)
	case l == nil:
		m.once(
			on.Line,
			"undo, and under it the lines that take this back",
			"step %q cannot be taken back on %s: it has no undo lines, and its profile has no language to compute them by",
			s.Title,
			platform,
		)
	case out.Through != nil: // its lines are only known at the device
	case out.Want != nil:
		for _, why := range m.refused(platform, l, out.Want) {
			m.onceAt(textOf(on, why), "", "step %q cannot be done by the language of %s: %s", s.Title, platform, why)
		}
	default:
		var w *config.Wrong
		if errors.As(l.LeadsBack(out.Send), &w) {
			m.once(
				on.Line,
				"undo, and under it the lines that take this back",
				"step %q has no undo lines, and none can be computed on %s: %q: %s",
				s.Title,
				platform,
				w.Line,
				w.Why,
			)
		}
	}
}

// refused is why a language refuses what is wanted. Most devices want the same, and it is
// found out once.
func (m *maker) refused(platform string, l *config.Language, want *config.Want) []string {
	if m.refuses == nil {
		m.refuses = map[string][]string{}
	}
	key := platform + "\x00" + wantKey(*want)
	out, known := m.refuses[key]
	if !known {
		out = l.Refuses(*want)
		m.refuses[key] = out
	}
	return out
}

// wantKey tells what is wanted from other things: equal keys want the same.
func wantKey(w config.Want) string {
	var b strings.Builder
	var walk func(lines []config.Line)
	walk = func(lines []config.Line) {
		for _, l := range lines {
			b.WriteString(l.Text)
			b.WriteByte('\n')
			walk(l.Under)
		}
		b.WriteByte(0)
	}
	walk(w.Lines)
	walk(w.Gone)
	for _, p := range w.NoOther {
		b.WriteString(p)
		b.WriteByte('\n')
	}
	return b.String()
}

// textOf is the device text of a step that a reason speaks of; the first where that
// cannot be told.
func textOf(on runbook.On, why string) *runbook.Text {
	texts := slices.Concat(on.Want, on.Gone, on.NoOther)
	for _, t := range texts {
		if strings.Contains(why, strings.TrimSpace(t.Source)) {
			return t
		}
	}
	return texts[0]
}

// through makes the loop of a step over the rows of a table.
func (m *maker) through(s runbook.Step, on runbook.On) *Through {
	rb, answers, traits := m.rb, m.answers, m.traits
	return &Through{Table: s.For.Table, Reads: s.For.Reads, Where: s.For.Where, Var: s.For.Var, loop: s.For, render: func(
		t *Target,
		env runbook.Env,
	) (Round, error) {
		late := &maker{rb: rb, answers: answers, traits: traits, secrets: t.Secrets, said: map[string]bool{}}
		r := late.round(t, s, on, env)
		return r, problems(late.list)
	}}
}

// problems are the problems of one device as one error.
func problems(list problem.List) error {
	var errs []error
	for _, p := range list {
		errs = append(errs, fmt.Errorf("line %d of the runbook: %s", p.Line, p.Msg))
	}
	return errors.Join(errs...)
}
