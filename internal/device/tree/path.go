package tree

import (
	"fmt"
	"strconv"
	"strings"
)

// Path leads from the root of a tree to a node.
type Path []Step

// Step is one name of a path.
type Step struct {
	Module string // "" is that of the step before
	Name   string
	Keys   []Key
}

// Key tells an entry of a list apart.
type Key struct{ Name, Value string }

// quoted writes the value of a key (RFC 7950, section 9.13: between either quotes). What
// has both, or a control character, is written as JSON writes it.
func quoted(v string) string {
	switch {
	case strings.ContainsFunc(v, control) || strings.Contains(v, "'"):
		return strconv.Quote(v)
	}
	return "'" + v + "'"
}

func control(r rune) bool { return r < ' ' || r == 0x7f }

// Shown writes a value behind " = ". What could be taken for something else is quoted.
func Shown(v string) string {
	if v == "" || strings.ContainsFunc(v, control) || strings.TrimSpace(v) != v || strings.HasPrefix(v, `"`) {
		return strconv.Quote(v)
	}
	return v
}

// Read is the opposite of Shown.
func Read(v string) (string, error) {
	if !strings.HasPrefix(v, `"`) {
		return v, nil
	}
	out, err := strconv.Unquote(v)
	if err != nil {
		return "", fmt.Errorf("%s begins with a quote and is no quoted text; write \\\" for a quote in it", v)
	}
	return out, nil
}

// ParseLine reads PATH or PATH = VALUE.
func ParseLine(line string) (p Path, value string, has bool, err error) {
	p, rest, err := parsePath(strings.TrimSpace(line))
	if err != nil {
		return nil, "", false, err
	}
	if rest == "" {
		return p, "", false, nil
	}
	v, ok := strings.CutPrefix(rest, " = ")
	if !ok {
		return nil, "", false, fmt.Errorf("behind the path stands %q; write PATH = VALUE", rest)
	}
	v, err = Read(strings.TrimSpace(v))
	return p, v, true, err
}

// ParsePath reads a path that nothing stands behind.
func ParsePath(text string) (Path, error) {
	p, rest, err := parsePath(text)
	if err == nil && rest != "" {
		err = fmt.Errorf("behind the path stands %q", rest)
	}
	return p, err
}

func parsePath(text string) (p Path, rest string, err error) {
	rest = text
	for strings.HasPrefix(rest, "/") {
		var s Step
		if s, rest, err = parseStep(rest[1:]); err != nil {
			return nil, "", err
		}
		if p = append(p, s); len(p) > maxDepth {
			return nil, "", fmt.Errorf("the path is more than %d names long", maxDepth)
		}
	}
	switch {
	case len(p) == 0:
		return nil, "", fmt.Errorf("%q is no path; it begins with /MODULE:NAME", text)
	case p[0].Module == "":
		return nil, "", fmt.Errorf("the path begins with /%s, without its module; write /MODULE:%s", p[0].Name, p[0].Name)
	}
	return p, rest, nil
}

func parseStep(text string) (s Step, rest string, err error) {
	if strings.HasPrefix(text, "{") { // a module that has no name
		i := strings.Index(text, "}:")
		if i < 0 {
			return s, "", fmt.Errorf("a namespace that is not closed: %q", text)
		}
		s.Module, text = text[:i+1], text[i+2:]
	}
	n := strings.IndexFunc(text, func(r rune) bool { return !identifier(r) })
	if n < 0 {
		n = len(text)
	}
	s.Name, rest = text[:n], text[n:]
	if s.Module == "" && strings.HasPrefix(rest, ":") {
		s.Module = s.Name
		text = rest[1:]
		if n = strings.IndexFunc(text, func(r rune) bool { return !identifier(r) }); n < 0 {
			n = len(text)
		}
		s.Name, rest = text[:n], text[n:]
	}
	if s.Name == "" {
		return s, "", fmt.Errorf("a name is missing before %q", rest)
	}
	for strings.HasPrefix(rest, "[") {
		var k Key
		if k, rest, err = parseKey(rest[1:]); err != nil {
			return s, "", err
		}
		s.Keys = append(s.Keys, k)
	}
	return s, rest, nil
}

// identifier tells what a name may be made of (RFC 7950, section 6.2).
func identifier(r rune) bool {
	return r == '_' || r == '-' || r == '.' || '0' <= r && r <= '9' || 'a' <= r && r <= 'z' || 'A' <= r && r <= 'Z'
}

