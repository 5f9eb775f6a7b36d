package profile

import (
	"slices"
	"strings"
)

// PromptOf finds the mode that a line is the prompt of, "" when it is none, and
// the host name in it, where its prompt tells one.
func (p *Profile) PromptOf(line string) (mode, host string, tells bool) {
	for _, name := range p.ModeOrder {
		re := p.Modes[name].Prompt
		if m := re.FindStringSubmatch(line); m != nil {
			if i := re.SubexpIndex("host"); i > 0 {
				host, tells = m[i], true
			}
			return name, host, tells
		}
	}
	return "", "", false
}

// LoginAnswers are the answers of the login dialogue, with the user's name.
func (p *Profile) LoginAnswers(opt Options) []Answer {
	if !opt.Dialogue {
		return nil
	}
	out := slices.Clone(p.Connect.Login)
	for i := range out {
		out[i].Send = strings.ReplaceAll(out[i].Send, "<<user>>", opt.User)
		out[i].Once = true
	}
	return out
}
