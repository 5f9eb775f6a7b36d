package acts

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/kind"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/textfile"
	"metabasis/internal/core/work"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/seal"
	"metabasis/internal/store"
	"metabasis/internal/workspace"
)

// Change is a runbook read and compiled against the workspace, not planned yet.
type Change struct {
	*Desk
	File    string
	Runbook *runbook.Runbook
	Fleet   *fleet.Fleet
	text    string
	notes   []string          // what is to be known before it is begun, beside the plan's own warnings
	resumes *resumes          // a night that it goes on with; nil is none
	told    map[string]string // secrets that it asks for, as they were found last
}

// Change reads a runbook and the fleet it is for; a fleet file takes the place of the
// workspace's, "" is that one.
func (d *Desk) Change(file, fleetFile string) (*Change, error) {
	read := d.working("reading the fleet")
	fl, err := d.Workspace.Fleet(fleetFile)
	read()
	if err != nil {
		return nil, err
	}
	named := file
	if file, err = d.RunbookFile(named); err != nil {
		return nil, err
	}
	rb, text, err := d.Runbook(file, fl)
	if err != nil {
		return nil, err
	}
	c := &Change{Desk: d, File: file, Runbook: rb, Fleet: fl, text: text}
	if file != named {
		c.notes = append(c.notes, fmt.Sprintf("%s is the one in the workspace: %s", named, file))
	}
	return c, nil
}

// Check holds a runbook against the fleet: what cannot be done on a platform in scope
// is found here, not at night. Open names what it depends on that is asked for, where
// that keeps it from being held against the fleet; without a fleet, f is nil. Doubts are what is
// no mistake for certain.
func (d *Desk) Check(file string, f *fleet.Fleet) (rb *runbook.Runbook, open string, doubts []string, err error) {
	if file, err = d.RunbookFile(file); err != nil {
		return nil, "", nil, err
	}
	rb, _, err = d.Runbook(file, f)
	if err == nil && f != nil {
		defer d.working("holding %s against %s", file, report.Count(len(f.Devices), "device"))()
		open, doubts, err = plan.Review(rb, f, d.Profiles.Traits())
	}
	return rb, open, doubts, err
}

// RunbooksFor are the runbooks of the workspace whose scope has any of some devices; one of which
// that depends on a value that is asked for is among them. Wrong are those that have mistakes:
// what they are for is not known.
func (d *Desk) RunbooksFor(ctx context.Context, f *fleet.Fleet, names []string) (out, wrong []string) {
	meant := map[string]bool{}
	for _, n := range names {
		meant[n] = true
	}
	traits := d.Profiles.Traits()
	for _, file := range d.Runbooks() {
		if ctx.Err() != nil {
			break
		}
		rb, _, err := d.Runbook(file, f)
		if err != nil {
			wrong = append(wrong, filepath.Base(file))
			continue
		}
		if slices.ContainsFunc(plan.InScope(rb, f, traits), func(n string) bool { return meant[n] }) {
			out = append(out, file)
		}
	}
	return out, wrong
}

// Request is what a night is planned from, beside its runbook.
type Request struct {
	Answers []string // NAME=VALUE, for values the runbook asks for
	// ValuesFile is a YAML file of NAME: VALUE; answers go before it. "" is none.
	ValuesFile string
	Waivers    []string // CHECK on DEVICE: REASON
	// Only are words that choose a part of the runbook's scope, as [Desk.Select] takes them.
	Only []string
	// Sealed is the file of a sealed plan: the night is planned only if nothing differs
	// from it. "" is none.
	Sealed string
	// Shown is what was shown of each device and confirmed: one that has another configuration by
	// then is left as it is. nil is nothing.
	Shown *store.Rehearsal
	// anew has all values put to the person, also those that are given.
	anew bool
	// Unattended says that nobody decides at holds: the runbook must say what is done.
	Unattended bool
}

