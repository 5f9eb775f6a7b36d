package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/record"
	"metabasis/internal/core/runbook"
)

// StepKind is what a step does.
type StepKind string

// The kinds of step. One that only expects something is a change of nothing.
const (
	ChangeStep StepKind = ""        // lines of a configuration
	LookStep   StepKind = "look"    // commands that change nothing; what they print is evidence
	DoStep     StepKind = "do"      // commands that do something and cannot be undone (law 18)
	WaitStep   StepKind = "wait"    // for a time, or until something holds
	HandStep   StepKind = "by hand" // a person does it
	// ConsoleStep is that a person works the device at its console, with its way back armed.
	ConsoleStep StepKind = "by console"
	SaveStep    StepKind = "save" // what runs is saved, and nothing else is done to the device
	// RestartStep is that the device is restarted, which cannot be undone: it is away for a while, and
	// that is proven by its being up for less long than that.
	RestartStep StepKind = "restart"
	// SoftwareStep is that the device is given other software, and started with it, as often as the way to
	// that has images on it. Its way back is the software that it ran before, and what starts it with that.
	SoftwareStep StepKind = "software"
)

// Command is something that is looked at, or done.
type Command struct {
	Line string
	// Answers are patterns: one line of what comes back must fit each; and none any of Never.
	Answers, Never []string
	Asked          [][2]string // what it may ask, and what is said to that
}

// Printed is a table that a command prints.
type Printed struct {
	Table  string
	Rows   func(lines []string) ([]record.Row, error)
	Manner record.Manner
}

// Deed is how a step's commands are given.
type Deed struct {
	Mode       string // "" is the profile's own
	Takes      time.Duration
	Repeatable bool // they may be given twice
	// Within is how long a look is repeated until what comes back fits; 0 for one look.
	Within time.Duration
}

// Wait is how long a step waits.
type Wait struct {
	For   time.Duration // a time; 0 where it waits until something holds
	Until *Check
	Most  time.Duration
}

// Absence is how long a device is away that is restarted.
type Absence struct {
	Usual time.Duration // as its profile says
	Most  time.Duration // after that it is not expected any more
}

// Restarts is how devices of a platform are restarted.
type Restarts struct {
	Usual time.Duration // how long they are away, usually
	Sends string        // what is sent for it, as it may be shown
}

// usualTakes is how long a command that does something may take where the runbook does not say.
const usualTakes = 30 * time.Second

// handTakes is how long a person is reckoned to take.
const handTakes = 5 * time.Minute

// ByPerson tells whether a person does the step.
func (s Step) ByPerson() bool { return s.Kind == HandStep || s.Kind == ConsoleStep }

// Does tells whether the step has the device do something that cannot be undone.
func (s Step) Does() bool { return s.Acts() && len(s.Commands) > 0 && !s.Done }

// Acts tells whether the step has the device do something that no line takes back.
func (s Step) Acts() bool { return s.Kind == DoStep || s.Away() }

// Away tells whether the device is absent in the step, since it is restarted.
func (s Step) Away() bool { return s.Kind == RestartStep || s.Kind == SoftwareStep }

// OnlyRestarts tells whether all that is done to the device is that it is restarted: there is nothing to
// take back then.
func (t *Target) OnlyRestarts() (only bool) {
	for _, s := range t.Steps {
		switch {
		case s.Not != "" || !s.Alters:
		case !s.Away():
			return false
		default:
			only = true
		}
	}
	return only
}

// Restarts tells whether the device is restarted in one of its steps.
func (t *Target) Restarts() bool {
	return slices.ContainsFunc(t.Steps, func(s Step) bool { return s.Away() && s.Not == "" && !s.Done })
}

// RestartsFirst tells whether the first thing that is done to the device is a restart: before that there
// is nothing that a rollback timer could take back, and a timer that restarts it would only do so twice.
func (t *Target) RestartsFirst() bool {
	for _, s := range t.Steps {
		if s.Not == "" && s.Alters && !s.Done {
			return s.Away()
		}
	}
	return false
}

// Touches tells whether anything is done to the device at all.
func (t *Target) Touches() bool {
	return slices.ContainsFunc(t.Steps, func(s Step) bool { return s.Not == "" && (s.Alters || s.Changes()) })
}

// OnlySaves tells whether all that is done to the device is to save what runs.
func (t *Target) OnlySaves() bool {
	return !t.Touches() && slices.ContainsFunc(t.Steps, func(s Step) bool { return s.Kind == SaveStep && s.Not == "" })
}

// Idle tells whether nothing is left to be done to the device. What is looked at, waited for or
// done by hand is so for the sake of what is done; where a device has nothing else, that is
// what its night is for.
func (t *Target) Idle() bool {
	if !t.Touches() {
		return !slices.ContainsFunc(t.Steps, func(s Step) bool { return s.Kind != ChangeStep && s.Kind != SaveStep && s.Not == "" })
	}
	return !slices.ContainsFunc(t.Steps, func(s Step) bool {
		return (s.Changes() || s.Acts() || s.Kind == ConsoleStep) && !s.Done && !t.FollowsNothing(s)
	})
}

