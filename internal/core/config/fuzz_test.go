package config

import (
	"strings"
	"testing"
)

// Whatever a device prints and a person types, nothing falls over, and what is said to lead
// somewhere does.
func FuzzLanguage(f *testing.F) {
	f.Add("log host 1\nlan 10\nlan 20\nport 1\n  lan 10\n  shut", "lan 10\nport 1\n  trunk", "drop lan 20\nlog host 1\nport 1\nshut\nup\nup", "port * > lan *")
	f.Add("time source 1 first\ntime source 1 first\nport 1\nport 1\n lan 1", "time source 2 fourth", "time source 1 second\ndrop time source 1", "time *")
	f.Fuzz(func(t *testing.T, now, want, typed, pattern string) {
		for _, layout := range []string{"indented", "braces", "flat"} {
			l := harbour()
			l.Style.Layout = layout
			c, u := Parse(now, l.Style), Parse(want, l.Style)
			_, _ = l.Predict(c, strings.Split(typed, "\n"))
			_ = l.LeadsBack(strings.Split(typed, "\n"))
			w := Want{Lines: u.Lines, Gone: c.Lines[:min(len(c.Lines), 1)], NoOther: []string{pattern}}
			_ = l.Refuses(w)
			target, err := l.Wanted(c, w)
			if err != nil {
				target = u
			}
			lines, err := l.Lead(c, target)
			if err != nil {
				continue
			}
			if got, err := l.Predict(c, lines); err != nil || len(Explain(got, target)) > 0 {
				t.Fatalf("%q leads from %q to %q: %v", lines, c.Paths(), got.Paths(), err)
			}
		}
	})
}

// Whatever stands in three configurations, taking a change out of the one that it left leads
// to the one before it, and what others did is kept or told.
func FuzzWithout(f *testing.F) {
	f.Add("log host 1\nport 1\n  lan 10", "log host 2\nport 1\n  lan 10\n  shut", "log host 2\nlan 30\nport 1\n  trunk")
	f.Add("port 1\nport 1\n lan 1", "", "port 1\n port 1\n  port 1")
	f.Fuzz(func(t *testing.T, before, after, now string) {
		for _, layout := range []string{"indented", "braces", "flat"} {
			l := harbour()
			l.Style.Layout = layout
			was, left, is := Parse(before, l.Style), Parse(after, l.Style), Parse(now, l.Style)
			l.Without(is, left, was)
			if got, clashes := l.Without(is, left, left); len(clashes) > 0 || !Compare(got, is).Empty() {
				t.Fatalf("%s: a change that was none: %q became %q, %v", layout, is.Paths(), got.Paths(), clashes)
			}
			Differing(was, is)
		}
	})
}
