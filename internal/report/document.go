package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
	"metabasis/internal/core/work"
	"metabasis/internal/document"
	"metabasis/internal/store"
)

// Document is a night written down for those who approve it: what will be done, when, to
// which devices, with which lines, and how it is taken back. R is its rehearsal; without one,
// nil, it says of the lines only what the runbook says.
func Document(p *plan.Plan, r *store.Rehearsal, nights int) *document.Document {
	d := &planned{p: p, r: r}
	d.Add(document.Title(p.Title))
	d.head(nights)
	d.times()
	d.scope()
	d.before()
	d.steps()
	d.back()
	d.risks()
	return &d.Document
}

type planned struct {
	document.Document
	p *plan.Plan
	r *store.Rehearsal
}

func (d *planned) head(nights int) {
	rows := [][]string{}
	add := func(name, text string) {
		if text != "" {
			rows = append(rows, []string{name, text})
		}
	}
	p := d.p
	add("Change", p.Change)
	add("Window", Window(p.Window))
	o := p.Whole()
	add(
		"Over",
		fmt.Sprintf("%s likely, %s in nine cases of ten%s; %s", o.Likely.Format("15:04"), o.Late.Format("15:04"), stays(p, o), from(nights)),
	)
	add("Devices", fmt.Sprintf("%s in %s", Count(len(p.Targets()), "device"), Count(len(p.Batches), "batch")))
	for _, v := range p.Values {
		add(v.Prompt, v.Name+" = "+v.Value)
	}
	if d.r != nil {
		add("Rehearsed", d.r.Ended.Local().Format("Mon 2 Jan 2006 15:04")+" by "+d.r.By+": "+Rehearsed(d.r))
	} else {
		add("Rehearsed", "not yet: the lines for each device are not known")
	}
	add("Sealed", p.Seal)
	d.Add(document.Table{Head: []string{"", ""}, Rows: rows}, document.Text("The steps are:"))
	for i, title := range p.StepTitles {
		n := 0
		for _, t := range p.Targets() {
			for _, s := range t.Steps {
				if s.Number == i+1 {
					n++
				}
			}
		}
		d.Add(document.Item{Number: i + 1, Text: title + ", on " + Count(n, "device")})
	}
}

func (d *planned) times() {
	d.Add(document.Section("When"))
	o := d.p.Whole()
	at := func(t time.Time) string { return t.Format("15:04:05") }
	if d.p.Window.Now || d.p.Window.None {
		at = func(t time.Time) string {
			return "+ " + runbook.FormatDuration(t.Sub(d.p.Window.Open).Round(time.Second))
		}
	}
	var rows [][]string
	for i, s := range o.Slots {
		turn := "any time"
		if !s.TurnBack.IsZero() {
			turn = at(s.TurnBack)
		}
		rows = append(rows, []string{fmt.Sprint(i + 1), fmt.Sprint(len(d.p.Batches[i])), at(s.Start), at(s.End), at(s.Late), turn})
	}
	d.Add(
		document.Table{Head: []string{"Batch", "Devices", "Begins", "Ends, likely", "Ends, nine in ten", "Must begin by"}, Rows: rows},
		document.Text(
			"A batch that cannot begin by its last moment is not begun without a person who gives a reason: everything done by then could not be taken back before the window closes.",
		),
	)
	d.Items(d.p.Rules.Lines()...)
}

func (d *planned) scope() {
	d.Add(document.Section("Devices"))
	var rows [][]string
	for _, t := range d.p.Targets() {
		state := ""
		if d.r != nil {
			state = rehearsedState(d.r.Of(t.Device.Name))
		}
		rows = append(rows, []string{fmt.Sprint(t.Batch + 1), t.Device.Name, t.Device.Site, t.Device.Role, t.Device.Platform, t.Why, state})
	}
	d.Add(document.Table{Head: []string{"Batch", "Device", "Site", "Role", "Platform", "Why there", "Rehearsed"}, Rows: rows})
	if d.p.Only != "" {
		d.Add(document.Text("Only a part of the scope is chosen for this night: " + d.p.Only + "."))
	}
	for i, g := range scope.Groups(d.p.LeftOut) {
		if i == 0 {
			d.Add(document.Text("Left out are:"))
		}
		d.Items(fmt.Sprintf("%s, because %s", strings.Join(g.Devices, ", "), g.Why))
	}
}

func rehearsedState(f *work.Rehearsed) string {
	switch {
	case f == nil:
		return "not rehearsed"
	case f.Blocked != "":
		return "would be blocked: " + f.Blocked
	case f.Already:
		return "as intended already"
	}
	return Count(len(f.Differs), "line") + " will differ"
}

func (d *planned) before() {
	d.Add(document.Section("Before anything is changed"), document.Text("On each device, right before its first line:"))
	for _, pc := range d.p.Prechecks {
		if !pc.Off {
			d.Items("the precheck " + pc.String() + " must hold, or it is not changed")
		}
	}
	d.Items("its configuration is backed up, and the backup read back equal")
	d.ways()
	for _, w := range d.p.Waivers {
		d.Items(fmt.Sprintf("waived: %s on %s, by %s: %s", w.Check, w.Device, w.By, w.Reason))
	}
}

