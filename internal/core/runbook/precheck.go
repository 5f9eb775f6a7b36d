package runbook

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/problem"
)

// precheckKind is a precheck with a meaning of its own.
type precheckKind struct {
	name  string
	looks *Looked // what it looks at on a device; nil is nothing that a profile must read
	stays string  // why it cannot be switched off; "" where it can
	help  string  // what to write in place of off then
	// read reads what stands behind its name; nil is nothing. write is its other way.
	read  func(p *parser, n *node, c *cursor, pc *Precheck)
	write func(pc Precheck) string
}

// precheckKinds are all of them. A new one is a row here, and its looking, by the same name, in
// package work.
func precheckKinds() []precheckKind {
	return []precheckKind{
		{name: "reachable", stays: "a device that is not reached cannot be changed", help: "reachable"},
		{name: "identity", stays: "no line is sent to a device that was not seen to be the one that is meant",
			help: `identity; for one device it can be waived: --waive "identity on DEVICE: REASON"`},
		{name: "clock", looks: &Looked{Table: "clock", Column: "time", Type: TimeColumn},
			read: func(_ *parser, _ *node, c *cursor, pc *Precheck) {
				c.want("within")
				pc.Within = c.duration("30s")
			},
			write: func(pc Precheck) string { return "within " + FormatDuration(pc.Within) }},
		{name: "saved"},
		{name: "storage", looks: &Looked{Table: "storage", Column: "free", Type: NumberColumn}, read: readStorage,
			write: func(pc Precheck) string { return fmt.Sprintf("at least %d MB", pc.AtLeast/1e6) }},
		{name: "version", looks: &Looked{Table: "version", Column: "version", Type: TextColumn},
			read:  func(_ *parser, _ *node, c *cursor, pc *Precheck) { pc.Versions = c.list("version 4.2, 4.3") },
			write: func(pc Precheck) string { return strings.Join(pc.Versions, ", ") }},
		{name: "alone", looks: &Looked{Table: "editors", Column: "user", Type: TextColumn, Many: true}},
		{name: "pair", read: func(_ *parser, _ *node, c *cursor, _ *Precheck) { c.want("healthy") },
			write: func(Precheck) string { return "healthy" }},
		{name: "check", read: readCheck},
	}
}

// PrecheckNames are the names of the prechecks with a meaning of their own.
func PrecheckNames() (out []string) {
	for _, k := range precheckKinds() {
		out = append(out, k.name)
	}
	return out
}

// kind is what kind of precheck it is; the zero value for a check of the runbook's own.
func (p Precheck) kind() precheckKind {
	kinds := precheckKinds()
	if i := slices.IndexFunc(kinds, func(k precheckKind) bool { return k.name == p.Name }); i >= 0 && !p.Own() {
		return kinds[i]
	}
	return precheckKind{}
}

// String writes the precheck as it stands in a runbook.
func (p Precheck) String() string {
	switch write := p.kind().write; {
	case p.Off:
		return p.Name + " off"
	case write != nil:
		return p.Name + " " + write(p)
	}
	return p.Name
}

// Looked is what a precheck looks at on a device: a column of a table that its profile must
// read.
type Looked struct {
	Table, Column string
	Type          ColumnType
	Many          bool // the table has many rows, else one
}

// Unread says why a precheck cannot be looked at where a profile reads these tables; "" where
// it can. What a check of the runbook's own looks at stands in its condition; see
// [Runbook.Suits].
func (p Precheck) Unread(tables map[string]Table) string {
	l := p.kind().looks
	if p.Off || l == nil {
		return ""
	}
	t, has := tables[l.Table]
	is, reads := t.Columns[l.Column]
	rows := map[bool]string{true: "many rows", false: "one row"}
	switch {
	case !has:
		return "does not read the table " + l.Table
	case t.Many != l.Many:
		return fmt.Sprintf("reads %s as %s, and %s are looked at", l.Table, rows[t.Many], rows[l.Many])
	case !reads:
		return fmt.Sprintf("reads no column %s of the table %s", l.Column, l.Table)
	case is != l.Type:
		return fmt.Sprintf("reads %s.%s as %s, and it must be %s", l.Table, l.Column, is, l.Type)
	}
	return ""
}

