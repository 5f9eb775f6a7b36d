package profile

import (
	"maps"
	"strings"

	"metabasis/internal/core/veil"
)

// Confided takes out of text what is secret on devices of a platform: what its profile
// says looks like a secret, and the values that we know.
type Confided struct {
	p       *Profile
	secrets map[string]string
	veil    *veil.Veil
}

// NewConfided knows secrets by their names.
func NewConfided(p *Profile, secrets map[string]string) Confided {
	c := Confided{p: p, secrets: maps.Clone(secrets)}
	c.drawn()
	return c
}

// drawn makes the veil over what is known. One or two signs are no secret that could be told
// from what else stands in a text.
func (c *Confided) drawn() {
	var values []string
	for _, v := range c.secrets {
		if len(v) > 2 {
			values = append(values, v)
		}
	}
	c.veil = veil.Of(values...)
}

// Secret is a secret by its name.
func (c *Confided) Secret(name string) (string, bool) { v, ok := c.secrets[name]; return v, ok }

// Mask takes secrets out of text.
func (c *Confided) Mask(text string) string {
	return c.p.Mask(c.veil.Mask(text))
}

// Hide adds secrets that are not known by themselves: values of a change that are shown
// nowhere.
func (c *Confided) Hide(secrets []string) {
	for _, v := range secrets {
		c.HideAs("asked for: "+v, v)
	}
}

// HideAs adds one secret under a name.
func (c *Confided) HideAs(name, v string) {
	if c.secrets == nil {
		c.secrets = map[string]string{}
	}
	if was, known := c.secrets[name]; !known || was != v {
		c.secrets[name] = v
		c.drawn()
	}
}

// Typed takes out of a line that came what a line editor had shown, when it was interrupted,
// of the secrets in a typed line.
func (c *Confided) Typed(typed, came string) string { return c.veil.Typed(typed, came) }

// MaskLines takes secrets out of the lines of a text.
func (c *Confided) MaskLines(text string) []string {
	return c.MaskEach(strings.Split(strings.TrimRight(text, "\n"), "\n"))
}

// MaskEach takes secrets out of lines.
func (c *Confided) MaskEach(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = c.Mask(l)
	}
	return out
}
