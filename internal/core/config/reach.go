package config

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
)

// Fingerprint tells configurations apart, as [Equal] does: the SHA-256 of its lines.
func (c Config) Fingerprint() string {
	text := strings.Join(c.Paths(), "\n")
	if c.whole {
		text += "\n\x00" + strings.Join(c.parts, "\n")
	}
	sum := sha256.Sum256([]byte(text))
	return hex.EncodeToString(sum[:])
}

// ManagementPath finds, in a difference, the lines that the language knows to be on the
// path by which the device is managed, and those that stand in one of the sections given
// or name one of the words given, such as its own address. A nil language knows none.
func (l *Language) ManagementPath(d Diff, sections, words []string) (out []string) {
	for _, path := range slices.Concat(d.Removed, d.Added) {
		parts := strings.Split(path, " > ")
		last, section := parts[len(parts)-1], ""
		if len(parts) > 1 {
			section = parts[len(parts)-2]
		}
		k, known := known{}, false
		if l != nil {
			k, known = l.know(section, last)
		}
		in := slices.ContainsFunc(parts, func(p string) bool { return slices.Contains(sections, p) })
		named := slices.ContainsFunc(words, func(w string) bool { return slices.Contains(strings.Fields(last), w) })
		if known && k.rule.Path || in || named {
			out = append(out, path)
		}
	}
	return out
}