// FollowsNothing tells whether a step follows steps of which nothing is to be done.
func (t *Target) FollowsNothing(s Step) bool {
	return len(s.Follows) > 0 && !slices.ContainsFunc(t.Steps, func(o Step) bool {
		return slices.Contains(s.Follows, o.Number) && (o.Changes() || o.Acts()) && !o.Done
	})
}

// Fits tells whether a line fits a pattern, in which * stands for any text.
func Fits(pattern, line string) bool {
	re, err := regexp.Compile(Pattern(pattern))
	return err == nil && re.MatchString(strings.TrimSpace(line))
}

// Pattern is the regular expression of a pattern in which * stands for any text, over a line
// with blanks around it.
func Pattern(pattern string) string {
	parts := strings.Split(strings.TrimSpace(pattern), "*")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	return `^\s*` + strings.Join(parts, ".*") + `\s*$`
}

// Judge says why what came back is not what must; "" where it is.
func (c Command) Judge(got []string) string {
	for _, p := range c.Never {
		if i := slices.IndexFunc(got, func(l string) bool { return Fits(p, l) }); i >= 0 {
			return fmt.Sprintf("%q came back, which must not", strings.TrimSpace(got[i]))
		}
	}
	for _, p := range c.Answers {
		if !slices.ContainsFunc(got, func(l string) bool { return Fits(p, l) }) {
			return fmt.Sprintf("nothing like %q came back", p)
		}
	}
	return ""
}

// deeds takes from the runbook what a step does that is no configuration.
func (m *maker) deeds(t *Target, s runbook.Step, on runbook.On, out *Step) {
	out.Follows = m.numbers(s.Follows)
	switch {
	case s.Save:
		out.Kind = SaveStep
	case s.Hand:
		out.Kind = HandStep
		if s.Console {
			out.Kind = ConsoleStep
		}
		for _, text := range s.Tell {
			line, err := text.Render(t.Env)
			if err != nil {
				m.fail(text.Line(), "%s: %v%s", t.Device.Name, err, m.unsaid(t, text))
			}
			out.Tell = append(out.Tell, line)
		}
	case s.Wait != nil:
		out.Kind, out.Wait = WaitStep, &Wait{For: s.Wait.For, Most: s.Wait.Most}
		if s.Wait.Until != nil {
			out.Wait.Until = &Check{s.Wait.Until, t.Env}
		}
	case on.Looks():
		out.Kind = LookStep
	case on.Does():
		out.Kind = DoStep
	case on.Restart:
		m.restarts(t, on, out)
	case on.Software != nil:
		m.software(t, on, out)
	default:
		return
	}
	out.Deed = Deed{Mode: on.Mode, Takes: on.Deed.Takes, Repeatable: on.Deed.Repeatable, Within: on.Deed.Within}
	if out.Deed.Takes == 0 {
		out.Deed.Takes = usualTakes
	}
	if on.Mode != "" && !slices.Contains(t.Traits.Modes, on.Mode) {
		m.once(on.Line, runbookModes(t.Traits.Modes), "%s has no mode %q", t.Device.Platform, on.Mode)
	}
}

func runbookModes(modes []string) string {
	if len(modes) == 0 {
		return "the command alone"
	}
	return "in one of " + strings.Join(modes, ", ")
}

// commands renders the commands of a round.
func (m *maker) commands(t *Target, on runbook.On, env runbook.Env) (out []Command) {
	if on.Restart && t.Traits.Restarts != nil {
		return []Command{{Line: t.Traits.Restarts.Sends}}
	}
	answers, never := m.patternsOf(t, on.Deed.Answers, env), m.patternsOf(t, on.Deed.Never, env)
	var asked [][2]string
	for _, a := range on.Deed.Asked {
		if both := m.patternsOf(t, []*runbook.Text{a.Question, a.Say}, env); len(both) == 2 {
			asked = append(asked, [2]string{both[0], both[1]})
		}
	}
	for _, text := range slices.Concat(on.Look, on.Do) {
		line, err := text.Render(env)
		if err != nil {
			m.fail(text.Line(), "%s: %v%s", t.Device.Name, err, m.unsaid(t, text))
			continue
		}
		why := t.Traits.mayNot(line, on.Looks())
		if why != "" {
			m.onceAt(text, "", "%q: %s", line, why)
		}
		m.secretInTheOpen(t, text, line)
		out = append(out, Command{line, answers, never, asked})
	}
	return out
}

func (m *maker) patternsOf(t *Target, texts []*runbook.Text, env runbook.Env) (out []string) {
	for _, text := range texts {
		line, err := text.Render(env)
		if err != nil {
			m.fail(text.Line(), "%s: %v%s", t.Device.Name, err, m.unsaid(t, text))
			continue
		}
		out = append(out, line)
	}
	return out
}

