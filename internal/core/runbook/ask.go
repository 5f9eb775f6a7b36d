package runbook

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"metabasis/internal/core/kind"
	"metabasis/internal/core/problem"
)

var validName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,39}$`)

func (p *parser) ask(n *node) {
	p.leaf(n)
	c := p.open(n)
	w := c.next()
	a := Ask{Name: w.text, Line: n.n}
	if !validName.MatchString(a.Name) || w.quoted {
		p.at(n, w.col, "a lower-case word such as clock_a", "%q cannot be the name of a value", a.Name)
	}
	for _, b := range p.rb.Ask {
		if b.Name == a.Name {
			p.at(n, w.col, "", "%s is asked for already on line %d", a.Name, b.Line)
		}
	}
	k := c.next()
	a.Kind.Type = kind.Type(k.text)
	switch {
	case a.Kind.Type == kind.Number && c.more() && strings.Contains(c.peek().text, ".."):
		a.Kind.Min, a.Kind.Max, a.Kind.Bounded = c.span("2..4000")
	case a.Kind.Type == kind.Choice:
		a.Kind.Choices = c.list("ALD, BRM")
	case a.Kind.Type != kind.Secret && !slices.Contains(kind.Types, a.Kind.Type):
		words := []string{string(kind.Secret)}
		for _, t := range kind.Types {
			words = append(words, string(t))
		}
		p.at(n, k.col, problem.OneOf(k.text, words), "unknown kind of value %q", k.text)
		return
	}
	a.Prompt = c.str("the question in quotes", `"First time source"`)
	if c.more() {
		c.want("=")
		d := c.next()
		if a.Kind.Type == kind.Secret {
			p.at(n, d.col, "", "a secret has no answer to take when none is given: everybody who reads the runbook would know it")
		}
		a.Default = d.text
		if err := a.Check(a.Default); err != nil {
			p.at(n, d.col, "", "%v", err)
		}
	}
	c.end()
	p.rb.Ask = append(p.rb.Ask, a)
}

// Check tells whether an answer fits what is asked for.
func (a Ask) Check(answer string) error {
	if err := a.Kind.Check(answer); err != nil {
		return fmt.Errorf("%s: %w", a.Name, err)
	}
	return nil
}

// Sample is an answer that fits what is asked for, to try a runbook with before
// its values are known.
func (a Ask) Sample() string {
	if a.Default != "" {
		return a.Default
	}
	switch a.Kind.Type {
	case kind.Address:
		return "192.0.2.1"
	case kind.Prefix:
		return "192.0.2.0/24"
	case kind.Switch:
		return "no"
	case kind.Number:
		return strconv.Itoa(max(a.Kind.Min, 1))
	case kind.Choice:
		return a.Kind.Choices[0]
	case kind.Time:
		return "90s"
	case kind.Size:
		return "20 MB"
	default:
	}
	return "sample-" + a.Name
}

// DependsOn tells whether the devices that the runbook or one of its steps is for
// depend on an asked value.
func (rb *Runbook) DependsOn(value string) bool {
	uses := func(c *Cond) bool { return c != nil && slices.Contains(c.Names(), value) }
	return slices.ContainsFunc(rb.Scope, uses) || slices.ContainsFunc(rb.Steps, func(s Step) bool { return uses(s.When) })
}
