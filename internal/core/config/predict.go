package config

import (
	"fmt"
	"slices"
	"strings"
)

// Wrong is a line that a device would not take, or of which nobody knows what it does.
type Wrong struct {
	Number int // of the line, from 1
	Line   string
	Why    string
}

func (w *Wrong) Error() string { return fmt.Sprintf("line %d, %q: %s", w.Number, w.Line, w.Why) }

// Predict tells what a configuration will be once lines were typed, from the top on. The
// error is a [Wrong] for the first line that would not be taken; the configuration is
// then that before it.
func (l *Language) Predict(c Config, lines []string) (Config, error) {
	if l.Tree {
		return l.predictTree(c, lines)
	}
	e := newEditor(l, c)
	err := e.all(lines)
	return e.config(), err
}

// texts makes one of the lines of each text; wrong numbers are then those of the first.
func (l *Language) texts(lines []string) ([]string, []int) { return l.Style.Texts(lines) }

// all does what lines do, up to the first that is not taken.
func (e *editor) all(lines []string) error {
	whole, first := e.l.texts(lines)
	for i, line := range whole {
		if why := e.typed(strings.TrimSpace(line)); why != "" {
			return &Wrong{first[i] + 1, line, why}
		}
	}
	return nil
}

// editor is a configuration that is being changed.
type editor struct {
	l    *Language
	top  *section
	at   []*section // that it is in, from the top on
	used map[string]int
}

// section is a section, or the top, with its lines.
type section struct {
	line  string // "" for the top
	lines []*entry
	// What follows is found out when it is first wanted: what all the lines of a large
	// section are costs more than most changes of it need.
	texts map[string]*entry // by the line
	keys  map[string]*entry // by what they replace one another by, of rules that say so
	aways map[string]*entry // by what takes them away
	looks int               // for what a line takes away
}

// entry is a line in a section.
type entry struct {
	text  string
	known known
	is    bool     // its rule is known
	src   []Line   // what stands in it, as long as nothing is done there
	under *section // the same, once something is
}

func newEditor(l *Language, c Config) *editor {
	e := &editor{l: l, top: sectionOf("", c.Lines)}
	e.at = []*section{e.top}
	return e
}

func sectionOf(line string, lines []Line) *section {
	s := &section{line: line, lines: make([]*entry, len(lines))}
	all := make([]entry, len(lines))
	for i, l := range lines {
		all[i].text, all[i].src = l.Text, l.Under
		s.lines[i] = &all[i]
	}
	return s
}

// in is what stands in a line.
func (x *entry) in() *section {
	if x.under == nil {
		x.under = sectionOf(x.text, x.src)
	}
	return x.under
}

// config is the configuration as it stands.
func (e *editor) config() Config {
	return ofLines(e.top.printed(), e.l.Style)
}

func (s *section) printed() []Line {
	out := make([]Line, 0, len(s.lines))
	for _, x := range s.lines {
		l := Line{Text: x.text, Under: x.src}
		if x.under != nil {
			l.Under = x.under.printed()
		}
		out = append(out, l)
	}
	return out
}

// ofLines makes a configuration of lines, as Parse does.
func ofLines(lines []Line, style Style) Config {
	return Config{Lines: lines, ordered: style.Ordered, paths: &listed{}}
}

// find is the line of a section by its text; nil when there is none.
func (s *section) find(text string) *entry {
	if s.texts == nil {
		s.texts = make(map[string]*entry, len(s.lines))
		for _, x := range s.lines {
			s.texts[x.text] = x
		}
	}
	return s.texts[text]
}

// keyed tells whether a line of the rule replaces another by more than being the same.
func (k known) keyed() bool { return k.rule.Key != "" || k.rule.Places != nil }

// replaced is the line that another would replace; nil when there is none.
func (e *editor) replaced(s *section, k known) *entry {
	if !k.keyed() {
		return s.find(k.caught[0])
	}
	if s.keys == nil {
		s.keys = map[string]*entry{}
		for _, x := range s.lines {
			if e.l.mayBeKeyed(x.text) && e.is(s, x) && x.known.keyed() {
				s.keys[x.known.key()] = x
			}
		}
	}
	return s.keys[k.key()]
}

// mayBeKeyed tells, without looking closely, whether a line may be one that others
// replace.
func (l *Language) mayBeKeyed(text string) bool {
	l.begin()
	return slices.ContainsFunc(l.keyed, func(start string) bool { return strings.HasPrefix(text, start) })
}

