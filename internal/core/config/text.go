package config

import "strings"

// Some lines of a configuration begin a text of several lines, such as a banner, a key or a
// certificate, which goes on to a line that the first one names, whatever stands in it. Such a
// text is one line of the configuration, with ends of line in it: it is wanted, compared and
// taken away as a whole, and typed and printed line by line.

// endGroup is the group of [Style.Opens] that holds the last line of a text.
const endGroup = "end"

// ends is the line that ends a text which a line begins; "" where it begins none.
func (s Style) ends(line string) string {
	if s.Opens == nil {
		return ""
	}
	m := s.Opens.FindStringSubmatch(strings.TrimSpace(line))
	if i := s.Opens.SubexpIndex(endGroup); m != nil && i > 0 {
		return m[i]
	}
	return ""
}

// Texts makes of lines as they are typed or printed those of a configuration: each text of several
// lines is one. A text without an end goes on to the last line. First are the numbers of their
// first lines, from 0.
func (s Style) Texts(lines []string) (out []string, first []int) {
	for i := 0; i < len(lines); i++ {
		first = append(first, i)
		end := s.ends(lines[i])
		if end == "" {
			out = append(out, lines[i])
			continue
		}
		text := []string{lines[i]}
		for i++; i < len(lines); i++ {
			body := strings.TrimRight(lines[i], " \t\r\n")
			text = append(text, body)
			if strings.TrimSpace(body) == end {
				text[len(text)-1] = end
				break
			}
		}
		out = append(out, strings.Join(text, "\n"))
	}
	return out, first
}

// After is the end of the text that is being written once a line was, behind what it was before;
// "" is none.
func (s Style) After(end, line string) string {
	switch {
	case end == "":
		return s.ends(line)
	case strings.TrimSpace(line) == end:
		return ""
	}
	return end
}

// Typed is lines of a configuration as they are typed: a text of several lines is so many.
func Typed(lines []string) []string {
	for i, l := range lines {
		if !strings.Contains(l, "\n") {
			continue
		}
		out := append([]string(nil), lines[:i]...)
		for _, l := range lines[i:] {
			out = append(out, strings.Split(l, "\n")...)
		}
		return out
	}
	return lines
}

// Marked is a path as it is shown behind a sign: of a text of several lines each stands below the
// first.
func Marked(sign, path string) []string {
	parts := strings.Split(path, "\n")
	out := []string{sign + " " + parts[0]}
	for _, body := range parts[1:] {
		out = append(out, strings.TrimRight(sign+"   "+body, " "))
	}
	return out
}

// firstLine is the first line of a text of several; a line is its own.
func firstLine(text string) string {
	first, _, _ := strings.Cut(text, "\n")
	return first
}
