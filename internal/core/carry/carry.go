// Package carry carries a configuration over to another device: one that takes a broken
// one's place, with other names for its ports, perhaps of another platform.
//
// A [Mapping] says how: which port of the old becomes which of the new, and how lines are
// written there. What no rule carries over is a gap, and is named; nothing is guessed.
package carry

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"github.com/maruel/natural"

	"metabasis/internal/core/config"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// Mapping says how configurations of one platform become those of another.
type Mapping struct {
	From string `yaml:"from"` // platforms
	To   string `yaml:"to"`
	// Ports are the sections of ports, by their lines: "port 3": "port 5".
	Ports map[string]string `yaml:"ports"`
	// Lines are rules for lines, tried in their order; the first that fits counts.
	Lines []Rule `yaml:"lines"`
}

// Rule carries lines over. Patterns are held against a line with its sections, joined by
// " > ".
type Rule struct {
	Line string `yaml:"line"` // a pattern of the whole
	// To is the line with its sections as the new one has it; $1 is what the pattern caught.
	To string `yaml:"to"`
	// Left says why such lines do not carry over, such as keys that are made on a device.
	Left string `yaml:"left"`
	re   *regexp.Regexp
}

// Read reads a mapping from a file. The error is a problem.List.
func Read(file string, data []byte) (*Mapping, error) {
	var m Mapping
	if _, err := textfile.YAML(file, data, &m, false); err != nil {
		return nil, err
	}
	var list problem.List
	for i := range m.Lines {
		r := &m.Lines[i]
		re, err := regexp.Compile("^(?:" + r.Line + ")$")
		switch {
		case err != nil:
			list = append(list, problem.Problem{File: file, Msg: fmt.Sprintf("the pattern %q of lines cannot be read: %v", r.Line, err)})
		case r.Line == "" || (r.To == "") == (r.Left == ""):
			list = append(
				list,
				problem.Problem{File: file, Msg: fmt.Sprintf("rule %d of lines says both or neither of where a line goes and why it is left", i+1),
					Hint: "{line: PATTERN, to: LINE}, or {line: PATTERN, left: WHY}"},
			)
		}
		r.re = re
	}
	if m.From == "" || m.To == "" {
		list = append(list, problem.Problem{File: file, Msg: "it does not say from which platform to which", Hint: "from: tern, and to: tern"})
	}
	return &m, list.Err()
}

// Gap is a line that does not carry over.
type Gap struct {
	Path string `json:"path"`
	Why  string `json:"why"`
}

// Carried is a configuration that was carried over.
type Carried struct {
	Config config.Config
	// Gaps are lines that no rule carries over, or that the new device cannot have; Left are
	// those of which a rule says that they stay behind.
	Gaps, Left []Gap
	// Own are the lines of the new device that stay although the old one has others, with why,
	// and Loses those that it has now and will not have any more; see [Carried.Stays].
	Own   []Gap
	Loses []string
	ruled []string // by what the lines replace others that a rule has written
	// Moved are the ports that have another name now, from and to.
	Moved [][2]string
}

// Over carries a configuration over. Words replaces whole words, such as the old one's name;
// Knows tells whether the new device can have a line, in a section or at the top: "" where
// it can, else why not. Key is by what lines replace one another; nil is the line itself.
func (m *Mapping) Over(
	old config.Config,
	style config.Style,
	words map[string]string,
	knows func(path []string) string,
	key func(path []string) string,
) Carried {
	if key == nil {
		key = func(path []string) string { return strings.Join(path, " > ") }
	}
	var out Carried
	var paths [][]string
	moved := map[string]bool{}
	shut := map[string]bool{} // sections that do not carry over: what stands in them does not either
	for _, at := range walk(old.Lines, nil) {
		path := strings.Join(at, " > ")
		if parent := strings.Join(at[:len(at)-1], " > "); shut[parent] {
			shut[path] = true
			out.Gaps = append(out.Gaps, Gap{path, "its section does not carry over"})
			continue
		}
		to, why, left := m.line(at)
		switch {
		case why != "" && left:
			out.Left = append(out.Left, Gap{path, why})
			shut[path] = true
			continue
		case why != "":
			out.Gaps = append(out.Gaps, Gap{path, why})
			shut[path] = true
			continue
		}
		for i := range to {
			to[i] = replaced(to[i], words)
			if port := m.Ports[at[min(i, len(at)-1)]]; i < len(at) && port != "" && port != at[i] && !moved[at[i]] {
				moved[at[i]] = true
				out.Moved = append(out.Moved, [2]string{at[i], port})
			}
		}
		if why := knows(to); why != "" {
			out.Gaps = append(out.Gaps, Gap{path, why})
			shut[path] = true
			continue
		}
		paths = append(paths, to)
		if m.ruled(path) {
			out.ruled = append(out.ruled, key(to))
		}
	}
	out.Config = config.Of(paths, style)
	return out
}