// precheck reads one precheck:
//
//	reachable
//	identity                  it is the one that is meant; always on
//	clock    within 30s
//	saved
//	storage  at least 20 MB
//	version  4.2, 4.3
//	alone                     nobody else is changing the configuration
//	pair     healthy          its partner answers and says it is well
//	check    "Two uplinks" where len(neighbours) >= 2
//	storage  off
func (p *parser) precheck(n *node) {
	p.leaf(n)
	c := p.open(n)
	w := c.next()
	pc := Precheck{Name: w.text, Line: n.n}
	kind := pc.kind()
	if kind.name == "" || w.quoted {
		p.at(n, w.col, problem.OneOf(w.text, PrecheckNames()), "unknown precheck %q", w.text)
		return
	}
	if c.more() && c.peek().text == "off" && !c.peek().quoted && pc.Name != "check" {
		off := c.next()
		pc.Off = true
		if kind.stays != "" {
			p.at(n, off.col, kind.help, "%s cannot be switched off: %s", pc.Name, kind.stays)
		}
	} else if kind.read != nil {
		kind.read(p, n, c, &pc)
	}
	if !pc.Own() {
		c.end()
	}
	for _, other := range p.rb.Prechecks {
		if other.Name == pc.Name {
			p.at(n, w.col, "", "%s stands already on line %d", pc.Name, other.Line)
		}
	}
	p.rb.Prechecks = append(p.rb.Prechecks, pc)
}

// readStorage reads how much must be free.
func readStorage(p *parser, n *node, c *cursor, pc *Precheck) {
	c.want("at")
	c.want("least")
	size := c.number(1, 1<<30, "20 MB")
	unit := c.next()
	factor, ok := map[string]int64{"KB": 1e3, "MB": 1e6, "GB": 1e9}[unit.text]
	if !ok {
		p.at(n, unit.col, "storage at least 20 MB", "%q is not KB, MB or GB", unit.text)
	}
	pc.AtLeast = int64(size) * factor
}

// readCheck reads a check of the runbook's own, which has its title for a name.
func readCheck(p *parser, n *node, c *cursor, pc *Precheck) {
	title := c.next()
	if !title.quoted || title.text == "" || slices.Contains(PrecheckNames(), title.text) {
		p.at(n, title.col, `check "Two uplinks" where len(neighbours) >= 2`, "a check of your own needs a title of its own, in quotes")
		return
	}
	pc.Name = title.text
	c.want("where")
	pc.Where = p.cond(n, c.offset(), len(n.text))
}

// DefaultPrecheck reads a precheck as a settings file has it: its name, and what
// would stand behind it in a runbook; "on" is nothing. The error is a
// problem.List.
func DefaultPrecheck(file, name, rest string) (Precheck, error) {
	text := name
	if rest != "on" && rest != "true" && rest != "" {
		if rest == "false" {
			rest = "off"
		}
		text += " " + rest
	}
	p := &parser{problems: problems{file: file}, rb: &Runbook{File: file, lines: map[int]string{}}}
	root := scan(file, []byte("precheck\n  "+text+"\n"), &p.problems)
	for _, section := range root.children {
		for _, n := range section.children {
			p.precheck(n)
		}
	}
	for i := range p.list { // where it stands is known to the file's reader only
		p.list[i].Line, p.list[i].Col, p.list[i].Text = 0, 0, ""
		p.list[i].Msg = "prechecks: " + name + ": " + p.list[i].Msg
	}
	if err := p.list.Err(); err != nil {
		return Precheck{}, err
	}
	if len(p.rb.Prechecks) != 1 {
		return Precheck{}, problem.List{{File: file, Msg: "prechecks: " + name + " cannot be read"}}
	}
	pc := p.rb.Prechecks[0]
	pc.From, pc.Line = file, 0
	return pc, nil
}

// AddPrechecks adds those of the settings that the runbook does not speak of
// itself.
func (rb *Runbook) AddPrechecks(defaults []Precheck) {
	for _, d := range defaults {
		if !slices.ContainsFunc(rb.Prechecks, func(p Precheck) bool { return p.Name == d.Name }) {
			rb.Prechecks = append(rb.Prechecks, d)
		}
	}
}
