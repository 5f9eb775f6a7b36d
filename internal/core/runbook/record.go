package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/record"
)

// Recording says what is read from each device before and after the change, and what is
// held against what it was before a device is kept.
type Recording struct {
	Tables []string // what is recorded; none is nothing
	// Compare are the tables that are compared before a device is kept, and Loss tells that
	// only rows that are gone count; else any difference does.
	Compare []string
	Loss    bool
	Within  time.Duration // how long it may take until they are as they were
	Line    int           // of record
	At      int           // of compare
}

// usualWithin is how long tables may take until they are as they were, where nobody says.
const usualWithin = 30 * time.Second

// Reads are all the tables that are read, the configuration aside, each once.
func (r Recording) Reads() (out []string) {
	for _, t := range slices.Concat(r.Tables, r.Compare) {
		if t != record.Config && !slices.Contains(out, t) {
			out = append(out, t)
		}
	}
	return out
}

// recording reads: record  ports, neighbours, config.
func (p *parser) recording(n *node, c *cursor) {
	p.leaf(n)
	p.rb.Record.Line = n.n
	p.rb.Record.Tables = c.list("ports, neighbours, config")
	c.end()
}

// comparing reads: compare  ports, neighbours: no loss within 60s.
func (p *parser) comparing(n *node, c *cursor) {
	const hint = "compare  ports, neighbours: no loss within 60s"
	r := &p.rb.Record
	r.At, r.Within = n.n, usualWithin
	for {
		w := c.next()
		name, last := strings.CutSuffix(w.text, ":")
		if name == "" || name == "," || w.quoted {
			c.fail(w.col, hint, "expected the name of a table")
			return
		}
		r.Compare = append(r.Compare, name)
		if last {
			break
		}
		if w := c.next(); w.text != "," {
			c.fail(w.col, hint, "expected a comma, or a colon behind %s", name)
			return
		}
	}
	c.want("no")
	switch w := c.next(); w.text {
	case "loss":
		r.Loss = true
	case "change":
	default:
		c.fail(w.col, hint, "write no loss, for rows that are gone, or no change, for any difference")
	}
	if c.more() {
		c.want("within")
		r.Within = c.duration("60s")
	}
	c.end()
}

// recording checks that somebody reads what is recorded.
func (c *compiler) recording() {
	known := slices.Sorted(maps.Keys(c.schema.Tables))
	for _, part := range []struct {
		tables []string
		line   int
	}{{c.rb.Record.Tables, c.rb.Record.Line}, {c.rb.Record.Compare, c.rb.Record.At}} {
		for i, name := range part.tables {
			if _, has := c.schema.Tables[name]; !has && name != record.Config {
				c.fail(span{line: part.line}, problem.OneOf(name, append(known, record.Config)), "no profile reads a table %q", name)
			}
			if slices.Contains(part.tables[:i], name) {
				c.fail(span{line: part.line}, "", "%s is named twice", name)
			}
		}
	}
	if slices.Contains(c.rb.Record.Compare, record.Config) {
		c.fail(span{line: c.rb.Record.At}, "", "the configuration is to be different after a change; it is held against what was predicted by itself")
	}
}

// String is the comparison in words.
func (r Recording) String() string {
	what := "change"
	if r.Loss {
		what = "loss"
	}
	return fmt.Sprintf("%s: no %s within %s", strings.Join(r.Compare, ", "), what, FormatDuration(r.Within))
}