// mayNot says why a command must not be given; "" where it may.
func (t Traits) mayNot(line string, looks bool) string {
	for _, never := range t.Never {
		if never.MatchString(strings.TrimSpace(line)) {
			return "the profile never lets a runbook send it"
		}
	}
	if t.Unsendable != nil {
		if why := t.Unsendable(line); why != "" {
			return why
		}
	}
	switch {
	case looks && (t.ChangesNothing == nil || !t.ChangesNothing(line)):
		return "it is not among the commands that the profile knows to change nothing; where it does something, write do in place of look"
	case !looks && !t.TakesCommands:
		return "nothing is done there by a command"
	case !looks && t.ChangesNothing != nil && t.ChangesNothing(line):
		return "it changes nothing, as the profile says; write look in place of do"
	}
	return ""
}

// Said is what a step does that is no configuration, in lines: its commands, what it waits for,
// what a person is told. Secrets are not masked in it.
func (t *Target) Said(s Step) (out []string) {
	for _, c := range s.Commands {
		out = append(out, c.Line)
	}
	if s.Upgrade != nil {
		for _, i := range s.Upgrade.Way {
			out = append(out, fmt.Sprintf("# %s is %s, SHA-256 %s", i.Version, i.Name(), i.SHA256))
		}
	}
	if s.Wait != nil && s.Wait.Until != nil {
		out = append(out, fmt.Sprintf("until %s, for %s at most", s.Wait.Until.Cond.Source, runbook.FormatDuration(s.Wait.Most)))
	} else if s.Wait != nil {
		out = append(out, runbook.FormatDuration(s.Wait.For))
	}
	return append(out, s.Tell...)
}

// Work is how long a step that is no configuration takes: usually, and at most.
func (s Step) Work(command time.Duration) (usual, worst time.Duration) {
	n := time.Duration(len(s.Commands))
	//exhaustive:enforce
	switch s.Kind {
	case LookStep:
		usual = n * 2 * command
		worst = usual + n*s.Deed.Within
	case DoStep:
		if s.Done {
			return 0, 0
		}
		usual, worst = n*(command+s.Deed.Takes/expected), n*(command+s.Deed.Takes)
	case RestartStep:
		if !s.Done && s.Absence != nil {
			usual, worst = s.Absence.Usual+4*command, s.Absence.Most+4*command
		}
	case SoftwareStep: // see [Target.upgradeWork]
	case SaveStep:
		usual = 4 * command
		worst = usual
	case WaitStep:
		usual, worst = s.Wait.For+s.Wait.Most/expected, s.Wait.For+s.Wait.Most
	case HandStep, ConsoleStep:
		usual, worst = handTakes/2, handTakes
	case ChangeStep:
	}
	return usual, worst
}

// together refuses steps of other kinds between changes on platforms on which all changes of a
// device go into one apply: what stands behind them could not be applied any more.
func (m *maker) together(t *Target) {
	if !t.Traits.Once {
		return
	}
	changed, between := false, ""
	for _, s := range t.Steps {
		switch {
		case s.Changes() && changed && between != "":
			m.once(0, "it before all changes, or behind them", "step %q stands between changes, and on %s all of them go into one apply", between, t.Device.Platform)
			return
		case s.Changes():
			changed = true
		case s.Kind != ChangeStep && changed:
			between = s.Title
		}
	}
}

// undoable are the steps of a plan that cannot be undone, with how many devices do them.
func (p *Plan) undoable() (titles []string, count map[string]int) {
	count = map[string]int{}
	for _, t := range p.Targets() {
		for _, s := range t.Steps {
			if !s.Acts() {
				continue
			}
			if count[s.Title] == 0 {
				titles = append(titles, s.Title)
			}
			count[s.Title]++
		}
	}
	return titles, count
}

// deedsToKnow is what must be known of steps that are no configuration.
func deedsToKnow(p *Plan) (out []string) {
	titles, count := p.undoable()
	for _, title := range titles {
		if wanted, back := p.exchanges(title); wanted != "" {
			usual, most := p.away(title)
			out = append(out, fmt.Sprintf("step %q has %s run %s: at each restart on the way they are away for some %s, and looked for until %s after it; %s",
				title, devices(count[title]), wanted, runbook.FormatDuration(usual), runbook.FormatDuration(most), back))
			continue
		}
		if usual, most := p.away(title); most > 0 {
			out = append(out, fmt.Sprintf("step %q restarts %s: each is away for some %s, and looked for until %s after it was told to",
				title, devices(count[title]), runbook.FormatDuration(usual), runbook.FormatDuration(most)))
			continue
		}
		out = append(out, fmt.Sprintf("step %q does something on %s that cannot be undone: it is done once, and never in a rehearsal", title, devices(count[title])))
	}
	if !p.Unattended.Given {
		return out
	}
	for _, t := range p.Targets() {
		for _, s := range t.Steps {
			if s.ByPerson() {
				return append(out, fmt.Sprintf("step %q is done by hand: where nobody is there, nobody confirms it, and what the unattended line says is done", s.Title))
			}
		}
	}
	return out
}
