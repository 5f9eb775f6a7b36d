package report

import (
	"fmt"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
)

// Plan tells a plan: when the night is, what it may not do, and of each device in which
// batch it is and why. Nights is from how many earlier nights its times come.
func Plan(p *plan.Plan, nights int) (out []string) {
	out = append(out, p.Title)
	say := func(name, format string, args ...any) {
		out = append(out, fmt.Sprintf("  %-12s %s", name, fmt.Sprintf(format, args...)))
	}
	if p.Change != "" {
		say("change", "%s", p.Change)
	}
	say("window", "%s", Window(p.Window))
	o := p.Whole()
	say("finish", "%s likely, %s in nine cases of ten%s", o.Likely.Format("15:04"), o.Late.Format("15:04"), stays(p, o))
	say("times", "%s", from(nights))
	say("take back", "everything, at the end: %s", runbook.FormatDuration(p.BackTime(p.Targets()).Round(1e9)))
	for _, v := range p.Values {
		say("value", "%s = %s  %s", v.Name, v.Value, v.Prompt)
	}
	if p.Only != "" {
		say("only", "%s", p.Only)
	}
	for _, g := range scope.Groups(p.LeftOut) {
		say("left out", "%s: %s", Some(g.Devices, 4), g.Why)
	}
	for _, w := range p.Warnings {
		say("warning", "%s", w)
	}
	for i, b := range p.Batches {
		s := o.Slots[i]
		turn := ""
		if !s.TurnBack.IsZero() {
			turn = ", must start by " + s.TurnBack.Format("15:04:05")
		}
		out = append(
			out,
			"",
			fmt.Sprintf(
				"Batch %d of %d, %s: %s to %s%s",
				i+1,
				len(p.Batches),
				Count(len(b), "device"),
				s.Start.Format("15:04:05"),
				s.End.Format("15:04:05"),
				turn,
			),
		)
		for _, t := range b {
			usual, _ := t.Night(p)
			out = append(
				out,
				fmt.Sprintf(
					"  %-14s %-8s %-11s %-6s %7s  %s",
					t.Device.Name,
					t.Device.Platform,
					p.Way(t).Word(),
					t.Device.Site,
					runbook.FormatDuration(usual.Round(1e9)),
					t.Why+back(t),
				),
			)
		}
	}
	return out
}

// back says which backup a device is put back to, from when, and on whose behalf it was taken.
func back(t *plan.Target) string {
	for _, s := range t.Steps {
		if s.Was == nil {
			continue
		}
		text := "; back to " + s.Was.Name
		if s.Was.Left != "" { // what others did since stays
			text = "; without what was done to " + s.Was.Name
			if s.Was.Guessed != "" {
				text = "; " + s.Was.Guessed + ": without what it was to do to " + s.Was.Name
			}
		}
		if !s.Was.At.IsZero() {
			text += ", as seen " + s.Was.At.Local().Format("Mon 2 Jan 15:04:05")
		}
		if s.Was.Origin != "" {
			text += ", " + s.Was.Origin
		}
		return text
	}
	return ""
}

func stays(p *plan.Plan, o plan.Outlook) string {
	if p.Window.None {
		return ""
	}
	return "; " + Chance(o.Stays) + " to be over before the reserve"
}

// Chance is a chance as a person may rely on it: what was found by living through a night
// some hundred times is never certain.
func Chance(c float64) string {
	switch {
	case c > 0.99:
		return "over 99 %"
	case c < 0.01:
		return "under 1 %"
	}
	return fmt.Sprintf("%.0f %%", 100*c)
}

func from(nights int) string {
	if nights == 0 {
		return "from the profiles: no earlier night has shown how long things take"
	}
	return fmt.Sprintf("from the profiles and %s", Count(nights, "earlier night"))
}

// Planned is a plan as others can read it by program.
type Planned struct {
	Title    string          `json:"title"`
	Change   string          `json:"change,omitempty"`
	Window   plan.Window     `json:"window"`
	Outlook  plan.Outlook    `json:"outlook"`
	Values   []plan.Value    `json:"values,omitempty"`
	Warnings []string        `json:"warnings,omitempty"`
	LeftOut  []plan.LeftOut  `json:"left_out,omitempty"`
	Devices  []PlannedDevice `json:"devices"`
}

// PlannedDevice is a device of a plan.
type PlannedDevice struct {
	Name    string   `json:"name"`
	Batch   int      `json:"batch"` // from 1
	Why     string   `json:"why"`
	Seconds float64  `json:"seconds"` // its night takes, usually
	Steps   []string `json:"steps"`
}

// PlanOf is that of a plan.
func PlanOf(p *plan.Plan) Planned {
	out := Planned{
		Title:    p.Title,
		Change:   p.Change,
		Window:   p.Window,
		Outlook:  p.Whole(),
		Values:   p.Values,
		Warnings: p.Warnings,
		LeftOut:  p.LeftOut,
	}
	for _, t := range p.Targets() {
		usual, _ := t.Night(p)
		d := PlannedDevice{Name: t.Device.Name, Batch: t.Batch + 1, Why: t.Why, Seconds: usual.Seconds()}
		for _, s := range t.Steps {
			d.Steps = append(d.Steps, s.Title)
		}
		out.Devices = append(out.Devices, d)
	}
	return out
}
