package watch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/night"
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
	rows = append(rows, label("window", report.Window(o.Window))...)
	rows = append(rows, v.finish(cells)...)
	if o.Seal != "" {
		rows = append(rows, label("sealed", o.Seal)...)
	}
	if v.n.src.Plan != nil {
		rows = append(rows, label("rehearsed", cmp.Or(v.rehearsed, "not yet: p goes through the night without changing anything"))...)
	}
	rows = append(rows, v.computed(cells)...)
	rows = append(
		rows,
		label("devices", fmt.Sprintf("%d in %s: %s", len(v.n.night.Devices), report.Count(len(o.Batches), "batch"), sizes(o)))...)
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
	rows = append(rows, v.checked(cells)...)
	rows = append(rows, label("soak", ink.Long(o.Soak))...)
	rows = append(rows, label("if alone", v.n.ifAlone())...)
	if o.Only != "" {
		rows = append(rows, label("only", o.Only)...)
	}
	for _, why := range leftOut(o) {
		rows = append(rows, label("left out", why)...)
	}
	rows = append(rows, ink.Row{})
	rows = append(rows, ink.T(ink.Dim, "Enter on a device shows the lines that will be sent to it."))
	if v.n.src.Plan != nil {
		rows = append(rows, ink.T(ink.Dim, "p rehearses the night: all of it but the change."))
	}
	if v.sure {
		r := ink.Row{}.Strong(ink.Lamp, "Enter begins the night. ").Add(ink.Dim, "Esc leaves it.")
		r.Marked = true // it must be in sight
		return append(rows, r)
	}
	return append(rows, ink.T(ink.Dim, "B, then Enter, begins the night."))
}

// ifAlone says what becomes of a night on which nobody decides any more.
func (n *Live) ifAlone() string {
	o := n.night.Outline
	switch {
	case n.src.Beside != nil && n.src.Beside.Own() && n.src.Beside.Screened():
		return "it ends with this screen: what is in change is taken back then"
	case o.AloneAfter == 0:
		return "what is held waits for a person, and comes back by its timer"
	}
	return "after " + ink.Long(o.AloneAfter) + ", " + o.Alone
}

// finish says when the night will be over, and how likely that is in time.
func (v *View) finish(cells int) []ink.Row {
	n, o := v.n.night, v.n.night.Outline
	if n.Likely.IsZero() {
		return nil
	}
	in := ink.Foam
	text := fmt.Sprintf("%s likely, %s in nine cases of ten", n.Likely.Format("15:04"), n.Late.Format("15:04"))
	if (o.Window.Now || o.Window.None) && n.Began.IsZero() { // no clock time of it is known yet
		text = fmt.Sprintf("after %s likely, %s in nine cases of ten", ink.Long(n.Likely.Sub(o.Window.Open)), ink.Long(n.Late.Sub(o.Window.Open)))
	}
	if !o.Window.None {
		text += "; " + report.Chance(n.Stays) + " to be over before the reserve"
		if n.Stays < 0.9 {
			in = ink.Lamp
		}
	}
	var rows []ink.Row
	for i, l := range ink.Wrap(text, cells-12, 3) {
		name := ""
		if i == 0 {
			name = "finish"
		}
		rows = append(rows, ink.T(ink.Dim, ink.Fit(name, 12)).Add(in, l))
	}
	return append(rows, ink.T(ink.Dim, ink.Fit("take back", 12)).Add(ink.Foam, "everything, at the end, within "+ink.Long(o.Back)))
}

// checked says how the prechecks stand, once devices were rehearsed: those that do not
// hold, each with its devices.
func (v *View) checked(cells int) []ink.Row {
	held, failed := 0, map[string][]string{}
	for _, d := range v.n.night.Devices {
		good := len(d.Checks) > 0
		for _, c := range d.Checks {
			if !c.OK && c.Waived == "" {
				failed[c.Name] = append(failed[c.Name], d.Name)
				good = false
			}
		}
		if good {
			held++
		}
	}
	if held == 0 && len(failed) == 0 {
		return nil
	}
	rows := []ink.Row{
		ink.T(ink.Dim, ink.Fit("", 12)).
			Add(ink.Buoy, fmt.Sprintf("● all hold on %s of %d", report.Count(held, "device"), len(v.n.night.Devices))),
	}
	for _, name := range slices.Sorted(maps.Keys(failed)) {
		for _, l := range ink.Wrap(fmt.Sprintf("▲ %s does not hold on %s", name, report.Some(failed[name], 4)), cells-12, 2) {
			rows = append(rows, ink.T(ink.Dim, ink.Fit("", 12)).Add(ink.Lamp, l))
		}
	}
	return rows
}

// computed says what will change, for the devices that were read: equal changes together,
// what cannot be said first, then the rarest.
func (v *View) computed(cells int) []ink.Row {
	groups := map[string][]string{}
	for _, d := range v.n.night.Devices {
		if d.Computed || d.Unknown != "" {
			text := strings.Join(slices.Concat(d.WillDiffer, d.Notices, []string{d.Unknown}), "\n")
			groups[text] = append(groups[text], d.Name)
		}
	}
	known := func(text string) int {
		if d := v.n.night.Get(groups[text][0]); d.Computed && d.Unknown == "" {
			return 1
		}
		return 0
	}
	texts := slices.SortedFunc(maps.Keys(groups), func(a, b string) int {
		return cmp.Or(cmp.Compare(known(a), known(b)), cmp.Compare(len(groups[a]), len(groups[b])), cmp.Compare(a, b))
	})
	var rows []ink.Row
	var most []string // what most of them have in common
	if n := len(texts); n > 1 && 2*len(groups[texts[n-1]]) > len(v.n.night.Devices) {
		most = v.n.night.Get(groups[texts[len(texts)-1]][0]).WillDiffer
	}
	for _, text := range texts {
		d := v.n.night.Get(groups[text][0])
		in, name := ink.Foam, ""
		if !d.Computed || d.Unknown != "" || len(d.Notices) > 0 {
			in = ink.Lamp
		}
		if len(rows) == 0 {
			name = "will differ"
		}
		who, does := report.Count(len(groups[text]), "device"), d.Note
		if len(groups[text]) < 3 {
			who = strings.Join(groups[text], ", ")
		}
		if len(d.Notices) > 0 { // behind what it is unlike in
			does, _, _ = strings.Cut(does, "; "+d.Notices[0])
		}
		says := who + ": " + does
		if in == ink.Lamp {
			says = "▲ " + says
		}
		if own := slices.DeleteFunc(
			slices.Clone(d.WillDiffer),
			func(l string) bool { return slices.Contains(most, l) },
		); len(most) > 0 &&
			len(own) > 0 {
			says += "; unlike most: " + report.Some(own, 2)
		}
		if len(d.Notices) > 0 {
			says += "; " + d.Notices[0]
		}
		for i, l := range ink.Wrap(says, cells-12, 3) {
			if i > 0 {
				name = ""
			}
			rows = append(rows, ink.T(ink.Dim, ink.Fit(name, 12)).Add(in, l))
		}
	}
	if len(rows) > 12 {
		rows = append(rows[:12], ink.T(ink.Dim, ink.Fit("", 12)+"and others"))
	}
	return rows
}

// stops says after how many failures the run stops to ask.
func stops(o *night.Outline) string {
	switch {
	case o.Budget == 0:
		return "never: however many fail, it goes on"
	case !o.BudgetGiven:
		return "after " + report.Count(o.Budget, "failure") + ", the usual number"
	}
	return "after " + report.Count(o.Budget, "failure")
}

func sizes(o *night.Outline) string {
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
func leftOut(o *night.Outline) []string {
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
