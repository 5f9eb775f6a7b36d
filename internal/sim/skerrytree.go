package sim

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// A skerry keeps what a tern keeps, as a tree of data: its name as ietf-system has it
// (RFC 7317), its ports as ietf-interfaces has them (RFC 8343), the rest in a model of its
// own, skerry.

// The namespaces of its models.
const (
	spaceNetconf = "urn:ietf:params:xml:ns:netconf:base:1.0"
	spaceSystem  = "urn:ietf:params:xml:ns:yang:ietf-system"
	spaceIfs     = "urn:ietf:params:xml:ns:yang:ietf-interfaces"
	spaceIfType  = "urn:ietf:params:xml:ns:yang:iana-if-type"
	spaceSkerry  = "https://skerry.example/yang/skerry"
)

// datum is a node of data.
type datum struct {
	space, name, text string
	op                string // what an edit does with it
	kids              []*datum
}

func leaf(space, name, text string) *datum { return &datum{space: space, name: name, text: text} }

func branch(space, name string, kids ...*datum) *datum {
	return &datum{space: space, name: name, kids: kids}
}

func (n *datum) add(kids ...*datum) { n.kids = append(n.kids, kids...) }

// listKeys are the lists of the models, with what tells their entries apart; "." is the
// value itself.
var listKeys = map[string]string{"interface": "name", "member": "name", "lan": "number", "source": "rank", "report": "."}

// isEntry tells whether a node is an entry of a list.
func (n *datum) isEntry() bool {
	key, listed := listKeys[n.name]
	return listed && (key == "." && len(n.kids) == 0 || key != "." && n.kid(key) != nil)
}

func (n *datum) kid(name string) *datum {
	for _, k := range n.kids {
		if k.name == name {
			return k
		}
	}
	return nil
}

func (n *datum) value(name string) string {
	if k := n.kid(name); k != nil {
		return k.text
	}
	return ""
}

func (n *datum) clone() *datum {
	c := *n
	c.kids = nil
	for _, k := range n.kids {
		c.kids = append(c.kids, k.clone())
	}
	return &c
}

// data is a configuration as a tree.
func (c *ternConfig) data() *datum {
	core := branch(spaceSkerry, "core")
	clock := branch(spaceSkerry, "clock")
	for i, t := range c.times {
		clock.add(branch(spaceSkerry, "source", leaf(spaceSkerry, "rank", fmt.Sprint(i+1)), leaf(spaceSkerry, "address", t)))
	}
	if len(clock.kids) > 0 {
		core.add(clock)
	}
	for _, l := range c.logs {
		core.add(leaf(spaceSkerry, "report", l))
	}
	core.add(leaf(spaceSkerry, "reach-from", c.manage))
	for _, u := range slices.Sorted(maps.Keys(c.logins)) {
		core.add(branch(spaceSkerry, "member", leaf(spaceSkerry, "name", u), leaf(spaceSkerry, "word", c.logins[u])))
	}
	for _, n := range slices.Sorted(maps.Keys(c.lans)) {
		lan := branch(spaceSkerry, "lan", leaf(spaceSkerry, "number", fmt.Sprint(n)))
		if c.lans[n] != "" {
			lan.add(leaf(spaceSkerry, "title", c.lans[n]))
		}
		core.add(lan)
	}
	ports := branch(spaceIfs, "interfaces")
	for _, n := range slices.Sorted(maps.Keys(c.ports)) {
		p := c.ports[n]
		port := branch(spaceIfs, "interface", leaf(spaceIfs, "name", fmt.Sprintf("port%d", n)), leaf(spaceIfs, "type", "ianaift:ethernetCsmacd"))
		if p.label != "" {
			port.add(leaf(spaceIfs, "description", p.label))
		}
		if p.shut {
			port.add(leaf(spaceIfs, "enabled", "false"))
		}
		switch {
		case p.trunk:
			port.add(leaf(spaceSkerry, "carries", "all"))
		case p.lan != 0:
			port.add(leaf(spaceSkerry, "carries", fmt.Sprint(p.lan)))
		}
		ports.add(port)
	}
	return branch("", "", branch(spaceSystem, "system", leaf(spaceSystem, "hostname", c.name)), core, ports)
}

