package runbook

import (
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/problem"
)

// step reads a step. Device text may stand straight under the step, for every
// platform, or under "on PLATFORM" for some.
func (p *parser) step(n *node, c *cursor) {
	s := Step{Line: n.n}
	s.Title = c.str("the step's name in quotes", `step "Time sources"`)
	if c.more() && c.peek().text == "by" && !c.peek().quoted {
		c.next()
		s.Hand, s.Console = true, c.more() && c.peek().text == "console"
		if s.Console {
			c.next()
		} else {
			c.want("hand")
		}
	}
	c.end()
	for _, other := range p.rb.Steps {
		if other.Title == s.Title {
			p.at(n, n.col(0), "", "a step named %q stands already on line %d", s.Title, other.Line)
		}
	}
	var all On
	entries := p.deviceEntries(&all)
	maps.Copy(entries, map[string]entryFunc{
		"when":    func(n *node, c *cursor) { s.When = p.cond(n, c.offset(), len(n.text)) },
		"already": func(n *node, c *cursor) { s.Already = p.already(n, c) },
		"needs":   func(n *node, c *cursor) { s.Needs = append(s.Needs, p.titles(n, c)...) },
		"for":     func(n *node, c *cursor) { s.For = p.loop(n, c) },
		"on":      func(n *node, c *cursor) { s.On = append(s.On, p.on(n, c)) },
		"follows": func(n *node, c *cursor) { s.Follows = append(s.Follows, p.titles(n, c)...) },
		"restore": func(n *node, c *cursor) { s.Restore = p.restore(n, c) },
		"save": func(_ *node, c *cursor) {
			c.end()
			s.Save = true
		},
		"wait":   func(n *node, c *cursor) { s.Wait = p.wait(n, c) },
		"tell":   func(n *node, c *cursor) { s.Tell = append(s.Tell, p.told(n, c)...) },
		"expect": func(n *node, c *cursor) { s.Expect = append(s.Expect, p.expect(n, c)) },
	})
	p.entries(n, entries)
	if all.Line > 0 {
		s.On = append(s.On, all)
	}
	if s.Restore != nil {
		p.checkRestore(n, s)
	} else {
		p.checkOn(n, s)
	}
	p.checkDeeds(n, s)
	p.rb.Steps = append(p.rb.Steps, s)
}

// deviceEntries are the entries that say what shall be there, or what is sent.
func (p *parser) deviceEntries(on *On) map[string]entryFunc {
	entries := p.deeds(on)
	maps.Copy(entries, p.configEntries(on))
	return entries
}

// configEntries are those of them that are configuration.
func (p *parser) configEntries(on *On) map[string]entryFunc {
	lines := func(to *[]*Text) entryFunc {
		return func(n *node, c *cursor) {
			if to == &on.Undo && c.more() && c.peek().text != "file" {
				c.want("first")
				on.UndoFirst = true
			}
			on.Line = n.n
			if c.more() && c.peek().text == "file" {
				c.next()
				*to = p.fileText(n, c)
				return
			}
			c.end()
			*to = p.deviceText(n)
		}
	}
	return map[string]entryFunc{
		"want": lines(&on.Want), "gone": lines(&on.Gone), "send": lines(&on.Send), "undo": lines(&on.Undo),
		"put": func(n *node, c *cursor) {
			on.Line = n.n
			c.want("file")
			on.Put = p.fileText(n, c)
			for _, t := range on.Put {
				t.whole = true
			}
		},
		"no": func(n *node, c *cursor) {
			c.want("other")
			on.Line = n.n
			on.NoOther = append(on.NoOther, p.patterns(n, c)...)
		},
	}
}

// patterns reads quoted patterns of lines.
func (p *parser) patterns(n *node, c *cursor) (out []*Text) {
	const hint = `no other  "log host *"`
	for first := true; first || c.more() && !c.bad; first = false {
		if !first {
			c.want(",")
		}
		w := c.peek()
		body := c.str("a pattern of lines in quotes", hint)
		parts := strings.Split(body, " > ")
		switch {
		case body == "" || c.bad:
			return out
		case slices.ContainsFunc(parts, func(s string) bool { s = strings.TrimSpace(s); return s == "" || s[0] == '*' }):
			p.at(n, w.col, hint, "the pattern %q begins with anything: it would take away what nobody has in mind", body)
		case !strings.Contains(parts[len(parts)-1], "*"):
			p.at(
				n,
				w.col,
				"gone, and under it the line",
				"the pattern %q has no * for what may differ; one line that shall not be there stands under gone",
				body,
			)
		}
		out = append(out, p.text(n, w.at+1, body))
	}
	return out
}

