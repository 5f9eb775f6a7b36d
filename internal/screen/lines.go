package screen

import (
	"fmt"
	"strings"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/run"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/scope"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/watch"
)

// attention is the line under the strip. It answers: is it going well, and what
// needs me?
func (m *Model) attention() ink.Row {
	r := m.attentionText()
	// What needs somebody stands on a ground of its own, to be seen from afar.
	r.Marked = len(m.night.Holds) > 0 || m.night.Count()[run.Stranded]+m.night.Count()[run.Dark] > 0
	return r
}

func (m *Model) attentionText() ink.Row {
	n := &m.night
	count := n.Count()
	r := ink.T(ink.Foam, " ")
	bad := count[run.Stranded]
	switch {
	case m.asked:
		return r.Strong(ink.Lamp, "Beginning: the workspace, the journal and the devices are taken for this night.")
	case m.past() && n.Ended.IsZero() && m.src.Elsewhere != "":
		return r.Strong(ink.Lamp, "This night runs in another process: "+m.src.Elsewhere+". ").
			Add(ink.Foam, "Here it stands as it was in the journal at "+report.Clock(n.Last.Local())+".")
	case m.past() && n.Ended.IsZero():
		return r.Strong(ink.Port, "▲ This night crashed: its journal ends at "+n.Last.Local().Format("Mon 2 Jan 15:04:05")+". ").
			Add(ink.Foam, "Below is where each device was then; nobody has looked since.")
	case !m.started && m.src.Start != nil:
		return r.Strong(ink.Foam, "Ready. Nothing has been sent.").Add(ink.Dim, fmt.Sprintf("  %s in %s.", report.Count(len(n.Devices), "device"), report.Count(len(n.Outline.Batches), "batch")))
	case !n.Ended.IsZero():
		in := ink.Buoy
		if n.Outcome() != run.AllKept {
			in = ink.Lamp
		}
		if n.Outcome() == run.NeedsPerson {
			in = ink.Port
		}
		return r.Strong(in, "The night is over. ").Add(ink.Foam, report.Summary(n))
	case len(n.Holds) > 0:
		h := n.Holds[0]
		who := "The run"
		if h.Device != "" {
			who = h.Device
		}
		r = r.Strong(ink.Lamp, "◆ "+who+" is held: "+h.Why)
		if len(n.Holds) > 1 {
			r = r.Strong(ink.Lamp, fmt.Sprintf("   and %d more", len(n.Holds)-1))
		}
		return r
	case bad > 0:
		return r.Strong(ink.Port, fmt.Sprintf("▲ %d stranded: a person must look at them", bad))
	case count[run.Dark] > 0:
		return r.Strong(ink.Port, fmt.Sprintf("▽ no contact with %s", m.names(run.Dark)))
	case n.Aborted != "":
		return r.Strong(ink.Heather, "Aborted: ").Add(ink.Foam, report.Summary(n))
	case count[run.Reverting] > 0:
		return r.Strong(ink.Heather, "◀ taking back "+m.names(run.Reverting))
	}
	if n.Failures > 0 {
		return r.Strong(ink.Foam, fmt.Sprintf("Going on after %s. ", report.Count(n.Failures, "failure"))).Add(ink.Dim, report.Summary(n))
	}
	return r.Strong(ink.Buoy, "Going well. ").Add(ink.Dim, report.Summary(n))
}

// names lists the devices in a state, as many as fit.
func (m *Model) names(s run.State) string {
	var out []string
	for _, d := range m.night.Devices {
		if d.State == s {
			out = append(out, d.Name)
		}
	}
	if len(out) > 4 {
		return strings.Join(out[:4], ", ") + fmt.Sprintf(" and %d more", len(out)-4)
	}
	return strings.Join(out, ", ")
}