// Plan plans a night, as [Change.Planned] does, and gets its devices ready to be reached.
// Nothing connects, except to jump hosts that ask for more than a password. Close must be
// called on the night.
func (c *Change) Plan(ctx context.Context, r Request) (night *Tonight, err error) {
	began := time.Now()
	defer func() { c.did("plan", began, err, "runbook", c.File) }()
	finder := c.finder()
	p, sealed, err := c.plan(ctx, r, finder)
	if err != nil {
		return nil, err
	}
	if r.Unattended && !p.Unattended.Given {
		return nil, fmt.Errorf("%s has no unattended line, so nobody would answer a hold; write, for example: unattended  take back the device", c.File)
	}
	access, err := c.reachable(ctx, p, finder)
	if err != nil {
		return nil, err
	}
	if r := c.resumes; r != nil {
		p = p.BeginningWith("the night that was cut off had begun with it", func(device string) bool { return r.past.Night.Get(device).MayRun() })
	}
	n := c.Prepare(p, c.File, workspace.Whole(c.Runbook, c.text), access, r.Unattended, Who())
	if r := c.resumes; r != nil {
		n.Resume(&r.past.Past, r.back)
	}
	switch {
	case sealed != nil:
		n.Seal(sealed.For)
	case r.Shown != nil:
		n.Seal(shown(r.Shown))
	}
	access.OpenJumps(ctx, n.Connector, devicesOf(p))
	night = newNight(c.Desk, n, access)
	night.change, night.request = c, r
	c.mu.Lock()
	c.nights = append(c.nights, night)
	c.mu.Unlock()
	return night, nil
}

// Planned plans a night and reaches nobody: the values that the runbook asks for are taken
// from the request, else from its own, else the person is asked.
func (c *Change) Planned(ctx context.Context, r Request) (*plan.Plan, error) {
	p, _, err := c.plan(ctx, r, c.finder())
	return p, err
}

// plan makes the plan, and where it was sealed reads the seal that it must agree with.
func (c *Change) plan(ctx context.Context, r Request, finder *workspace.Finder) (*plan.Plan, *seal.Plan, error) {
	answers, err := c.values(ctx, r, finder)
	if err != nil {
		return nil, nil, err
	}
	defer c.working("planning for a fleet of %s", report.Count(len(c.Fleet.Devices), "device"))()
	seen, unread := c.Seen(ctx)
	part, err := c.chosen(r)
	if err != nil {
		return nil, nil, err
	}
	p, err := plan.Make(c.Runbook, c.Fleet.Placed(seen), answers, c.Profiles.Traits(), time.Now(), part)
	if err != nil {
		return nil, nil, err
	}
	ids, err := c.Identities()
	if err != nil {
		return nil, nil, err
	}
	p = p.Learned(c.Estimates(ctx)).Known(ids.Last)
	p.Warnings = append(p.Warnings, c.notes...)
	if c.resumes == nil {
		p.Warnings = append(p.Warnings, c.cutOff(ctx)...)
	}
	p.Warnings = append(p.Warnings, c.onTheirWay(p)...)
	if unread != nil { // a journal that is damaged keeps nobody from a night
		p.Warnings = append(p.Warnings, "what devices told of their neighbours cannot be read, so only via in the fleet counts")
	}
	var waivers, ofSeal []plan.Waiver
	for _, text := range r.Waivers {
		w, err := plan.ParseWaiver(text, Who())
		if err != nil {
			return nil, nil, err
		}
		if w.Check == work.SealedCheck {
			ofSeal = append(ofSeal, w)
		} else {
			waivers = append(waivers, w)
		}
	}
	if err := p.Waive(waivers); err != nil {
		return nil, nil, err
	}
	if err := p.Readable(); err != nil {
		return nil, nil, err
	}
	sealed, err := c.heldAgainst(p, r.Sealed)
	if err != nil {
		return nil, nil, err
	}
	return p, sealed, p.Waive(ofSeal)
}

// chosen is the part of the scope that is chosen for this night: by the request, else by what
// was sealed.
func (c *Change) chosen(r Request) (*scope.Part, error) {
	from, err := c.From()
	if err != nil {
		return nil, err
	}
	words := r.Only
	if len(words) == 0 && r.Sealed != "" {
		if words, err = sealedFor(r.Sealed); err != nil {
			return nil, err
		}
	}
	part, err := scope.Choose(c.Fleet, words, from)
	if err != nil {
		return nil, fmt.Errorf("--only: %w", err)
	}
	return part, nil
}

