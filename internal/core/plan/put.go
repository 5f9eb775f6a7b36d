package plan

import (
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/runbook"
)

// put renders a step that puts a whole configuration in place.
func (m *maker) put(t *Target, s runbook.Step, on runbook.On, out Step) Step {
	if !t.Traits.Whole {
		m.once(
			on.Line,
			"send or want, and under it the lines",
			"step %q puts a whole file in place, and %s takes lines",
			s.Title,
			t.Device.Platform,
		)
	}
	out.Uses = m.uses(t, on)
	out.Put = m.lines(t, on.Put, t.Env)
	out.Send = out.Put
	r := m.round(t, s, on, t.Env)
	r.Send, out.Expect = out.Put, r.Expect
	out.Rounds = []Round{r}
	return out
}

// putBy is what the configuration is once the step's file is in place.
func (s *Step) putBy(style config.Style) config.Config {
	return config.Parse(strings.Join(s.Put, "\n")+"\n", style)
}

// computePut finds out whether the file is in place already.
func (t *Target) computePut(s *Step, now config.Config, known bool) {
	after := s.putBy(t.Traits.Style)
	s.After, s.Done, s.Send = &after, known && config.Equal(now, after), s.Put
	if s.Done {
		s.Send = nil
	}
}