// wrong is data that the models do not allow.
type wrong struct{ tag, path, message string }

func (e *wrong) Error() string { return e.message + " at " + e.path }

// fromData makes a configuration of a tree. The error is a *wrong.
func fromData(root *datum, ports int) (*ternConfig, error) {
	c := newTernConfig(ports)
	c.manage = ""
	for _, top := range root.kids {
		var err error
		switch {
		case top.space == spaceSystem && top.name == "system":
			err = c.takeSystem(top)
		case top.space == spaceSkerry && top.name == "core":
			err = c.takeCore(top)
		case top.space == spaceIfs && top.name == "interfaces":
			err = c.takePorts(top)
		default:
			err = &wrong{"unknown-element", "/" + top.name, "there is no such element"}
		}
		if err != nil {
			return nil, err
		}
	}
	switch {
	case c.name == "":
		return nil, &wrong{"data-missing", "/sys:system/sys:hostname", "a name is missing"}
	case c.manage == "":
		return nil, &wrong{"data-missing", "/sk:core/sk:reach-from", "nothing says from where it is managed"}
	}
	for n, p := range c.ports {
		if _, known := c.lans[p.lan]; p.lan != 0 && !known {
			return nil, &wrong{
				"data-missing",
				fmt.Sprintf("/if:interfaces/if:interface[if:name='port%d']/sk:carries", n),
				fmt.Sprintf("there is no lan %d", p.lan),
			}
		}
	}
	return c, nil
}

func (c *ternConfig) takeSystem(top *datum) error {
	for _, k := range top.kids {
		if k.name != "hostname" || k.space != spaceSystem {
			return &wrong{"unknown-element", "/sys:system/" + k.name, "there is no such element"}
		}
		if k.text == "" || strings.ContainsAny(k.text, " \t\n") {
			return &wrong{"invalid-value", "/sys:system/sys:hostname", "it is not a name"}
		}
		c.name = k.text
	}
	return nil
}

// line carries out a tern's line; what that refuses is wrong at a path.
func (c *ternConfig) line(path, line string) error {
	if _, err := c.applyTop(line, strings.Fields(line)); err != nil {
		return &wrong{"invalid-value", path, err.Error()}
	}
	return nil
}

func (c *ternConfig) takeCore(core *datum) error {
	for _, k := range core.kids {
		path := "/sk:core/sk:" + k.name
		var err error
		switch k.name {
		case "clock":
			err = c.takeClock(k)
		case "report":
			err = c.line(path, "log host "+k.text)
		case "reach-from":
			err = c.line(path, "manage from "+k.text)
		case "member":
			name, word := k.value("name"), k.value("word")
			if name == "" || word == "" || strings.ContainsAny(name+word, " \t\n") {
				return &wrong{"data-missing", path, "a member needs a name and a word"}
			}
			c.logins[name] = word
		case "lan":
			n, _ := strconv.Atoi(k.value("number"))
			if n < 2 || n > 4000 {
				return &wrong{"invalid-value", path, fmt.Sprintf("%q is not a lan number from 2 to 4000", k.value("number"))}
			}
			c.lans[n] = k.value("title")
		default:
			return &wrong{"unknown-element", path, "there is no such element"}
		}
		if err != nil {
			return err
		}
	}
	return nil
}