// Replan asks for the values of a night that has not begun, those that it has beside them,
// and plans it anew with what is answered. Waivers stay. The night itself is not touched:
// it is to be closed where the new one takes its place.
func (n *Tonight) Replan(ctx context.Context) (*Tonight, error) {
	asked := slices.ContainsFunc(n.change.Runbook.Ask, func(k runbook.Ask) bool { return k.Kind.Type != kind.Secret })
	switch {
	case n.Began():
		return nil, errors.New("the night has begun: its values are what they are")
	case n.request.Sealed != "":
		return nil, fmt.Errorf("the values are those that were sealed in %s", n.request.Sealed)
	case !asked:
		return nil, errors.New("this runbook asks for no values")
	case n.desk.Person == nil:
		return nil, person.ErrNobody
	}
	r := n.request
	r.anew, r.Waivers, r.Answers = true, nil, nil
	for _, ask := range n.change.Runbook.Ask {
		for _, v := range n.Plan.Values {
			if v.Name == ask.Name && ask.Kind.Type != kind.Secret {
				r.Answers = append(r.Answers, v.Name+"="+v.Value)
			}
		}
	}
	again, err := n.change.Plan(ctx, r)
	if err != nil {
		return nil, err
	}
	again.request.anew = false
	if err := again.Plan.Waive(n.Plan.Waivers); err != nil {
		return nil, errors.Join(err, again.Close())
	}
	return again, nil
}

// reachable gets ready to reach the devices of a plan, with the finder that its values
// were found by: no secret is looked for twice.
func (c *Change) reachable(ctx context.Context, p *plan.Plan, finder *workspace.Finder) (*workspace.Access, error) {
	if c.Access != nil {
		return c.Access(c.Fleet), nil
	}
	return c.Workspace.Access(ctx, c.Fleet, devicesOf(p), finder)
}

// devicesOf are the devices of a plan, the partners of those in pairs, and those from which
// something is to be reached.
func devicesOf(p *plan.Plan) []fleet.Device {
	var out []fleet.Device
	for _, t := range p.Targets() {
		out = append(out, t.Device)
		if t.Mate != nil && p.Asks("pair") {
			out = append(out, *t.Mate)
		}
	}
	for _, t := range p.Others() {
		if !slices.ContainsFunc(out, func(d fleet.Device) bool { return d.Name == t.Device.Name }) {
			out = append(out, t.Device)
		}
	}
	return out
}

// values settles the values that the runbook asks for. Secrets come from where secrets
// are kept, never from a request.
func (c *Change) values(ctx context.Context, r Request, find *workspace.Finder) (map[string]string, error) {
	out, err := c.filed(r.ValuesFile)
	if err != nil {
		return nil, err
	}
	if err := c.given(r.Answers, out); err != nil {
		return nil, err
	}
	asked, err := c.askValues(ctx, r, out)
	if err != nil {
		return nil, err
	}
	for _, ask := range c.Runbook.Ask {
		v := out[ask.Name]
		if ask.Kind.Type == kind.Secret {
			if had, ok := c.told[ask.Name]; ok && r.anew {
				v = had
			} else if v, err = secretValue(ctx, ask, find); err != nil {
				return nil, err
			}
			if c.told == nil {
				c.told = map[string]string{}
			}
			out[ask.Name], c.told[ask.Name] = v, v
		}
		if ask.Kind.Type == kind.Text && v == "" && !asked && !slices.Contains(r.Answers, ask.Name+"=") {
			return nil, fmt.Errorf("%s: nobody answers %q here; give it with --answer %s=VALUE", ask.Name, ask.Prompt, ask.Name)
		}
		if err := ask.Check(v); err != nil {
			return nil, fmt.Errorf("%w; give it with --answer %s=VALUE", err, ask.Name)
		}
	}
	return out, nil
}

