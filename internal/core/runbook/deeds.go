package runbook

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/problem"
)

// Half of a night is not lines of a configuration. A step may also look, do something, wait,
// or ask a person:
//
//	step "Counters before"
//	  look
//	    | tell counts
//
//	step "Count anew"
//	  do
//	    | recount ports
//	  answers   "Counted anew*"
//	  takes     at most 30s
//
//	step "Let it settle"
//	  wait      until len(neighbours) >= 2 within 5m
//
//	step "Gates open" by hand
//	  tell      "Ask the desk at <<site>> to open one turnstile."
//
//	step "A new start"
//	  restart
//	  back      within 15m
//
//	step "New software"
//	  software  "7.4.2"
//	  back      within 20m
//
// A step is of one kind. What is looked at changes nothing. What is done cannot be undone, so
// it is done once, unless it is repeatable.

// Wait is how long a step waits: for a time, or until something holds.
type Wait struct {
	For   time.Duration // a time; 0 where it waits until something holds
	Until *Cond
	Most  time.Duration // for that, at most
	Line  int
}

// Deed is how a command that does something is judged.
type Deed struct {
	Answers    []*Text // one line of what comes back must fit each of these patterns
	Never      []*Text // and none any of these
	Asked      []Asked // what it may ask before it does it
	Takes      time.Duration
	Repeatable bool // it may be done twice
	Line       int
	// Within is how long a look is repeated until what comes back fits; 0 for one look.
	Within time.Duration
}

// Asked is a question that a device may ask, and what is said to it.
type Asked struct{ Question, Say *Text }

// Looks tells whether it says what is looked at.
func (on On) Looks() bool { return len(on.Look) > 0 }

// Does tells whether it says what is done.
func (on On) Does() bool { return len(on.Do) > 0 }

// Acts tells whether it says what is done that cannot be undone.
func (on On) Acts() bool { return on.Does() || on.Away() }

// Away tells whether a device is absent in it, since it is restarted.
func (on On) Away() bool { return on.Restart || on.Software != nil }

// changes tells whether it says what changes the configuration.
func (on On) changes() bool { return on.Wants() || len(on.Send) > 0 || len(on.Put) > 0 }

// Touches tells whether the step may change the device, or have it do something.
func (s *Step) Touches() bool {
	return s.Restore != nil || slices.ContainsFunc(s.On, func(on On) bool { return on.changes() || on.Acts() })
}

// Touches tells whether any step of the runbook does.
func (rb *Runbook) Touches() bool {
	return slices.ContainsFunc(rb.Steps, func(s Step) bool { return s.Touches() })
}

// Exchanges tells whether any step gives devices other software.
func (rb *Runbook) Exchanges() bool {
	return slices.ContainsFunc(rb.Steps, func(s Step) bool {
		return slices.ContainsFunc(s.On, func(on On) bool { return on.Software != nil })
	})
}

// Changes tells whether any step changes what could be taken back, or gives a command.
func (rb *Runbook) Changes() bool {
	return slices.ContainsFunc(rb.Steps, func(s Step) bool {
		return s.Restore != nil || slices.ContainsFunc(s.On, func(on On) bool { return on.changes() || on.Does() || on.Software != nil })
	})
}

// saves refuses a step that saves among others that change something: what is kept is saved at
// the end, and nothing may be while a timer is pending that brings back what is saved.
func (p *parser) saves() {
	for _, s := range p.rb.Steps {
		if s.Save && p.rb.Touches() {
			p.list = append(p.list, problem.Problem{File: p.file, Line: s.Line, Text: p.rb.lines[s.Line],
				Msg:  fmt.Sprintf("step %q saves, and other steps change something: what is kept is saved at the end anyway", s.Title),
				Hint: "a runbook of its own for what is only to be saved"})
			return
		}
	}
}