func (c *ternConfig) takeClock(clock *datum) error {
	at := map[int]string{}
	for _, k := range clock.kids {
		path := fmt.Sprintf("/sk:core/sk:clock/sk:source[sk:rank='%s']", k.value("rank"))
		rank, err := strconv.Atoi(k.value("rank"))
		if k.name != "source" || err != nil || rank < 1 || rank > len(ordinals) {
			return &wrong{"invalid-value", path, "a source has a rank from 1 to 4"}
		}
		if k.value("address") == "" {
			return &wrong{"data-missing", path + "/sk:address", "an address is missing"}
		}
		at[rank] = k.value("address")
	}
	for i, rank := range slices.Sorted(maps.Keys(at)) {
		if rank != i+1 {
			return &wrong{"data-missing", fmt.Sprintf("/sk:core/sk:clock/sk:source[sk:rank='%d']", i+1), "a rank is left out"}
		}
		if err := c.line("/sk:core/sk:clock/sk:source/sk:address", fmt.Sprintf("time source %s %s", at[rank], ordinals[i])); err != nil {
			return err
		}
	}
	return nil
}

func (c *ternConfig) takePorts(top *datum) error {
	for _, k := range top.kids {
		name := k.value("name")
		path := fmt.Sprintf("/if:interfaces/if:interface[if:name='%s']", name)
		n, err := strconv.Atoi(strings.TrimPrefix(name, "port"))
		if _, known := c.ports[n]; err != nil || !known || k.name != "interface" {
			return &wrong{"invalid-value", path, "there is no such port"}
		}
		if _, kind, _ := strings.Cut(k.value("type"), ":"); kind != "ethernetCsmacd" {
			return &wrong{"data-missing", path + "/if:type", "its type is missing, or is not one that it can have"}
		}
		p := ternPort{label: k.value("description"), shut: k.value("enabled") == "false"}
		if carries := k.value("carries"); carries == "all" {
			p.trunk = true
		} else if carries != "" {
			if p.lan, err = strconv.Atoi(carries); err != nil {
				return &wrong{"invalid-value", path + "/sk:carries", fmt.Sprintf("%q is not a lan", carries)}
			}
		}
		c.ports[n] = p
	}
	return nil
}

// merge carries out an edit on data (RFC 6241, section 7.2). The error is a *wrong.
func (n *datum) merge(edit *datum, at, usual string) error {
	for _, e := range edit.kids {
		path := at + "/" + e.name
		op := orElse(e.op, usual)
		i := n.find(e)
		switch {
		case op == "create" && i >= 0:
			return &wrong{"data-exists", path, "it is there already"}
		case op == "delete" && i < 0:
			return &wrong{"data-missing", path, "it is not there to delete"}
		case op == "delete", op == "remove":
			if i >= 0 {
				n.kids = slices.Delete(n.kids, i, i+1)
			}
		case op == "replace" && i >= 0:
			n.kids[i] = e.clone()
		case i < 0:
			bare := &datum{space: e.space, name: e.name, text: e.text}
			if err := bare.merge(e, path, op); err != nil {
				return err
			}
			if op == "none" && len(bare.kids) == 0 {
				continue
			}
			n.kids = append(n.kids, bare)
		default:
			if len(e.kids) == 0 && op != "none" {
				n.kids[i].text = e.text
			}
			if err := n.kids[i].merge(e, path, op); err != nil {
				return err
			}
			if k := n.kids[i]; len(k.kids) == 0 && k.text == "" && !k.isEntry() && len(e.kids) > 0 {
				n.kids = slices.Delete(n.kids, i, i+1) // a container of nothing is not there
			}
		}
	}
	return nil
}

// find is the place of the kid that is the same node.
func (n *datum) find(e *datum) int {
	return slices.IndexFunc(n.kids, func(k *datum) bool {
		if k.name != e.name || k.space != e.space {
			return false
		}
		switch key := listKeys[e.name]; key {
		case "":
			return true
		case ".":
			return k.text == e.text
		default:
			return k.value(key) == e.value(key)
		}
	})
}

// filter selects by a subtree filter (RFC 6241, section 6).
func (n *datum) filter(f *datum) *datum {
	out := &datum{space: n.space, name: n.name, text: n.text}
	for _, k := range n.kids {
		for _, want := range f.kids {
			if want.name != k.name || want.space != k.space {
				continue
			}
			if len(want.kids) == 0 {
				if want.text == "" || want.text == k.text {
					out.kids = append(out.kids, k)
				}
				continue
			}
			if got := k.selected(want); got != nil {
				out.kids = append(out.kids, got)
			}
		}
	}
	return out
}

