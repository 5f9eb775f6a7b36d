package config

import "strings"

// Of makes a configuration of paths, each a line behind the sections that it stands in. A
// section that no path names stands there all the same.
func Of(paths [][]string, style Style) Config {
	var top []Line
	for _, p := range paths {
		in := &top
		for _, text := range p {
			at := find(*in, text)
			if at < 0 {
				*in = append(*in, Line{Text: text})
				at = len(*in) - 1
			}
			in = &(*in)[at].Under
		}
	}
	return ofLines(top, style)
}

// Text prints a configuration in a style, so that parsing it gives the same again.
func (c Config) Text(style Style) string {
	var b strings.Builder
	var write func(lines []Line, depth int)
	write = func(lines []Line, depth int) {
		for _, l := range lines {
			indent := strings.Repeat("  ", depth)
			switch {
			case style.Layout == "braces" && len(l.Under) > 0:
				b.WriteString(indent + l.Text + " {\n")
				write(l.Under, depth+1)
				b.WriteString(indent + "}\n")
			case style.Layout == "braces":
				b.WriteString(indent + l.Text + ";\n")
			default:
				b.WriteString(indent + l.Text + "\n")
				write(l.Under, depth+1)
			}
		}
	}
	write(c.Lines, 0)
	return b.String()
}

// Fixed tells whether a line at the top is a section that is there by itself, such as that
// of a port: it can be neither made nor taken away.
func (l *Language) Fixed(line string) bool {
	if l == nil || l.Tree {
		return false
	}
	k, ok := l.know("", line)
	return ok && k.rule.Section && k.rule.Fixed
}

// Knows tells whether some rule knows a line, in its sections.
func (l *Language) Knows(path []string) bool {
	if l == nil || l.Tree || len(path) == 0 {
		return true
	}
	section := ""
	for i, line := range path {
		k, ok := l.know(section, line)
		if !ok || i < len(path)-1 && !k.rule.Section {
			return false
		}
		section = line
	}
	return true
}

// WithFixed is a configuration with the sections that are there by themselves on a device
// that has now: empty, where the configuration does not have them.
func (l *Language) WithFixed(c, now Config) Config {
	if l == nil || l.Tree {
		return c
	}
	lines := c.Lines
	for i, n := range now.Lines {
		if !l.Fixed(n.Text) || find(lines, n.Text) >= 0 {
			continue
		}
		place := len(lines) // behind the nearest before it that is there
		for k := i - 1; k >= 0; k-- {
			if at := find(lines, now.Lines[k].Text); at >= 0 {
				place = at + 1
				break
			}
		}
		lines = append(lines[:place:place], append([]Line{{Text: n.Text}}, lines[place:]...)...)
	}
	out := ofLines(lines, Style{Ordered: c.ordered})
	out.whole, out.parts = c.whole, c.parts
	return out
}

// Key is by what a line, in its sections, replaces others: two lines with one key do not
// stand side by side. It is false where no rule knows the line.
func (l *Language) Key(path []string) (key string, ok bool) {
	if l == nil || len(path) == 0 {
		return "", false
	}
	if l.Tree {
		key, _, _ = strings.Cut(strings.Join(path, " > "), " = ")
		return key, true
	}
	section := ""
	if len(path) > 1 {
		section = path[len(path)-2]
	}
	k, ok := l.know(section, path[len(path)-1])
	if !ok {
		return "", false
	}
	return strings.Join(path[:len(path)-1], " > ") + "\x00" + k.key(), true
}

// OnPath tells whether the language knows a line, in its sections, to be on the path by
// which the device is managed.
func (l *Language) OnPath(path []string) bool {
	return len(l.ManagementPath(Diff{Added: []string{strings.Join(path, " > ")}}, nil, nil)) > 0
}