// deeds are the entries of a step, or of a platform in it, that are no configuration.
func (p *parser) deeds(on *On) map[string]entryFunc {
	lines := func(to *[]*Text) entryFunc {
		return func(n *node, c *cursor) {
			on.Line = n.n
			if c.more() {
				c.want("in")
				on.Mode = c.next().text
			}
			c.end()
			*to = p.deviceText(n)
		}
	}
	return map[string]entryFunc{
		"look": lines(&on.Look),
		"do":   lines(&on.Do),
		"answers": func(n *node, c *cursor) {
			to := &on.Deed.Answers
			if c.more() && c.peek().text == "not" && !c.peek().quoted {
				c.next()
				to = &on.Deed.Never
			}
			on.Deed.Line = n.n
			*to = append(*to, p.answers(n, c, "what comes back", `answers "Counted anew*"`)...)
			if c.more() && !c.bad && c.peek().text == "within" {
				c.next()
				on.Deed.Within = max(on.Deed.Within, c.duration("30s"))
				c.end()
			}
		},
		"asked": func(n *node, c *cursor) {
			const hint = `asked "Really renew*" say "yes"`
			w := c.peek()
			question := c.str("what it asks, in quotes", hint)
			c.want("say")
			v := c.peek()
			say := c.str("what is said, in quotes", hint)
			c.end()
			on.Deed.Line = n.n
			on.Deed.Asked = append(on.Deed.Asked, Asked{p.text(n, w.at+1, question), p.text(n, v.at+1, say)})
		},
		"takes": func(n *node, c *cursor) {
			c.want("at")
			c.want("most")
			on.Deed.Takes, on.Deed.Line = c.duration("30s"), n.n
			c.end()
		},
		"restart": func(n *node, c *cursor) {
			on.Restart, on.Line = true, n.n
			c.end()
		},
		"software": func(n *node, c *cursor) { p.software(on, n, c) },
		"unproven": func(n *node, c *cursor) {
			p.wanted(on).Unproven, on.Line = c.str("why it need not be proven, in quotes", `unproven "the platform tells no checksum"`), n.n
			c.end()
		},
		"may": func(n *node, c *cursor) {
			c.want("change")
			on.Line = n.n
			p.wanted(on).May = append(p.wanted(on).May, p.answers(n, c, "lines", `may change "log host *"`)...)
		},
		"back": func(n *node, c *cursor) {
			c.want("within")
			on.Back, on.Line = c.duration("15m"), n.n
			c.end()
		},
		"repeatable": func(n *node, c *cursor) {
			on.Deed.Repeatable, on.Deed.Line = true, n.n
			c.end()
		},
	}
}

// wanted is what software is wanted, as far as it was read.
func (p *parser) wanted(on *On) *Software {
	if on.Software == nil {
		on.Software = &Software{}
	}
	return on.Software
}

// software reads a version.
func (p *parser) software(on *On, n *node, c *cursor) {
	const hint = `software "7.4.2"`
	w := c.peek()
	version := c.str("a version of the catalogue of images, in quotes", hint)
	c.end()
	if s := p.wanted(on); version != "" {
		s.Version, s.Line, on.Line = p.text(n, w.at+1, version), n.n, n.n
	}
}

// answers reads quoted patterns of what comes back, or of something else.
func (p *parser) answers(n *node, c *cursor, what, hint string) (out []*Text) {
	for first := true; first || c.more() && !c.bad && c.peek().text != "within"; first = false {
		if !first {
			c.want(",")
		}
		w := c.peek()
		body := c.str("a pattern of "+what+" in quotes", hint)
		if strings.Trim(body, "* ") == "" {
			p.at(n, w.col, hint, "the pattern %q fits anything, so it tells nothing", body)
		}
		out = append(out, p.text(n, w.at+1, body))
	}
	return out
}

// wait reads a time, or until CONDITION within TIME.
func (p *parser) wait(n *node, c *cursor) *Wait {
	w := &Wait{Line: n.n}
	if c.more() && c.peek().text == "until" && !c.peek().quoted {
		c.next()
		e := p.expect(n, c)
		w.Until, w.Most = e.Cond, e.Within
		return w
	}
	w.For = c.duration("90s")
	c.end()
	return w
}

// told reads what a person is told.
func (p *parser) told(n *node, c *cursor) []*Text {
	w := c.peek()
	body := c.str("what is to be done, in quotes", `tell "Ask the desk at <<site>> to open one turnstile."`)
	c.end()
	return []*Text{p.text(n, w.at+1, body)}
}

// longestWait bounds what a step may wait: a slip of the pen would hold the window.
const longestWait = time.Hour

// checkDeeds refuses a step that is of two kinds, or of none.
func (p *parser) checkDeeds(n *node, s Step) {
	at := func(key string) *node {
		if found := n.find(key); found != nil {
			return found
		}
		return n
	}
	if s.Hand && !s.Console && len(s.Tell) == 0 {
		p.at(n, n.col(0), `tell "Ask the desk to open one turnstile."`, "step %q is done by hand, and nothing says what is to be done", s.Title)
	}
	if !s.Hand && len(s.Tell) > 0 {
		p.at(at("tell"), at("tell").col(0), "step "+quote(s.Title)+" by hand", "what a person is told stands in a step by hand")
	}
	if s.Wait != nil && (s.Wait.For > longestWait || s.Wait.Most > longestWait) {
		p.at(at("wait"), at("wait").col(0), "wait 10m", "a step may wait an hour at most")
	}
	if s.Wait != nil || s.Hand || s.Save {
		what := "waits"
		switch {
		case s.Save:
			what = "saves"
		case s.Console:
			what = "is done by console"
		case s.Hand:
			what = "is done by hand"
		}
		if s.Wait != nil && (s.Hand || s.Save) || s.Hand && s.Save {
			p.at(n, n.col(0), "a step for each", "step %q is of several kinds", s.Title)
		}
		if len(s.On) > 0 || s.For != nil || s.Already != nil || s.Restore != nil {
			p.at(n, n.col(0), "a step of its own for the lines", "step %q %s: beside that, it can only expect something", s.Title, what)
		}
	}
	for _, on := range s.On {
		p.checkDeed(at, s, on)
	}
}