func parseKey(text string) (k Key, rest string, err error) {
	i := strings.IndexByte(text, '=')
	if i <= 0 || strings.ContainsFunc(text[:i], func(r rune) bool { return !identifier(r) }) {
		return k, "", fmt.Errorf("%q is no key; write [NAME='VALUE']", "["+text)
	}
	k.Name, text = text[:i], text[i+1:]
	switch {
	case strings.HasPrefix(text, "'"):
		end := strings.IndexByte(text[1:], '\'')
		if end < 0 {
			return k, "", fmt.Errorf("the value of key %s is not closed", k.Name)
		}
		k.Value, rest = text[1:end+1], text[end+2:]
	case strings.HasPrefix(text, `"`):
		q, err := strconv.QuotedPrefix(text)
		if err != nil {
			return k, "", fmt.Errorf("the value of key %s is not closed", k.Name)
		}
		if k.Value, err = strconv.Unquote(q); err != nil {
			return k, "", fmt.Errorf("the value of key %s: %w", k.Name, err)
		}
		rest = text[len(q):]
	default:
		return k, "", fmt.Errorf("the value of key %s stands between no quotes; write [%s='VALUE']", k.Name, k.Name)
	}
	if !strings.HasPrefix(rest, "]") {
		return k, "", fmt.Errorf("key %s is not closed by ]", k.Name)
	}
	return k, rest[1:], nil
}

// String writes the path.
func (p Path) String() string {
	var b strings.Builder
	above := ""
	for _, s := range p {
		b.WriteByte('/')
		if s.Module != "" && s.Module != above {
			b.WriteString(s.Module + ":")
		}
		if s.Module != "" {
			above = s.Module
		}
		b.WriteString(s.Name)
		for _, k := range s.Keys {
			b.WriteString("[" + k.Name + "=" + quoted(k.Value) + "]")
		}
	}
	return b.String()
}

// Schema is the path without its keys.
func (p Path) Schema() string {
	bare := make(Path, len(p))
	for i, s := range p {
		bare[i] = Step{Module: s.Module, Name: s.Name}
	}
	return bare.String()
}

// Above is the path to the parent.
func (p Path) Above() Path { return p[:len(p)-1] }

// Check tells whether the path names one node, as far as the schema knows.
func (p Path) Check(s Schema) error {
	for i, step := range p {
		at := p[:i+1]
		keys, listed := s.Lists[at.Schema()]
		if !listed && len(step.Keys) > 0 {
			return fmt.Errorf("the profile knows no list %s; write lists: {%q: [%s]} under models", at.Schema(), at.Schema(), step.Keys[0].Name)
		}
		if step.Module != "" && !strings.HasPrefix(step.Module, "{") && s.Modules != nil {
			if _, ok := s.Modules[step.Module]; !ok {
				return fmt.Errorf("the profile knows no module %s; write its namespace under modules of models", step.Module)
			}
		}
		if !listed {
			continue
		}
		for j, k := range keys {
			if j >= len(step.Keys) || step.Keys[j].Name != k {
				return fmt.Errorf("%s is a list, and its entry is not named; write its keys, in this order: %s", at.Schema(), keysLike(keys))
			}
		}
		if len(step.Keys) > len(keys) {
			return fmt.Errorf("%s is a list by %s, and is given more", at.Schema(), keysLike(keys))
		}
	}
	return nil
}

func keysLike(keys []string) string {
	var b strings.Builder
	for _, k := range keys {
		b.WriteString("[" + k + "='…']")
	}
	return b.String()
}

// Make is the tree that has that one node, and the node.
func (p Path) Make(s Schema) (root, leaf *Node, err error) {
	root = &Node{}
	leaf, err = p.make(root, s)
	return root, leaf, err
}

// make finds the node in a tree, and makes what is missing on the way.
func (p Path) make(root *Node, s Schema) (*Node, error) {
	if err := p.Check(s); err != nil {
		return nil, err
	}
	at, kind := root, ""
	for _, step := range p {
		n := &Node{Module: step.Module, Name: step.Name}
		if n.Module == "" {
			n.Module = at.Module
		}
		kind += "/" + n.under(at)
		keys, listed := s.Lists[kind]
		n.Entry = listed
		for _, k := range step.Keys {
			if k.Name == Self {
				n.Value = k.Value
			} else {
				n.Children = append(n.Children, &Node{Module: n.Module, Name: k.Name, Value: k.Value})
			}
		}
		if old := at.same(n, keys); old != nil {
			n = old
		} else {
			at.Children = append(at.Children, n)
		}
		at = n
	}
	return at, nil
}

// Find lists the nodes that the path leads to. A step without keys leads to all of its
// name.
func (p Path) Find(root *Node) []*Node {
	at := []*Node{root}
	for _, step := range p {
		var next []*Node
		for _, n := range at {
			module := step.Module
			if module == "" {
				module = n.Module
			}
			for _, c := range n.Children {
				if c.Name == step.Name && c.Module == module && c.has(step.Keys) {
					next = append(next, c)
				}
			}
		}
		at = next
	}
	return at
}

func (n *Node) has(keys []Key) bool {
	for _, k := range keys {
		if v, ok := n.value(k.Name); !ok || v != k.Value {
			return false
		}
	}
	return true
}

// Relative reads a path below a node: NAME/NAME.
func Relative(text string) (Path, error) {
	p, rest := Path{}, "/"+text
	for strings.HasPrefix(rest, "/") {
		s, r, err := parseStep(rest[1:])
		if err != nil {
			return nil, err
		}
		p, rest = append(p, s), r
	}
	if rest != "" {
		return nil, fmt.Errorf("behind the path stands %q", rest)
	}
	return p, nil
}
