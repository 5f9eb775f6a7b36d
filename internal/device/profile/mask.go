package profile

import (
	"strings"
)

// Mask takes secrets out of text: the values we know, and what the profile
// says looks like one.
func (s *Session) Mask(text string) string {
	for _, v := range s.secrets {
		if len(v) > 2 {
			text = strings.ReplaceAll(text, v, masked)
		}
	}
	return s.p.Mask(text)
}

// Hide adds secrets that the session does not know of by itself: values of a
// change that are shown nowhere.
func (s *Session) Hide(secrets []string) {
	for _, v := range secrets {
		s.hide("asked for: "+v, v)
	}
}

func (s *Session) hide(name, v string) {
	if s.secrets == nil {
		s.secrets = map[string]string{}
	}
	s.secrets[name] = v
}

func (s *Session) masked(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = s.Mask(l)
	}
	return out
}

const masked = "▒▒▒▒"

// Mask takes out of one line what the profile says is a secret.
func (p *Profile) Mask(line string) string {
	for _, secret := range p.secretsIn(line) {
		line = strings.ReplaceAll(line, secret, masked)
	}
	return line
}

// secretsIn finds what the profile says is a secret in one line: the groups of
// its patterns, or all of what they match.
func (p *Profile) secretsIn(line string) (out []string) {
	line = strings.TrimLeft(line, " ")
	for _, re := range p.Config.Secrets {
		m := re.find(line)
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
