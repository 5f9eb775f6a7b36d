package sim

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// An osier keeps what a tern keeps, and writes it in braces, with words of its own:
//
//	name ald-dist-1;
//	clock {
//	    source 192.0.2.9 rank 1;
//	}
//	report {
//	    to 198.51.100.9;
//	}
//	reach {
//	    from any;
//	}
//	member crew word lantern;
//	lan 10 {
//	    title office;
//	}
//	port 3 {
//	    label "gate";
//	    carries 10;
//	}

// braces prints a configuration as an osier does, without its heading.
func (c *ternConfig) braces() string {
	var b strings.Builder
	section := func(name string, lines ...string) {
		fmt.Fprintf(&b, "%s {\n", name)
		for _, l := range lines {
			fmt.Fprintf(&b, "    %s;\n", l)
		}
		b.WriteString("}\n")
	}
	fmt.Fprintf(&b, "name %s;\n", c.name)
	var sources, hosts []string
	for i, t := range c.times {
		sources = append(sources, fmt.Sprintf("source %s rank %d", t, i+1))
	}
	for _, l := range c.logs {
		hosts = append(hosts, "to "+l)
	}
	section("clock", sources...)
	section("report", hosts...)
	section("reach", "from "+c.manage)
	for _, u := range slices.Sorted(maps.Keys(c.logins)) {
		fmt.Fprintf(&b, "member %s word %s;\n", u, c.logins[u])
	}
	for _, n := range slices.Sorted(maps.Keys(c.lans)) {
		var lines []string
		if c.lans[n] != "" {
			lines = []string{"title " + c.lans[n]}
		}
		section(fmt.Sprintf("lan %d", n), lines...)
	}
	for _, n := range slices.Sorted(maps.Keys(c.ports)) {
		section(fmt.Sprintf("port %d", n), c.ports[n].braces()...)
	}
	return b.String()
}

func (p ternPort) braces() (out []string) {
	if p.label != "" {
		out = append(out, fmt.Sprintf("label %q", p.label))
	}
	if p.trunk {
		out = append(out, "carries all")
	}
	if p.lan != 0 {
		out = append(out, fmt.Sprintf("carries %d", p.lan))
	}
	if p.shut {
		out = append(out, "off")
	}
	return out
}

// loadBraces replaces the configuration by one in braces. It reports the first line that
// does not fit and then changes nothing.
func (c *ternConfig) loadBraces(text string) error {
	next := newTernConfig(len(c.ports))
	section := ""
	n := 0
	for raw := range strings.Lines(text) {
		n++
		line := strings.TrimSpace(raw)
		var err error
		switch {
		case line == "", strings.HasPrefix(line, "##"):
		case line == "}":
			section = ""
		case strings.HasSuffix(line, " {") && section == "":
			section, err = next.applyBraces("", strings.TrimSuffix(line, " {"))
		case strings.HasSuffix(line, ";"):
			_, err = next.applyBraces(section, strings.TrimSuffix(line, ";"))
		default:
			err = fmt.Errorf("%q has no end", line)
		}
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
	}
	if section != "" {
		return fmt.Errorf("line %d: %s is not closed", n, section)
	}
	*c = *next
	return nil
}

// applyBraces carries out one statement of an osier's draft inside a section, and returns
// the section it leads to.
func (c *ternConfig) applyBraces(section, line string) (string, error) {
	said, cut := strings.CutPrefix(line, "cut ")
	w := strings.Fields(said)
	if len(w) == 0 {
		return section, fmt.Errorf("nothing to cut")
	}
	tern, known := asTern(section, w, said)
	if section == "" && !cut && len(w) == 1 && slices.Contains([]string{"clock", "report", "reach"}, w[0]) {
		return w[0], nil
	}
	if !known {
		return section, fmt.Errorf("unknown statement %q", line)
	}
	kind, num, _ := strings.Cut(section, " ")
	switch n, _ := strconv.Atoi(num); {
	case kind == "port" && cut && w[0] == "carries" && c.ports[n].trunk:
		tern = "drop trunk"
	case kind == "port" && cut && (w[0] == "carries" || w[0] == "label"):
		tern = "drop " + strings.Fields(tern)[0]
	case cut && slices.Contains([]string{"off", "on", "name", "from"}, w[0]):
		return section, fmt.Errorf("%q cannot be cut", said)
	case cut:
		tern = "drop " + tern
	}
	if kind != "lan" && kind != "port" {
		into, err := c.apply("", tern)
		if section != "" {
			into = section
		}
		return into, err
	}
	return c.apply(section, tern)
}

// asTern is what a tern calls a statement.
func asTern(section string, w []string, line string) (string, bool) {
	kind, _, _ := strings.Cut(section, " ")
	is := func(in, word string, n ...int) bool { return kind == in && w[0] == word && slices.Contains(n, len(w)) }
	switch {
	case is("", "name", 2),
		is("", "lan", 2),
		is("", "port", 2),
		is("lan", "title", 1, 2),
		is("port", "label", 1),
		kind == "port" && w[0] == "label":
		return line, true
	case is("", "member", 4) && w[2] == "word":
		return fmt.Sprintf("login %s secret %s", w[1], w[3]), true
	case is("", "member", 2):
		return "login " + w[1], true
	case is("clock", "source", 4) && w[2] == "rank":
		n, _ := strconv.Atoi(w[3])
		if n < 1 || n > len(ordinals) {
			return "", false
		}
		return fmt.Sprintf("time source %s %s", w[1], ordinals[n-1]), true
	case is("clock", "source", 2):
		return "time source " + w[1], true
	case is("report", "to", 2):
		return "log host " + w[1], true
	case is("reach", "from", 2):
		return "manage from " + w[1], true
	case is("port", "carries", 2) && w[1] == "all":
		return "trunk", true
	case is("port", "carries", 1, 2):
		return strings.Join(append([]string{"lan"}, w[1:]...), " "), true
	case is("port", "off", 1):
		return "shut", true
	case is("port", "on", 1):
		return "open", true
	}
	return "", false
}

// Braces prints the configuration of a tern as an osier would.
func Braces(text string) string {
	c := newTernConfig(12)
	if err := c.load(text); err != nil {
		return err.Error()
	}
	return c.braces()
}
