package config

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
)

// Want says what a configuration shall hold, whatever it holds now.
type Want struct {
	// Lines shall be there, in their sections.
	Lines []Line
	// Gone shall not be there. Of a section with lines in it, only those go; an entry of
	// a list goes from wherever it is.
	Gone []Line
	// NoOther are patterns: of the lines that fit them, none shall be there but those
	// that are wanted. A pattern is a line with its sections, such as "port 7 > lan *";
	// * stands for any text.
	NoOther []string
}

// Size is how many lines and patterns it has.
func (w Want) Size() int { return len(paths(w.Lines)) + len(paths(w.Gone)) + len(w.NoOther) }

// All is what several say together.
func All(wants []Want) Want {
	if len(wants) == 1 {
		return wants[0]
	}
	var out Want
	var lines, gone collected
	for _, w := range wants {
		lines.add(w.Lines)
		gone.add(w.Gone)
		out.NoOther = union(out.NoOther, w.NoOther)
	}
	out.Lines, out.Gone = lines.lines, gone.lines
	return out
}

// collected are lines of many, each once.
type collected struct {
	lines []Line
	at    map[string]int
}

func (c *collected) add(lines []Line) {
	if c.at == nil {
		c.at = map[string]int{}
	}
	for _, l := range lines {
		i, there := c.at[l.Text]
		if !there {
			c.at[l.Text] = len(c.lines)
			c.lines = append(c.lines, l)
			continue
		}
		c.lines[i].Under = merged(c.lines[i].Under, l.Under)
	}
}

func merged(a, b []Line) []Line {
	out := slices.Clone(a)
	for _, l := range b {
		i := slices.IndexFunc(out, func(x Line) bool { return x.Text == l.Text })
		if i < 0 {
			out = append(out, l)
			continue
		}
		out[i].Under = merged(out[i].Under, l.Under)
	}
	return out
}

func union(a, b []string) []string {
	if !slices.ContainsFunc(b, func(s string) bool { return !slices.Contains(a, s) }) {
		return a
	}
	out := slices.Clone(a)
	for _, s := range b {
		if !slices.Contains(out, s) {
			out = append(out, s)
		}
	}
	return out
}

// Wanted is the configuration that is wanted in place of c: c with the least that must
// come, go or be replaced. The error says what cannot be so; it may be several, joined.
func (l *Language) Wanted(c Config, w Want) (Config, error) {
	if l.Tree {
		return l.wantedTree(c, w)
	}
	e := newEditor(l, c)
	g := &wanter{e: e, w: w}
	for _, p := range w.NoOther {
		g.noOther(e.top, strings.Split(p, " > "), w.Lines)
	}
	g.gone(e.top, w.Gone)
	g.come(e.top, nil, w.Lines)
	if len(g.wrong) == 0 {
		g.there(e.top, nil, w.Lines)
		g.stillNeeded()
	}
	return e.config(), because(g.wrong)
}

// wanter makes of a configuration the one that is wanted. What is needed is looked at
// when all is done, not on the way.
type wanter struct {
	e     *editor
	w     Want
	went  []string // paths that were taken away
	wrong []error
}

func (g *wanter) fail(format string, args ...any) {
	g.wrong = append(g.wrong, fmt.Errorf(format, args...))
}

// noOther takes away what fits a pattern, but for what is wanted. A line that a wanted
// one replaces is left to be replaced.
func (g *wanter) noOther(s *section, pattern []string, wanted []Line) {
	fits := globbed(pattern[0])
	for _, x := range slices.Clone(s.lines) {
		if !fits.MatchString(firstLine(x.text)) {
			continue
		}
		i := slices.IndexFunc(wanted, func(l Line) bool { return l.Text == x.text })
		if len(pattern) > 1 {
			var under []Line
			if i >= 0 {
				under = wanted[i].Under
			}
			if len(x.src) > 0 || x.under != nil {
				g.noOther(x.in(), pattern[1:], under)
			}
			continue
		}
		if i < 0 && !g.replaces(s, x, wanted) {
			g.away(s, x)
		}
	}
}

// replaces tells whether one of the wanted lines takes the place of another.
func (g *wanter) replaces(s *section, x *entry, wanted []Line) bool {
	if !g.e.is(s, x) || !x.known.keyed() {
		return false
	}
	return slices.ContainsFunc(wanted, func(l Line) bool {
		k, ok := g.e.l.know(s.line, l.Text)
		return ok && k.keyed() && k.key() == x.known.key()
	})
}

// globbed is a pattern with *, as an expression.
func globbed(pattern string) *regexp.Regexp {
	parts := strings.Split(pattern, "*")
	for i, p := range parts {
		parts[i] = regexp.QuoteMeta(p)
	}
	return regexp.MustCompile("^" + strings.Join(parts, ".*") + "$")
}

