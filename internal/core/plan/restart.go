package plan

import (
	"time"

	"metabasis/internal/core/runbook"
)

// Bounds on the absence of a device that is restarted, where the runbook does not say.
const (
	shortestBack = 5 * time.Minute
	backTimes    = 3 // as long as it usually takes
)

// restarts takes from the runbook that a device is restarted.
func (m *maker) restarts(t *Target, on runbook.On, out *Step) {
	out.Kind = RestartStep
	r := t.Traits.Restarts
	if r == nil {
		m.once(on.Line, "restart: with send: and up: in its profile; or the step under on, for platforms that can be restarted",
			"the profile of %s does not say how a device is restarted, and how it is told that it was", t.Device.Platform)
		return
	}
	out.Absence = m.absence(t, on, r.Usual)
}

// absence is how long the device is away in a step that restarts it.
func (m *maker) absence(t *Target, on runbook.On, usual time.Duration) *Absence {
	a := &Absence{Usual: usual, Most: on.Back}
	if a.Most == 0 {
		a.Most = max(shortestBack, backTimes*usual)
	}
	if a.Most < usual {
		m.once(on.Line, "back within "+runbook.FormatDuration(2*usual), "%s is usually away for %s when it is restarted: it could not be back within %s",
			t.Device.Platform, runbook.FormatDuration(usual), runbook.FormatDuration(a.Most))
	}
	return a
}

// savedByThen refuses a restart behind what changes the device in the same night: nothing of that is
// saved before the end, and a restart would lose it, or leave what is on trial to nobody.
func (m *maker) savedByThen(t *Target) {
	changed, exchanged := "", ""
	for _, s := range t.Steps {
		switch {
		case s.Kind == SoftwareStep && exchanged != "":
			m.once(m.rb.Steps[s.Number-1].Line, "the version that is wanted in the end: the way there is computed",
				"step %q gives a device other software, and %q before it does so, too", s.Title, exchanged)
			return
		case s.Away() && changed != "":
			m.once(m.rb.Steps[s.Number-1].Line, "the restart before all changes, or in a night of its own",
				"step %q restarts a device, and %q before it changes it: what is kept is saved at the end of the night, and the restart would lose it", s.Title, changed)
			return
		case s.Changes(), s.Kind == ConsoleStep:
			changed = s.Title
		}
		if s.Kind == SoftwareStep {
			exchanged = s.Title
		}
	}
}

// away is how long devices are away in a step of that title, usually and at most; 0 where it restarts none.
func (p *Plan) away(title string) (usual, most time.Duration) {
	for _, t := range p.Targets() {
		for _, s := range t.Steps {
			if s.Title == title && s.Absence != nil {
				usual, most = max(usual, s.Absence.Usual), max(most, s.Absence.Most)
			}
		}
	}
	return usual, most
}

// AwayFor is how long a device is away that is restarted in a step: usually, and in nine cases of ten, as
// the nights that were say of its platform; seldom is 0 where they say nothing, and the profile does.
func (p *Plan) AwayFor(t *Target, s Step) (usual, seldom time.Duration) {
	part := Away
	if s.Kind == SoftwareStep {
		part = AwayNew
	}
	if e, ok := p.estimates.Part(t.Device.Platform, part); ok {
		return e.Median, e.P90
	}
	return s.Absence.Usual, 0
}
