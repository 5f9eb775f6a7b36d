package config

// Mark says what becomes of a line.
type Mark byte

// The marks.
const (
	Stays Mark = ' ' // shown for what stands in it
	Goes  Mark = '-'
	Comes Mark = '+'
)

// Change is a line of a difference as people read it, with what changes in it.
type Change struct {
	Mark  Mark
	Text  string
	Under []Change
}

// Explain tells the difference from one configuration to another as people read it: by
// sections, in the order of the second; a section that goes or comes is one change, with
// all that stands in it.
func Explain(from, to Config) []Change { return explain(from.Lines, to.Lines) }

func explain(from, to []Line) (out []Change) {
	if same(from, to) {
		return nil
	}
	gone, come, both := differ(from, to)
	was := make(map[*Line]*Line, len(both))
	for _, pair := range both {
		was[pair[1]] = pair[0]
	}
	for _, l := range gone {
		out = append(out, all(Goes, *l))
	}
	comes := make(map[*Line]bool, len(come))
	for _, l := range come {
		comes[l] = true
	}
	for i := range to {
		l := &to[i]
		switch {
		case comes[l]:
			out = append(out, all(Comes, *l))
		case was[l] != nil && len(was[l].Under)+len(l.Under) > 0:
			if under := explain(was[l].Under, l.Under); len(under) > 0 {
				out = append(out, Change{Stays, l.Text, under})
			}
		}
	}
	return out
}

func all(m Mark, l Line) Change {
	c := Change{Mark: m, Text: l.Text}
	for _, u := range l.Under {
		c.Under = append(c.Under, all(m, u))
	}
	return c
}

// Lines writes changes as lines, sections indented.
func Lines(changes []Change) []string {
	var out []string
	var walk func(indent string, list []Change)
	walk = func(indent string, list []Change) {
		for _, c := range list {
			out = append(out, string(c.Mark)+" "+indent+c.Text)
			walk(indent+"  ", c.Under)
		}
	}
	walk("", changes)
	return out
}

// Together groups names by what changes for them: those with the same changes stand
// together, in the order in which they came first.
func Together(names []string, changes func(name string) []Change) (groups [][]string) {
	at := map[string]int{}
	for _, n := range names {
		text := ""
		for _, l := range Lines(changes(n)) {
			text += l + "\n"
		}
		i, ok := at[text]
		if !ok {
			i = len(groups)
			at[text] = i
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], n)
	}
	return groups
}