// taken is the line that is taken away by a typed one; nil when there is none.
func (e *editor) taken(s *section, typed string) *entry {
	if e.l.Takes != nil && !e.l.Takes.MatchString(typed) {
		return nil
	}
	if s.looks++; s.aways == nil && s.looks <= fewLooks {
		return e.takenOf(s, typed)
	}
	if s.aways == nil {
		s.aways = make(map[string]*entry, len(s.lines))
		for _, x := range s.lines {
			if e.is(s, x) && x.known.rule.Away != "" {
				s.aways[x.known.away()] = x
			}
		}
	}
	return s.aways[typed]
}

// fewLooks is how often a section is searched for what is taken away before it is worth
// finding out what takes away each of its lines.
const fewLooks = 4

// takenOf searches a section for the line that is taken away by a typed one, among those
// of the rules that it may be of.
func (e *editor) takenOf(s *section, typed string) *entry {
	e.l.begin()
	for i := range e.l.Rules {
		if e.l.aways[i] == nil || !e.l.aways[i].MatchString(typed) {
			continue
		}
		for _, x := range slices.Backward(s.lines) {
			if strings.HasPrefix(x.text, e.l.starts[i]) && e.is(s, x) && x.known.rule.Away != "" && x.known.away() == typed {
				return x
			}
		}
	}
	return nil
}

// is finds out what a line is; it is false when no rule knows it.
func (e *editor) is(s *section, x *entry) bool {
	if !x.is {
		x.known, x.is = e.l.know(s.line, x.text)
	}
	return x.is
}

// enter notes a line whose rule is known where it is looked for.
func (e *editor) enter(s *section, x *entry) {
	if s.texts != nil {
		s.texts[x.text] = x
	}
	if s.keys != nil && x.known.keyed() {
		s.keys[x.known.key()] = x
	}
	if s.aways != nil && x.known.rule.Away != "" {
		s.aways[x.known.away()] = x
	}
}

func (s *section) forget(x *entry) {
	if s.texts[x.text] == x {
		delete(s.texts, x.text)
	}
	if !x.is {
		return
	}
	if k := x.known.key(); s.keys[k] == x {
		delete(s.keys, k)
	}
	if x.known.rule.Away != "" && s.aways[x.known.away()] == x {
		delete(s.aways, x.known.away())
	}
}

// typed does what a line does, and says why it is not taken; "" when it is.
func (e *editor) typed(line string) (why string) {
	if line == "" {
		return ""
	}
	if line == e.l.Leave {
		if len(e.at) == 1 {
			return "no section is open"
		}
		e.at = e.at[:len(e.at)-1]
		return ""
	}
	for {
		s := e.at[len(e.at)-1]
		why = e.inSection(s, line)
		if why == "" || e.l.Leave != "" || len(e.at) == 1 {
			return why
		}
		e.at = e.at[:len(e.at)-1] // it leaves the section by itself
	}
}

func (e *editor) inSection(s *section, line string) string {
	if x := e.taken(s, line); x != nil {
		return e.away(s, x)
	}
	if e.l.Takes != nil && e.l.Takes.MatchString(line) {
		return "nothing here is taken away by it"
	}
	k, ok := e.l.meant(s.line, line)
	if !ok {
		if where := e.l.knownIn(line); where != "" {
			return "the rules of the language do not know it here: it stands " + where
		}
		return "the rules of the language do not know it here"
	}
	return e.put(s, k)
}

// put puts a line into a section, in place of the one that it replaces.
func (e *editor) put(s *section, k known) string {
	text := k.caught[0]
	old := e.replaced(s, k)
	if old != nil {
		e.is(s, old) // it was found by its text: what it needs must be known, too
	}
	if k.rule.Section {
		if old == nil && k.rule.Fixed {
			return "there is no such section, and it cannot be made"
		}
		if old == nil {
			if why := e.lacks(k); why != "" {
				return why
			}
			old = e.newSection(s, k)
		}
		e.at = append(e.at, old.in())
		return ""
	}
	if why := e.lacks(k); why != "" {
		return why
	}
	if k.rule.Places != nil {
		return e.place(s, k)
	}
	if old != nil {
		e.uses(old, -1)
		s.forget(old)
		old.text, old.known = text, k
		e.enter(s, old)
		e.uses(old, 1)
		return ""
	}
	x := &entry{text: text, known: k, is: true}
	s.lines = append(s.lines, x)
	e.enter(s, x)
	e.uses(x, 1)
	return ""
}

// newSection makes a section, with what appears in it by itself.
func (e *editor) newSection(s *section, k known) *entry {
	x := &entry{text: k.caught[0], known: k, is: true, src: k.brings()}
	s.lines = append(s.lines, x)
	e.enter(s, x)
	e.uses(x, 1)
	return x
}

