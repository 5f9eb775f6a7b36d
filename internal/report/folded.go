package report

import (
	"slices"
	"strings"
)

// Folded draws a difference by sections: of lines such as "- port 7 > lan 20", those of
// one section stand together under its line, what goes before what comes in its place.
func Folded(lines []string) []string {
	type change struct {
		sign string
		path []string
	}
	var list []change
	for _, l := range lines {
		sign, path, ok := strings.Cut(l, " ")
		if !ok || sign != "+" && sign != "-" {
			return lines // it is no difference
		}
		list = append(list, change{sign, strings.Split(path, " > ")})
	}
	slices.SortStableFunc(list, func(a, b change) int { return slices.Compare(a.path, b.path) })
	var out, at []string
	for _, c := range list {
		depth := len(c.path) - 1
		for i := range depth {
			if i < len(at) && at[i] == c.path[i] {
				continue
			}
			at = append(at[:min(i, len(at))], c.path[i])
			out = append(out, "  "+strings.Repeat("  ", i)+c.path[i])
		}
		out = append(out, c.sign+" "+strings.Repeat("  ", depth)+c.path[depth])
		at = append(slices.Clone(c.path[:depth]), c.path[depth])
	}
	return out
}
