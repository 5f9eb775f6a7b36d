package profile

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/device/tree"
)

// Models are the trees of data of a platform that is worked by a protocol of its own and
// not over a terminal; see [tree].
type Models struct {
	Modules map[string]string   `yaml:"modules"` // the name of a module to its namespace
	Lists   map[string][]string `yaml:"lists"`   // the path of a list to its keys
	Name    string              `yaml:"name"`    // the leaf that tells the device's name
}

// Schema is what a tree must be told of the models.
func (p *Profile) Schema() tree.Schema {
	return tree.Schema{Modules: p.Models.Modules, Lists: p.Models.Lists}
}

// Netconf is how NETCONF is spoken with a platform (RFC 6241).
type Netconf struct {
	Edit  string `yaml:"edit"`  // what is edited: candidate or running
	Saved string `yaml:"saved"` // what it starts with: startup; or running, where that is kept as it is
	// Validate tells whether a candidate is validated on its own before it is committed; it
	// is, unless that is turned off.
	Validate *bool  `yaml:"validate"`
	Left     string `yaml:"left"` // the leaf that tells the seconds left of a confirmed commit, where there is one
}

// Restconf is how RESTCONF is spoken with a platform (RFC 8040).
type Restconf struct {
	Root     string   `yaml:"root"`     // of its resources; /restconf when not given
	Login    string   `yaml:"login"`    // password, or certificate
	Literals []string `yaml:"literals"` // the leaves that JSON writes without quotes, where that was not seen
}

// How one logs in over RESTCONF.
const (
	ByPassword    = "password"
	ByCertificate = "certificate"
)

// The configuration datastores of NETCONF (RFC 6241, section 5.1).
const (
	Candidate = "candidate"
	Startup   = "startup"
	RunningDS = "running"
)

// Drafts is the table of those who have left changes standing that are not applied. Where
// there is a candidate, it is read without a reader of the profile.
const Drafts = "drafts"

// Validates tells whether a candidate is validated on its own before it is committed.
func (p *Profile) Validates() bool { return p.Netconf.Validate == nil || *p.Netconf.Validate }

// modelled checks a profile of a platform that is not worked over a terminal.
func (c *checker) modelled() {
	p := c.p
	for _, key := range []string{"modes", "pager", "refused", "harmless", "lines",
		"quote", "continued", "language", "save", "restore", "restart", "files", "trial", "reach"} {
		if c.has(key) {
			c.fail(key, "", "this is for platforms that are worked over a terminal, and not over %s", p.Connect.Protocol)
		}
	}
	for _, key := range c.keys("configuration") {
		if !slices.Contains([]string{"ordered", "volatile", "secrets"}, key) {
			c.fail(
				"configuration."+key,
				"",
				"over %s the configuration is data; only ordered:, volatile: and secrets: are said of it",
				p.Connect.Protocol,
			)
		}
	}
	for _, key := range c.keys("timer") {
		if key != "kind" && key != "boot" {
			c.fail("timer."+key, "", "how a timer is set is the protocol's own; only kind: is said of it")
		}
	}
	p.Config.Layout = "flat"
	for _, other := range protocolNames(func(p Protocol) bool { return !p.Typed }) {
		if p.Connect.Protocol != other && c.has(other) {
			c.fail(other, "", "it speaks %s", p.Connect.Protocol)
		}
	}
	p.dialect().check(c)
	c.identity()
}

// modelReaders checks the readers of a platform whose data are trees.
func (c *checker) modelReaders() {
	for _, name := range slices.Sorted(maps.Keys(c.p.Readers)) {
		c.modelReader("readers."+name, name)
	}
}

// has tells whether the file has an entry of that name at its top.
func (c *checker) has(key string) bool {
	if c.top == nil {
		c.top = map[string]bool{}
		for _, d := range c.doc.Docs {
			switch m := d.Body.(type) {
			case *ast.MappingNode:
				for _, kv := range m.Values {
					c.top[kv.Key.GetToken().Value] = true
				}
			case *ast.MappingValueNode:
				c.top[m.Key.GetToken().Value] = true
			}
		}
	}
	return c.top[key]
}

