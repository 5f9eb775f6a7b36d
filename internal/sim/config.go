package sim

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// ternConfig is the configuration of a tern switch.
type ternConfig struct {
	name     string
	times    []string          // time sources, the preferred one first
	logs     []string          // log hosts
	logins   map[string]string // user to secret
	manage   string            // "any", or the prefix that may manage it
	greeting string            // a text of several lines, with its first and its last; "" is none
	lans     map[int]string    // number to title
	ports    map[int]ternPort
}

type ternPort struct {
	label string
	lan   int
	trunk bool
	shut  bool
}

func newTernConfig(ports int) *ternConfig {
	c := &ternConfig{manage: "any", logins: map[string]string{}, lans: map[int]string{}, ports: map[int]ternPort{}}
	for p := 1; p <= ports; p++ {
		c.ports[p] = ternPort{}
	}
	return c
}

func (c *ternConfig) clone() *ternConfig {
	d := *c
	d.times, d.logs = slices.Clone(c.times), slices.Clone(c.logs)
	d.logins, d.lans, d.ports = maps.Clone(c.logins), maps.Clone(c.lans), maps.Clone(c.ports)
	return &d
}

var ordinals = []string{"first", "second", "third", "fourth"}

// String prints the configuration as the device does, without its heading.
func (c *ternConfig) String() string {
	var b strings.Builder
	fmt.Fprintf(&b, "name %s\n", c.name)
	for i, t := range c.times {
		fmt.Fprintf(&b, "time source %s %s\n", t, ordinals[i])
	}
	for _, l := range c.logs {
		fmt.Fprintf(&b, "log host %s\n", l)
	}
	fmt.Fprintf(&b, "manage from %s\n", c.manage)
	for _, u := range slices.Sorted(maps.Keys(c.logins)) {
		fmt.Fprintf(&b, "login %s secret %s\n", u, c.logins[u])
	}
	if c.greeting != "" {
		b.WriteString(c.greeting + "\n")
	}
	for _, n := range slices.Sorted(maps.Keys(c.lans)) {
		fmt.Fprintf(&b, "lan %d\n", n)
		if c.lans[n] != "" {
			fmt.Fprintf(&b, "  title %s\n", c.lans[n])
		}
	}
	for _, n := range slices.Sorted(maps.Keys(c.ports)) {
		p := c.ports[n]
		fmt.Fprintf(&b, "port %d\n", n)
		if p.label != "" {
			fmt.Fprintf(&b, "  label %q\n", p.label)
		}
		if p.trunk {
			b.WriteString("  trunk\n")
		}
		if p.lan != 0 {
			fmt.Fprintf(&b, "  lan %d\n", p.lan)
		}
		if p.shut {
			b.WriteString("  shut\n")
		}
	}
	return b.String()
}

// load replaces the configuration by a printed one. It reports the first line
// that does not fit and then changes nothing.
func (c *ternConfig) load(text string) error {
	next := newTernConfig(len(c.ports))
	section, end := "", ""
	n := 0
	for raw := range strings.Lines(text) {
		n++
		line := strings.TrimRight(raw, " \r\n")
		if end != "" { // of the greeting
			next.greeting += "\n" + line
			if strings.TrimSpace(line) == end {
				end = ""
			}
			continue
		}
		if m := greetingForm.FindStringSubmatch(line); m != nil {
			next.greeting, end = line, m[1]
			continue
		}
		if strings.TrimSpace(line) == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if !strings.HasPrefix(line, " ") {
			section = ""
		}
		into, err := next.apply(section, strings.TrimSpace(line))
		if err != nil {
			return fmt.Errorf("line %d: %w", n, err)
		}
		section = into
	}
	*c = *next
	return nil
}

// greetingForm is a line that begins a greeting; it goes on to the line that this one names.
var greetingForm = regexp.MustCompile(`^greeting until (\S+)$`)

var labelForm = regexp.MustCompile(`^label "([^"]*)"$`)

// apply carries out one line of edit mode inside a section ("", "lan N" or
// "port N") and returns the section it leaves the editor in.
func (c *ternConfig) apply(section, line string) (string, error) {
	w := strings.Fields(line)
	switch kind, num, _ := strings.Cut(section, " "); kind {
	case "lan":
		n, _ := strconv.Atoi(num)
		return section, c.applyLan(n, line, w)
	case "port":
		n, _ := strconv.Atoi(num)
		return section, c.applyPort(n, line, w)
	}
	return c.applyTop(line, w)
}

