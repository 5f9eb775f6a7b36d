package plan

import (
	"errors"
	"fmt"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
)

// A step that restores puts back what a device had. The lines that lead there from what
// runs are computed, so that what stays is not touched and the way by which the device is
// managed is changed last; where no lines lead there, the whole text is put back.

// pasts finds what each restoring step of the runbook puts back on a device, by step. A
// device of which there is nothing is left out, and it is said why.
func (m *maker) pasts(d fleet.Device) (map[int]*runbook.Was, scope.Outside) {
	out := map[int]*runbook.Was{}
	for i, s := range m.rb.Steps {
		if s.Restore == nil {
			continue
		}
		if m.rb.Past == nil {
			m.once(s.Line, "", "step %q restores, and there is no shelf of backups here", s.Title)
			continue
		}
		was, err := m.rb.Past(*s.Restore, d.Name)
		var none *runbook.NoPast
		switch {
		case errors.As(err, &none):
			return nil, scope.Outside{Why: none.Why, Rule: "restore " + s.Restore.String(), Open: none.Open}
		case err != nil:
			m.fail(s.Line, "step %q: %v", s.Title, err)
		case was.Platform != "" && was.Platform != d.Platform:
			return nil, scope.Outside{Why: fmt.Sprintf("what it had, %s, is of platform %s, and it is of platform %s now", was.Name, was.Platform, d.Platform), Rule: "restore " + s.Restore.String()}
		default:
			out[i] = &was
		}
	}
	return out, scope.Outside{}
}

// canRestore refuses platforms to which nothing can be put back.
func (m *maker) canRestore(t *Target, s runbook.Step) {
	if s.Restore != nil && t.Traits.Language == nil && !t.Traits.Restores && !t.Traits.Whole {
		m.once(s.Line, "the scope without "+t.Device.Platform, "step %q: nothing can be restored on %s: its profile has neither a language to compute lines by, nor says how a whole backup is put back",
			s.Title, t.Device.Platform)
	}
}

// computeWas finds out what leads from what runs to what was.
func (t *Target) computeWas(s *Step, now config.Config, known bool) error {
	s.Send, s.Undo, s.Put, s.Whole, s.Done = nil, nil, nil, "", false
	before := config.Parse(s.Was.Text, t.Traits.Style)
	if !known {
		if s.Later = true; s.Was.Left == "" {
			s.After = &before
		}
		return nil
	}
	after, merged, err := t.goal(s.Was, now, before)
	if err != nil {
		return err
	}
	after = t.Traits.Language.WithFixed(after, now)
	s.After = &after
	if s.Done = config.Equal(now, after) || config.OnlyParts(now, after); s.Done {
		s.After = &now // what runs beside it cannot be put back, and stays
		return nil
	}
	lines, err := t.Lead(now, after)
	switch {
	case !merged && t.Traits.Restores && t.atOnce():
		s.whole()
	case err == nil:
		s.Send, s.Done = lines, len(lines) == 0
		// What is there by itself, such as the section of a port, is not taken away.
		if got, err := t.Traits.Language.Predict(now, lines); err == nil {
			after = got
		}
		s.Undo, _ = t.Lead(after, now) // for those who read it: what takes it back is computed from what runs
	case merged:
		return fmt.Errorf("no lines lead back, and the whole of %s cannot be put back: others changed the configuration since; restore what was before that night to give up what they did: %w", s.Was.Name, err)
	case t.Traits.Whole:
		s.Put = strings.Split(strings.TrimRight(config.Alone(s.Was.Text), "\n"), "\n")
		s.Send = s.Put
	case t.Traits.Restores:
		s.whole()
	default:
		return fmt.Errorf("no lines lead to what was, and its profile does not say how a whole backup is put back: %w", err)
	}
	return nil
}

// atOnce tells whether a whole backup is put back in one act that takes effect at once,
// while lines would take effect one by one in a model whose own rules nobody told us.
func (t *Target) atOnce() bool {
	return t.Traits.Language != nil && t.Traits.Language.Tree && !t.Traits.Stages
}

// whole has the backup put back as a whole.
func (s *Step) whole() {
	s.Whole = config.Alone(s.Was.Text)
	s.Send = strings.Split(strings.TrimRight(s.Whole, "\n"), "\n")
}

// goal is what the configuration shall be. Merged tells that it is not the backup itself,
// since what others changed since stays.
func (t *Target) goal(was *runbook.Was, now, before config.Config) (goal config.Config, merged bool, err error) {
	if was.Left == "" {
		return before, false, nil
	}
	after := config.Parse(was.Left, t.Traits.Style)
	if config.Equal(now, after) || config.OnlyParts(now, after) {
		return before, false, nil
	}
	goal, clashes := t.Traits.Language.Without(now, after, before)
	if len(clashes) > 0 {
		var told []string
		for _, c := range clashes {
			told = append(told, t.clash(c))
		}
		if was.Guessed != "" {
			return goal, true, fmt.Errorf("%s, and what it has is not what was predicted there: %s; what was before that night can be put back as a whole", was.Guessed, strings.Join(told, "; "))
		}
		return goal, true, fmt.Errorf("others have changed the same since: %s", strings.Join(told, "; "))
	}
	return goal, !config.Equal(goal, before), nil
}

// clash is a clash with its secrets masked.
func (t *Target) clash(c config.Clash) string {
	c.Path, c.There = t.Masked([]string{c.Path})[0], t.Masked(c.There)
	return c.String()
}
