package runbook

import (
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"

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
	a.Kind = Kind(k.text)
	switch a.Kind {
	case Address, Prefix, Switch, Text_, Secret:
	case Number:
		if c.more() && strings.Contains(c.peek().text, "..") {
			a.Min, a.Max, a.Bounded = c.span("2..4000")
		}
	case Choice:
		a.Choices = c.list("ALD, BRM")
	default:
		p.at(
			n,
			k.col,
			problem.OneOf(k.text, []string{"address", "prefix", "number", "text", "choice", "switch", "secret"}),
			"unknown kind of value %q",
			k.text,
		)
		return
	}
	a.Prompt = c.str("the question in quotes", `"First time source"`)
	if c.more() {
		c.want("=")
		d := c.next()
		if a.Kind == Secret {
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
	switch a.Kind {
	case Address:
		if _, err := netip.ParseAddr(answer); err != nil {
			return fmt.Errorf("%s: %q is not an IP address", a.Name, answer)
		}
	case Prefix:
		p, err := netip.ParsePrefix(answer)
		if err != nil {
			return fmt.Errorf("%s: %q is not a range of addresses, such as 192.0.2.0/24", a.Name, answer)
		}
		if p.Masked() != p {
			return fmt.Errorf("%s: %s is an address within the range %s", a.Name, answer, p.Masked())
		}
	case Switch:
		if answer != "yes" && answer != "no" {
			return fmt.Errorf("%s: %q is neither yes nor no", a.Name, answer)
		}
	case Number:
		n, err := strconv.Atoi(answer)
		if err != nil {
			return fmt.Errorf("%s: %q is not a whole number", a.Name, answer)
		}
		if a.Bounded && (n < a.Min || n > a.Max) {
			return fmt.Errorf("%s: %d is not from %d to %d", a.Name, n, a.Min, a.Max)
		}
	case Secret:
		if len(answer) < leastSecret {
			return fmt.Errorf(
				"%s: a secret of fewer than %d characters cannot be told from other text, so it could not be kept out of what is shown",
				a.Name,
				leastSecret,
			)
		}
		if strings.ContainsFunc(answer, isControl) {
			return fmt.Errorf("%s: the secret has a control character", a.Name)
		}
	case Choice:
		if !slices.Contains(a.Choices, answer) {
			return fmt.Errorf("%s: %q is not one of %s", a.Name, answer, strings.Join(a.Choices, ", "))
		}
	}
	if strings.ContainsFunc(answer, isControl) {
		return fmt.Errorf("%s: the answer has a control character", a.Name)
	}
	return nil
}

// leastSecret is the length of the shortest secret that can be masked by value.
const leastSecret = 4

// Sample is an answer that fits what is asked for, to try a runbook with before
// its values are known.
func (a Ask) Sample() string {
	switch {
	case a.Default != "":
		return a.Default
	case a.Kind == Address:
		return "192.0.2.1"
	case a.Kind == Prefix:
		return "192.0.2.0/24"
	case a.Kind == Switch:
		return "no"
	case a.Kind == Number:
		return strconv.Itoa(max(a.Min, 1))
	case a.Kind == Choice:
		return a.Choices[0]
	}
	return "sample-" + a.Name
}

// DependsOn tells whether the devices that the runbook or one of its steps is for
// depend on an asked value.
func (rb *Runbook) DependsOn(value string) bool {
	uses := func(c *Cond) bool { return c != nil && slices.Contains(c.Names(), value) }
	return slices.ContainsFunc(rb.Scope, uses) || slices.ContainsFunc(rb.Steps, func(s Step) bool { return uses(s.When) })
}