// ready is what is shown before the night begins: what will be done, and to
// what not.
func (m *Model) ready(cells int) []ink.Row {
	o := m.night.Outline
	label := func(name, text string) []ink.Row {
		var rows []ink.Row
		for i, l := range watch.Wrap(text, cells-12, 3) {
			if i > 0 {
				name = ""
			}
			rows = append(rows, ink.T(ink.Dim, ink.Fit(name, 12)).Add(ink.Foam, l))
		}
		return rows
	}
	rows := []ink.Row{ink.Row{}.Strong(ink.Foam, "Before it begins")}
	for _, w := range o.Warnings { // first: what is further down may be out of sight
		for i, l := range watch.Wrap(w, cells-12, 4) {
			name := ""
			if i == 0 {
				name = "warning"
			}
			rows = append(rows, ink.Row{}.Strong(ink.Lamp, ink.Fit(name, 12)).Add(ink.Lamp, l))
		}
	}
	rows = append(rows, label("window", window(o.Window))...)
	rows = append(rows, label("devices", fmt.Sprintf("%d in %s: %s", len(m.night.Devices), report.Count(len(o.Batches), "batch"), sizes(o)))...)
	rows = append(rows, label("sites", strings.Join(m.night.Sites(), ", "))...)
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
	if m.focus == onBegin {
		r := ink.Row{}.Strong(ink.Lamp, "Enter begins the night. ").Add(ink.Dim, "Esc leaves it.")
		r.Marked = true // it must be in sight
		return append(rows, r)
	}
	return append(rows, ink.T(ink.Dim, "g, then Enter, begins the night."))
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

// keys is the last line: the keys that do something now.
func (m *Model) keys() ink.Row {
	if m.message != "" {
		return ink.T(ink.Foam, " ").Strong(ink.Lamp, m.message)
	}
	var ks []ink.Key
	switch m.focus {
	case onTranscript:
		if m.pager.Typing() {
			ks = []ink.Key{ink.K("Enter", "finds it"), ink.K("Esc", "gives up")}
		} else {
			ks = []ink.Key{ink.K("↑↓ PgUp PgDn", "scroll"), ink.K("/", "search"), ink.K("n N", "next, previous"), ink.K("Esc", "back")}
			if len(m.night.Holds) > 0 && m.src.Do != nil {
				ks = append(ks, ink.K("d", "decide"))
			}
			if m.running() {
				ks = append(ks, ink.K("a", "abort"))
			}
		}
	case onDecide, onAbort:
		ks = []ink.Key{ink.K("↑↓ 1…9", "choose"), ink.K("Enter", "do it"), ink.K("Esc", "back")}
		if m.choice.Typing() || m.abort.Typing() {
			ks = []ink.Key{ink.K("Enter", "do it"), ink.K("Esc", "back")}
		}
	case onPane:
		ks = []ink.Key{ink.K("↑↓ PgUp PgDn", "scroll"), ink.K("Esc", "back")}
	case onFind:
		return ink.T(ink.Foam, " device: ").Strong(ink.Lamp, m.finding+"▏").Add(ink.Dim, "   ").
			Strong(ink.Foam, "↓").Add(ink.Dim, " next   ").Strong(ink.Foam, "Enter").Add(ink.Dim, " stays   ").Strong(ink.Foam, "Esc").Add(ink.Dim, " back")
	case onBegin:
		ks = []ink.Key{ink.K("Enter", "begin"), ink.K("Esc", "back")}
	default:
		if !m.started && m.src.Start != nil {
			ks = append(ks, ink.K("g", "begin"))
		}
		if len(m.night.Holds) > 0 && m.src.Do != nil {
			ks = append(ks, ink.K("d", "decide"))
		}
		ks = append(ks, ink.K("↑↓", "device"), ink.K("/", "find"))
		if !m.started && m.src.Start != nil {
			ks = append(ks, ink.K("Enter", "its lines"))
		} else {
			ks = append(ks, ink.K("Enter", "transcript"), ink.K("n", "next in need"))
		}
		ks = append(ks, ink.K("Tab", "pane"), ink.K("f", "fold"))
		if m.src.Console != nil {
			ks = append(ks, ink.K("c", "console"))
		}
		if m.running() {
			ks = append(ks, ink.K("a", "abort"))
		} else {
			ks = append(ks, ink.K("q", "leave"))
		}
	}
	return ink.Keys(ks, m.width)
}
