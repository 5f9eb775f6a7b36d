package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/core/record"
	"metabasis/internal/document"
)

// Compared sums up a comparison in a sentence.
func Compared(all []record.Differing) string {
	t := record.Tallied(all)
	s := Count(len(all), "device")
	if len(all) == 1 {
		s = all[0].Device
	}
	switch {
	case len(all) == 0:
		return "nothing was compared"
	case t.Same == len(all):
		return s + ": nothing is different"
	case len(all) == 1 && t.Untold == 1:
		return s + ": it cannot be told"
	case len(all) == 1 && t.Odd == 0:
		return s + ": different, as predicted" + orExpected(all)
	case len(all) == 1:
		return s + ": different"
	}
	var parts []string
	for _, p := range []struct {
		n    int
		what string
	}{{t.Differ, "different"}, {t.Same, "the same"}, {t.Untold, "cannot be told"}} {
		if p.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", p.n, p.what))
		}
	}
	s += ": " + strings.Join(parts, ", ")
	switch {
	case t.Differ == 0:
	case t.Odd == 0:
		s += "; all of it was predicted" + orExpected(all)
	case t.Odd < t.Differ:
		s += fmt.Sprintf("; %d in a way that nobody predicted", t.Odd)
	}
	return s
}

// orExpected says that some of it was expected by the runbook, where it was.
func orExpected(all []record.Differing) string {
	for _, d := range all {
		if slices.ContainsFunc(d.Changes, func(c record.Change) bool { return c.Expected }) {
			return ", or expected by the runbook"
		}
	}
	return ""
}

// NotCompared says how many devices were not compared, since nothing was read of them that
// could be.
func NotCompared(states map[night.State]int) string {
	n := 0
	var parts []string
	for _, s := range night.States() {
		if states[s] > 0 {
			n += states[s]
			parts = append(parts, fmt.Sprintf("%d %s", states[s], s))
		}
	}
	if n == 0 {
		return ""
	}
	return Count(n, "device") + " not compared: " + strings.Join(parts, ", ")
}

// Apart says what stands in only one of two records, so that it was not compared.
func Apart(all []record.Differing) string {
	devices := map[string]int{}
	for _, d := range all {
		for _, t := range d.Apart {
			devices[t]++
		}
	}
	var parts []string
	for _, t := range slices.Sorted(maps.Keys(devices)) {
		parts = append(parts, t+" ("+Count(devices[t], "device")+")")
	}
	if len(parts) == 0 {
		return ""
	}
	return "not compared, since only one of the two holds it: " + strings.Join(parts, ", ")
}

// Groups are the differences that devices have in common, outliers first, under the words
// of what they are.
type Groups struct {
	Title  string
	Groups []record.Group
}

// Grouped sets apart what is not known, what nobody predicted, and what was predicted.
func Grouped(all []record.Differing) (out []Groups) {
	predicted := false
	for _, d := range all {
		predicted = predicted || len(d.Predicted)+len(d.Missed) > 0 ||
			slices.ContainsFunc(d.Changes, func(c record.Change) bool { return c.Expected })
	}
	title := func(g record.Group) string {
		switch {
		case g.Unknown:
			return "Not known"
		case g.Predicted:
			return "As predicted"
		case g.Expected:
			return "As the runbook expected"
		case predicted:
			return "Not predicted"
		}
		return "Different"
	}
	for _, g := range record.Fold(all) {
		if n := len(out); n == 0 || out[n-1].Title != title(g) {
			out = append(out, Groups{Title: title(g)})
		}
		out[len(out)-1].Groups = append(out[len(out)-1].Groups, g)
	}
	return out
}

// ComparedLines tells a comparison of many devices: equal differences folded, outliers
// first.
func ComparedLines(a, b, note string, all []record.Differing) (out []string) {
	out = append(out, a, b, "", Compared(all))
	if note != "" {
		out = append(out, note)
	}
	width := 0
	for _, g := range record.Fold(all) {
		width = max(width, len(whose(g)))
	}
	for _, part := range Grouped(all) {
		out = append(out, "", part.Title)
		for i, g := range part.Groups {
			who := whose(g)
			if i > 0 && slices.Equal(g.Devices, part.Groups[i-1].Devices) {
				who = ""
			}
			out = append(out, fmt.Sprintf("  %-*s  %s", width, who, g.Text))
			if last := i+1 == len(part.Groups) || !slices.Equal(g.Devices, part.Groups[i+1].Devices); last && len(g.Devices) > 1 {
				out = append(out, strings.Repeat(" ", width+4)+"on "+Some(g.Devices, 6))
			}
		}
	}
	return out
}

// whose says which devices a difference is of.
func whose(g record.Group) string {
	if len(g.Devices) == 1 {
		return g.Devices[0]
	}
	return Count(len(g.Devices), "device")
}

// ComparedDocument tells the same as a document. Where two configurations are compared, tree is
// their difference, which is told in place of its lines.
func ComparedDocument(a, b, note string, all []record.Differing, tree []config.Shown) *document.Document {
	d := &document.Document{}
	d.Add(document.Title("Compared"))
	d.Items(a, b)
	d.Add(document.Text(Compared(all) + "."))
	if note != "" {
		d.Add(document.Text(note + "."))
	}
	if tree != nil {
		all = slices.Clone(all)
		for i := range all {
			all[i].Config = nil
		}
	}
	for _, part := range Grouped(all) {
		var rows [][]string
		for _, g := range part.Groups {
			rows = append(rows, []string{fmt.Sprint(len(g.Devices)), g.Text, Some(g.Devices, 12)})
		}
		d.Add(document.Section(part.Title), document.Table{Head: []string{"devices", "difference", "which"}, Rows: rows})
	}
	if tree != nil {
		d.Add(document.Code(Tree(tree)))
	}
	return d
}

// Tree tells the difference of two configurations as a tree, with what is the same folded.
func Tree(lines []config.Shown) (out []string) {
	same := 0
	flush := func(depth int) {
		if same > 0 {
			out = append(out, "  "+strings.Repeat("  ", depth)+fmt.Sprintf("… %s the same", Count(same, "line")))
		}
		same = 0
	}
	for i := 0; i < len(lines); i++ {
		l := lines[i]
		if l.Mark == ' ' && l.Differ == 0 {
			same += 1 + l.Below
			i += l.Below
			if i+1 >= len(lines) || lines[i+1].Depth != l.Depth {
				flush(l.Depth)
			}
			continue
		}
		flush(l.Depth)
		out = append(out, string(l.Mark)+" "+strings.Repeat("  ", l.Depth)+l.Text)
	}
	return out
}

// Beside tells the difference of two configurations side by side, in that width.
func Beside(lines []config.Shown, width int) (out []string) {
	half := max((width-3)/2, 10)
	cell := func(s string) string {
		if r := []rune(s); len(r) > half {
			return string(r[:half-1]) + "…"
		}
		return s
	}
	for _, l := range lines {
		text := strings.Repeat("  ", l.Depth) + l.Text
		left, mark, right := text, " ", text
		switch l.Mark {
		case '-':
			mark, right = "-", ""
		case '+':
			mark, left = "+", ""
		}
		out = append(out, strings.TrimRight(fmt.Sprintf("%-*s %s %s", half, cell(left), mark, cell(right)), " "))
	}
	return out
}
