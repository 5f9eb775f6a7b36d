package watch

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// brief is what is shown before the night begins: what will be done, and to
// what not.
func (v *View) brief(cells int) []ink.Row {
	o := v.n.night.Outline
	label := func(name, text string) []ink.Row {
		var rows []ink.Row
		for i, l := range ink.Wrap(text, cells-12, 3) {
			if i > 0 {
				name = ""
			}
			rows = append(rows, ink.T(ink.Dim, ink.Fit(name, 12)).Add(ink.Foam, l))
		}
		return rows
	}
	rows := []ink.Row{ink.Row{}.Strong(ink.Foam, "Before it begins")}
	for _, w := range slices.Concat(o.Warnings, v.n.src.Warnings) { // first: what is further down may be out of sight
		for i, l := range ink.Wrap(w, cells-12, 4) {
			name := ""
			if i == 0 {
				name = "warning"
			}
			rows = append(rows, ink.Row{}.Strong(ink.Lamp, ink.Fit(name, 12)).Add(ink.Lamp, l))
		}
	}
	rows = append(rows, label("window", window(o.Window))...)
	rows = append(rows, label("devices", fmt.Sprintf("%d in %s: %s", len(v.n.night.Devices), report.Count(len(o.Batches), "batch"), sizes(o)))...)
	rows = append(rows, label("sites", strings.Join(v.n.night.Sites(), ", "))...)
	for i, v := range o.Values {
		name := ""
		if i == 0 {
			name = "values"
		}
		text := v.Name + " = " + v.Value
		if v.Usual {
			text += ", the runbook's own"
		}
		rows = append(rows, label(name, text)...)
	}
	rows = append(rows, label("stop", stops(o))...)
	if len(o.Checks) > 0 {
		rows = append(rows, label("prechecks", strings.Join(o.Checks, "; "))...)
	}
	rows = append(rows, label("soak", ink.Long(o.Soak))...)
	for _, why := range leftOut(o) {
		rows = append(rows, label("left out", why)...)
	}
	rows = append(rows, ink.Row{})
	rows = append(rows, ink.T(ink.Dim, "Enter on a device shows the lines that will be sent to it."))
	if v.sure {
		r := ink.Row{}.Strong(ink.Lamp, "Enter begins the night. ").Add(ink.Dim, "Esc leaves it.")
		r.Marked = true // it must be in sight
		return append(rows, r)
	}
	return append(rows, ink.T(ink.Dim, "B, then Enter, begins the night."))
}

// window says when the window is, with its day and zone.
func window(w plan.Window) string {
	length, reserve := runbook.FormatDuration(w.Close.Sub(w.Open)), runbook.FormatDuration(w.Reserve)
	if w.Now {
		return fmt.Sprintf("opens when the run begins, for %s, reserve %s", length, reserve)
	}
	end := "15:04 MST"
	if w.Open.YearDay() != w.Close.YearDay() {
		end = "Mon 2 Jan 15:04 MST"
	}
	return fmt.Sprintf("%s to %s, %s, reserve %s", w.Open.Format("Mon 2 Jan 2006 15:04"), w.Close.Format(end), length, reserve)
}

// stops says after how many failures the run stops to ask.
func stops(o *run.Outline) string {
	switch {
	case o.Budget == 0:
		return "never: however many fail, it goes on"
	case !o.BudgetGiven:
		return "after " + report.Count(o.Budget, "failure") + ", as the runbook does not say"
	}
	return "after " + report.Count(o.Budget, "failure")
}

func sizes(o *run.Outline) string {
	var out []string
	for _, b := range o.Batches {
		out = append(out, fmt.Sprint(len(b)))
	}
	if len(out) > 8 {
		out = append(out[:8], "…")
	}
	return strings.Join(out, ", ")
}

// leftOut says who is left out, grouped by the reason.
func leftOut(o *run.Outline) []string {
	var out []string
	for _, g := range scope.Groups(o.LeftOut) {
		text := strings.Join(g.Devices[:min(len(g.Devices), 3)], ", ")
		if len(g.Devices) > 3 {
			text += fmt.Sprintf(" and %d more", len(g.Devices)-3)
		}
		out = append(out, text+": "+g.Why)
	}
	return out
}