func (c *ternConfig) applyTop(line string, w []string) (string, error) {
	drop := w[0] == "drop"
	if drop {
		w = w[1:]
	}
	is := func(n int, words ...string) bool {
		return len(w) == n && len(w) >= len(words) && slices.Equal(w[:len(words)], words)
	}
	switch {
	case is(2, "name") && !drop:
		c.name = w[1]
	case is(4, "time", "source") && !drop && slices.Contains(ordinals, w[3]):
		return "", c.timeSource(w[2], slices.Index(ordinals, w[3]))
	case is(3, "time", "source") && drop:
		return "", remove(&c.times, w[2])
	case is(3, "log", "host"):
		if drop {
			return "", remove(&c.logs, w[2])
		}
		if _, err := netip.ParseAddr(w[2]); err != nil {
			return "", fmt.Errorf("%q is not an address", w[2])
		}
		if !slices.Contains(c.logs, w[2]) {
			c.logs = append(c.logs, w[2])
		}
	case is(3, "manage", "from") && !drop:
		if _, err := netip.ParsePrefix(w[2]); err != nil && w[2] != "any" {
			return "", fmt.Errorf("%q is not a prefix", w[2])
		}
		c.manage = w[2]
	case is(4, "login") && w[2] == "secret" && !drop:
		c.logins[w[1]] = w[3]
	case is(2, "login") && drop:
		delete(c.logins, w[1])
	case is(1, "greeting") && drop:
		if c.greeting == "" {
			return "", errors.New("there is no greeting to drop")
		}
		c.greeting = ""
	case strings.HasPrefix(line, "greeting until ") && strings.Contains(line, "\n"):
		c.greeting = line
	case is(2, "lan"):
		n, err := strconv.Atoi(w[1])
		if err != nil || n < 2 || n > 4000 {
			return "", fmt.Errorf("%q is not a lan number from 2 to 4000", w[1])
		}
		return c.lan(n, drop)
	case is(2, "port") && !drop:
		n, _ := strconv.Atoi(w[1])
		if _, ok := c.ports[n]; !ok {
			return "", fmt.Errorf("there is no port %q", w[1])
		}
		return "port " + w[1], nil
	default:
		return "", fmt.Errorf("unknown line %q", line)
	}
	return "", nil
}

func (c *ternConfig) timeSource(addr string, at int) error {
	if _, err := netip.ParseAddr(addr); err != nil {
		return fmt.Errorf("%q is not an address", addr)
	}
	_ = remove(&c.times, addr)
	if len(c.times) == len(ordinals) {
		return fmt.Errorf("no more than %d time sources", len(ordinals))
	}
	c.times = slices.Insert(c.times, min(at, len(c.times)), addr)
	return nil
}

func (c *ternConfig) lan(n int, drop bool) (string, error) {
	if !drop {
		if _, ok := c.lans[n]; !ok {
			c.lans[n] = ""
		}
		return fmt.Sprintf("lan %d", n), nil
	}
	for p, port := range c.ports {
		if port.lan == n {
			return "", fmt.Errorf("lan %d is in use on port %d", n, p)
		}
	}
	if _, ok := c.lans[n]; !ok {
		return "", fmt.Errorf("there is no lan %d", n)
	}
	delete(c.lans, n)
	return "", nil
}

func (c *ternConfig) applyLan(n int, line string, w []string) error {
	switch {
	case len(w) == 2 && w[0] == "title":
		c.lans[n] = w[1]
	case line == "drop title":
		c.lans[n] = ""
	default:
		return fmt.Errorf("unknown line %q in a lan", line)
	}
	return nil
}

func (c *ternConfig) applyPort(n int, line string, w []string) error {
	p := c.ports[n]
	switch m := labelForm.FindStringSubmatch(line); {
	case m != nil:
		p.label = m[1]
	case line == "drop label":
		p.label = ""
	case len(w) == 2 && w[0] == "lan":
		lan, _ := strconv.Atoi(w[1])
		if _, ok := c.lans[lan]; !ok {
			return fmt.Errorf("there is no lan %q", w[1])
		}
		p.lan, p.trunk = lan, false
	case line == "drop lan":
		p.lan = 0
	case line == "trunk":
		p.lan, p.trunk = 0, true
	case line == "drop trunk":
		p.trunk = false
	case line == "shut", line == "open":
		p.shut = line == "shut"
	default:
		return fmt.Errorf("unknown line %q on a port", line)
	}
	c.ports[n] = p
	return nil
}

func remove(list *[]string, s string) error {
	i := slices.Index(*list, s)
	if i < 0 {
		return fmt.Errorf("%q is not there to drop", s)
	}
	*list = slices.Delete(*list, i, i+1)
	return nil
}
