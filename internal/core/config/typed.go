package config

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// LeadsBack tells, before anything of a device is known, whether what lines do could be
// taken back by the rules of the language: the error names the first of which they cannot
// tell. That they lead back on a device is only proven on it.
func (l *Language) LeadsBack(lines []string) error {
	if l.Tree {
		for i, line := range lines {
			if !treeChange.MatchString(strings.TrimSpace(line)) {
				return &Wrong{i + 1, line, "what it does is not known: it is neither set nor delete"}
			}
		}
		return nil
	}
	at := []string{""}
	whole, first := l.texts(lines)
	for n, line := range whole {
		i := first[n]
		line = strings.TrimSpace(line)
		switch {
		case line == "":
			continue
		case line == l.Leave && len(at) > 1:
			at = at[:len(at)-1]
			continue
		}
		why := noRule
		for {
			into, reason := l.back(at[len(at)-1], line)
			if reason == "" {
				if into != "" {
					at = append(at, into)
				}
				why = ""
				break
			}
			if reason != unknownLine {
				why = reason
				break
			}
			if l.Leave != "" || len(at) == 1 {
				break
			}
			at = at[:len(at)-1]
		}
		if why != "" {
			if where := l.knownIn(line); where != "" && strings.HasPrefix(why, "the rules") {
				why = "it stands " + where + ", and not " + standing(at[len(at)-1])
			}
			return &Wrong{i + 1, line, why}
		}
	}
	return nil
}

// Unjudged are the lines of which the rules cannot tell what they do to a configuration, typed
// from the top on, in order: those behind one are judged as if it had not been typed.
func (l *Language) Unjudged(now Config, lines []string) (out []string) {
	if l == nil {
		return lines
	}
	rest := slices.Clone(lines)
	for len(rest) > 0 {
		var wrong *Wrong
		if _, err := l.Predict(now, rest); !errors.As(err, &wrong) {
			return out
		}
		out = append(out, wrong.Line)
		rest = slices.Delete(rest, wrong.Number-1, wrong.Number+strings.Count(wrong.Line, "\n"))
	}
	return out
}

// Strange are the lines, typed from the top on, that no rule takes where they stand, whatever is
// there on a device.
func (l *Language) Strange(lines []string) (out []Wrong) {
	rest := slices.Clone(lines)
	for len(rest) > 0 {
		var wrong *Wrong
		if !errors.As(l.LeadsBack(rest), &wrong) {
			return out
		}
		if strings.HasPrefix(wrong.Why, noRule) || strings.HasPrefix(wrong.Why, "it stands ") {
			out = append(out, *wrong)
		}
		rest = slices.Delete(rest, wrong.Number-1, wrong.Number+strings.Count(wrong.Line, "\n"))
	}
	return out
}

// noRule begins the reason of a line that no rule knows.
const noRule = "the rules of the language do not know it"

// knownIn says in which kind of section the rules know a typed line; "" where in none.
func (l *Language) knownIn(line string) string {
	for i := range l.Rules {
		r := &l.Rules[i]
		printed, ok := r.printed(line)
		if !(ok && r.caught(printed) != nil) && !(r.Away != "" && r.takes(line)) {
			continue
		}
		if r.In == nil {
			return "at the top"
		}
		return "in a section like " + r.In.String()
	}
	return ""
}

// standing is where a line was typed.
func standing(section string) string {
	if section == "" {
		return "at the top"
	}
	return fmt.Sprintf("in %q", section)
}

const unknownLine = "?"

// back says why what a line does in a section cannot be taken back; "" when it can, with
// the section that it opens, if any.
func (l *Language) back(section, line string) (into, why string) {
	if l.Takes == nil || !l.Takes.MatchString(line) {
		if k, ok := l.meant(section, line); ok {
			if k.rule.Section {
				into = k.caught[0]
			}
			if k.rule.Away == "" && !k.keyed() && !k.rule.Fixed {
				return "", "no rule of the language takes it away again"
			}
			return into, ""
		}
	}
	for i := range l.Rules {
		r := &l.Rules[i]
		if (r.In == nil) == (section == "") && (r.In == nil || r.In.MatchString(section)) && r.Away != "" && r.takes(line) {
			return "", ""
		}
	}
	return "", unknownLine
}

var placeholder = regexp.MustCompile(`\\\$[0-9]`)

// takes tells whether a typed line may take away a line of the rule.
func (r *Rule) takes(typed string) bool {
	return templated(r.Away).MatchString(typed)
}

// Typed tells what a typed line puts into a section: the line as it is printed, and
// whether it opens a section. It is false for lines that take something away, and for
// those that no rule knows there.
func (l *Language) Typed(section, typed string) (printed string, opens, ok bool) {
	if l.Tree {
		printed, ok = strings.CutPrefix(typed, "set /")
		return "/" + printed, false, ok
	}
	if l.Takes != nil && l.Takes.MatchString(typed) {
		return "", false, false
	}
	k, ok := l.meant(section, typed)
	if !ok {
		return "", false, false
	}
	return k.caught[0], k.rule.Section, true
}
