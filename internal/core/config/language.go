package config

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// Language is how a platform's configuration is changed by lines: what is typed to put a
// line there, what takes it away, which lines replace one another, which open a section.
// It comes from a profile; nothing of a platform is known here.
//
// Templates have $0 for the printed line and $1, $2 … for what its rule's pattern has
// caught.
type Language struct {
	// Rules are tried in their order; the first that fits a line counts.
	Rules []Rule
	// Leave is typed to leave a section. "" says that a line which does not belong into
	// the section leaves it by itself.
	Leave string
	// Takes tells a typed line that takes something away, so that one which finds
	// nothing is not taken for a line to be put; nil: none is known by its form.
	Takes *regexp.Regexp
	// Style is how configurations are printed.
	Style Style
	// Tree says that configurations are trees of data, which are changed by paths; see
	// tree.go. There are no rules then.
	Tree bool

	once   sync.Once
	starts []string         // what the lines of each rule begin with; see [literal]
	keyed  []string         // the same of the rules whose lines replace others
	needy  []string         // and of those whose lines need others
	needed []*regexp.Regexp // what may be needed
	aways  []*regexp.Regexp // what may take a line of each rule away; nil for nothing
}

// begin finds out what the lines of the rules begin with: most lines are told apart by it.
func (l *Language) begin() {
	l.once.Do(func() {
		for _, r := range l.Rules {
			start := literal(r.Line.String())
			l.starts = append(l.starts, start)
			var away *regexp.Regexp
			if r.Away != "" {
				away = templated(r.Away)
			}
			l.aways = append(l.aways, away)
			if r.Key != "" || r.Places != nil {
				l.keyed = append(l.keyed, start)
			}
			if len(r.Needs) > 0 {
				l.needy = append(l.needy, start)
			}
			for _, n := range r.Needs {
				l.needed = append(l.needed, templated(n))
			}
		}
	})
}

// Rule is how one kind of line works.
type Rule struct {
	// In is the line of the section that it stands in; nil is the top.
	In *regexp.Regexp
	// Line is the line as it is printed.
	Line *regexp.Regexp
	// Put is what is typed to put it there; "" is the line itself. It must have $0.
	Put string
	// Away is what is typed to take it away, in its section; "" says that it cannot be.
	// A section goes with all that stands in it.
	Away string
	// Key tells lines that replace one another in a section: those with the same key.
	// "" is the line itself.
	Key string
	// Section says that the line opens a section.
	Section bool
	// Fixed sections are there by themselves: they are neither put nor taken away.
	Fixed bool
	// Places, if any, make the lines of the rule a list whose order counts: $1 is the
	// entry, $2 its place, one of these words. An entry that is put goes to its place,
	// and the others move on; the device prints each with the word of where it then is.
	Places []string
	// Needs are lines, with their sections, without which it cannot stand, such as
	// "lan $1"; and which cannot be taken away as long as it stands.
	Needs []string
	// Brings are lines that appear by themselves in a section when it is made.
	Brings []string
	// Path says that the line is part of the way by which the device is managed: it is
	// changed last.
	Path bool
}

// mayBeNeeded tells, without looking at a configuration, whether something may need a
// line.
func (l *Language) mayBeNeeded(path string) bool {
	l.begin()
	return slices.ContainsFunc(l.needed, func(re *regexp.Regexp) bool { return re.MatchString(path) })
}

// templated is what a template may become.
func templated(template string) *regexp.Regexp {
	return regexp.MustCompile("^" + placeholder.ReplaceAllString(regexp.QuoteMeta(template), ".*") + "$")
}

// fits tells whether the rule is for a line in a section; start is what its lines begin
// with.
func (r *Rule) fits(section, line, start string) []string {
	switch {
	case (r.In == nil) != (section == ""), !strings.HasPrefix(line, start), r.In != nil && !r.In.MatchString(section):
		return nil
	}
	return r.caught(line)
}

// caught is what the pattern catches in a line; nil where that does not fit. Of a text of several
// lines the first is what it must fit.
func (r *Rule) caught(line string) []string {
	first := firstLine(line)
	m := r.Line.FindStringSubmatch(first)
	if m != nil && len(first) < len(line) {
		m[0] = line
	}
	return m
}

