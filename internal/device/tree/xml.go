package tree

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strings"
)

// FromXML reads the elements that stand in an XML element as a tree (RFC 7950, section
// 7). Attributes are data of the protocol and are passed over.
func FromXML(d *xml.Decoder, s Schema) (*Node, error) {
	root := &Node{}
	return root, root.readXML(d, s, nil, 0)
}

// prefixes are the prefixes of namespaces that an element is in the scope of, the innermost
// last.
type prefixes []xml.Attr

func (p prefixes) with(attrs []xml.Attr) prefixes {
	for _, a := range attrs {
		if a.Name.Space == "xmlns" {
			p = append(p[:len(p):len(p)], a)
		}
	}
	return p
}

// named writes a value that names something in a namespace behind that module's name: the
// prefix that XML has for it (RFC 7950, section 9.10.3) means nothing elsewhere.
func (p prefixes) named(value string, s Schema) string {
	prefix, name, ok := strings.Cut(value, ":")
	if !ok || name == "" || strings.ContainsFunc(name, func(r rune) bool { return !identifier(r) }) {
		return value
	}
	for i := len(p) - 1; i >= 0; i-- {
		if p[i].Name.Local == prefix {
			if m := s.module(p[i].Value); !strings.HasPrefix(m, "{") {
				return m + ":" + name
			}
			return value
		}
	}
	return value
}

// readXML reads up to the end of the element that was begun.
func (n *Node) readXML(d *xml.Decoder, s Schema, scope prefixes, depth int) error {
	if depth > maxDepth {
		return fmt.Errorf("it is more than %d levels deep", maxDepth)
	}
	var text strings.Builder
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return io.ErrUnexpectedEOF
		}
		if err != nil {
			return err
		}
		switch t := t.(type) {
		case xml.StartElement:
			c := &Node{Module: s.module(t.Name.Space), Name: t.Name.Local}
			if err := c.readXML(d, s, scope.with(t.Attr), depth+1); err != nil {
				return err
			}
			n.Children = append(n.Children, c)
		case xml.CharData:
			if len(n.Children) == 0 {
				text.Write(t)
			}
		case xml.EndElement:
			if len(n.Children) == 0 {
				n.Value = text.String()
				if strings.TrimSpace(n.Value) == "" {
					n.Value = "" // an element laid out over two lines holds nothing
				}
				n.Value = scope.named(n.Value, s)
			}
			return nil
		}
	}
}

// XML writes what is below a root as XML elements. Operation is the operation of RFC 6241,
// section 7.2, on the node at; "" is none.
func (n *Node) XML(s Schema, at *Node, operation string) string {
	var b strings.Builder
	n.writeXML(&b, s, at, operation)
	return b.String()
}

// baseSpace is the namespace of NETCONF's own words (RFC 6241, section 3.1).
const baseSpace = "urn:ietf:params:xml:ns:netconf:base:1.0"

func (n *Node) writeXML(b *strings.Builder, s Schema, at *Node, operation string) {
	for _, c := range n.Children {
		b.WriteString("<" + c.Name)
		if c.Module != n.Module {
			b.WriteString(` xmlns="`)
			_ = xml.EscapeText(b, []byte(s.space(c.Module)))
			b.WriteString(`"`)
		}
		if m, _, ok := strings.Cut(c.Value, ":"); ok && s.Modules[m] != "" && len(c.Children) == 0 {
			b.WriteString(` xmlns:` + m + `="`)
			_ = xml.EscapeText(b, []byte(s.Modules[m]))
			b.WriteString(`"`)
		}
		if c == at && operation != "" {
			b.WriteString(` nc:operation="` + operation + `" xmlns:nc="` + baseSpace + `"`)
		}
		if len(c.Children) == 0 && c.Value == "" {
			b.WriteString("/>")
			continue
		}
		b.WriteString(">")
		if len(c.Children) == 0 {
			_ = xml.EscapeText(b, []byte(c.Value))
		}
		c.writeXML(b, s, at, operation)
		b.WriteString("</" + c.Name + ">")
	}
}
