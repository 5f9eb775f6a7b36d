package plan

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/runbook"
)

// undoes refuses undo lines that do not take away what the step puts there, where the
// language of the platform can tell: on a device that has none of it before. What replaces
// something else can only be judged on the device, and so can trees of data.
func (m *maker) undoes(t *Target, s runbook.Step, on runbook.On, out Step) {
	l := t.Traits.Language
	if l == nil || l.Tree || len(out.Send) == 0 || len(out.Undo) == 0 || out.Want != nil || out.Unwritten || out.Through != nil {
		return
	}
	var fixed [][]string // sections that are there by themselves
	for _, line := range slices.Concat(out.Send, out.Undo) {
		if line = strings.TrimSpace(line); l.Fixed(line) {
			fixed = append(fixed, []string{line})
		}
	}
	base := config.Of(fixed, t.Traits.Style)
	after, err := l.Predict(base, out.Send)
	if err != nil {
		return
	}
	back, err := l.Predict(after, out.Undo)
	if err != nil {
		return
	}
	made, left := config.Compare(base, after).Added, config.Compare(base, back).Added
	for _, path := range left {
		section := slices.ContainsFunc(made, func(p string) bool { return strings.HasPrefix(p, path+" > ") })
		if parts := strings.Split(path, " > "); !slices.Contains(made, path) || section || len(parts) == 1 && l.Fixed(path) {
			continue
		}
		m.once(
			on.Line,
			"undo lines that take it away, or none: then they are computed",
			"the undo lines of step %q do not undo it on %s: %q stays",
			s.Title,
			t.Device.Platform,
			t.Masked([]string{path})[0],
		)
		return
	}
}

// unjudged says on which platforms without a way back of their own nobody can tell whether
// undo lines lead back.
func unjudged(p *Plan) (out []string) {
	steps := map[string][]string{}
	for _, t := range p.Targets() {
		for _, s := range t.Steps {
			if title := fmt.Sprintf(
				"%q",
				s.Title,
			); t.Traits.Language == nil && !p.Guards(t) && len(s.Undo) > 0 &&
				!slices.Contains(steps[t.Device.Platform], title) {
				steps[t.Device.Platform] = append(steps[t.Device.Platform], title)
			}
		}
	}
	for _, platform := range slices.Sorted(maps.Keys(steps)) {
		out = append(
			out,
			fmt.Sprintf(
				"%s: nobody can judge before the night whether the undo lines of %s lead back: its profile has no language",
				platform,
				some(steps[platform]),
			),
		)
	}
	return out
}
