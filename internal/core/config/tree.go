package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Some configurations are trees of data, written as lines, one for each leaf: PATH = VALUE,
// or PATH alone for an entry of a list and for what has no value. A path is /NAME/NAME, with
// [KEY='VALUE'] behind a name where it is an entry of a list. What changes such a
// configuration is the same whatever its model is:
//
//	set PATH = VALUE    puts a leaf there, with the entries that it stands in
//	set PATH            puts an entry there
//	delete PATH         takes a node away, with all that stands below it
//
// A language with Tree set is that one. It has no rules.

// treeLine takes a line apart: its path, and what stands behind it.
func treeLine(line string) (path, value string) {
	quote, depth := byte(0), 0
	for i := 0; i < len(line); i++ {
		switch c := line[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case depth > 0 && (c == '\'' || c == '"'):
			quote = c
		case c == '[':
			depth++
		case c == ']':
			depth--
		case c == ' ' && depth == 0:
			return line[:i], line[i:]
		}
	}
	return line, ""
}

// nodes are the paths of all that a path stands in, the topmost first, itself last.
func nodes(path string) (out []string) {
	quote := byte(0)
	for i := 1; i < len(path); i++ {
		switch c := path[i]; {
		case quote == '"' && c == '\\':
			i++
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '\'' || c == '"':
			quote = c
		case c == '/':
			out = append(out, path[:i])
		}
	}
	return append(out, path)
}

// below tells whether a path is that of a node, or of one below it.
func below(path, node string) bool {
	return path == node || strings.HasPrefix(path, node) && path[len(node)] == '/'
}

// treeEdit is a tree that is being changed, as its lines.
type treeEdit struct {
	lines []string
}

func (t *treeEdit) at(path string) int {
	return slices.IndexFunc(t.lines, func(l string) bool { p, _ := treeLine(l); return p == path })
}

// set puts a node there. What it stands in is there then; what was empty is so no more.
func (t *treeEdit) set(line string) {
	path, _ := treeLine(line)
	all := nodes(path)
	for _, n := range all[:len(all)-1] {
		i := t.at(n)
		switch entry := strings.HasSuffix(n, "]"); {
		case entry && i < 0:
			t.lines = append(t.lines, n)
		case !entry && i >= 0:
			t.lines = slices.Delete(t.lines, i, i+1)
		}
	}
	if i := t.at(path); i >= 0 {
		if line != path { // an entry that is there stays as it is
			t.lines[i] = line
		}
		return
	}
	if !strings.HasSuffix(path, "]") && line == path &&
		slices.ContainsFunc(t.lines, func(l string) bool { p, _ := treeLine(l); return below(p, path) }) {
		return // there is something in it: it has no line of its own
	}
	t.lines = append(t.lines, line)
}

// remove takes a node away, with all below it; it is false where there was none.
func (t *treeEdit) remove(path string) bool {
	n := len(t.lines)
	t.lines = slices.DeleteFunc(t.lines, func(l string) bool { p, _ := treeLine(l); return below(p, path) })
	return len(t.lines) < n
}

// typed carries out one line; it tells why it cannot.
func (t *treeEdit) typed(line string) (why string) {
	verb, rest, _ := strings.Cut(line, " ")
	path, value := treeLine(rest)
	switch {
	case verb != "set" && verb != "delete":
		return "what it does is not known: it is neither set nor delete"
	case !strings.HasPrefix(path, "/"):
		return "it has no path"
	case value != "" && (verb == "delete" || !strings.HasPrefix(value, " = ")):
		return "behind its path stands something else than = and a value"
	case verb == "set":
		t.set(rest)
	case !t.remove(path):
		return "it is not there to delete"
	}
	return ""
}

func treeOf(c Config) *treeEdit {
	t := &treeEdit{}
	for _, l := range c.Lines {
		t.lines = append(t.lines, l.Text)
	}
	return t
}

func (t *treeEdit) config(style Style) Config {
	lines := make([]Line, len(t.lines))
	for i, l := range t.lines {
		lines[i] = Line{Text: l}
	}
	return ofLines(lines, style)
}

func (l *Language) predictTree(c Config, lines []string) (Config, error) {
	t := treeOf(c)
	for i, line := range lines {
		if why := t.typed(strings.TrimSpace(line)); why != "" {
			return t.config(l.Style), &Wrong{i + 1, line, why}
		}
	}
	return t.config(l.Style), nil
}

