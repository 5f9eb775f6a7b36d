package config

import (
	"slices"
	"strings"
)

// Without is a configuration as it would be if a change had not been made: after is what
// the change left, before is what there was before it. What others changed since, in now,
// stays. Where they changed the same, it cannot be told what shall be there: clashes says
// where, by the paths of lines, each with what others did; the caller must not go on then.
//
// The language tells lines that replace one another; without one, l may be nil, only what
// is equal is known to be the same.
func (l *Language) Without(now, after, before Config) (target Config, clashes []Clash) {
	t := &taker{l: l}
	lines := t.section(nil, now.Lines, after.Lines, before.Lines)
	return ofLines(lines, Style{Ordered: now.ordered}), t.clashes
}

// Clash is a line that a change made, or took away, and others have changed since.
type Clash struct {
	Path  string   // of the line, with its sections
	Since string   // what others did
	There []string // the paths of the lines that say so; none where something is gone
}

// taker takes a change out of a configuration.
type taker struct {
	l       *Language
	clashes []Clash
}

func (t *taker) clash(at []string, line, since string, there ...string) {
	c := Clash{Path: pathOf(at, line), Since: since}
	for _, text := range there {
		c.There = append(c.There, pathOf(at, text))
	}
	t.clashes = append(t.clashes, c)
}

// section takes out of one section what was changed in it.
func (t *taker) section(at []string, now, after, before []Line) []Line {
	out := slices.Clone(now)
	made, gone, both := parted(after, before)
	for _, m := range made {
		out = t.away(at, out, m, before)
	}
	for _, g := range gone {
		out = t.again(at, out, g, before)
	}
	for _, pair := range both {
		if same(pair[0].Under, pair[1].Under) {
			continue
		}
		i := find(out, pair[0].Text)
		if i < 0 {
			t.clash(at, pair[0].Text, "it is gone since, with all that stood in it")
			continue
		}
		out[i].Under = t.section(append(slices.Clone(at), pair[0].Text), out[i].Under, pair[0].Under, pair[1].Under)
	}
	return out
}

// parted tells apart the lines of one section of two: those of the first alone, of the
// second alone, and those of both, whatever their order.
func parted(a, b []Line) (onlyA, onlyB []Line, both [][2]Line) {
	left := slices.Clone(b)
	for _, x := range a {
		if i := find(left, x.Text); i >= 0 {
			both = append(both, [2]Line{x, left[i]})
			left = slices.Delete(left, i, i+1)
			continue
		}
		onlyA = append(onlyA, x)
	}
	return onlyA, left, both
}

func find(lines []Line, text string) int {
	return slices.IndexFunc(lines, func(l Line) bool { return l.Text == text })
}

// away takes a line away that the change has made.
func (t *taker) away(at []string, now []Line, made Line, before []Line) []Line {
	i := find(now, made.Text)
	if i < 0 { // others took it away: that it is gone is all that is asked for
		if j := t.sameKey(at, now, made.Text); j >= 0 && find(before, now[j].Text) < 0 {
			t.clash(at, made.Text, "it was changed since", now[j].Text)
		}
		return now
	}
	if extra := added(made.Under, now[i].Under, ""); len(extra) > 0 {
		for k, e := range extra {
			extra[k] = made.Text + " > " + e
		}
		t.clash(at, made.Text, "something was put into it since", extra...)
		return now
	}
	return slices.Delete(slices.Clone(now), i, i+1)
}

// added lists what stands in a section and did not, by its path in it.
func added(was, is []Line, in string) (out []string) {
	for _, l := range is {
		i := find(was, l.Text)
		if i < 0 {
			out = append(out, in+l.Text)
			continue
		}
		out = append(out, added(was[i].Under, l.Under, in+l.Text+" > ")...)
	}
	return out
}

// again puts a line there again that the change has taken away.
func (t *taker) again(at []string, now []Line, gone Line, before []Line) []Line {
	if i := find(now, gone.Text); i >= 0 { // others have put it there again
		if !same(now[i].Under, gone.Under) {
			t.clash(at, gone.Text, "it was put there again since, with something else in it", gone.Text)
		}
		return now
	}
	if i := t.sameKey(at, now, gone.Text); i >= 0 {
		if slices.ContainsFunc(t.clashes, func(c Clash) bool { return slices.Contains(c.There, pathOf(at, now[i].Text)) }) {
			return now // it is told
		}
		t.clash(at, gone.Text, "something else was put in its place since", now[i].Text)
		return now
	}
	place := 0 // behind the nearest line that stood before it and is there
	for _, b := range before {
		if b.Text == gone.Text {
			break
		}
		if i := find(now, b.Text); i >= 0 {
			place = i + 1
		}
	}
	return slices.Insert(slices.Clone(now), place, gone)
}

// sameKey finds a line of a section that the language says replaces another; -1 for none.
func (t *taker) sameKey(at []string, lines []Line, line string) int {
	key, ok := t.key(at, line)
	if !ok {
		return -1
	}
	return slices.IndexFunc(lines, func(l Line) bool {
		k, ok := t.key(at, l.Text)
		return ok && k == key && l.Text != line
	})
}

func (t *taker) key(at []string, line string) (string, bool) {
	if t.l == nil {
		return "", false
	}
	if t.l.Tree {
		path, _ := treeLine(line)
		return path, true
	}
	section := ""
	if len(at) > 0 {
		section = at[len(at)-1]
	}
	k, ok := t.l.know(section, line)
	if !ok {
		return "", false
	}
	return k.key(), true
}

// String is the clash in a few words.
func (c Clash) String() string {
	if len(c.There) == 0 {
		return c.Path + ": " + c.Since
	}
	return c.Path + ": " + c.Since + ": " + strings.Join(c.There, ", ")
}
