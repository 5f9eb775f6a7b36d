// Package tree holds configurations that are trees of data, as YANG models them (RFC
// 7950), and writes them as lines of text, one for each leaf:
//
//	/ietf-system:system/hostname = qs1
//	/ietf-interfaces:interfaces/interface[name='port3']
//	/ietf-interfaces:interfaces/interface[name='port3']/description = uplink
//	/ietf-system:system/dns-resolver/search[.='sound.example']
//
// A path is an instance identifier as in RFC 7951, section 6.11: a name is behind its
// module's where that is another than its parent's. An entry of a list has a line of its
// own; so has a node without a value. In this form configurations are backed up, compared
// and changed, whatever protocol they were read by.
package tree

import (
	"fmt"
	"slices"
	"strings"
)

// Node is a node of data. Its module is never empty.
type Node struct {
	Module   string // as the profile calls it; {URI} where it does not
	Name     string
	Value    string
	Kind     Kind // of the value, where the device tells it
	Children []*Node
	Entry    bool // it is one of several of its name
}

// Kind is how JSON writes a value (RFC 7951, section 6).
type Kind byte

// The kinds of value. What is read from XML tells none.
const (
	Untold  Kind = iota
	Quoted       // between quotes
	Literal      // a number, true or false
	Empty        // [null]: it is there, and has no value
)

// Schema is what must be known of a device's models beyond what it prints.
type Schema struct {
	Modules map[string]string   // the name of a module to its namespace
	Lists   map[string][]string // the path of a list, without keys, to its keys; "." alone: it is a leaf-list
}

// Self is the key of a list of values.
const Self = "."

// module is what a namespace is called.
func (s Schema) module(space string) string {
	for name, uri := range s.Modules {
		if uri == space {
			return name
		}
	}
	return "{" + space + "}"
}

// space is the namespace of a module; of an unknown one, whatever its name is.
func (s Schema) space(module string) string {
	if uri, ok := s.Modules[module]; ok {
		return uri
	}
	return strings.TrimSuffix(strings.TrimPrefix(module, "{"), "}")
}

// child finds the child of that name, nil when there is none.
func (n *Node) child(module, name string) *Node {
	for _, c := range n.Children {
		if c.Name == name && c.Module == module {
			return c
		}
	}
	return nil
}

// value is the value of a child that is a key: keys are of their list's module.
func (n *Node) value(key string) (string, bool) {
	if key == Self {
		return n.Value, true
	}
	c := n.child(n.Module, key)
	if c == nil {
		return "", false
	}
	return c.Value, true
}

// Text writes the tree below a root, a line for each leaf. Two entries of a list that the
// schema does not know the keys of cannot be told apart: that is an error.
func (n *Node) Text(s Schema) (string, error) {
	w := &writer{s: s}
	w.below(n, "", "", 0)
	if w.err != nil {
		return "", w.err
	}
	if len(w.lines) == 0 {
		return "", nil
	}
	return strings.Join(w.lines, "\n") + "\n", nil
}

type writer struct {
	s     Schema
	lines []string
	err   error
}

// maxDepth bounds how deep a tree may be.
const maxDepth = 64

func (w *writer) below(n *Node, at, schema string, depth int) {
	if depth > maxDepth {
		w.err = fmt.Errorf("%s is more than %d levels deep", at, maxDepth)
		return
	}
	seen := map[string]int{}
	for _, c := range n.Children {
		name := c.Name
		if c.Module != n.Module {
			name = c.Module + ":" + c.Name
		}
		path, kind := at+"/"+name, schema+"/"+name
		keys, listed := w.s.Lists[kind]
		if seen[name]++; (seen[name] > 1 || c.Entry) && !listed {
			w.fail("it has a list %s, and its profile does not say by which keys its entries are told apart; write lists: {%q: [KEY]} under models", kind, kind)
			return
		}
		var with strings.Builder
		for _, k := range keys {
			v, ok := c.value(k)
			if !ok {
				w.fail("an entry of the list %s has no key %s", kind, k)
				return
			}
			fmt.Fprintf(&with, "[%s=%s]", k, quoted(v))
		}
		path += with.String()
		self := slices.Equal(keys, []string{Self})
		switch {
		case self, len(c.Children) == 0 && c.Value == "" && (c.Kind == Untold || c.Kind == Empty), listed:
			w.lines = append(w.lines, path)
		case len(c.Children) == 0:
			w.lines = append(w.lines, path+" = "+Shown(c.Value))
		}
		if !self {
			w.below(&Node{Module: c.Module, Children: without(c.Children, c.Module, keys)}, path, kind, depth+1)
		}
	}
}

func (w *writer) fail(format string, args ...any) {
	if w.err == nil {
		w.err = fmt.Errorf(format, args...)
	}
}

// without leaves out the keys of an entry: they stand in its path.
func without(list []*Node, module string, keys []string) []*Node {
	if len(keys) == 0 {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), func(c *Node) bool {
		return c.Module == module && slices.Contains(keys, c.Name)
	})
}

// Parse reads what [Node.Text] writes. The error names the line.
func Parse(text string, s Schema) (*Node, error) {
	root := &Node{}
	n := 0
	for line := range strings.Lines(text) {
		n++
		line = strings.TrimRight(line, "\r\n")
		if strings.TrimSpace(line) == "" {
			continue
		}
		p, value, has, err := ParseLine(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		leaf, err := p.make(root, s)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		if has {
			leaf.Value = value
		}
		if has && value == "" {
			leaf.Kind = Quoted // a leaf that says nothing, and no container
		}
	}
	return root, nil
}

// under is the name of a node below a parent.
func (n *Node) under(parent *Node) string {
	if n.Module != parent.Module {
		return n.Module + ":" + n.Name
	}
	return n.Name
}

// same finds the child that is the same node as c, by its keys.
func (n *Node) same(c *Node, keys []string) *Node {
	for _, o := range n.Children {
		if o.Name != c.Name || o.Module != c.Module {
			continue
		}
		if !slices.ContainsFunc(keys, func(k string) bool {
			x, _ := o.value(k)
			y, _ := c.value(k)
			return x != y
		}) {
			return o
		}
	}
	return nil
}
