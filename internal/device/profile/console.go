package profile

import (
	"regexp"
	"slices"
	"strings"
)

// WantsReason tells whether a line that a person types at a console wants a reason: one that is never
// sent by a runbook, unless it only goes from one mode to another, or puts what is staged on trial, or
// takes that back. What keeps it for good is no such line.
func (p *Profile) WantsReason(line string) bool {
	line = strings.Join(strings.Fields(line), " ")
	return p.NeverSent(line) && !slices.ContainsFunc(p.harmless(), func(own string) bool { return fitsTemplate(own, line) })
}

// harmless are lines of its own that take nothing from the device's way back.
func (p *Profile) harmless() (out []string) {
	for _, m := range p.Modes {
		out = append(out, m.Quit, m.Enter.Send, m.Leave.Send)
	}
	t := p.Trial
	return append(out, t.Check.Send, t.Apply.Send, t.Show.Send, t.Drop.Send, t.Undo.Send)
}

var blanks = regexp.MustCompile(`<<\w+>>`)

// fitsTemplate tells whether a line is what a command of the profile sends, with some number in each of
// its blanks.
func fitsTemplate(send, line string) bool {
	if send == "" {
		return false
	}
	var parts []string
	for _, part := range blanks.Split(send, -1) {
		parts = append(parts, regexp.QuoteMeta(part))
	}
	re, err := regexp.Compile("^" + strings.Join(parts, `\d+`) + "$")
	return err == nil && re.MatchString(line)
}
