package config

// Shown is a line of the difference of two configurations, as a tree.
type Shown struct {
	Depth int
	// Mark is '-' for what is in the first only, '+' for what is in the second only, and
	// ' ' for what is in both.
	Mark byte
	Text string
	// Below is how many lines stand below it, whatever their marks, and Differ how many of
	// those, itself with them, are not in both.
	Below, Differ int
}

// Differing is the difference of two configurations as a tree: every line of both, each
// once where both have it, those of the first only before those of the second that stand
// in their place. Lines that only moved are in both.
func Differing(from, to Config) (out []Shown) {
	return shown(nil, from.Lines, to.Lines, 0)
}

func shown(out []Shown, from, to []Line, depth int) []Shown {
	gone, come, both := parted(from, to)
	is := map[string]int{} // how many of a text are new
	for _, l := range come {
		is[l.Text]++
	}
	was := map[string]int{} // how many are gone
	for _, l := range gone {
		was[l.Text]++
	}
	behind := map[string][]Line{} // what is gone, by the common line that it stood behind
	last, of := "", map[string][]Line{}
	for _, pair := range both {
		of[pair[1].Text] = append(of[pair[1].Text], pair[0])
	}
	for _, l := range from {
		if was[l.Text] > 0 {
			was[l.Text]--
			behind[last] = append(behind[last], l)
			continue
		}
		last = l.Text
	}
	flush := func(at string) {
		for _, l := range behind[at] {
			out = single(out, l, '-', depth)
		}
		delete(behind, at)
	}
	flush("")
	for _, l := range to {
		if is[l.Text] > 0 && len(of[l.Text]) == 0 {
			is[l.Text]--
			out = single(out, l, '+', depth)
			continue
		}
		was := of[l.Text][0]
		of[l.Text] = of[l.Text][1:]
		i := len(out)
		out = append(out, Shown{Depth: depth, Mark: ' ', Text: l.Text})
		out = shown(out, was.Under, l.Under, depth+1)
		out[i].Below, out[i].Differ = len(out)-i-1, differ1(out[i+1:])
		flush(l.Text)
	}
	return out
}

func single(out []Shown, l Line, mark byte, depth int) []Shown {
	i := len(out)
	out = append(out, Shown{Depth: depth, Mark: mark, Text: l.Text})
	for _, u := range l.Under {
		out = single(out, u, mark, depth+1)
	}
	out[i].Below, out[i].Differ = len(out)-i-1, len(out)-i
	return out
}

func differ1(lines []Shown) (n int) {
	for _, l := range lines {
		if l.Mark != ' ' {
			n++
		}
	}
	return n
}
