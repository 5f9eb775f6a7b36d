package runbook

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Format gives a runbook its one layout: two spaces a level, keys in a column,
// what is asked for in columns, one blank line between sections. Comments
// stay where they are, device text stays as it is. What cannot be parsed is
// not formatted: the error is a problem.List.
func Format(file string, src []byte) ([]byte, error) {
	if _, err := Parse(file, src); err != nil {
		return nil, err
	}
	root := scan(file, src, &problems{})
	f := &formatter{}
	for i, n := range root.children {
		f.comments(n, 0, i > 0 && !(isTimer(n) && isTimer(root.children[i-1])))
		f.node(n, 0)
	}
	f.comments(root, 0, true)
	return []byte(strings.TrimRight(f.b.String(), "\n") + "\n"), nil
}

// isTimer tells a timer section: two of them stand together.
func isTimer(n *node) bool { return n.text == "timer" || strings.HasPrefix(n.text, "timer ") }

type formatter struct {
	b strings.Builder
}

// keyWidth is the width of the column of keys, counted from the entry.
const keyWidth = 10

// comments writes what stands above n. Sections are set apart by a blank line;
// elsewhere a blank line stays where a person put one.
func (f *formatter) comments(n *node, level int, apart bool) {
	indent := strings.Repeat("  ", level)
	blank := apart && level == 0
	for _, c := range n.before {
		if c == "" {
			blank = blank || f.b.Len() > 0
			continue
		}
		if blank {
			f.b.WriteByte('\n')
		}
		blank = false
		f.b.WriteString(indent + c + "\n")
	}
	if blank && n.text != "" {
		f.b.WriteByte('\n')
	}
}

func (f *formatter) node(n *node, level int) {
	f.line(level, f.layout(n, level), n.comment)
	key, _, _ := strings.Cut(n.text, " ")
	var columns []int
	if key == "ask" && level == 0 {
		columns = askColumns(n)
	}
	for _, c := range n.children {
		f.comments(c, level+1, false)
		switch {
		case columns != nil:
			f.line(level+1, padded(askParts(c), columns), c.comment)
		case key == "scope" && level == 0:
			f.line(level+1, c.text, c.comment)
		default:
			f.node(c, level+1)
		}
	}
}

func (f *formatter) line(level int, text, comment string) {
	line := strings.Repeat("  ", level) + text
	if comment != "" {
		line += "  " + comment
	}
	f.b.WriteString(strings.TrimRight(line, " ") + "\n")
}

// layout gives a line its inner spacing.
func (f *formatter) layout(n *node, level int) string {
	if n.device {
		body := n.text[1:]
		return "| " + strings.TrimPrefix(body, " ")
	}
	words := n.words(&problems{})
	key := words[0]
	rest := strings.TrimSpace(n.text[key.end:])
	if rest == "" {
		return key.text
	}
	if (key.text == "per" || key.text == "while") && level == 1 || (key.text == "no" || key.text == "may") && level >= 1 { // the key is two words
		two := words[min(1, len(words)-1)]
		return pad(key.text+" "+two.text, keyWidth) + squeeze(strings.TrimSpace(n.text[two.end:]))
	}
	switch {
	case key.text == "already" && level >= 1:
		rest = "when " + strings.TrimSpace(strings.TrimPrefix(rest, "when"))
	case key.text == "when", key.text == "expect", key.text == "wait": // a condition: spacing is its writer's
	case key.text == "for" && wordOutsideQuotes(rest, " where ") > 0:
		at := wordOutsideQuotes(rest, " where ")
		rest = squeeze(rest[:at]) + " where " + strings.TrimSpace(rest[at+len(" where "):])
	default:
		rest = squeeze(rest)
	}
	if level == 0 {
		switch key.text {
		case "timer", "record", "unattended":
			return pad(key.text, keyWidth+2) + rest
		}
		return key.text + " " + rest
	}
	if slices.Contains([]string{"on", "undo", "send", "want", "gone", "put", "look", "do"}, key.text) {
		return key.text + " " + rest
	}
	return pad(key.text, keyWidth) + rest
}

var spaces = regexp.MustCompile(`\s+`)

// squeeze makes one space of many outside quotes, and writes "a, b" for lists.
func squeeze(s string) string {
	var b strings.Builder
	for i, part := range splitQuotes(s) {
		if i%2 == 1 {
			b.WriteString(part)
			continue
		}
		part = spaces.ReplaceAllString(part, " ")
		part = strings.ReplaceAll(strings.ReplaceAll(part, " ,", ","), ",", ", ")
		b.WriteString(spaces.ReplaceAllString(part, " "))
	}
	return strings.TrimSpace(b.String())
}

// splitQuotes splits s into text outside quotes (even) and quoted text (odd).
func splitQuotes(s string) []string {
	var out []string
	start, quoted := 0, false
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quoted:
			i++
		case s[i] == '"' && !quoted:
			out = append(out, s[start:i])
			start, quoted = i, true
		case s[i] == '"':
			out = append(out, s[start:i+1])
			start, quoted = i+1, false
		}
	}
	return append(out, s[start:])
}

// askParts splits an asked value into name, kind, question and default.
func askParts(n *node) []string {
	parts := make([]string, 4)
	at := 0
	var kind []string
	for i, w := range n.words(&problems{}) {
		text := w.text
		if w.quoted {
			text = quote(w.text)
		}
		switch {
		case i == 0:
			parts[0] = text
		case w.text == "=" && !w.quoted && at == 2:
			at = 3
		case at == 0 && w.quoted:
			at = 2
			parts[2] = text
		case at == 0:
			kind = append(kind, text)
		case at == 3:
			parts[3] = "= " + text
		}
	}
	parts[1] = squeeze(strings.Join(kind, " "))
	return parts
}

func askColumns(n *node) []int {
	widths := make([]int, 4)
	for _, c := range n.children {
		for i, p := range askParts(c) {
			widths[i] = max(widths[i], utf8.RuneCountInString(p)+2)
		}
	}
	widths[0] = max(widths[0], keyWidth)
	return widths
}

func padded(parts []string, widths []int) string {
	var b strings.Builder
	for i, p := range parts {
		b.WriteString(pad(p, widths[i]))
	}
	return b.String()
}

func pad(s string, width int) string {
	n := utf8.RuneCountInString(s)
	if n >= width {
		return s + " "
	}
	return s + strings.Repeat(" ", width-n)
}

var validDuration = regexp.MustCompile(`^(\d{1,3}h)?(\d{1,4}m)?(\d{1,5}s)?$`)

// ParseDuration reads a time as runbooks write it: hours, minutes and seconds
// in whole numbers, such as 2h45m or 90s.
func ParseDuration(s string) (time.Duration, error) {
	d, err := time.ParseDuration(s)
	if err != nil || !validDuration.MatchString(s) || d <= 0 {
		return 0, fmt.Errorf("%q is not a length of time", s)
	}
	return d, nil
}

// FormatDuration writes a time as runbooks do, to the second.
func FormatDuration(d time.Duration) string {
	d = d.Round(time.Second)
	h, m, s := d/time.Hour, d/time.Minute%60, d/time.Second%60
	var b strings.Builder
	if h > 0 {
		fmt.Fprintf(&b, "%dh", h)
	}
	if m > 0 {
		fmt.Fprintf(&b, "%dm", m)
	}
	if s > 0 || b.Len() == 0 {
		fmt.Fprintf(&b, "%ds", s)
	}
	return b.String()
}