// leadTree finds the lines that lead from one tree to another. Leaves that go are taken away
// first, the last of them first; then all is set that comes; then entries go that others may
// have named.
func (l *Language) leadTree(from, to Config) (out []string, err error) {
	has := func(c Config) map[string]string {
		m := map[string]string{}
		for _, line := range c.Lines {
			p, _ := treeLine(line.Text)
			m[p] = line.Text
		}
		return m
	}
	old, now := has(from), has(to)
	var gone []string // entries, the last first
	for _, line := range slices.Backward(from.Lines) {
		p, _ := treeLine(line.Text)
		if _, stays := now[p]; stays || slices.ContainsFunc(to.Lines, func(o Line) bool { q, _ := treeLine(o.Text); return below(q, p) }) {
			continue
		}
		all := nodes(p)
		entry := slices.IndexFunc(all, func(n string) bool {
			_, was := old[n]
			_, is := now[n]
			return strings.HasSuffix(n, "]") && was && !is
		})
		switch {
		case entry < 0:
			out = append(out, "delete "+p)
		case !slices.Contains(gone, all[entry]):
			gone = append(gone, all[entry])
		}
	}
	for i, line := range to.Lines {
		p, value := treeLine(line.Text)
		if old[p] == line.Text {
			continue
		}
		implied := value == "" && slices.ContainsFunc(to.Lines[i+1:], func(o Line) bool {
			q, v := treeLine(o.Text)
			return v != "" && q != p && below(q, p)
		})
		if !implied {
			out = append(out, "set "+line.Text)
		}
	}
	for _, n := range gone {
		out = append(out, "delete "+n)
	}
	after, err := l.predictTree(from, out)
	if err != nil {
		return nil, fmt.Errorf("the lines found contradict themselves: %w", err)
	}
	if d := Compare(to, after); !d.Empty() {
		return nil, fmt.Errorf("no lines lead there: %q would be left", d.Lines(func(s []string) []string { return s }))
	}
	return out, nil
}

func (l *Language) wantedTree(c Config, w Want) (Config, error) {
	t := treeOf(c)
	var wrong []error
	for _, pattern := range w.NoOther {
		fits := globbed(pattern)
		for _, line := range slices.Clone(t.lines) {
			p, _ := treeLine(line)
			wanted := slices.ContainsFunc(w.Lines, func(o Line) bool { q, _ := treeLine(o.Text); return below(q, p) })
			if (fits.MatchString(line) || fits.MatchString(p)) && !wanted {
				t.remove(p)
			}
		}
	}
	for _, g := range w.Gone {
		p, _ := treeLine(g.Text)
		t.remove(p)
	}
	for _, line := range w.Lines {
		t.set(line.Text)
	}
	for _, line := range w.Lines {
		if i := t.at(first(treeLine(line.Text))); i >= 0 && t.lines[i] != line.Text && strings.Contains(line.Text, " = ") {
			wrong = append(wrong, fmt.Errorf("%q cannot be so together with what else is wanted there: it would be %q", line.Text, t.lines[i]))
		}
	}
	return t.config(l.Style), because(wrong)
}

func first(a, _ string) string { return a }

// refusesTree says what of a want cannot be.
func (l *Language) refusesTree(w Want) (out []string) {
	each := func(lines []Line, gone bool) {
		for _, line := range lines {
			p, value := treeLine(line.Text)
			switch {
			case len(line.Under) > 0:
				out = append(out, fmt.Sprintf("%q: a tree has no sections; write the whole path of each line", line.Text))
			case !strings.HasPrefix(p, "/"), value != "" && !strings.HasPrefix(value, " = "):
				out = append(out, fmt.Sprintf("%q: it is no line of a tree; write PATH = VALUE", line.Text))
			case gone && value != "":
				out = append(out, fmt.Sprintf("%q: what shall be gone is a path, without a value", line.Text))
			}
		}
	}
	each(w.Lines, false)
	each(w.Gone, true)
	for _, line := range w.Lines {
		p, _ := treeLine(line.Text)
		if slices.ContainsFunc(w.Gone, func(g Line) bool { return below(p, g.Text) }) {
			out = append(out, fmt.Sprintf("%q is wanted, and shall be gone", line.Text))
		}
	}
	for _, pattern := range w.NoOther {
		if !strings.HasPrefix(pattern, "/") {
			out = append(out, fmt.Sprintf("%q: it is no path of a tree", pattern))
		}
	}
	return out
}

var treeChange = regexp.MustCompile(`^(?:set|delete) /`)