// selected is what a filter selects of an entry, nil where its values do not match.
func (n *datum) selected(f *datum) *datum {
	matched := false
	for _, want := range f.kids {
		if want.text != "" && len(want.kids) == 0 {
			if n.value(want.name) != want.text {
				return nil
			}
			matched = true
		}
	}
	if only := !slices.ContainsFunc(f.kids, func(k *datum) bool { return k.text == "" || len(k.kids) > 0 }); matched && only {
		return n
	}
	got := n.filter(f)
	if len(got.kids) == 0 {
		return nil
	}
	if key := listKeys[n.name]; key != "" && key != "." && got.kid(key) == nil {
		got.kids = append([]*datum{n.kid(key)}, got.kids...)
	}
	return got
}

// modules are the names of the modules, by their namespace.
var modules = map[string]string{spaceSystem: "ietf-system", spaceIfs: "ietf-interfaces", spaceSkerry: "skerry"}

// step is the path of a kid, as RFC 7951 writes one (section 6.11).
func (n *datum) step(k *datum, at string) string {
	path := at + "/"
	if k.space != n.space {
		path += modules[k.space] + ":"
	}
	path += k.name
	if key := listKeys[k.name]; key == "." {
		path += "[.='" + k.text + "']"
	} else if key != "" {
		path += "[" + key + "='" + k.value(key) + "']"
	}
	return path
}

// paths are the lines of what is in a tree.
func (n *datum) paths(at string) (out []string) {
	for _, k := range n.kids {
		path := n.step(k, at)
		switch {
		case k.isEntry():
			out = append(out, path)
		case len(k.kids) == 0 && listKeys[n.name] != k.name:
			out = append(out, path+" = "+strings.Replace(k.text, "ianaift:", "iana-if-type:", 1))
		}
		out = append(out, k.paths(path)...)
	}
	return out
}

// xml writes what is below a node.
func (n *datum) xml(b *strings.Builder) {
	for _, k := range n.kids {
		b.WriteString("<" + k.name)
		if k.space != n.space {
			b.WriteString(` xmlns="` + k.space + `"`)
		}
		if k.name == "type" && k.space == spaceIfs {
			b.WriteString(` xmlns:ianaift="` + spaceIfType + `"`)
		}
		b.WriteString(">")
		if len(k.kids) == 0 {
			_ = xml.EscapeText(b, []byte(k.text))
		} else {
			b.WriteString("\n")
		}
		k.xml(b)
		b.WriteString("</" + k.name + ">\n")
	}
}

// readData reads an element and what is below it.
func readData(d *xml.Decoder, start xml.StartElement) (*datum, error) {
	n := &datum{space: start.Name.Space, name: start.Name.Local}
	for _, a := range start.Attr {
		if a.Name.Local == "operation" && a.Name.Space == spaceNetconf {
			n.op = a.Value
		}
	}
	var text strings.Builder
	for {
		t, err := d.Token()
		if err != nil {
			if errors.Is(err, io.EOF) {
				err = io.ErrUnexpectedEOF
			}
			return nil, err
		}
		switch t := t.(type) {
		case xml.StartElement:
			k, err := readData(d, t)
			if err != nil {
				return nil, err
			}
			n.kids = append(n.kids, k)
		case xml.CharData:
			text.Write(t)
		case xml.EndElement:
			if len(n.kids) == 0 {
				n.text = strings.TrimSpace(text.String())
			}
			return n, nil
		}
	}
}

// Paths prints the configuration of a tern as a skerry's is read.
func Paths(text string) string {
	c := newTernConfig(12)
	if err := c.load(text); err != nil {
		return err.Error()
	}
	var b strings.Builder
	for _, l := range c.data().paths("") {
		b.WriteString(l + "\n")
	}
	return b.String()
}
