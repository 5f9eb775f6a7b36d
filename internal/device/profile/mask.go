package profile

import (
	"strings"
)

const masked = "▒▒▒▒"

// Mask takes out of one line what the profile says is a secret.
func (p *Profile) Mask(line string) string {
	for _, secret := range p.SecretsIn(line) {
		line = strings.ReplaceAll(line, secret, masked)
	}
	return line
}

// SecretsIn finds what the profile says is a secret in one line: the groups of
// its patterns, or all of what they match.
func (p *Profile) SecretsIn(line string) (out []string) {
	line = strings.TrimLeft(line, " ")
	for _, re := range p.Config.Secrets {
		m := re.Find(line)
		if m == nil {
			continue
		}
		if len(m) > 1 {
			m = m[1:]
		}
		for _, secret := range m {
			if secret != "" {
				out = append(out, secret)
			}
		}
	}
	return out
}