// titles reads the titles of earlier steps.
func (p *parser) titles(n *node, c *cursor) (out []string) {
	var earlier []string
	for _, s := range p.rb.Steps {
		earlier = append(earlier, s.Title)
	}
	for first := true; first || c.more(); first = false {
		if !first {
			c.want(",")
		}
		col := c.here()
		title := c.str("the title of an earlier step in quotes", `needs "Gate LAN"`)
		if title != "" && !slices.Contains(earlier, title) {
			hint := ""
			if near := problem.Nearest(title, earlier); near != "" {
				hint = quote(near)
			}
			p.at(n, col, hint, "no step before this one is called %q", title)
		}
		out = append(out, title)
	}
	return out
}

// checkOn refuses a step that does nothing, or that speaks twice of a platform.
func (p *parser) checkOn(n *node, s Step) {
	if len(s.On) == 0 && len(s.Expect) == 0 && s.Wait == nil && !s.Hand && !s.Save && !p.wrongBelow(n) {
		p.at(n, n.col(0), "want or send, and under it the lines behind a bar", "step %q does nothing", s.Title)
	}
	seen := map[string]bool{}
	for _, on := range s.On {
		names := on.Platforms
		if len(names) == 0 {
			names = []string{""}
			if len(s.On) > 1 {
				p.at(n, n.col(0), "on PLATFORM for each of them", "step %q has lines for every platform and lines for some", s.Title)
			}
		}
		for _, name := range names {
			if seen[name] {
				p.at(n, n.col(0), "", "step %q speaks twice of platform %s", s.Title, name)
			}
			seen[name] = true
		}
		p.checkLines(n, s, on)
	}
}

// wrongBelow tells whether something under a step was told to be wrong already: then what the
// step has is not known.
func (p *parser) wrongBelow(n *node) bool {
	return slices.ContainsFunc(p.list, func(one problem.Problem) bool { return one.Line > n.n })
}

// checkLines refuses lines that are not to be sent, conditions on lines that are not
// there, and what is computed where it is wanted.
func (p *parser) checkLines(n *node, s Step, on On) {
	if len(on.Put) > 0 {
		for _, key := range []string{"want", "gone", "no", "send", "undo", "already", "for"} {
			if at := n.find(key); at != nil {
				p.at(
					at,
					at.col(0),
					"a step of its own",
					"step %q puts a whole file in place, which says all that shall be there: %s does not go with it",
					s.Title,
					key,
				)
			}
		}
		if s.For != nil || s.Already != nil {
			p.at(n, n.col(0), "a step of its own", "step %q puts a whole file in place: it has neither a loop nor an already", s.Title)
		}
		return
	}
	if on.Wants() {
		const computed = "it is computed from what shall be there"
		for key, given := range map[string]bool{"already": s.Already != nil || on.Already != nil, "undo": len(on.Undo) > 0} {
			if at := n.find(key); given && at != nil {
				p.at(at, at.col(0), "", "step %q has %s beside want, gone or no other: take it out, %s", s.Title, key, computed)
			}
		}
		if at := n.find("send"); len(on.Send) > 0 && at != nil {
			p.at(
				at,
				at.col(0),
				"a step of its own for the lines that are sent as they stand",
				"step %q says both what shall be there and what is sent",
				s.Title,
			)
		}
		return
	}
	const noLines = "send, and under it the lines behind a bar; or want"
	switch {
	case on.Looks() || on.Acts() || on.Back > 0: // see checkDeed
	case len(on.Send) == 0 && p.wrongBelow(n):
	case len(on.Send) == 0 && len(on.Undo) > 0:
		p.at(n, n.col(0), noLines, "step %q has lines to undo but none to send", s.Title)
	case len(on.Send) == 0 && on.Already != nil:
		p.at(n, n.col(0), noLines, "step %q says when its lines are there already, but has none to send", s.Title)
	case len(on.Send) == 0 && len(on.Expect) == 0:
		where := ""
		if len(on.Platforms) > 0 {
			where = " on " + strings.Join(on.Platforms, ", ")
		}
		p.at(n, n.col(0), noLines, "step %q does nothing%s", s.Title, where)
	}
}

func (p *parser) on(n *node, c *cursor) On {
	on := On{Platforms: c.list("tern")}
	c.end()
	entries := p.deviceEntries(&on)
	maps.Copy(entries, map[string]entryFunc{
		"already": func(n *node, c *cursor) { on.Already = p.already(n, c) },
		"expect":  func(n *node, c *cursor) { on.Expect = append(on.Expect, p.expect(n, c)) },
	})
	p.entries(n, entries)
	on.Line = n.n
	return on
}

func (p *parser) already(n *node, c *cursor) *Cond {
	c.want("when")
	return p.cond(n, c.offset(), len(n.text))
}

// deviceText reads the lines behind bars under n.
func (p *parser) deviceText(n *node) []*Text {
	if len(n.children) == 0 {
		p.at(n, n.col(0), "| and then the line as the device wants it", "no lines under %s", n.text)
	}
	var out []*Text
	for _, l := range n.children {
		if first, _, _ := strings.Cut(l.text, " "); !l.device && (first == "for" || first == "when") {
			p.at(l, l.col(0), l.text, "%s stands above %s, as far left as it, and is for the whole step", first, n.text)
			continue
		}
		p.leaf(l)
		if !l.device {
			p.at(l, l.col(0), "| "+l.text, "device text stands behind a bar")
			continue
		}
		if strings.TrimSpace(l.text[1:]) == "" && n.text != "want" { // where it may stand in a text of several lines
			p.at(l, l.col(0), "", "an empty line is never sent")
			continue
		}
		body := l.text[1:]
		at := 1
		if strings.HasPrefix(body, " ") {
			body, at = body[1:], 2
		}
		out = append(out, p.text(l, at, body))
	}
	return out
}