func (p *parser) checkDeed(at func(string) *node, s Step, on On) {
	kinds := map[string]bool{"look": on.Looks(), "do": on.Does(), "want": on.Wants(), "send": len(on.Send) > 0, "put": len(on.Put) > 0,
		"restart": on.Restart, "software": on.Software != nil}
	first := ""
	for _, key := range slices.Sorted(maps.Keys(kinds)) {
		switch {
		case !kinds[key]:
		case first != "" && (on.Looks() || on.Acts()):
			p.at(at(key), at(key).col(0), "a step of its own", "step %q has both %s and %s: a step is of one kind", s.Title, first, key)
		default:
			first = key
		}
	}
	d := on.Deed
	switch {
	case on.Looks() && len(d.Asked) > 0:
		p.at(at("asked"), at("asked").col(0), "do, and under it the command", "step %q looks: what changes nothing asks nothing", s.Title)
	case on.Looks() && d.Takes > 0:
		p.at(at("takes"), at("takes").col(0), `answers "4 of 4*" within 30s`, "step %q looks: how long it looks until it is so stands behind what it answers", s.Title)
	case on.Looks() && d.Repeatable:
		p.at(at("repeatable"), at("repeatable").col(0), "the look alone", "step %q looks, which may always be done twice", s.Title)
	case d.Line > 0 && !on.Acts() && !on.Looks():
		p.at(at("answers"), 0, "do, and under it the command", "step %q says how a command is judged, and does nothing", s.Title)
	case on.Does() && d.Within > 0:
		p.at(at("answers"), at("answers").col(0), "takes at most 1m", "step %q does something once: it is not given again until it answers so", s.Title)
	case d.Within > longestWait:
		p.at(at("answers"), at("answers").col(0), "within 1m", "a step may wait an hour at most")
	}
	switch {
	case on.Software != nil && on.Software.Version == nil:
		key := "unproven"
		if len(on.Software.May) > 0 {
			key = "may"
		}
		p.at(at(key), at(key).col(0), `software "7.4.2"`, "step %q says how software is exchanged, and not which is wanted", s.Title)
	case on.Back > 0 && !on.Away():
		p.at(at("back"), at("back").col(0), "restart", "step %q says by when a device must be back, and restarts none", s.Title)
	case on.Back > longestWait:
		p.at(at("back"), at("back").col(0), "back within 15m", "a step may wait an hour at most")
	case on.Away():
		p.checkAway(at, s, on)
	}
	if (on.Looks() || on.Acts()) && len(on.Undo) > 0 {
		p.at(at("undo"), at("undo").col(0), "nothing of it, or send in place of do", "step %q has undo lines: what is looked at needs none, and what is done cannot be undone", s.Title)
	}
	if on.Looks() && (s.Already != nil || on.Already != nil) {
		p.at(at("already"), at("already").col(0), "", "step %q looks: it is never there already", s.Title)
	}
	if on.Deed.Takes > longestWait {
		p.at(at("takes"), at("takes").col(0), "takes at most 10m", "a command may take an hour at most")
	}
}

// checkAway refuses what does not go with a restart, or with other software.
func (p *parser) checkAway(at func(string) *node, s Step, on On) {
	what, key, again := "restarts", "restart", "when, and the condition under which it is restarted"
	if on.Software != nil {
		what, key, again = "exchanges software", "software", "the version alone: a device that runs it already is left as it is"
	}
	switch {
	case s.For != nil:
		p.at(at("for"), at("for").col(0), key+" without a loop", "step %q %s: once is enough", s.Title, what)
	case s.Already != nil || on.Already != nil:
		p.at(at("already"), at("already").col(0), again, "step %q %s: it is never there already", s.Title, what)
	case on.Deed.Line > 0:
		p.at(
			at(key),
			at(key).col(0),
			"expect, for what must be so once it is back",
			"step %q %s: what its device answers to that stands in its profile",
			s.Title,
			what,
		)
	}
}

// texts are all its patterns, questions, and what is said to them.
func (d Deed) texts() (out []*Text) {
	out = slices.Concat(d.Answers, d.Never)
	for _, a := range d.Asked {
		out = append(out, a.Question, a.Say)
	}
	return out
}
