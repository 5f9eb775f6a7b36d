package textfile

import "strings"

// turns are the signs that change the direction of text (UAX #9, section 2): with them, a
// device could have a line read as another than it is.
var turns = []string{"\u061c", "\u200e", "\u200f", "\u202a", "\u202b", "\u202c", "\u202d", "\u202e", "\u2066", "\u2067", "\u2068", "\u2069"}

var straight = func() *strings.Replacer {
	var pairs []string
	for _, t := range turns {
		pairs = append(pairs, t, "\ufffd")
	}
	return strings.NewReplacer(pairs...)
}()

// Straight puts a sign that can be seen in the place of those that change the direction of
// text. What is kept is kept as it was said; what is shown, and put into tables for others,
// goes through here.
func Straight(s string) string { return straight.Replace(s) }

// Turning tells how many bytes at the end of b may be the beginning of such a sign, so that a
// stream can wait for the rest of it.
func Turning(b []byte) int {
	for n := min(2, len(b)); n > 0; n-- {
		end := string(b[len(b)-n:])
		for _, t := range turns {
			if len(t) > n && strings.HasPrefix(t, end) {
				return n
			}
		}
	}
	return 0
}
