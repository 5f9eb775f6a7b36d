package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
	"metabasis/internal/store"
)

// Rehearsal tells what a rehearsal found: devices for which the same would be done
// together, those that are unlike the others first.
func Rehearsal(r *store.Rehearsal) (out []string) {
	out = []string{
		fmt.Sprintf(
			"Rehearsed %s, %s to %s, by %s. Nothing was changed.",
			r.Title,
			r.Began.Local().Format("Mon 2 Jan 2006 15:04:05"),
			r.Ended.Local().Format("15:04:05"),
			r.By,
		),
		Rehearsed(r),
	}
	for _, v := range r.Values {
		out = append(out, fmt.Sprintf("%s = %s", v.Name, v.Value))
	}
	groups := map[string][]string{}
	for i := range r.Devices {
		key := strings.Join(found(&r.Devices[i]), "\n")
		groups[key] = append(groups[key], r.Devices[i].Device)
	}
	order := slices.SortedFunc(maps.Keys(groups), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(groups[a]), len(groups[b])), cmp.Compare(groups[a][0], groups[b][0]))
	})
	for i, key := range order {
		whose := Count(len(groups[key]), "device") + ": " + strings.Join(groups[key], ", ")
		switch n := len(groups[key]); {
		case i < len(order)-1 || n <= namedAtMost:
		case n == len(r.Devices):
			whose = fmt.Sprintf("all %d devices", n)
		default:
			whose = fmt.Sprintf("the other %d devices", n)
		}
		out = append(out, "", whose)
		for _, l := range strings.Split(key, "\n") {
			out = append(out, "  "+l)
		}
	}
	return out
}

// namedAtMost is how many devices are named of the last group: of more, they are all those
// that no group before it names.
const namedAtMost = 24

// Rehearsed sums a rehearsal up in one line.
func Rehearsed(r *store.Rehearsal) string {
	ready, already, blocked, unjudged, lines, slips := 0, 0, 0, 0, 0, 0
	for _, d := range r.Devices {
		switch v := d.Verdict(); {
		case d.Blocked != "":
			blocked++
		case v == work.AsIntended:
			already++
		case v == work.CannotBeTold:
			unjudged, lines = unjudged+1, lines+len(d.Unjudged)
		default:
			ready++
		}
	}
	parts := []string{fmt.Sprintf("%d ready", ready)}
	for _, d := range r.Devices {
		if slices.ContainsFunc(d.Notices, func(n string) bool { return strings.Contains(n, work.NotBack) }) {
			slips++
		}
	}
	if unjudged > 0 {
		what := "what lines do on them is not known"
		if lines > 0 {
			what = "what " + Count(lines, "line") + " would do is not known"
		}
		parts = append(parts, fmt.Sprintf("%d not judged: %s", unjudged, what))
	}
	if already > 0 {
		parts = append(parts, fmt.Sprintf("%d already as intended", already))
	}
	if blocked > 0 {
		parts = append(parts, fmt.Sprintf("%d would be blocked", blocked))
	}
	if slips > 0 {
		parts = append(parts, fmt.Sprintf("on %d undo lines do not lead back", slips))
	}
	return Count(len(r.Devices), "device") + ": " + strings.Join(parts, ", ")
}

// found is what was found of one device.
func found(d *work.Rehearsed) (out []string) {
	if d.Blocked != "" {
		out = append(out, "would be blocked: "+d.Blocked)
	}
	switch {
	case d.Already:
		out = append(out, "as intended already: nothing would be sent")
	case len(d.Differs) == 0 && d.Unknown == "" && d.Blocked == "" && d.Whose == "":
		out = append(out, "nothing would differ")
	}
	out = append(out, Folded(d.Differs)...)
	if d.Unknown != "" && d.Unknown != d.Blocked {
		out = append(out, "not known: "+d.Unknown)
	}
	if n := len(d.Unjudged); n > 0 {
		out = append(out, "not judged: "+Count(n, "line"))
		for _, l := range d.Unjudged {
			out = append(out, "  "+strings.TrimSpace(l))
		}
	}
	if d.Whose != "" {
		out = append(out, "would save "+Count(len(d.NotSaved), "line")+" not saved yet: "+d.Whose)
		out = append(out, Folded(d.NotSaved)...)
	}
	for _, s := range d.Steps {
		switch {
		case s.Not != "":
			out = append(out, fmt.Sprintf("step %q is not for it: %s", s.Title, s.Not))
		case s.Kind == plan.DoStep && !s.Done && d.Blocked == "":
			out = append(out, fmt.Sprintf("would do, once: %s", strings.Join(s.Commands, "; ")))
		case s.Kind == plan.RestartStep && d.Blocked == "":
			out = append(out, fmt.Sprintf("would restart, once: %s", strings.Join(s.Commands, "; ")))
		case s.Kind == plan.SoftwareStep && d.Blocked == "" && !s.Done && d.Software != nil:
			out = append(out, fmt.Sprintf("would be given %s: %s", strings.Join(d.Software.Way, ", then "), strings.Join(given(s.Commands), "; ")))
		case s.Kind == plan.ConsoleStep && d.Blocked == "":
			out = append(out, fmt.Sprintf("by hand, at its console: %s", s.Title))
		case s.Kind == plan.HandStep && d.Blocked == "":
			out = append(out, fmt.Sprintf("by hand: %s", strings.Join(s.Commands, "; ")))
		}
	}
	for _, l := range d.Path {
		out = append(out, "on the way by which it is managed: "+l)
	}
	for _, n := range d.Notices {
		if n != "" && !strings.HasPrefix(n, "it would be blocked: ") && !slices.Contains(d.Path, n) && !strings.HasPrefix(n, "it is managed by") {
			out = append(out, n)
		}
	}
	return out
}

// given are the commands of a step that exchanges software, without what is said of its files.
func given(commands []string) []string {
	return slices.DeleteFunc(slices.Clone(commands), func(c string) bool { return strings.HasPrefix(c, "# ") })
}

// RehearsedLines are the lines that would be sent to a device, step by step, as its
// rehearsal computed them.
func RehearsedLines(d *work.Rehearsed) (out []string) {
	out = append(out, fmt.Sprintf("%s, batch %d. Nothing of this was sent.", d.Device, d.Batch))
	for _, c := range d.Checks {
		mark := "holds"
		switch {
		case c.Waived != "":
			mark = "is waived: " + c.Waived
		case !c.OK:
			mark = "does not hold"
		}
		out = append(out, strings.TrimSuffix(fmt.Sprintf("precheck %s %s: %s", c.Name, mark, c.Note), ": "))
	}
	for i, s := range d.Steps {
		out = append(out, "", fmt.Sprintf("Step %d of %d: %s", i+1, len(d.Steps), s.Title))
		switch {
		case s.Not != "":
			out = append(out, "  not for it: "+s.Not)
		case s.Done:
			out = append(out, "  already so: nothing is sent")
		case s.Later:
			out = append(out, "  its lines are computed once the steps before it were done")
		}
		if s.Kind != plan.ChangeStep && s.Not == "" {
			out = append(out, block(rehearsedAs(s.Kind), s.Commands)...)
		}
		out = append(out, block("send", s.Send)...)
		out = append(out, block("undo", s.Undo)...)
	}
	return out
}

// rehearsedAs says what a rehearsal does of a step that is no configuration.
func rehearsedAs(k plan.StepKind) string {
	if k == plan.LookStep {
		return "look"
	}
	return string(k) + ", which a rehearsal does not"
}
