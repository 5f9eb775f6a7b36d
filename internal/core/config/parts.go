package config

import (
	"slices"
	"strings"
)

// What runs on a device may be more than one configuration shows, such as what a
// daemon says of itself beside the file that it reads. Such further parts stand
// behind the configuration, each behind a line with its name. They are compared as
// lines without order, and only where both sides have them: what is saved has none.

// partMark begins the line with the name of a part. No device can print it: it is
// a control character, and those are taken out of what devices print.
const partMark = "\x1f"

// Join puts further parts behind a configuration.
func Join(text string, parts []Part) string {
	var b strings.Builder
	b.WriteString(text)
	for _, p := range parts {
		b.WriteString(partMark + p.Name + "\n")
		for _, l := range p.Lines {
			b.WriteString(l + "\n")
		}
	}
	return b.String()
}

// Part is a further part of what runs.
type Part struct {
	Name  string
	Lines []string
}

// Alone is the configuration without its further parts: what can be put back.
func Alone(text string) string {
	if i := strings.Index(text, partMark); i >= 0 {
		return text[:i]
	}
	return text
}

// parts are the lines of the further parts, each behind the name of its part.
func parts(text string, style Style) (out []string) {
	_, rest, _ := strings.Cut(text, partMark)
	for _, p := range strings.Split(rest, partMark) {
		name, body, _ := strings.Cut(p, "\n")
		for l := range strings.Lines(body) {
			l = strings.TrimRight(l, " \t\r\n")
			if strings.TrimSpace(l) != "" && !matchesAny(style.Volatile, l) {
				out = append(out, name+": "+strings.TrimLeft(l, " \t"))
			}
		}
	}
	slices.Sort(out)
	return out
}

// OnlyParts tells whether two configurations differ in their further parts and in
// nothing else.
func OnlyParts(a, b Config) bool { return slices.Equal(a.Paths(), b.Paths()) && !Equal(a, b) }
