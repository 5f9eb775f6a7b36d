package profile

import (
	"errors"
	"fmt"
	"strings"
	"unicode"
)

// Quote is how a character is typed that the device's line editor would keep for
// itself: the key goes before it.
type Quote struct {
	Key        string `yaml:"key"`
	Characters string `yaml:"characters"`
}

// Typing is what must be typed for a line to arrive. It is an error where a
// character cannot be.
func (p *Profile) Typing(line string) (string, error) {
	if strings.ContainsAny(line, "\r\n") {
		return "", errors.New("a line must be one line")
	}
	var b strings.Builder
	for _, r := range line {
		switch {
		case p.Quote.Key != "" && strings.ContainsRune(p.Quote.Characters, r):
			b.WriteString(Key(p.Quote.Key))
		case strings.ContainsRune(p.Connect.Unsent, r), r != '\t' && unicode.IsControl(r):
			return "", fmt.Errorf("%s cannot be sent to a %s, whose line editor keeps it for itself", Character(r), p.Platform)
		}
		b.WriteRune(r)
	}
	return b.String(), nil
}

// TypedText is what must be typed for lines to arrive.
func (p *Profile) TypedText(text string) (string, error) {
	var b strings.Builder
	for l := range strings.Lines(text) {
		keys, err := p.Typing(strings.TrimRight(l, "\r\n"))
		if err != nil {
			return "", fmt.Errorf("%w, and it stands in the line %q", err, strings.TrimSpace(l))
		}
		b.WriteString(keys + "\n")
	}
	return b.String(), nil
}

// Character names a character in a message.
func Character(r rune) string {
	switch {
	case r == '\t':
		return "a tab"
	case r < ' ':
		return "the key ^" + string(r+'@')
	}
	return fmt.Sprintf("the character %q", r)
}

// Unsendable says why a line cannot be sent; "" when it can.
func (p *Profile) Unsendable(line string) string {
	if !p.Typed() {
		return p.sayable(line)
	}
	if _, err := p.Typing(line); err != nil {
		return err.Error()
	}
	return ""
}

// Key reads a key as profiles write it: ^V is control and V, anything else
// stands for itself.
func Key(text string) string {
	if len(text) == 2 && text[0] == '^' && text[1] >= '@' && text[1] <= '_' {
		return string(text[1] - '@')
	}
	return text
}
