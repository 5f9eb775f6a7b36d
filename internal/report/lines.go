package report

import (
	"fmt"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Lines tells what will be sent to a device, step by step, secrets masked, for a
// person to read before the night.
func Lines(p *plan.Plan, device string) []string {
	for _, t := range p.Targets() {
		if t.Device.Name == device {
			return LinesOf(p, t)
		}
	}
	return nil
}

// LinesOf tells what will be sent to a device as far as it is known.
func LinesOf(p *plan.Plan, t *plan.Target) []string {
	out := []string{fmt.Sprintf("%s, %s, %s. Nothing of this has been sent.", t.Device.Name, t.Device.Platform, t.Device.Address), ""}
	switch {
	case p.Guards(t) && t.Traits.Timer == plan.TrialTimer:
		text := "each step is applied on trial: the device takes back by itself what is not confirmed in time"
		if t.Traits.Once {
			text = "all steps go into one apply, on trial: the device takes them back by itself where they are not confirmed in time"
		}
		out = append(out, text, "")
	case p.Guards(t):
		out = append(out, "timer armed for "+runbook.FormatDuration(t.TimerFor(p))+" before the first line", "")
	default:
		out = append(out, "no rollback timer: nothing but we takes the change back", "")
	}
	for i, s := range t.Steps {
		out = append(out, fmt.Sprintf("Step %d of %d: %s", i+1, len(t.Steps), s.Title))
		for _, n := range s.Needs {
			out = append(out, fmt.Sprintf("  needs %q", p.StepTitles[n-1]))
		}
		for _, c := range s.Already {
			out = append(out, "  not sent when "+p.Mask(filled(c)))
		}
		for _, u := range s.Uses {
			out = append(out, t.Mask(fmt.Sprintf("  %s is %s, from %s", u.Name, u.Value, u.From)))
		}
		out = append(out, wants(t, s)...)
		if s.Want == nil && s.Done {
			out = append(out, "  already so: nothing is sent")
		}
		name := "send"
		switch {
		case s.Whole != "":
			name = "put the whole backup back"
		case len(s.Put) > 0:
			name = "put the whole file"
		}
		out = append(out, was(s)...)
		out = append(out, block(name, t.Masked(s.Send))...)
		out = append(out, block("undo", t.Masked(s.Undo))...)
		if s.Unwritten && len(s.Undo) == 0 {
			out = append(out, "  undone by lines that are computed from the device's own configuration")
		}
		for _, e := range s.Expect {
			out = append(out, fmt.Sprintf("  expect %s within %s", p.Mask(filled(e.Check)), runbook.FormatDuration(e.Within)))
		}
		out = append(out, "")
	}
	if len(t.Record.Tables) > 0 {
		out = append(out, "Recorded before and after: "+strings.Join(t.Record.Tables, ", ")+".")
	}
	if len(t.Record.Compare) > 0 {
		out = append(out, "Kept only with "+t.Record.String()+".")
	}
	if p.Soak > 0 {
		out = append(out, "Then a soak of "+runbook.FormatDuration(p.Soak)+".")
	}
	return out
}

// was says what a step puts back.
func was(s plan.Step) []string {
	if s.Was == nil {
		return nil
	}
	text := "  back to what it had " + s.Was.At.Local().Format("2006-01-02 15:04:05") + ": " + s.Was.Name
	if s.Was.Left != "" {
		text = "  takes back what the night did; what others changed since stays. Before it was " + s.Was.Name
	}
	out := []string{text}
	if len(s.Send) == 0 && !s.Done {
		out = append(out, "  its lines are computed once the device is read")
	}
	return out
}

// wants says what a step wants, whose lines are computed.
func wants(t *plan.Target, s plan.Step) (out []string) {
	out = append(out, deedLines(t, s)...)
	if s.When != nil {
		out = append(out, "  where "+s.When.Cond.Source+": told once the device is read")
	}
	if s.Empty != "" {
		_, why, _ := strings.Cut(s.Empty, ": ")
		out = append(out, "  nothing is done: "+why)
	}
	if s.Through != nil {
		rows := "each row of " + s.Through.Table
		if s.Through.Where != nil {
			rows += " where " + s.Through.Where.Source
		}
		out = append(out, "  for "+rows+": known once the device is read")
	}
	if s.Want == nil {
		return out
	}
	out = append(out, block("want", t.Masked(printed(s.Want.Lines, "")))...)
	for _, p := range s.Want.NoOther {
		out = append(out, fmt.Sprintf("  no other %q", t.Mask(p)))
	}
	out = append(out, block("gone", t.Masked(printed(s.Want.Gone, "")))...)
	switch {
	case s.Done:
		out = append(out, "  already so: nothing is sent")
	case s.Later:
		out = append(out, "  its lines are computed once the steps before it were done")
	case s.After == nil && s.Through == nil:
		out = append(out, "  its lines are computed once the device is read")
	}
	return out
}

// deedLines says what a step does that is no configuration.
func deedLines(t *plan.Target, s plan.Step) (out []string) {
	//exhaustive:enforce
	switch s.Kind {
	case plan.LookStep:
		out = block("look, which changes nothing", t.Masked(t.Said(s)))
	case plan.DoStep:
		name := "do, once: it cannot be undone"
		if s.Deed.Repeatable {
			name = "do: it cannot be undone, and may be done twice"
		}
		out = block(name, t.Masked(t.Said(s)))
		out = append(out, "  takes "+runbook.FormatDuration(s.Deed.Takes)+" at most")
		for _, c := range s.Commands[:min(1, len(s.Commands))] {
			for _, a := range c.Answers {
				out = append(out, fmt.Sprintf("  must come back: %q", t.Mask(a)))
			}
			for _, a := range c.Never {
				out = append(out, fmt.Sprintf("  must not: %q", t.Mask(a)))
			}
		}
	case plan.RestartStep:
		out = append(block("restart, once: it cannot be undone", t.Masked(t.Said(s))), "  "+awayFor(s.Absence))
	case plan.SoftwareStep:
		out = softwareLines(t, s)
	case plan.SaveStep:
		out = append(out, "  saves what runs, where it is not saved, and proves it")
	case plan.WaitStep:
		out = append(out, "  waits "+strings.Join(t.Said(s), ""))
	case plan.HandStep:
		out = block("by hand", t.Masked(t.Said(s)))
	case plan.ConsoleStep:
		out = append(block("by hand, at its console; what is done is read and shown", t.Masked(t.Said(s))),
			"  what it changes nobody can say beforehand: it is adopted, or taken back")
	case plan.ChangeStep:
	}
	return out
}

// printed is lines as they stand in their sections.
func printed(lines []config.Line, indent string) (out []string) {
	for _, l := range lines {
		out = append(out, indent+l.Text)
		out = append(out, printed(l.Under, indent+"  ")...)
	}
	return out
}

// filled is a condition with the values between its angles.
func filled(c plan.Check) string {
	s := c.Cond.Source
	for _, name := range c.Cond.Names() {
		if v, known := c.Env[name]; known {
			s = strings.ReplaceAll(s, "<<"+name+">>", fmt.Sprint(v))
		}
	}
	return s
}

func block(name string, lines []string) (out []string) {
	if len(lines) == 0 {
		return nil
	}
	out = append(out, "  "+name)
	for _, l := range lines {
		out = append(out, "    | "+strings.TrimRight(l, " "))
	}
	return out
}

// softwareLines says how a device is given other software.
func softwareLines(t *plan.Target, s plan.Step) (out []string) {
	u := s.Upgrade
	switch {
	case u == nil:
		return nil
	case s.Done:
		return []string{"  runs " + u.Wanted + " already: nothing is sent"}
	case u.Known:
		var hops []string
		for _, i := range u.Way {
			hops = append(hops, i.Version)
		}
		out = append(out, fmt.Sprintf("  from %s to %s; %s is what it is taken back to", u.Was.Runs, strings.Join(hops, ", then "), u.Was.Runs))
		out = append(out, block("does, and reads what came of each", t.Masked(t.Said(s)))...)
	default:
		out = append(out, "  runs "+u.Wanted+" in the end; the way there is computed once the device says what it runs, which it is taken back to")
	}
	for _, p := range u.May {
		out = append(out, fmt.Sprintf("  may change by itself: %q", t.Mask(p)))
	}
	if u.Unproven != "" {
		out = append(out, "  its file need not be proven: "+t.Mask(u.Unproven))
	}
	if falls := t.Traits.Software.Falls; falls > 0 {
		out = append(out, "  what it runs anew is on trial: unless that is kept, it goes back by itself after "+runbook.FormatDuration(falls))
	}
	return append(out, "  each time "+awayFor(s.Absence))
}

// awayFor says for how long a device is away that is restarted.
func awayFor(a *plan.Absence) string {
	if a == nil {
		return "how long it is away is not known"
	}
	return fmt.Sprintf("away for %s usually, looked for until %s after it was told to; that it was restarted is told by how long it has been up",
		runbook.FormatDuration(a.Usual), runbook.FormatDuration(a.Most))
}
