// Package veil takes secrets out of text before it is kept or shown, in whatever way they are
// written there.
//
// A device rarely prints a secret as it was given. It quotes it back with its quotation marks
// escaped; a web interface percent-encodes it, JSON and XML have their own ways, a login
// stands in a header as base64; a line editor that was interrupted shows all of it but the
// last letter. So a [Veil] does not look for values, but for all that they can be written as:
//
//	v := veil.Of(`se"cret`)
//	v.Mask(`refused: "login joe se\"cret"`) // refused: "login joe ▒▒▒▒"
package veil

import (
	"slices"
	"strings"
	"unicode"
)

// Mark stands in the place of a secret.
const Mark = "▒▒▒▒"

// Veil knows some secrets. The zero value knows none. It is not changed once it is made, and
// safe for concurrent use.
type Veil struct {
	values []string // the longest first: one may be part of another
	least  int      // the shortest word of base64 that holds one
	ways   []way    // those in which one of them can look unlike itself
}

// Of makes a veil over values. Empty ones are left away.
func Of(values ...string) *Veil {
	v := &Veil{ways: []way{backslashed, percented, entities}}
	for _, s := range values {
		if s != "" && !slices.Contains(v.values, s) {
			v.values = append(v.values, s)
		}
	}
	slices.SortFunc(v.values, func(a, b string) int { return len(b) - len(a) })
	for _, s := range v.values {
		if n := (len(s)*4 + 2) / 3; v.least == 0 || n < v.least {
			v.least = n
		}
	}
	all := strings.Join(v.values, "")
	for _, sign := range doubled {
		if strings.ContainsRune(all, sign) {
			v.ways = append(v.ways, way{string(sign), double})
		}
	}
	if strings.Contains(all, " ") {
		v.ways = append(v.ways, inForms)
	}
	return v
}

// Covers tells whether the veil is over that very value.
func (v *Veil) Covers(value string) bool { return v != nil && slices.Contains(v.values, value) }

// Mask takes the secrets out of a text of one line or many.
func (v *Veil) Mask(text string) string {
	if v == nil || len(v.values) == 0 || text == "" {
		return text
	}
	for _, s := range v.values {
		text = strings.ReplaceAll(text, s, Mark)
	}
	return v.cut(without(text, append(spans(text, v.values, v.ways), words(text, v.values, v.least)...)))
}

// without takes places out of a text.
func without(text string, places [][2]int) string {
	if len(places) == 0 {
		return text
	}
	slices.SortFunc(places, func(a, b [2]int) int { return a[0] - b[0] })
	var b strings.Builder
	from := 0
	for i := 0; i < len(places); {
		p := places[i]
		for i++; i < len(places) && places[i][0] < p[1]; i++ { // those that lie over one another are one
			p[1] = max(p[1], places[i][1])
		}
		b.WriteString(text[from:p[0]] + Mark)
		from = p[1]
	}
	return b.String() + text[from:]
}

// cut takes out what is left of a secret at the end of a line, or at its beginning, where a
// line editor was interrupted in the midst of it: two thirds of it and more. What is shorter
// may be a word of its own.
func (v *Veil) cut(text string) string {
	if !strings.Contains(text, "\n") {
		return v.cutLine(text)
	}
	lines := strings.Split(text, "\n")
	for i, l := range lines {
		lines[i] = v.cutLine(l)
	}
	return strings.Join(lines, "\n")
}

func (v *Veil) cutLine(line string) string {
	for _, s := range v.values {
		least := max(4, (2*len(s)+2)/3)
		end := strings.TrimRightFunc(line, unicode.IsSpace)
		for n := min(len(s)-1, len(end)); n >= least; n-- {
			if end[len(end)-1] == s[n-1] && strings.HasSuffix(end, s[:n]) {
				line = end[:len(end)-n] + Mark + line[len(end):]
				break
			}
		}
		begin := strings.TrimLeftFunc(line, unicode.IsSpace)
		for n := min(len(s)-1, len(begin)); n >= least; n-- {
			if begin[0] == s[len(s)-n] && strings.HasPrefix(begin, s[len(s)-n:]) {
				line = line[:len(line)-len(begin)] + Mark + begin[n:]
				break
			}
		}
	}
	return line
}

// Typed takes out of a line that came what of the secrets of a typed line is in it, however
// little: the typed line as far as it had come when the echo was interrupted, or what of it
// came behind that.
func (v *Veil) Typed(typed, came string) string {
	if v == nil {
		return came
	}
	for _, s := range v.values {
		at := strings.Index(typed, s)
		if at < 0 {
			continue
		}
		head := typed[max(0, at-contextCells):at]
		if i := strings.LastIndex(came, head); head != "" && i >= 0 {
			shown := came[i+len(head):]
			if rest := strings.TrimRightFunc(shown, unicode.IsSpace); rest != "" && strings.HasPrefix(s, rest) {
				came = came[:i+len(head)] + Mark
			}
		}
		if rest := strings.TrimSpace(came); len(rest) > 1 && len(rest) < len(typed)-at && strings.HasSuffix(typed, rest) {
			came = Mark
		}
	}
	return came
}

// contextCells is how much of a typed line before its secret tells that it is that line.
const contextCells = 16