// expect reads CONDITION within DURATION.
func (p *parser) expect(n *node, c *cursor) Expect {
	from := c.offset()
	at := lastOutsideQuotes(n.text, " within ")
	if at < from {
		p.at(n, n.col(len(n.text)), "CONDITION within 90s", "an expectation needs a time: within which time must it come true?")
		return Expect{Cond: p.cond(n, from, len(n.text)), Line: n.n}
	}
	e := Expect{Cond: p.cond(n, from, at), Line: n.n}
	tail := &cursor{p: p, n: n, words: n.words(&problems{})}
	for tail.more() && tail.peek().at < at {
		tail.next()
	}
	tail.want("within")
	e.Within = tail.duration("90s")
	tail.end()
	return e
}

func lastOutsideQuotes(s, sub string) int {
	last, quoted := -1, false
	for i := 0; i < len(s); i++ {
		switch {
		case s[i] == '\\' && quoted:
			i++
		case s[i] == '"':
			quoted = !quoted
		case !quoted && strings.HasPrefix(s[i:], sub):
			last = i
		}
	}
	return last
}

// cursor walks over the words of a line and reports what does not fit.
type cursor struct {
	p     *parser
	n     *node
	words []word
	i     int
	bad   bool // a problem was reported already; say no more about this line
}

func (p *parser) open(n *node) *cursor {
	return &cursor{p: p, n: n, words: n.words(&p.problems)}
}

func (c *cursor) more() bool { return c.i < len(c.words) }

func (c *cursor) peek() word {
	if c.more() {
		return c.words[c.i]
	}
	return word{col: c.here(), at: len(c.n.text), end: len(c.n.text)}
}

func (c *cursor) next() word {
	w := c.peek()
	c.i++
	return w
}

// here is the column of the next word, or just behind the line.
func (c *cursor) here() int {
	if c.more() {
		return c.words[c.i].col
	}
	return c.n.col(len(c.n.text)) + 1
}

// offset is the byte offset of the next word.
func (c *cursor) offset() int { return c.peek().at }

func (c *cursor) fail(col int, hint, format string, args ...any) {
	if !c.bad {
		c.p.at(c.n, col, hint, format, args...)
	}
	c.bad = true
}

func (c *cursor) want(text string) {
	if w := c.next(); w.text != text || w.quoted {
		got := "the end of the line"
		if w.text != "" {
			got = strconv.Quote(w.text)
		}
		c.fail(w.col, text, "expected %q, found %s", text, got)
	}
}

func (c *cursor) end() {
	if c.more() {
		c.fail(c.here(), "", "%q cannot stand here", c.peek().text)
	}
}

func (c *cursor) rest() string {
	var parts []string
	for c.more() {
		parts = append(parts, c.next().text)
	}
	return strings.Join(parts, " ")
}

func (c *cursor) str(what, hint string) string {
	w := c.next()
	if !w.quoted || w.text == "" {
		c.fail(w.col, hint, "expected %s", what)
	}
	return w.text
}

func (c *cursor) number(lo, hi int, hint string) int {
	w := c.next()
	v, err := strconv.Atoi(w.text)
	if err != nil || v < lo || v > hi {
		c.fail(w.col, hint, "%q is not a whole number from %d to %d", w.text, lo, hi)
	}
	return v
}

func (c *cursor) span(hint string) (lo, hi int, ok bool) {
	w := c.next()
	a, b, _ := strings.Cut(w.text, "..")
	lo, err1 := strconv.Atoi(a)
	hi, err2 := strconv.Atoi(b)
	if err1 != nil || err2 != nil || lo > hi || lo < 0 || hi > 1<<30 {
		c.fail(w.col, hint, "%q is not a range from a lower to a higher number", w.text)
		return 0, 0, false
	}
	return lo, hi, true
}

// list reads words between commas.
func (c *cursor) list(hint string) []string {
	var out []string
	for {
		w := c.next()
		if w.text == "" || w.text == "," && !w.quoted {
			c.fail(w.col, hint, "expected a word")
			return out
		}
		out = append(out, w.text)
		if !c.more() || c.peek().text != "," || c.peek().quoted {
			return out
		}
		c.next()
	}
}

// duration reads a time such as 2h45m, in whole hours, minutes and seconds.
func (c *cursor) duration(hint string) time.Duration {
	w := c.next()
	d, err := ParseDuration(w.text)
	if err != nil {
		c.fail(w.col, hint, "%v", err)
	}
	return d
}