// ways says how devices take the change back by themselves, by kind.
func (d *planned) ways() {
	platforms, long := map[plan.TimerKind][]string{}, map[plan.TimerKind]time.Duration{}
	count := map[plan.TimerKind]int{}
	for _, t := range d.p.Targets() {
		way := d.p.Way(t)
		count[way]++
		if !slices.Contains(platforms[way], t.Device.Platform) {
			platforms[way] = append(platforms[way], t.Device.Platform)
		}
		if lasts := d.p.Timer.Long(t.Device.Platform); long[way] == 0 || lasts < long[way] {
			long[way] = lasts
		}
	}
	for _, w := range []struct {
		way  plan.TimerKind
		text string
	}{
		{plan.RestartTimer, "a rollback timer of at least %s is armed on it, and seen pending: when it fires, the device restarts with what is saved"},
		{plan.PutBackTimer, "a rollback timer of at least %s is armed on it, and seen pending: when it fires, the device puts back what is saved"},
		{plan.TrialTimer, "nothing is armed: what is applied is on trial for at least %s, and seen to be right after it; what is not confirmed by then, the device takes back"},
		{plan.NoTimer, "it has no way back of its own: lost in its change, it stays as it is until somebody is there"},
	} {
		if count[w.way] == 0 {
			continue
		}
		text := w.text
		if strings.Contains(text, "%s") {
			text = fmt.Sprintf(text, runbook.FormatDuration(long[w.way]))
		}
		if len(count) > 1 {
			text = fmt.Sprintf("on %s (%s): %s", Count(count[w.way], "device"), strings.Join(platforms[w.way], ", "), text)
		}
		d.Items(text)
	}
}

// steps tells the lines: those that most devices get first, then those of others.
func (d *planned) steps() {
	d.Add(document.Section("What is sent"))
	groups, keys := map[string][]string{}, map[string][]string{}
	for _, t := range d.p.Targets() {
		var lines []string
		if d.r != nil {
			if f := d.r.Of(t.Device.Name); f != nil && len(f.Steps) > 0 {
				lines = rehearsedSteps(f, t)
			}
		}
		if lines == nil {
			lines = plannedSteps(d.p, t)
		}
		key := strings.Join(lines, "\n")
		groups[key] = append(groups[key], t.Device.Name)
		keys[key] = lines
	}
	order := slices.SortedFunc(maps.Keys(groups), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(groups[b]), len(groups[a])), cmp.Compare(groups[a][0], groups[b][0]))
	})
	for _, key := range order {
		d.Add(document.Heading(Count(len(groups[key]), "device")), document.Text(strings.Join(groups[key], ", ")), document.Code(keys[key]))
	}
}

// rehearsedSteps are the lines of a device as they were computed, and what they change.
func rehearsedSteps(f *work.Rehearsed, t *plan.Target) (out []string) {
	for i, s := range f.Steps {
		out = append(out, fmt.Sprintf("Step %d: %s", i+1, s.Title))
		switch {
		case s.Not != "":
			out = append(out, "  not for it: "+s.Not)
		case s.Done:
			out = append(out, "  already so: nothing is sent")
		}
		if i < len(t.Steps) {
			out = append(out, deedLines(t, t.Steps[i])...)
		}
		out = append(out, block("send", s.Send)...)
		out = append(out, block("undo", s.Undo)...)
		if i < len(t.Steps) {
			out = append(out, expects(t, t.Steps[i])...)
		}
	}
	if len(f.Differs) > 0 {
		out = append(out, "", "Then its configuration differs in:")
		out = append(out, Folded(f.Differs)...)
	}
	for _, l := range f.Path {
		out = append(out, "on the way by which it is managed: "+l)
	}
	return out
}

func expects(t *plan.Target, s plan.Step) (out []string) {
	for _, e := range s.Expect {
		out = append(out, fmt.Sprintf("  expect %s within %s", t.Mask(filled(e.Check)), runbook.FormatDuration(e.Within)))
	}
	return out
}

// plannedSteps are the lines of a device as the runbook has them.
func plannedSteps(p *plan.Plan, t *plan.Target) []string {
	return LinesOf(p, t)[2:] // without its name: others get the same
}

func (d *planned) back() {
	d.Add(
		document.Section("How it is taken back"),
		textf(
			"Everything, at the end of the night: within %s. A device that is taken back is compared with its backup after each of these, until it is equal:",
			runbook.FormatDuration(d.p.BackTime(d.p.Targets()).Round(time.Second)),
		),
	)
	d.Counted("the lines that are computed to lead from what runs to the backup, and the undo lines",
		"the whole backup, where its platform can load one",
		"what it does by itself, as said above, when everything else fails, contact included; a trial is ended first of all")
	if d.p.Rules.StopAfter > 0 {
		d.Add(textf("After %s no further device is begun before a person has decided.", Count(d.p.Rules.StopAfter, "failure")))
	}
	if d.p.Unattended.Given {
		d.Add(textf("Where nobody is there to decide: %s.", d.p.Unattended))
	}
	if d.p.Soak > 0 {
		d.Add(textf("Each device is watched for %s after its change before it is kept.", runbook.FormatDuration(d.p.Soak)))
	}
}

func (d *planned) risks() {
	var risks []string
	risks = append(risks, d.p.Warnings...)
	if d.r != nil {
		var path []string
		for _, f := range d.r.Devices {
			if len(f.Path) > 0 {
				path = append(path, f.Device)
			}
		}
		if len(path) > 0 {
			risks = append(risks, "lines touch the way by which the device is managed, on "+strings.Join(path, ", "))
		}
	}
	d.Add(document.Section("Risks"))
	if len(risks) == 0 {
		d.Add(document.Text("None that the plan knows of."))
	}
	d.Items(risks...)
}

func textf(format string, args ...any) document.Text {
	return document.Text(fmt.Sprintf(format, args...))
}
