package config

import (
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Lead finds the lines that lead from one configuration to another: the fewest that the
// rules allow without taking away what stays, in an order that is safe. What is needed
// is there before it is used, what is used is taken away before what it needs, and the
// management path is changed last. What they do is proven by [Language.Predict] before
// they are returned. The error says what no rule leads to.
func (l *Language) Lead(from, to Config) ([]string, error) {
	if l.Tree {
		return l.leadTree(from, to)
	}
	w := &way{l: l, made: map[string]*op{}, freed: map[string][]*op{}}
	w.section(nil, from.Lines, to.Lines, false)
	if err := because(w.wrong); err != nil {
		return nil, err
	}
	w.order()
	lines, err := w.walk(nil)
	if g := w.last(); err == nil && g != nil {
		lines, err = w.walk(g)
	}
	if err != nil {
		return nil, err
	}
	return lines, l.proven(from, to, lines)
}

// proven proves that lines lead from one configuration to another.
func (l *Language) proven(from, to Config, lines []string) error {
	e := newEditor(l, from)
	if err := e.all(lines); err != nil {
		return fmt.Errorf("the rules of the language contradict themselves: %w", err)
	}
	left := explain(e.top.printed(), to.Lines)
	if l.Style.Ordered && len(left) == 0 && !Equal(e.config(), to) {
		return errors.New("the rules of the language do not say how its lines are put into an order")
	}
	if len(left) > 0 {
		return fmt.Errorf("the rules of the language contradict themselves: the lines found would leave %q", Lines(left))
	}
	return nil
}

// last is a section to be done last, so that none has to be left for the top at the end;
// nil where that saves nothing.
func (w *way) last() *group {
	if w.l.Leave == "" || w.ended == nil || len(w.ended.at) > 0 {
		return nil
	}
	for _, o := range w.ended.ops {
		if o.path {
			return nil
		}
	}
	for _, g := range w.groups {
		if len(g.at) > 0 && len(g.ops) > 0 && !g.path() && !slices.ContainsFunc(g.ops, func(o *op) bool {
			return slices.ContainsFunc(o.then, func(t *op) bool { return t.group != g })
		}) {
			return g
		}
	}
	return nil
}

func (g *group) path() bool { return slices.ContainsFunc(g.ops, func(o *op) bool { return o.path }) }

// way is what has to be done, before it is put into an order.
type way struct {
	l      *Language
	groups []*group
	made   map[string]*op   // what puts a line there, by its path
	freed  map[string][]*op // what ends the use of a line, by that line's path
	needs  []need
	wrong  []error
	left   int    // operations to be done
	ended  *group // in which the last was done
	defers *group // that is left for the end
}

// need says that an operation needs a line that is put, or ends one that is needed.
type need struct {
	op   *op
	path string
	away bool // the op takes the line away: its users must be gone
}

// group is what is done in one section.
type group struct {
	at   []string // the lines of the sections that it is in, from the top on
	ops  []*op
	made *op // that makes the section; nil where it is there
}

// op is one line to be typed, or the making of a section, which entering it does.
type op struct {
	group *group
	line  string
	make  bool
	path  bool
	after int   // operations that come first
	waits int   // those of them that are not done
	then  []*op // that wait for it
	done  bool
}

func (w *way) fail(format string, args ...any) {
	w.wrong = append(w.wrong, fmt.Errorf(format, args...))
}

func pathOf(at []string, line string) string {
	return strings.Join(append(slices.Clone(at), line), " > ")
}

func (w *way) add(g *group, o *op) *op {
	o.group = g
	g.ops = append(g.ops, o)
	return o
}

// section finds what has to be done in a section. New says that it has to be made.
func (w *way) section(at []string, from, to []Line, isNew bool) *group {
	g := &group{at: at}
	if !isNew && same(from, to) {
		return g
	}
	w.groups = append(w.groups, g)
	if isNew {
		g.made = w.add(g, &op{make: true})
	}
	gone, come, both := differ(from, to)
	gone, come = w.lists(g, from, to, gone, come)
	w.come(g, gone, come)
	for _, pair := range both {
		if len(pair[0].Under)+len(pair[1].Under) > 0 {
			w.section(append(slices.Clone(at), pair[0].Text), pair[0].Under, pair[1].Under, false)
		}
	}
	return g
}

// differ tells apart the lines of one section that are only in one of two, and pairs
// those in both.
func differ(from, to []Line) (gone, come []*Line, both [][2]*Line) {
	both = make([][2]*Line, 0, min(len(from), len(to)))
	for len(from) > 0 && len(to) > 0 && from[0].Text == to[0].Text { // most of two configurations is the same
		both = append(both, [2]*Line{&from[0], &to[0]})
		from, to = from[1:], to[1:]
	}
	var tail [][2]*Line
	for f, t := len(from), len(to); f > 0 && t > 0 && from[f-1].Text == to[t-1].Text; f, t = f-1, t-1 {
		tail = append(tail, [2]*Line{&from[f-1], &to[t-1]})
	}
	from, to = from[:len(from)-len(tail)], to[:len(to)-len(tail)]
	defer func() {
		slices.Reverse(tail)
		both = append(both, tail...)
	}()
	have := make(map[string][]*Line, len(from))
	for i := range from {
		have[from[i].Text] = append(have[from[i].Text], &from[i])
	}
	for i := range to {
		list := have[to[i].Text]
		if len(list) == 0 {
			come = append(come, &to[i])
			continue
		}
		both = append(both, [2]*Line{list[0], &to[i]})
		have[to[i].Text] = list[1:]
	}
	for i := range from {
		if list := have[from[i].Text]; len(list) > 0 && list[0] == &from[i] {
			gone = append(gone, &from[i])
			have[from[i].Text] = list[1:]
		}
	}
	return gone, come, both
}

// same tells whether lines are the same, in the same order.
func same(a, b []Line) bool {
	if len(a) != len(b) {
		return false
	}
	for i := range a {
		if a[i].Text != b[i].Text || !same(a[i].Under, b[i].Under) {
			return false
		}
	}
	return true
}

// in is the line of the section that a group is in; "" for the top.
func (g *group) in() string {
	if len(g.at) == 0 {
		return ""
	}
	return g.at[len(g.at)-1]
}

// come finds what has to be done for lines that are only in one of two configurations.
func (w *way) come(g *group, gone, come []*Line) {
	puts := map[string]*op{} // by key
	for _, l := range come {
		k, ok := w.l.know(g.in(), l.Text)
		switch {
		case !ok:
			w.fail("%q: no rule of the language puts it there", pathOf(g.at, l.Text))
		case k.rule.Section && k.rule.Fixed:
			w.fail("%q is not there, and is not made by a line", pathOf(g.at, l.Text))
		case k.rule.Section:
			at := append(slices.Clone(g.at), l.Text)
			made := w.section(at, k.brings(), l.Under, true).made
			w.register(made, pathOf(g.at, l.Text), k)
			if g.made != nil {
				g.made.first(made)
			}
		case len(l.Under) > 0:
			w.fail("%q: its rule does not say that it is a section", pathOf(g.at, l.Text))
		default:
			o := w.add(g, &op{line: k.put(), path: k.rule.Path})
			puts[k.key()] = o
			w.register(o, pathOf(g.at, l.Text), k)
		}
	}
	for _, l := range gone {
		k, ok := w.l.know(g.in(), l.Text)
		if !ok {
			w.fail("%q: no rule of the language takes it away", pathOf(g.at, l.Text))
			continue
		}
		o := puts[k.key()]
		if o == nil {
			if k.rule.Away == "" || k.rule.Fixed {
				w.fail("%q cannot be taken away", pathOf(g.at, l.Text))
				continue
			}
			o = w.add(g, &op{line: k.away(), path: k.rule.Path})
		}
		w.needs = append(w.needs, need{o, pathOf(g.at, l.Text), true})
		w.frees(o, g.in(), *l)
	}
}

// register notes what an operation puts there, and what it needs.
func (w *way) register(o *op, path string, k known) {
	w.made[path] = o
	for _, n := range k.needs() {
		w.needs = append(w.needs, need{o, n, false})
	}
}

// frees notes what a line that goes, with all that stands in it, has needed.
func (w *way) frees(o *op, section string, l Line) {
	if k, ok := w.l.know(section, l.Text); ok {
		for _, n := range k.needs() {
			w.freed[n] = append(w.freed[n], o)
		}
	}
	for _, u := range l.Under {
		w.frees(o, l.Text, u)
	}
}

// first says that an operation comes before another.
func (o *op) first(other *op) {
	if o != other {
		o.then = append(o.then, other)
		other.after++
	}
}

// order says what comes before what.
func (w *way) order() {
	for _, g := range w.groups {
		for _, o := range g.ops {
			if g.made != nil {
				g.made.first(o)
			}
		}
	}
	for _, n := range w.needs {
		if !n.away {
			if made := w.made[n.path]; made != nil {
				made.first(n.op)
			}
			continue
		}
		for _, user := range w.freed[n.path] {
			user.first(n.op)
		}
	}
}

// lists finds what has to be done for the lists of a section whose order counts, and
// returns the lines that are not of them.
func (w *way) lists(g *group, from, to []Line, gone, come []*Line) (_, _ []*Line) {
	rules := map[int]bool{}
	of := func(l *Line) int {
		if k, ok := w.l.know(g.in(), l.Text); ok && k.rule.Places != nil {
			return k.number
		}
		return -1
	}
	isList := func(l *Line) bool {
		n := of(l)
		if n >= 0 {
			rules[n] = true
		}
		return n >= 0
	}
	if !slices.ContainsFunc(w.l.Rules, func(r Rule) bool { return r.Places != nil }) {
		return gone, come
	}
	gone = slices.DeleteFunc(gone, isList)
	come = slices.DeleteFunc(come, isList)
	for n := range w.l.Rules { // in their order
		if rules[n] {
			w.list(g, n, entries(w.l, n, g.in(), from), entries(w.l, n, g.in(), to))
		}
	}
	return gone, come
}

// item is an entry of a list: what tells it from others, and its line with and without
// its place.
type item struct{ entry, text, rest string }

// entries are the entries of a list, in the order of their places.
func entries(l *Language, rule int, section string, lines []Line) []item {
	places := l.Rules[rule].Places
	out := make([]item, len(places))
	for i := range lines {
		k, ok := l.know(section, lines[i].Text)
		if !ok || k.number != rule {
			continue
		}
		if at := slices.Index(places, k.caught[2]); at >= 0 {
			out[at] = item{k.caught[1], k.caught[0], withPlace(k.rule, k.caught[0], "")}
		}
	}
	return slices.DeleteFunc(out, func(x item) bool { return x.text == "" })
}

// withPlace is the line of a list with another place.
func withPlace(r *Rule, text, place string) string {
	loc := r.Line.FindStringSubmatchIndex(text)
	return text[:loc[4]] + place + text[loc[5]:]
}

// list finds the fewest lines that make one list another: entries that are to go, then
// those that come or are to be moved, each behind the one before it. Entries go first
// only where there is no room else.
func (w *way) list(g *group, rule int, from, to []item) {
	r := &w.l.Rules[rule]
	cur := names(from)
	var last *op
	do := func(line string) {
		o := w.add(g, &op{line: line, path: r.Path})
		if last != nil {
			last.first(o)
		}
		last = o
	}
	away := func(entry string) {
		if r.Away == "" {
			w.fail("%q cannot be taken away", entry)
			return
		}
		do(fill(r.Away, []string{"", entry}))
		cur = slices.DeleteFunc(cur, func(s string) bool { return s == entry })
	}
	goes := slices.DeleteFunc(names(from), func(e string) bool { return slices.Contains(names(to), e) })
	stays := staying(from, to)
	for i, e := range to {
		if stays[e.entry] {
			continue
		}
		if !slices.Contains(cur, e.entry) && len(cur) == len(r.Places) && len(goes) > 0 {
			away(goes[0])
			goes = goes[1:]
		}
		cur = slices.DeleteFunc(cur, func(s string) bool { return s == e.entry })
		at := 0
		if i > 0 {
			at = slices.Index(cur, to[i-1].entry) + 1
		}
		cur = slices.Insert(cur, at, e.entry)
		text := withPlace(r, e.text, r.Places[min(at, len(r.Places)-1)])
		do(known{r, rule, []string{text}}.put())
	}
	for _, e := range goes {
		away(e)
	}
}

func names(list []item) (out []string) {
	for _, x := range list {
		out = append(out, x.entry)
	}
	return out
}

// staying are the entries that need not be put again: a longest row of them that is in
// the same order in both lists, and the same but for their places.
func staying(from, to []item) map[string]bool {
	var at []int
	var same []string
	for _, e := range to {
		if i := slices.IndexFunc(from, func(x item) bool { return x.entry == e.entry && x.rest == e.rest }); i >= 0 {
			at, same = append(at, i), append(same, e.entry)
		}
	}
	out := map[string]bool{}
	for i := range longestRising(at) {
		out[same[i]] = true
	}
	return out
}

// walk puts the operations into an order: as many as can be done in a section are done
// there before it is left.
func (w *way) walk(defers *group) (lines []string, err error) {
	w.defers, w.left = defers, 0
	for _, g := range w.groups {
		for _, o := range g.ops {
			o.done, o.waits = false, o.after
			w.left++
		}
	}
	var at []string
	var cur *group
	for w.left > 0 {
		if o := cur.next(false); o != nil {
			lines = w.do(lines, o)
			continue
		}
		g := w.nextGroup()
		if g == nil {
			return nil, errors.New("what is needed and what needs it wait for each other: there is no order for these lines")
		}
		if g == cur { // the management path is all that is left here
			lines = w.do(lines, cur.next(true))
			continue
		}
		if lines, err = w.enter(lines, at, g); err != nil {
			return nil, err
		}
		at, cur = g.at, g
	}
	w.ended = cur
	return lines, nil
}

// next is an operation of a group that can be done now; with path, one of the
// management path, too.
func (g *group) next(path bool) *op {
	if g == nil {
		return nil
	}
	for _, o := range g.ops {
		if !o.done && o.waits == 0 && (path || !o.path) {
			return o
		}
	}
	return nil
}

func (w *way) do(lines []string, o *op) []string {
	o.done = true
	w.left--
	for _, t := range o.then {
		t.waits--
	}
	if o.make {
		return lines
	}
	return append(lines, o.line)
}

// nextGroup is the group to go on in: one in which all that is left can be done comes
// first, and the management path last.
func (w *way) nextGroup() *group {
	var some, path *group
	for _, g := range w.groups {
		switch {
		case g.next(true) == nil, g == w.defers:
		case g.next(false) == nil:
			if path == nil {
				path = g
			}
		case g.whole():
			return g
		case some == nil:
			some = g
		}
	}
	switch {
	case some != nil:
		return some
	case path != nil:
		return path
	case w.defers != nil && w.defers.next(true) != nil:
		return w.defers
	}
	return nil
}

// whole tells whether all that is left in a group can be done without leaving it.
func (g *group) whole() bool {
	waits := map[*op]int{}
	free := []*op{}
	left := 0
	for _, o := range g.ops {
		if o.done {
			continue
		}
		left++
		if waits[o] = o.waits; o.waits == 0 && !o.path {
			free = append(free, o)
		}
	}
	for len(free) > 0 {
		o := free[0]
		free = free[1:]
		left--
		for _, t := range o.then {
			if _, here := waits[t]; here && !t.done {
				if waits[t]--; waits[t] == 0 && !t.path {
					free = append(free, t)
				}
			}
		}
	}
	return left == 0
}

// enter leaves sections and enters others, from one place to that of a group.
func (w *way) enter(lines []string, at []string, g *group) ([]string, error) {
	same := 0
	for same < len(at) && same < len(g.at) && at[same] == g.at[same] {
		same++
	}
	for range at[same:] {
		if w.l.Leave != "" {
			lines = append(lines, w.l.Leave)
		}
	}
	for i := same; i < len(g.at); i++ {
		section := ""
		if i > 0 {
			section = g.at[i-1]
		}
		k, ok := w.l.know(section, g.at[i])
		if !ok || !k.rule.Section {
			return nil, fmt.Errorf("%q: no rule of the language says that it is a section", pathOf(g.at[:i], g.at[i]))
		}
		lines = append(lines, k.put())
	}
	return lines, nil
}