// walk lists all lines, each with the sections that it stands in.
func walk(lines []config.Line, at []string) (out [][]string) {
	for _, l := range lines {
		here := append(slices.Clone(at), l.Text)
		out = append(out, here)
		out = append(out, walk(l.Under, here)...)
	}
	return out
}

// ruled tells whether a rule says what a line becomes.
func (m *Mapping) ruled(path string) bool {
	i := slices.IndexFunc(m.Lines, func(r Rule) bool { return r.re.MatchString(path) })
	return i >= 0 && m.Lines[i].To != ""
}

// line is where a line goes; or why it goes nowhere, and whether that is meant.
func (m *Mapping) line(at []string) (to []string, why string, left bool) {
	path := strings.Join(at, " > ")
	for _, r := range m.Lines {
		caught := r.re.FindStringSubmatchIndex(path)
		switch {
		case caught == nil:
		case r.Left != "":
			return nil, r.Left, true
		default:
			to = strings.Split(string(r.re.ExpandString(nil, r.To, path, caught)), " > ")
			for i := range to { // the section of a port is that of the new one, whoever wrote it
				if port := m.Ports[to[i]]; port != "" && slices.Contains(at, to[i]) {
					to[i] = port
				}
			}
			return to, "", false
		}
	}
	if _, port := m.Ports[at[0]]; m.From != m.To && !(port && len(at) == 1) { // a port that is mapped is a section of its own
		return nil, "no rule carries it over", false
	}
	to = slices.Clone(at)
	for i, line := range to {
		port, mapped := m.Ports[line]
		switch {
		case mapped && port == "":
			return nil, "its port has none on the new device", false
		case mapped:
			to[i] = port
		default:
			if to[i], mapped = m.keyed(line); !mapped {
				return nil, "its port has none on the new device", false
			}
		}
	}
	return to, "", false
}

// keyed replaces ports in the keys of a path of data: interface[name='port3']. It is false
// where one of them has none on the new device.
func (m *Mapping) keyed(line string) (string, bool) {
	for _, old := range slices.Sorted(maps.Keys(m.Ports)) {
		from := "='" + old + "']"
		if m.Ports[old] == "" && strings.Contains(line, from) {
			return "", false
		}
		line = strings.ReplaceAll(line, from, "=\x00"+m.Ports[old]+"']") // not to be replaced again
	}
	return strings.ReplaceAll(line, "=\x00", "='"), true
}

// replaced replaces whole words.
func replaced(line string, words map[string]string) string {
	fields := strings.Split(line, " ")
	for i, f := range fields {
		if w, ok := words[f]; ok {
			fields[i] = w
		}
	}
	return strings.Join(fields, " ")
}

// Propose proposes which port of the old becomes which of the new: the one of the same
// name; else the one of the same number, where no other has it; else, in their order, the
// next that is free. Ports for which there is none are mapped to "".
func Propose(old, fresh []string) map[string]string {
	old, fresh = slices.Clone(old), slices.Clone(fresh)
	slices.SortFunc(old, natural.Compare)
	slices.SortFunc(fresh, natural.Compare)
	out, taken := map[string]string{}, map[string]bool{}
	take := func(from, to string) {
		out[from], taken[to] = to, true
	}
	for _, p := range old {
		if slices.Contains(fresh, p) {
			take(p, p)
		}
	}
	for _, p := range old {
		if _, done := out[p]; done {
			continue
		}
		for _, n := range fresh {
			if number(p) != "" && number(p) == number(n) && !taken[n] {
				take(p, n)
				break
			}
		}
	}
	for _, p := range old {
		if _, done := out[p]; done {
			continue
		}
		out[p] = ""
		for _, n := range fresh {
			if !taken[n] {
				take(p, n)
				break
			}
		}
	}
	return out
}

var lastNumber = regexp.MustCompile(`(\d+)\D*$`)

// number is the last number in the name of a port.
func number(port string) string {
	if m := lastNumber.FindStringSubmatch(port); m != nil {
		return m[1]
	}
	return ""
}

// Write writes a mapping as a file, to be looked at and changed by a person.
func (m *Mapping) Write() []byte {
	var b strings.Builder
	fmt.Fprintf(
		&b,
		"# Which port of a %s becomes which of a %s that takes its place. This is a proposal: look\n# at it. A port mapped to '' has none there, and what stands in it is a gap.\nfrom: %s\nto: %s\nports:\n",
		m.From,
		m.To,
		m.From,
		m.To,
	)
	keys := slices.SortedFunc(maps.Keys(m.Ports), natural.Compare)
	for _, p := range keys {
		fmt.Fprintf(&b, "  %s: %s\n", quoted(p), quoted(m.Ports[p]))
	}
	b.WriteString(
		"# Rules for lines with their sections, the first that fits counts:\n#   - {line: 'time source (\\S+) first', to: 'clock > source $1 rank 1'}\n#   - {line: 'login .*', left: 'its key is made on the device'}\nlines: []\n",
	)
	return []byte(b.String())
}

func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