func (c *checker) models() {
	m := &c.p.Models
	if len(m.Modules) == 0 {
		c.fail("models", "modules: {ietf-system: 'urn:ietf:params:xml:ns:yang:ietf-system'}", "nothing says which namespaces its modules have")
	}
	for _, list := range slices.Sorted(maps.Keys(m.Lists)) {
		p, err := tree.ParsePath(list)
		switch {
		case err != nil:
			c.fail("models.lists", "", "%s: %v", list, err)
		case p.Schema() != list:
			c.fail("models.lists", p.Schema(), "%s is not written as a path without keys", list)
		case len(m.Lists[list]) == 0:
			c.fail("models.lists", "[name]; or ['.'] for a list of values", "%s has no keys", list)
		}
		c.moduleOf("models.lists", p)
	}
	if m.Name != "" {
		c.path("models.name", m.Name)
	}
}

// path checks a path of the file.
func (c *checker) path(at, text string) tree.Path {
	p, err := tree.ParsePath(text)
	if err != nil {
		c.fail(at, "/MODULE:NAME/NAME", "%v", err)
		return nil
	}
	c.moduleOf(at, p)
	return p
}

func (c *checker) moduleOf(at string, p tree.Path) {
	for _, s := range p {
		if _, known := c.p.Models.Modules[s.Module]; s.Module != "" && !known {
			c.fail(
				at,
				problem.OneOf(s.Module, slices.Sorted(maps.Keys(c.p.Models.Modules))),
				"there is no module %q under models: modules:",
				s.Module,
			)
		}
	}
}

func (c *checker) restconf() {
	c.models()
	defer c.modelReaders()
	r := &c.p.Restconf
	if r.Root == "" {
		r.Root = "/restconf"
	}
	if r.Login == "" {
		r.Login = ByPassword
	}
	if !strings.HasPrefix(r.Root, "/") || strings.HasSuffix(r.Root, "/") || strings.ContainsAny(r.Root, " ?#") {
		c.fail("restconf.root", "root: /restconf", "%q is no path of resources", r.Root)
	}
	if logins := []string{ByPassword, ByCertificate}; !slices.Contains(logins, r.Login) {
		c.fail("restconf.login", problem.OneOf(r.Login, logins), "login %q is not known", r.Login)
	}
	for _, path := range r.Literals {
		if p := c.path("restconf.literals", path); p != nil && p.Schema() != path {
			c.fail("restconf.literals", p.Schema(), "%s is not written as a path without keys", path)
		}
	}
	if c.p.Timer.Kind != plan.NoTimer {
		c.fail("timer.kind", "none", "RESTCONF takes nothing back by itself")
	}
}

func (c *checker) netconf() {
	c.models()
	defer c.modelReaders()
	p := c.p
	n := p.Netconf
	if edits := []string{Candidate, RunningDS}; !slices.Contains(edits, n.Edit) {
		c.fail("netconf.edit", problem.OneOf(n.Edit, edits), "nothing says which datastore is edited")
	}
	if saved := []string{Startup, RunningDS}; !slices.Contains(saved, n.Saved) {
		c.fail("netconf.saved", problem.OneOf(n.Saved, saved), "nothing says what it starts with")
	}
	if n.Left != "" {
		c.path("netconf.left", n.Left)
	}
	switch p.Timer.Kind {
	case plan.TrialTimer:
		if n.Edit != Candidate {
			c.fail("netconf.edit", Candidate, "a change is on trial by a confirmed commit, and only a candidate is committed")
		}
	case plan.NoTimer:
		if n.Edit == Candidate {
			c.fail("timer.kind", "trial", "where a candidate is committed, it is committed on trial")
		}
	default:
		c.fail("timer.kind", "trial, or none", "over NETCONF the way back is a trial, by a confirmed commit, or there is none")
	}
}

// modelReader checks a table that is read from a tree.
func (c *checker) modelReader(path, name string) {
	r := c.p.Readers[name]
	r.order = c.keys(path + ".columns")
	if (r.Get == "") == (r.Each == "") {
		c.fail(path, "get: PATH for one row, or each: PATH of the list of many", "nothing says where the table stands, or it is said twice")
	} else {
		r.from = c.path(path, r.Get+r.Each)
	}
	if r.Send != "" || r.Row.Regexp != nil {
		c.fail(path, "get: or each:", "send: and row: are for platforms that are worked over a terminal")
	}
	if len(r.Columns) == 0 {
		c.fail(path, "columns:", "the table has no columns")
	}
	for _, name := range slices.Sorted(maps.Keys(r.Columns)) {
		col := r.Columns[name]
		at := path + ".columns." + name
		if col.At == "" {
			col.At = name
		}
		var err error
		if col.at, err = tree.Relative(col.At); err != nil {
			c.fail(at, "at: NAME, or NAME/NAME below it", "%v", err)
		}
		c.columnType(at, col)
		r.Columns[name] = col
	}
	c.p.Readers[name] = r
}