func (g *wanter) gone(s *section, lines []Line) {
	for _, l := range lines {
		x := s.find(l.Text)
		if k, ok := g.e.l.know(s.line, l.Text); ok && k.rule.Places != nil {
			x = g.e.replaced(s, k) // wherever it is in the list
		}
		switch {
		case x == nil:
		case len(l.Under) > 0:
			g.gone(x.in(), l.Under)
		default:
			g.away(s, x)
		}
	}
}

// away takes a line away, needed or not.
func (g *wanter) away(s *section, x *entry) {
	g.went = append(g.went, s.pathTo(x))
	s.forget(x)
	s.lines = slices.DeleteFunc(s.lines, func(o *entry) bool { return o == x })
	if g.e.is(s, x) && x.known.rule.Places != nil {
		g.e.number(s, g.e.list(s, x.known.number))
	}
}

// pathTo is a line with the section it stands in, as others may need it.
func (s *section) pathTo(x *entry) string {
	if s.line == "" {
		return x.text
	}
	return s.line + " > " + x.text
}

// come puts lines where they shall be.
func (g *wanter) come(s *section, at []string, lines []Line) {
	for _, l := range lines {
		k, ok := g.e.l.know(s.line, l.Text)
		switch {
		case !ok:
			g.fail("%q: no rule of the language knows it", pathOf(at, l.Text))
		case len(l.Under) > 0 && !k.rule.Section:
			g.fail("%q: no rule of the language says that it is a section", pathOf(at, l.Text))
		case k.rule.Section:
			x := s.find(l.Text)
			if x == nil && k.rule.Fixed {
				g.fail("%q is not there, and no line makes it", pathOf(at, l.Text))
				continue
			}
			if x == nil {
				x = g.e.newSection(s, k)
			}
			g.come(x.in(), append(slices.Clone(at), l.Text), l.Under)
		default:
			g.put(s, at, k)
		}
	}
}

func (g *wanter) put(s *section, at []string, k known) {
	old := g.e.replaced(s, k)
	switch {
	case old != nil && old.text == k.caught[0]:
	case k.rule.Places != nil:
		if why := g.e.place(s, k); why != "" {
			g.fail("%q: %s", pathOf(at, k.caught[0]), why)
		}
	case old != nil:
		g.went = append(g.went, s.pathTo(old))
		s.forget(old)
		old.text, old.known = k.caught[0], k
		g.e.enter(s, old)
	default:
		x := &entry{text: k.caught[0], known: k, is: true}
		s.lines = append(s.lines, x)
		g.e.enter(s, x)
	}
}

// there proves that all that is wanted is there together, and has what it needs.
func (g *wanter) there(s *section, at []string, lines []Line) {
	for _, l := range lines {
		x := s.find(l.Text)
		if x == nil {
			g.fail("%q cannot be so together with what else is wanted there%s", pathOf(at, l.Text), g.instead(s, l))
			continue
		}
		if g.e.is(s, x) {
			if why := g.e.lacks(x.known); why != "" {
				g.fail("%q: %s and is not wanted", pathOf(at, l.Text), why)
			}
		}
		if len(l.Under) > 0 {
			g.there(x.in(), append(slices.Clone(at), l.Text), l.Under)
		}
	}
}

// instead says what stands in the place of a wanted line.
func (g *wanter) instead(s *section, l Line) string {
	k, ok := g.e.l.know(s.line, l.Text)
	if !ok {
		return ""
	}
	if x := g.e.replaced(s, k); x != nil {
		return fmt.Sprintf(": it would be %q", x.text)
	}
	return ""
}

// stillNeeded finds what was taken away and something that stays needs.
func (g *wanter) stillNeeded() {
	g.went = slices.DeleteFunc(g.went, func(path string) bool { return !g.e.l.mayBeNeeded(path) })
	if len(g.went) == 0 {
		return
	}
	g.e.used = nil // what went did not tell
	for _, path := range g.went {
		if g.e.users()[path] > 0 && !g.e.has(path) {
			g.fail("%q cannot go: %q needs it", path, g.user(g.e.top, nil, path))
		}
	}
}

// user is the first line that needs another.
func (g *wanter) user(s *section, at []string, path string) string {
	for _, x := range s.lines {
		if g.e.is(s, x) && slices.Contains(x.known.needs(), path) {
			return pathOf(at, x.text)
		}
		if len(x.src) > 0 || x.under != nil {
			if u := g.user(x.in(), append(slices.Clone(at), x.text), path); u != "" {
				return u
			}
		}
	}
	return ""
}

// Replaces tells whether a line of the top takes the place of another, or cannot be taken
// away again.
func (l *Language) Replaces(line string) bool {
	if l.Tree {
		return true
	}
	k, ok := l.know("", line)
	return ok && (k.keyed() || k.rule.Away == "")
}

// Printout takes out of lines that a device may have printed what nothing is wanted of: sections
// that are there by themselves, with nothing in them.
func (l *Language) Printout(lines []Line) []Line {
	if l == nil || l.Tree {
		return lines
	}
	return l.printout(nil, lines)
}