// literal is what every line begins with that an anchored pattern fits: most lines are
// told apart by it, at a fraction of what the pattern costs.
func literal(pattern string) string {
	if !strings.HasPrefix(pattern, "^") || alternates(pattern) {
		return ""
	}
	n := 1
	for n < len(pattern) && strings.IndexByte(`\.+*?()|[]{}^$`, pattern[n]) < 0 {
		n++
	}
	if n < len(pattern) && n > 1 && strings.IndexByte("?*{", pattern[n]) >= 0 {
		n-- // the last may be missing
	}
	return pattern[1:n]
}

// alternates tells whether a pattern has a | outside of all brackets.
func alternates(pattern string) bool {
	depth := 0
	for i := 0; i < len(pattern); i++ {
		switch pattern[i] {
		case '\\':
			i++
		case '(':
			depth++
		case ')':
			depth--
		case '[': // to its end; a ] that comes first is one of it
			if i+1 < len(pattern) && pattern[i+1] == '^' {
				i++
			}
			for i += 2; i < len(pattern) && pattern[i] != ']'; i++ {
				if pattern[i] == '\\' {
					i++
				}
			}
		case '|':
			if depth <= 0 {
				return true
			}
		}
	}
	return false
}

// fill fills a template with what was caught.
func fill(template string, caught []string) string {
	if !strings.Contains(template, "$") {
		return template
	}
	var b strings.Builder
	for i := 0; i < len(template); i++ {
		if template[i] == '$' && i+1 < len(template) && template[i+1] >= '0' && template[i+1] <= '9' {
			if n := int(template[i+1] - '0'); n < len(caught) {
				b.WriteString(caught[n])
			}
			i++
			continue
		}
		b.WriteByte(template[i])
	}
	return b.String()
}

// known is a line with what its rule says of it.
type known struct {
	rule   *Rule
	number int // of the rule
	caught []string
}

// know finds the rule of a line in a section; it is false when there is none.
func (l *Language) know(section, line string) (known, bool) {
	l.begin()
	for i := range l.Rules {
		if caught := l.Rules[i].fits(section, line, l.starts[i]); caught != nil {
			return known{&l.Rules[i], i, caught}, true
		}
	}
	return known{}, false
}

// key is that by which lines of a section replace one another.
func (k known) key() string {
	switch {
	case k.rule.Places != nil:
		return fmt.Sprintf("%d\x00%s", k.number, k.caught[1])
	case k.rule.Key == "":
		return "\x00" + k.caught[0]
	}
	return fill(k.rule.Key, k.caught)
}

func (k known) put() string {
	if k.rule.Put == "" {
		return k.caught[0]
	}
	return fill(k.rule.Put, k.caught)
}

func (k known) away() string { return fill(k.rule.Away, k.caught) }

func (k known) needs() (out []string) {
	for _, n := range k.rule.Needs {
		out = append(out, fill(n, k.caught))
	}
	return out
}

// brings are the lines that appear by themselves in a section.
func (k known) brings() (out []Line) {
	for _, b := range k.rule.Brings {
		out = append(out, Line{Text: fill(b, k.caught)})
	}
	return out
}

// printed is the line that a typed one puts there: the other way round than
// [Rule.Put].
func (r *Rule) printed(typed string) (string, bool) {
	before, after, ok := strings.Cut(r.Put, "$0")
	if !ok {
		return typed, true
	}
	if !strings.HasPrefix(typed, before) || !strings.HasSuffix(typed, after) || len(typed) < len(before)+len(after) {
		return "", false
	}
	return typed[len(before) : len(typed)-len(after)], true
}

// meant finds the line that a typed one puts into a section, and its rule.
func (l *Language) meant(section, typed string) (known, bool) {
	l.begin()
	for i := range l.Rules {
		line, ok := l.Rules[i].printed(typed)
		if !ok {
			continue
		}
		if caught := l.Rules[i].fits(section, line, l.starts[i]); caught != nil {
			return known{&l.Rules[i], i, caught}, true
		}
	}
	return known{}, false
}

// Unknown lists the lines of a configuration that no rule knows, as paths.
func (l *Language) Unknown(c Config) (out []string) {
	if l.Tree {
		return nil
	}
	var walk func(at []string, lines []Line)
	walk = func(at []string, lines []Line) {
		section := ""
		if len(at) > 0 {
			section = at[len(at)-1]
		}
		for _, line := range lines {
			k, ok := l.know(section, line.Text)
			if !ok || len(line.Under) > 0 && !k.rule.Section {
				out = append(out, pathOf(at, line.Text))
			}
			walk(append(slices.Clone(at), line.Text), line.Under)
		}
	}
	walk(nil, c.Lines)
	return out
}