// place puts an entry into a list, at its place; the others move on.
func (e *editor) place(s *section, k known) string {
	at := slices.Index(k.rule.Places, k.caught[2])
	if at < 0 {
		return fmt.Sprintf("%q is no place in the list", k.caught[2])
	}
	list := e.list(s, k.number)
	moved := e.replaced(s, k)
	if moved == nil && len(list) == len(k.rule.Places) {
		return fmt.Sprintf("the list has no more than %d entries", len(k.rule.Places))
	}
	if moved != nil {
		list = slices.DeleteFunc(list, func(x *entry) bool { return x == moved })
		s.forget(moved)
		moved.text, moved.known = k.caught[0], k
	} else {
		moved = &entry{text: k.caught[0], known: k, is: true}
		s.lines = append(s.lines, moved)
		e.uses(moved, 1)
	}
	e.number(s, slices.Insert(list, min(at, len(list)), moved))
	return ""
}

// list are the entries of a list, in their order.
func (e *editor) list(s *section, rule int) (out []*entry) {
	start := literal(e.l.Rules[rule].Line.String())
	for _, x := range s.lines {
		if strings.HasPrefix(x.text, start) && e.is(s, x) && x.known.number == rule {
			out = append(out, x)
		}
	}
	slices.SortStableFunc(out, func(a, b *entry) int {
		places := a.known.rule.Places
		return slices.Index(places, a.known.caught[2]) - slices.Index(places, b.known.caught[2])
	})
	return out
}

// number gives the entries of a list the words of their places, and the order that they
// are printed in.
func (e *editor) number(s *section, list []*entry) {
	for i, x := range list {
		caught := slices.Clone(x.known.caught)
		place := x.known.rule.Places[min(i, len(x.known.rule.Places)-1)]
		text := withPlace(x.known.rule, x.text, place)
		caught[0], caught[2] = text, place
		s.forget(x)
		x.text, x.known.caught = text, caught
	}
	rank := make(map[*entry]int, len(list))
	first := len(s.lines)
	for i, x := range list {
		rank[x] = i
		first = min(first, slices.Index(s.lines, x))
		e.enter(s, x)
	}
	rest := slices.DeleteFunc(slices.Clone(s.lines), func(x *entry) bool { _, in := rank[x]; return in })
	s.lines = slices.Insert(rest, min(first, len(rest)), list...)
}

// away takes a line away, with all that stands in it.
func (e *editor) away(s *section, x *entry) string {
	if why := e.needed(s, x); why != "" {
		return why
	}
	e.uses(x, -1)
	s.forget(x)
	s.lines = slices.DeleteFunc(s.lines, func(o *entry) bool { return o == x })
	if x.known.rule.Places != nil {
		e.number(s, e.list(s, x.known.number))
	}
	return ""
}

// users counts, once something asks, how many lines need each.
func (e *editor) users() map[string]int {
	if e.used != nil {
		return e.used
	}
	e.used = map[string]int{}
	if e.l.begin(); len(e.l.needy) == 0 {
		return e.used
	}
	var walk func(s *section)
	walk = func(s *section) {
		for _, x := range s.lines {
			may := slices.ContainsFunc(e.l.needy, func(start string) bool { return strings.HasPrefix(x.text, start) })
			if may && e.is(s, x) {
				for _, n := range x.known.needs() {
					e.used[n]++
				}
			}
			if len(x.src) > 0 || x.under != nil {
				walk(x.in())
			}
		}
	}
	walk(e.top)
	return e.used
}

// uses notes that a line, and what stands in it, came or went.
func (e *editor) uses(x *entry, by int) {
	if e.used == nil {
		return
	}
	if x.is {
		for _, n := range x.known.needs() {
			e.used[n] += by
		}
	}
	if len(x.src) > 0 || x.under != nil {
		for _, y := range x.in().lines {
			if e.is(x.under, y) {
				e.uses(y, by)
			}
		}
	}
}

// lacks says what a line needs and does not find.
func (e *editor) lacks(k known) string {
	for _, n := range k.needs() {
		if !e.has(n) {
			return fmt.Sprintf("it needs %q, which is not there", n)
		}
	}
	return ""
}

// has tells whether a line with its sections is there.
func (e *editor) has(path string) bool {
	s := e.top
	parts := strings.Split(path, " > ")
	for i, p := range parts {
		x := s.find(p)
		switch {
		case x == nil:
			return false
		case i == len(parts)-1:
			return true
		}
		s = x.in()
	}
	return false
}

// needed says who needs a line that is to be taken away. Only lines of the top, and those
// one section deep, can be needed.
func (e *editor) needed(s *section, x *entry) string {
	path := x.text
	if s.line != "" {
		path = s.line + " > " + path
	}
	if e.l.mayBeNeeded(path) && e.users()[path] > 0 {
		return fmt.Sprintf("%q is needed by another line", path)
	}
	return ""
}
