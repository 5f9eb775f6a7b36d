package config

import (
	"fmt"
	"slices"
	"strings"
)

// Rewrite changes the text of a configuration so that it reads as another one. What is the
// same in both stays as it is written, with its comments and its blank lines; what is new
// is written as its neighbours are, behind the last line of its kind. The error says that no such text was found.
func Rewrite(text string, style Style, to Config) (string, error) {
	w := &rewriter{style: style, lines: strings.Split(strings.TrimRight(text, "\n"), "\n"), gone: map[int]bool{}, put: map[int][]string{}}
	if text == "" {
		w.lines = nil
	}
	w.rewrite(w.scan(), to.Lines, -1, "")
	var out []string
	out = append(out, w.put[-1]...)
	for i, l := range w.lines {
		if !w.gone[i] {
			out = append(out, l)
		}
		out = append(out, w.put[i]...)
	}
	made := ""
	if len(out) > 0 {
		made = strings.Join(out, "\n") + "\n"
	}
	if d := Compare(to, Parse(made, style)); !d.Empty() {
		return "", fmt.Errorf("it cannot be written so that it reads as meant: %s", d)
	}
	return made, nil
}

// written is a line of a text, with the block that it opens.
type written struct {
	text   string
	indent string
	first  int // its line
	last   int // the last line of its block; its own where it opens none
	opens  bool
	under  []*written
}

type rewriter struct {
	style Style
	lines []string
	ends  string // what stands at the end of a line that opens nothing
	unit  string // by how much a block is indented
	gone  map[int]bool
	put   map[int][]string // behind a line
}

// scan finds the lines and the blocks of the text, as Parse does.
func (w *rewriter) scan() []*written {
	top := &written{last: -1}
	stack := []*written{top}
	depth := []int{-1}
	pop := func() { stack, depth = stack[:len(stack)-1], depth[:len(depth)-1] }
	for i, raw := range w.lines {
		raw = strings.TrimRight(raw, " \t\r")
		body := strings.TrimLeft(raw, " \t")
		if body == "" || matchesAny(w.style.Volatile, raw) {
			continue
		}
		n := &written{text: body, indent: raw[:len(raw)-len(body)], first: i, last: i}
		in := len(n.indent)
		switch w.style.Layout {
		case "flat":
			in = 0
		case "braces":
			if strings.TrimRight(body, "; ") == "}" {
				if len(stack) > 1 {
					stack[len(stack)-1].last = i
					pop()
				}
				continue
			}
			in = len(stack)
			n.opens = strings.HasSuffix(body, "{")
			if !n.opens && strings.HasSuffix(body, ";") {
				w.ends = ";"
			}
			n.text = strings.TrimRight(body, "{; ")
		}
		for len(stack) > 1 && w.style.Layout != "braces" && depth[len(depth)-1] >= in {
			pop()
		}
		parent := stack[len(stack)-1]
		if w.unit == "" && parent != top && len(n.indent) > len(parent.indent) {
			w.unit = n.indent[len(parent.indent):]
		}
		parent.under = append(parent.under, n)
		for _, above := range stack[1:] {
			above.last = max(above.last, i)
		}
		if n.opens || w.style.Layout != "braces" && w.style.Layout != "flat" {
			stack, depth = append(stack, n), append(depth, in)
		}
	}
	if w.unit == "" {
		w.unit = map[bool]string{true: "    ", false: "  "}[w.style.Layout == "braces"]
	}
	return top.under
}

// rewrite makes of some lines of the text those that are wanted. What is new comes behind
// the line after, or behind what stands before it.
func (w *rewriter) rewrite(have []*written, want []Line, after int, indent string) {
	if len(have) > 0 {
		indent = have[0].indent
	}
	matched := w.match(have, want)
	used := map[*written]bool{}
	for _, n := range matched {
		used[n] = true
	}
	for _, n := range have {
		for i := n.first; !used[n] && i <= n.last; i++ {
			w.gone[i] = true
		}
	}
	var fresh []Line
	for i, l := range want {
		switch n := matched[i]; {
		case n != nil:
			w.rewrite(n.under, l.Under, n.first, n.indent+w.unit)
			after = max(after, n.last)
		case w.style.Ordered:
			w.put[after] = append(w.put[after], w.render(l, indent)...)
		default:
			fresh = append(fresh, l)
		}
	}
	for _, l := range fresh {
		at := after
		for _, n := range have { // behind the last of its kind: what needs it may stand further down
			if used[n] && kind(n.text) == kind(l.Text) {
				at = n.last
			}
		}
		w.put[at] = append(w.put[at], w.render(l, indent)...)
	}
}

// kind is the first word of a line.
func kind(line string) string {
	word, _, _ := strings.Cut(line, " ")
	return word
}

// match finds, for each line that is wanted, the one that stands for it; nil for none.
func (w *rewriter) match(have []*written, want []Line) []*written {
	fits := func(n *written, l Line) bool {
		return n.text == l.Text && (n.opens || len(l.Under) == 0 || w.style.Layout != "braces")
	}
	out := make([]*written, len(want))
	if !w.style.Ordered {
		by := map[string][]*written{}
		for _, n := range have {
			by[n.text] = append(by[n.text], n)
		}
		for i, l := range want {
			k := slices.IndexFunc(by[l.Text], func(n *written) bool { return fits(n, l) })
			if k >= 0 {
				out[i] = by[l.Text][k]
				by[l.Text] = slices.Delete(by[l.Text], k, k+1)
			}
		}
		return out
	}
	from, to := 0, 0 // what is the same at both ends stays
	for from < len(have) && from < len(want) && fits(have[from], want[from]) {
		out[from] = have[from]
		from++
	}
	for to < len(have)-from && to < len(want)-from && fits(have[len(have)-1-to], want[len(want)-1-to]) {
		out[len(want)-1-to] = have[len(have)-1-to]
		to++
	}
	a, b := have[from:len(have)-to], want[from:len(want)-to]
	long := make([][]int, len(a)+1) // the longest that is common to what is behind
	for i := range long {
		long[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			long[i][j] = max(long[i+1][j], long[i][j+1])
			if fits(a[i], b[j]) {
				long[i][j] = max(long[i][j], long[i+1][j+1]+1)
			}
		}
	}
	for i, j := 0, 0; i < len(a) && j < len(b); {
		switch {
		case fits(a[i], b[j]) && long[i][j] == long[i+1][j+1]+1:
			out[from+j] = a[i]
			i, j = i+1, j+1
		case long[i+1][j] >= long[i][j+1]:
			i++
		default:
			j++
		}
	}
	return out
}

// render writes a line and what stands in it.
func (w *rewriter) render(l Line, indent string) []string {
	if w.style.Layout != "braces" {
		out := []string{indent + l.Text}
		for _, u := range l.Under {
			out = append(out, w.render(u, indent+w.unit)...)
		}
		return out
	}
	if len(l.Under) == 0 {
		return []string{indent + l.Text + w.ends}
	}
	out := []string{indent + l.Text + " {"}
	for _, u := range l.Under {
		out = append(out, w.render(u, indent+w.unit)...)
	}
	return append(out, indent+"}")
}