// given takes the runbook's own values, and those of a request in their place.
func (c *Change) given(answers []string, out map[string]string) error {
	for _, text := range answers {
		name, value, ok := strings.Cut(text, "=")
		i := slices.IndexFunc(c.Runbook.Ask, func(k runbook.Ask) bool { return k.Name == name })
		switch {
		case i >= 0 && c.Runbook.Ask[i].Kind.Type == kind.Secret:
			return fmt.Errorf("--answer %s: it is a secret, and a command line can be read by everybody on this machine and stays in the shell's history; "+
				"set %s, put it into the secrets file with metabasis secret add answer %s, or let yourself be asked", name, workspace.Variable("answer", name), name)
		case !ok || i < 0:
			return fmt.Errorf("--answer %q: write NAME=VALUE with a name the runbook asks for", text)
		}
		out[name] = value
	}
	return nil
}

// filed are the runbook's own values, and in their place those of a file. A secret is not
// taken from it: it would lie there for everybody to read.
func (c *Change) filed(file string) (map[string]string, error) {
	out := map[string]string{}
	var names []string
	for _, ask := range c.Runbook.Ask {
		out[ask.Name] = ask.Default
		names = append(names, ask.Name)
	}
	if file == "" {
		return out, nil
	}
	data, err := textfile.Read(file, textfile.Small)
	if err != nil {
		return nil, err
	}
	values := map[string]string{}
	if _, err := textfile.YAML(file, data, &values, true); err != nil {
		return nil, err
	}
	lines := strings.Split(string(data), "\n")
	at := func(name string) problem.Problem {
		i := slices.IndexFunc(lines, func(l string) bool { return strings.HasPrefix(l, name+":") })
		if i < 0 {
			return problem.Problem{File: file}
		}
		return problem.Problem{File: file, Line: i + 1, Text: lines[i]}
	}
	var list problem.List
	for _, name := range slices.Sorted(maps.Keys(values)) {
		i := slices.IndexFunc(c.Runbook.Ask, func(k runbook.Ask) bool { return k.Name == name })
		p, v := at(name), values[name]
		switch {
		case i < 0:
			p.Msg, p.Hint = fmt.Sprintf("the runbook asks for no value %q", name), problem.Nearest(name, names)
		case c.Runbook.Ask[i].Kind.Type == kind.Secret:
			p.Text = "" // it would be shown
			p.Msg = fmt.Sprintf("%s is a secret, which does not stand in a file: put it into the secrets file with metabasis secret add answer %s, or let yourself be asked", name, name)
		default:
			if c.Runbook.Ask[i].Kind.Type == kind.Switch { // as YAML writes it
				v = strings.NewReplacer("true", "yes", "false", "no").Replace(v)
			}
			if err := c.Runbook.Ask[i].Check(v); err != nil {
				p.Msg = err.Error()
			}
		}
		if p.Msg != "" {
			list = append(list, p)
		}
		out[name] = v
	}
	return out, list.Err()
}

// askValues asks the person for the values that nothing gives, together with those that are
// the runbook's own.
func (c *Change) askValues(ctx context.Context, r Request, values map[string]string) (asked bool, err error) {
	if c.Person == nil || r.Unattended {
		return false, nil
	}
	form := person.Form{Title: "Values for " + c.Runbook.Title}
	var names []string
	missing := false
	for _, ask := range c.Runbook.Ask {
		if ask.Kind.Type == kind.Secret || !r.anew && values[ask.Name] != "" && values[ask.Name] != ask.Default {
			continue // it is given
		}
		q := c.question(ask)
		q.Usual = values[ask.Name] // the runbook's own is seen beside those that are missing, and can be changed
		missing = missing || q.Usual == ""
		names = append(names, ask.Name)
		form.Questions = append(form.Questions, q)
	}
	if len(names) == 0 || !missing && !r.anew {
		return false, nil
	}
	answers, err := c.Person.Ask(ctx, form)
	if errors.Is(err, person.ErrNobody) {
		return false, nil // what is missing is said where it is checked
	}
	if err != nil {
		return false, fmt.Errorf("%s: %w", strings.Join(names, ", "), err)
	}
	for i, name := range names {
		values[name] = strings.TrimSpace(answers[i])
	}
	return true, nil
}

