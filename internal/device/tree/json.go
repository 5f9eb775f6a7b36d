package tree

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// FromJSON reads a JSON object as a tree (RFC 7951).
func FromJSON(data []byte) (*Node, error) {
	d := json.NewDecoder(bytes.NewReader(data))
	d.UseNumber()
	root := &Node{}
	t, err := d.Token()
	if err == nil && t != json.Delim('{') {
		err = errors.New("it is no object")
	}
	if err == nil {
		err = root.readObject(d, 0)
	}
	if err == nil {
		if _, more := d.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("something stands behind it")
		}
	}
	if errors.Is(err, io.EOF) {
		err = io.ErrUnexpectedEOF
	}
	return root, err
}

// readObject reads the members of an object, up to its end.
func (n *Node) readObject(d *json.Decoder, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("it is more than %d levels deep", maxDepth)
	}
	seen := map[string]bool{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return err
		}
		name, _ := t.(string)
		bare := strings.TrimPrefix(name, n.Module+":")
		if seen[bare] {
			return fmt.Errorf("%q is there twice", name)
		}
		seen[bare] = true
		if strings.HasPrefix(name, "@") { // metadata (RFC 7952)
			var skip json.RawMessage
			if err := d.Decode(&skip); err != nil {
				return err
			}
			continue
		}
		if err := n.readMember(d, name, depth); err != nil {
			return err
		}
	}
	_, err := d.Token()
	return err
}

// readMember reads the value of a member: one node, or those of an array.
func (n *Node) readMember(d *json.Decoder, name string, depth int) error {
	module, local, ok := strings.Cut(name, ":")
	if !ok {
		module, local = n.Module, name
	}
	if module == "" || local == "" || strings.ContainsFunc(module+local, func(r rune) bool { return !identifier(r) }) {
		return fmt.Errorf("%q is no name of a module and a node", name)
	}
	t, err := d.Token()
	if err != nil {
		return err
	}
	c := &Node{Module: module, Name: local}
	if t != json.Delim('[') {
		n.Children = append(n.Children, c)
		return c.readValue(d, t, depth)
	}
	for first := true; d.More(); first = false {
		if t, err = d.Token(); err != nil {
			return err
		}
		entry := &Node{Module: module, Name: local, Entry: true}
		if t == nil { // [null]: it is there, and empty
			if !first || d.More() {
				return errors.New("a null in a list")
			}
			entry.Entry, entry.Kind = false, Empty
			n.Children = append(n.Children, entry)
			continue
		}
		n.Children = append(n.Children, entry)
		if err := entry.readValue(d, t, depth); err != nil {
			return err
		}
	}
	_, err = d.Token()
	return err
}

func (n *Node) readValue(d *json.Decoder, t json.Token, depth int) error {
	switch v := t.(type) {
	case json.Delim:
		if v != '{' {
			return errors.New("an array in an array")
		}
		return n.readObject(d, depth+1)
	case string:
		n.Value, n.Kind = v, Quoted
	case json.Number:
		n.Value, n.Kind = v.String(), Literal
	case bool:
		n.Value, n.Kind = strconv.FormatBool(v), Literal
	default:
		return fmt.Errorf("%v is no value", t)
	}
	return nil
}

// Kinds are how JSON writes the leaves of a tree, by their paths without keys.
type Kinds map[string]Kind

// Learn takes down how the leaves below a node are written.
func (k Kinds) Learn(n *Node) { k.learn(n, "") }

func (k Kinds) learn(n *Node, at string) {
	for _, c := range n.Children {
		path := at + "/" + c.under(n)
		if c.Kind != Untold {
			k[path] = c.Kind
		}
		k.learn(c, path)
	}
}

// JSON writes what is below a root as a JSON object. A value that nobody knows the kind of is
// written between quotes.
func (n *Node) JSON(s Schema, kinds Kinds) []byte {
	var b bytes.Buffer
	n.writeJSON(&b, s, kinds, "")
	return b.Bytes()
}

func (n *Node) writeJSON(b *bytes.Buffer, s Schema, kinds Kinds, at string) {
	b.WriteByte('{')
	done := map[string]bool{}
	for _, c := range n.Children {
		name := c.under(n)
		if done[name] {
			continue
		}
		if len(done) > 0 {
			b.WriteByte(',')
		}
		done[name] = true
		b.WriteString(quoteJSON(name) + ":")
		path := at + "/" + name
		if _, listed := s.Lists[path]; !listed && !c.Entry {
			c.valueJSON(b, s, kinds, path)
			continue
		}
		b.WriteByte('[')
		first := true
		for _, e := range n.Children {
			if e.under(n) != name {
				continue
			}
			if !first {
				b.WriteByte(',')
			}
			first = false
			e.valueJSON(b, s, kinds, path)
		}
		b.WriteByte(']')
	}
	b.WriteByte('}')
}

func (n *Node) valueJSON(b *bytes.Buffer, s Schema, kinds Kinds, path string) {
	kind := n.Kind
	if kind == Untold {
		kind = kinds[path]
	}
	switch {
	case len(n.Children) > 0:
		n.writeJSON(b, s, kinds, path)
	case kind == Empty:
		b.WriteString("[null]")
	case kind == Literal && json.Valid([]byte(n.Value)) && !strings.HasPrefix(n.Value, "{") && !strings.HasPrefix(n.Value, "["):
		b.WriteString(n.Value)
	case n.Value == "" && kind == Untold:
		b.WriteString("{}")
	default:
		b.WriteString(quoteJSON(n.Value))
	}
}

func quoteJSON(text string) string {
	out, err := json.Marshal(text)
	if err != nil {
		return `""`
	}
	return string(out)
}