// Asks is what is asked for the table, in words.
func (r Reader) Asks() string {
	if len(r.from) > 0 {
		return "get " + r.from.String()
	}
	return ""
}

// From is the path that the table is read from.
func (r Reader) From() tree.Path { return r.from }

// Rows makes the table of the tree that stands below its path.
func (r Reader) Rows(root *tree.Node) (any, error) {
	found := r.from.Find(root)
	if r.Each != "" {
		rows := []map[string]any{}
		for _, n := range found {
			row, err := r.row(n)
			if err != nil {
				return nil, err
			}
			rows = append(rows, row)
		}
		return rows, nil
	}
	switch len(found) {
	case 0:
		return r.row(&tree.Node{Module: r.from[0].Module})
	case 1:
		return r.row(found[0])
	}
	return nil, fmt.Errorf("%s is there %d times", r.from, len(found))
}

func (r Reader) row(n *tree.Node) (map[string]any, error) {
	row := map[string]any{}
	for name, c := range r.Columns {
		at := c.at.Find(n)
		switch {
		case len(at) > 1:
			return nil, fmt.Errorf("column %s: %s is there %d times", name, c.At, len(at))
		case len(at) == 0 && c.Optional:
			row[name] = nil
			continue
		case len(at) == 0:
			return nil, fmt.Errorf("column %s: there is no %s below %s", name, c.At, r.from)
		}
		text := at[0].Value
		if m := c.Match.Find(text); m != nil {
			text = m[1]
		} else if c.Match.Regexp != nil {
			return nil, fmt.Errorf("column %s: %q does not fit its pattern", name, text)
		}
		v, err := c.value(text)
		if err != nil {
			return nil, fmt.Errorf("column %s: %w", name, err)
		}
		row[name] = v
	}
	return row, nil
}

// modelTraits are the traits of a platform that is not worked over a terminal.
func (p *Profile) modelTraits() plan.Traits {
	_, tellsPair := p.Readers["pair"]
	t := plan.Traits{TellsPair: tellsPair, TakesBack: p.Pairs.TakesBack, Timer: p.Timer.Kind, Boot: p.Timer.Boot,
		Extends: true, Style: p.Style(), Language: p.Language(), Connect: p.Pace.Connect, Command: p.Pace.Command, Never: regexps(p.Never),
		Mask: p.Mask, Unsendable: p.Unsendable, Restores: true, TellsSaved: true, Tables: p.Tables(),
		TellsName: p.tellsName(), TellsSerial: p.Identity.Serial != "", ShowsKey: p.showsKey(), NameLine: p.Identity.Line.Regexp,
		ChangesNothing: p.Safe}
	p.dialect().traits(p, &t)
	return t
}

// Within is how long an answer may take.
func (p *Profile) Within() time.Duration { return p.Connect.Prompt }

// sayable says why a line cannot be said to a platform that is not worked over a
// terminal; "" when it can.
func (p *Profile) sayable(line string) string { return p.dialect().sayable(p, line) }

// pathSayable says it of a platform whose data are trees.
func (p *Profile) pathSayable(line string) string {
	if strings.HasPrefix(strings.TrimSpace(line), "<") {
		if p.Connect.Protocol != NETCONF {
			return "XML is for NETCONF; write set PATH = VALUE or delete PATH"
		}
		return ""
	}
	if line = strings.TrimSpace(line); strings.HasPrefix(line, "/") { // as it is read, and wanted
		line = "set " + line
	}
	c, err := tree.ParseChange(line)
	if err == nil {
		err = c.Path.Check(p.Schema())
	}
	switch {
	case err != nil:
		return err.Error()
	case c.String() != line:
		return "write it as it is read: " + c.String()
	}
	return ""
}