// question puts what is asked for to somebody who may not have written the runbook: what
// kind of value it is, and in which steps it stands.
func (c *Change) question(ask runbook.Ask) person.Question {
	q := person.Question{Text: ask.Prompt, Hint: ask.Name + ", " + ask.Kind.String(), Check: ask.Check}
	switch {
	case ask.Kind.Type == kind.Switch:
		q.Hint = ask.Name + ", yes or no" // typed: nothing is chosen before somebody chose it
	case ask.Kind.Type == kind.Choice:
		q.Hint = ask.Name + ", one of " + strings.Join(ask.Kind.Choices, ", ")
	case ask.Kind.Bounded:
		q.Hint = fmt.Sprintf("%s, number from %d to %d", ask.Name, ask.Kind.Min, ask.Kind.Max)
	}
	var in []string
	for _, s := range c.Runbook.Steps {
		if slices.ContainsFunc(s.On, func(on runbook.On) bool { return slices.Contains(on.Names(), ask.Name) }) {
			in = append(in, s.Title)
		}
	}
	if len(in) > 0 {
		q.Hint += "; in " + report.Some(in, 2)
	}
	return q
}

// askedAgain is how often a person may try to answer.
const askedAgain = 3

// secretValue settles a value that is asked for as a secret.
func secretValue(ctx context.Context, ask runbook.Ask, find *workspace.Finder) (string, error) {
	for try := 1; ; try++ {
		v, err := find.Answer(ctx, ask.Name, ask.Prompt)
		if err != nil {
			return "", err
		}
		if ask.Check(v) == nil || find.Person == nil || try == askedAgain {
			return v, nil
		}
	}
}

// Waivable are the prechecks of the night that can be waived, and what for: each
// device, and each platform.
func (n *Tonight) Waivable() (checks, what []string) {
	checks = slices.DeleteFunc(n.Plan.Checks(), func(c string) bool { return c == "reachable" })
	if i := slices.Index(checks, plan.IdentityCheck); i >= 0 { // what is rarely meant stands last
		checks = append(slices.Delete(checks, i, i+1), plan.IdentityCheck)
	}
	platforms := map[string]bool{}
	for _, t := range n.Plan.Targets() {
		what = append(what, t.Device.Name)
		platforms[t.Device.Platform] = true
	}
	return checks, append(what, slices.Sorted(maps.Keys(platforms))...)
}

// Waive asks for a waiver of a precheck, with a name and a reason, before the night
// begins. The plan that it is part of is told anew by [Tonight.Planned].
func (n *Tonight) Waive(ctx context.Context) error {
	if n.Began() {
		return errors.New("the night has begun: a waiver is given before it")
	}
	if n.desk.Person == nil {
		return person.ErrNobody
	}
	checks, what := n.Waivable()
	if len(checks) == 0 {
		return errors.New("no precheck of this runbook can be waived")
	}
	var choices []person.Choice
	for _, c := range checks {
		choices = append(choices, person.Choice{Word: c})
	}
	answers, err := n.desk.Person.Ask(ctx, person.Form{Title: "Waive a precheck",
		Lines: []string{"A device that does not pass it is changed all the same. Name and reason stand in the journal."},
		Questions: []person.Question{
			{Text: "Which precheck?", Choices: choices},
			{Text: "On which device, or on which platform?", Hint: report.Some(what, 6), Check: func(v string) error {
				if !slices.Contains(what, strings.TrimSpace(v)) {
					return fmt.Errorf("%q is no device or platform of this night", strings.TrimSpace(v))
				}
				return nil
			}},
			{Text: "Why need it not hold?", Check: func(v string) error {
				if len(strings.TrimSpace(v)) < LeastReason {
					return errors.New("write a reason that says something to whoever reads the journal")
				}
				return nil
			}},
		}})
	if err != nil {
		return err
	}
	w, err := plan.ParseWaiver(fmt.Sprintf("%s on %s: %s", answers[0], strings.TrimSpace(answers[1]), answers[2]), Who())
	if err != nil {
		return err
	}
	return n.Plan.Waive([]plan.Waiver{w})
}