func (l *Language) printout(section []string, lines []Line) (out []Line) {
	in := ""
	if len(section) > 0 {
		in = section[len(section)-1]
	}
	for _, line := range lines {
		k, ok := l.know(in, line.Text)
		if ok && k.rule.Fixed && len(line.Under) == 0 {
			continue
		}
		line.Under = l.printout(append(slices.Clone(section), line.Text), line.Under)
		out = append(out, line)
	}
	return out
}

// Refuses says what of a want the rules of the language cannot do, whatever stands on a
// device; nothing when they can.
func (l *Language) Refuses(w Want) (out []string) {
	if l.Tree {
		return l.refusesTree(w)
	}
	out = l.refuses(nil, w.Lines, func(k known) string {
		switch {
		case k.rule.Fixed:
			return "it is there by itself, and nothing is said of what shall stand in it: indent that below it"
		case k.rule.Section && k.rule.Away == "":
			return "no rule of the language takes it away again"
		}
		return ""
	})
	comes := l.keysOf("", w.Lines)
	out = append(out, l.refuses(nil, w.Gone, func(k known) string {
		switch {
		case k.rule.Fixed, k.rule.Away == "" && !k.keyed():
			return "it cannot be taken away"
		case k.rule.Away == "" && !comes[k.key()]:
			return "it cannot be taken away, only replaced: want what shall stand in its place"
		}
		return ""
	})...)
	for _, p := range w.NoOther {
		if !l.mayTake(strings.Split(p, " > ")) {
			out = append(out, fmt.Sprintf("%q: no rule of the language takes such a line away", p))
		}
	}
	gone := map[string]bool{}
	for _, p := range leaves(w.Gone) {
		gone[l.placeless(p)] = true
	}
	for _, p := range paths(w.Lines) {
		if gone[l.placeless(p)] {
			out = append(out, fmt.Sprintf("%q is wanted, and shall be gone", p))
		}
	}
	return out
}

// keysOf are the keys by which lines replace others.
func (l *Language) keysOf(section string, lines []Line) map[string]bool {
	out := map[string]bool{}
	for _, line := range lines {
		if k, ok := l.know(section, line.Text); ok && k.keyed() {
			out[k.key()] = true
		}
		maps.Copy(out, l.keysOf(line.Text, line.Under))
	}
	return out
}

// placeless is a path without the place of an entry in a list.
func (l *Language) placeless(path string) string {
	section, line := "", path
	if i := strings.LastIndex(path, " > "); i >= 0 {
		line = path[i+3:]
		section = path[strings.LastIndex(" > "+path[:i], " > "):i]
	}
	if k, ok := l.know(section, line); ok && k.rule.Places != nil {
		return strings.TrimSuffix(path, line) + withPlace(k.rule, line, "")
	}
	return path
}

// refuses looks at lines in their sections; of each that has none under it, judge says
// what is wrong.
func (l *Language) refuses(at []string, lines []Line, judge func(known) string) (out []string) {
	section := ""
	if len(at) > 0 {
		section = at[len(at)-1]
	}
	for i, line := range lines {
		path := pathOf(at, line.Text)
		k, ok := l.know(section, line.Text)
		switch {
		case !ok:
			out = append(out, fmt.Sprintf("%q: no rule of the language knows it%s", path, l.elsewhere(lines[:i], line.Text)))
		case len(line.Under) > 0 && !k.rule.Section:
			out = append(out, fmt.Sprintf("%q: no rule of the language says that it is a section", path))
		case len(line.Under) > 0:
			out = append(out, l.refuses(append(slices.Clone(at), line.Text), line.Under, judge)...)
		default:
			if why := judge(k); why != "" {
				out = append(out, fmt.Sprintf("%q: %s", path, why))
			}
		}
	}
	return out
}

// elsewhere says into which of the lines above it a line would belong, were it indented.
func (l *Language) elsewhere(above []Line, text string) string {
	for _, a := range slices.Backward(above) {
		if _, ok := l.know(a.Text, text); ok {
			return fmt.Sprintf(" here; it belongs into %q: indent it below that", a.Text)
		}
	}
	return ""
}

// leaves are the paths of the lines that have none under them.
func leaves(lines []Line) (out []string) {
	for _, l := range lines {
		if len(l.Under) == 0 {
			out = append(out, l.Text)
		}
		for _, p := range leaves(l.Under) {
			out = append(out, l.Text+" > "+p)
		}
	}
	return out
}

// mayTake tells whether some rule takes lines away that fit a pattern, as far as that
// can be told from how they begin.
func (l *Language) mayTake(pattern []string) bool {
	head, _, _ := strings.Cut(pattern[len(pattern)-1], "*")
	return slices.ContainsFunc(l.Rules, func(r Rule) bool {
		start := literal(r.Line.String())
		return (r.In == nil) == (len(pattern) == 1) && (r.Away != "" || r.Key != "") && !r.Fixed &&
			(strings.HasPrefix(head, start) || strings.HasPrefix(start, head))
	})
}
