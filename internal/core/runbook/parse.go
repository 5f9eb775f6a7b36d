package runbook

import (
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/problem"
)

// Parse reads a runbook. The error, if any, is a problem.List with every
// problem of the file. A parsed runbook must be compiled before it is used.
func Parse(file string, src []byte) (*Runbook, error) {
	p := &parser{problems: problems{file: file}, rb: &Runbook{File: file, lines: map[int]string{}}}
	root := scan(file, src, &p.problems)
	if wrong := p.anotherKind(root); wrong != nil {
		return nil, problem.List{*wrong}
	}
	p.remember(root)
	p.sections(root)
	p.saves()
	if err := p.list.Err(); err != nil {
		return nil, err
	}
	return p.rb, nil
}

type parser struct {
	problems
	rb *Runbook
}

func (p *parser) remember(n *node) {
	p.rb.lines[n.n] = n.raw
	for _, c := range n.children {
		p.remember(c)
	}
}

// anotherKind tells a file that is no runbook at all from one with mistakes: none
// of its first lines begins as a section does. It is one problem, not a hundred.
func (p *parser) anotherKind(root *node) *problem.Problem {
	known, lines := 0, root.children[:min(len(root.children), 20)]
	for _, n := range lines {
		first, _, _ := strings.Cut(n.text, " ")
		if slices.Contains(sections, first) || problem.Nearest(first, sections) != "" {
			known++
		}
	}
	if known > 0 || len(lines) == 0 && len(p.list) < 3 {
		return nil
	}
	return &problem.Problem{
		File: p.file,
		Msg:  "this is not a runbook: none of its lines begins a section",
		Hint: `runbook "What this change does" on its first line`,
	}
}

// sections are the words a line at the left edge may start with, in the order
// they are best written.
var sections = []string{"runbook", "ask", "scope", "batches", "precheck", "record", "timer", "step", "finish", "unattended"}

// standsIn are the sections of entries that are taken for sections when they are not
// indented.
var standsIn = map[string]string{
	"change":   "runbook",
	"window":   "runbook",
	"reserve":  "runbook",
	"sizes":    "batches",
	"together": "batches",
	"soak":     "finish",
	"compare":  "finish",
	"expect":   "its step",
	"want":     "its step",
	"send":     "its step",
	"undo":     "its step",
	"restore":  "its step",
	"restart":  "its step",
	"software": "its step",
}

// ofStep are the entries of a step that do not stand under on.
var ofStep = []string{"for", "when", "needs", "follows", "restore", "wait", "tell", "save"}

func (p *parser) sections(root *node) {
	if len(root.children) == 0 {
		if len(p.list) == 0 {
			p.at(&node{n: 1}, 0, `runbook "What this change does"`, "the file is empty")
		}
		return
	}
	seen := map[string]int{}
	for i, n := range root.children {
		c := p.open(n)
		name := c.next().text
		if first := seen[name]; first > 0 && name != "step" && name != "timer" {
			p.at(n, n.col(0), "", "section %s stands already on line %d", name, first)
		}
		seen[name] = n.n
		if (i == 0) != (name == "runbook") && (i == 0 || name == "runbook") {
			p.at(n, n.col(0), `runbook "What this change does"`, "a runbook starts with its title")
		}
		p.section(name, n, c)
	}
	p.required(root, seen)
}

func (p *parser) section(name string, n *node, c *cursor) {
	switch name {
	case "runbook":
		p.rb.Title = c.str("the title in quotes", `runbook "Move the quays to the new clocks"`)
		c.end()
		p.entries(n, map[string]entryFunc{"change": p.change, "window": p.window, "reserve": p.reserve})
	case "ask":
		c.end()
		for _, e := range n.children {
			p.ask(e)
		}
	case "scope":
		c.end()
		for _, e := range n.children {
			p.leaf(e)
			p.rb.Scope = append(p.rb.Scope, p.cond(e, 0, len(e.text)))
		}
	case "batches":
		c.end()
		p.entries(n, map[string]entryFunc{
			"canaries": p.canaries, "sizes": p.sizes, "together": p.together, "per": p.per, "pairs": p.pairs,
			"order": p.order, "hold": p.hold, "while": p.whileHeld, "stop": p.stop,
		})
	case "precheck":
		c.end()
		for _, e := range n.children {
			p.precheck(e)
		}
	case "record":
		p.recording(n, c)
	case "timer":
		p.timer(n, c)
	case "step":
		p.step(n, c)
	case "finish":
		c.end()
		p.entries(n, map[string]entryFunc{"soak": func(n *node, c *cursor) { p.rb.Soak = c.duration("3m"); c.end() }, "compare": p.comparing})
	case "unattended":
		p.unattended(n, c)
	default:
		hint := problem.OneOf(name, sections)
		if in, is := standsIn[name]; is {
			hint = "it under " + in + ", indented by two spaces"
		}
		p.at(n, n.col(0), hint, "unknown section %q", name)
	}
}

func (p *parser) required(root *node, seen map[string]int) {
	top := root.children[0]
	miss := func(line, what string) { p.at(top, 0, line, "%s", what) }
	if seen["runbook"] > 0 && p.rb.Window.Length == 0 && !p.rb.Window.None && !p.anyProblem("window") {
		miss("window 01:30 for 2h45m, or window none where any time will do", "the runbook names no window")
	}
	if p.rb.Window.None && p.rb.Reserve > 0 {
		miss("a window, or no reserve", "a reserve is kept free at the end of a window, and there is none")
	}
	if seen["scope"] == 0 {
		miss(`scope, and under it: role == "quay"`, "the runbook has no scope; to take every device, say so with: scope, and under it: true")
	} else if len(p.rb.Scope) == 0 {
		p.at(top, 0, `role == "quay"`, "the scope is empty")
	}
	if !p.rb.Timer.Given && !p.anyProblem("timer") && (p.rb.Touches() || len(p.rb.Steps) == 0) {
		miss("timer 10m", "the runbook arms no rollback timer; if that is meant, write: timer none")
	}
	if seen["step"] == 0 {
		miss(`step "Time sources"`, "the runbook has no step")
	}
	if p.rb.Window.Length > 0 && p.rb.Reserve >= p.rb.Window.Length {
		miss("a reserve shorter than the window", "the reserve takes the whole window")
	}
}

func (p *parser) anyProblem(word string) bool {
	return slices.ContainsFunc(p.list, func(q problem.Problem) bool { return strings.Contains(q.Text, word) })
}

type entryFunc func(*node, *cursor)

// entries reads a section whose entries each start with a word of their own.
func (p *parser) entries(n *node, known map[string]entryFunc) {
	names := make([]string, 0, len(known))
	for k := range known {
		names = append(names, k)
	}
	slices.Sort(names)
	seen := map[string]int{}
	for _, e := range n.children {
		c := p.open(e)
		w := c.next()
		f, ok := known[w.text]
		if !ok || w.quoted {
			hint := problem.OneOf(w.text, names)
			if known["send"] != nil && known["on"] == nil && slices.Contains(ofStep, w.text) {
				hint = "it under the step, beside on: it is for all that the step does"
			}
			p.at(e, w.col, hint, "unknown entry %q", w.text)
			continue
		}
		if first := seen[w.text]; first > 0 && !slices.Contains(manyTimes, w.text) {
			p.at(e, w.col, "", "%s stands already on line %d", w.text, first)
		}
		seen[w.text] = e.n
		f(e, c)
		if !slices.Contains(withLines, w.text) {
			p.leaf(e)
		}
	}
}

// Entries that may stand more than once, and those with lines under them.
var (
	manyTimes = []string{"expect", "on", "no", "per", "answers", "asked", "tell"}
	withLines = []string{"on", "send", "undo", "want", "gone", "look", "do"}
)

// leaf checks that nothing stands under n.
func (p *parser) leaf(n *node) {
	if first, _, _ := strings.Cut(n.text, " "); len(n.children) > 0 && (first == "for" || first == "when") {
		p.at(n.children[0], n.children[0].col(0), "", "what %s is for stands below it, as far left as it", first)
		return
	}
	if len(n.children) > 0 {
		p.at(n.children[0], n.children[0].col(0), "", "nothing can stand under line %d", n.n)
	}
}

func (p *parser) change(_ *node, c *cursor) { p.rb.Change = c.next().text; c.end() }

// window reads when we may work:
//
//	window  01:30 for 2h45m
//	window  Wed 01:30 for 2h45m in Europe/Berlin
//	window  2026-12-02 01:30 for 2h45m
//	window  now for 1h
//	window  none
func (p *parser) window(n *node, c *cursor) {
	win := &p.rb.Window
	win.Line = n.n
	w := c.next()
	if w.text == "none" {
		win.None = true
		c.end()
		return
	}
	if w.text == "now" {
		win.Now = true
	} else {
		w = p.day(w, win, c)
		t, err := time.Parse("15:04", w.text)
		if _, later := time.Parse("15:04", c.peek().text); err != nil && later == nil {
			p.at(n, w.col, "Wed 01:30, or 2026-12-02 01:30", "%q is not a day", w.text)
			c.next()
		} else if err != nil {
			p.at(n, w.col, "01:30", "%q is not a time of day", w.text)
		}
		win.Start = time.Duration(t.Hour())*time.Hour + time.Duration(t.Minute())*time.Minute
	}
	c.want("for")
	win.Length = c.duration("2h45m")
	if c.more() && c.peek().text == "in" && !win.Now {
		c.next()
		zone := c.next()
		win.Zone = zone.text
		if _, err := time.LoadLocation(zone.text); err != nil || zone.text == "" || zone.text == "Local" {
			p.at(n, zone.col, "in Europe/Berlin", "there is no time zone %q", zone.text)
		}
	}
	c.end()
}

// day reads the day of the window, if one is said, and returns the word behind it.
func (p *parser) day(w word, win *Window, c *cursor) word {
	if _, err := time.Parse("2006-01-02", w.text); err == nil {
		win.Date = w.text
		return c.next()
	}
	for d := time.Sunday; d <= time.Saturday; d++ {
		if len(w.text) >= 3 && strings.HasPrefix(strings.ToLower(d.String()), strings.ToLower(w.text)) {
			win.Day = d.String()
			return c.next()
		}
	}
	return w
}

func (p *parser) reserve(_ *node, c *cursor) { p.rb.Reserve = c.duration("20m"); c.end() }

func (p *parser) sizes(n *node, c *cursor) {
	for first := true; first || c.more(); first = false {
		if !first {
			c.want(",")
		}
		w := c.next()
		num, percent := strings.CutSuffix(w.text, "%")
		v, err := strconv.Atoi(num)
		switch {
		case err != nil || v < 1 || v > 100_000 || percent && v > 100:
			p.at(n, w.col, "1, 4, 25%", "%q is not a batch size", w.text)
			return
		case percent:
			p.rb.Batches.Sizes = append(p.rb.Batches.Sizes, Size{Percent: v})
		default:
			p.rb.Batches.Sizes = append(p.rb.Batches.Sizes, Size{Count: v})
		}
	}
}

func (p *parser) together(_ *node, c *cursor) {
	p.rb.Batches.Together = c.number(1, 10_000, "8")
	c.end()
}

// per reads a cap on the devices in change at once that have something in common.
func (p *parser) per(n *node, c *cursor) {
	w := c.next()
	caps := map[string]*int{"site": &p.rb.Batches.PerSite, "role": &p.rb.Batches.PerRole, "uplink": &p.rb.Batches.PerUplink}
	limit := caps[w.text]
	switch {
	case limit == nil:
		p.at(n, w.col, problem.OneOf(w.text, []string{"site", "role", "uplink"}), "%q is nothing that devices can be counted by", w.text)
		return
	case *limit > 0:
		p.at(n, n.col(0), "", "per %s stands already", w.text)
	}
	*limit = c.number(1, 10_000, "2")
	c.end()
}

// canaries reads which devices go first: "one of each platform and role", or names.
func (p *parser) canaries(n *node, c *cursor) {
	b := &p.rb.Batches
	b.CanaryLine = n.n
	if c.more() && c.peek().text == "one" {
		for _, w := range strings.Fields("one of each platform and role") {
			c.want(w)
		}
		c.end()
		b.CanaryEach = true
		return
	}
	b.Canaries = c.list("ald-quay-3")
	c.end()
	c.end()
}

// whileHeld reads whether other devices are begun while one is held, and for how long devices
// without contact are waited for.
func (p *parser) whileHeld(n *node, c *cursor) {
	const hint = "while held wait, or while held go on"
	if c.more() && c.peek().text == "dark" {
		c.next()
		c.want("wait")
		p.rb.Batches.DarkFor = c.duration("10m")
		c.end()
		return
	}
	c.want("held")
	switch w := c.next(); w.text {
	case "wait":
	case "go":
		c.want("on")
		p.rb.Batches.GoOnHeld = true
	default:
		p.at(n, w.col, hint, "%q says neither that the others wait nor that they go on", w.text)
		return
	}
	c.end()
}

func (p *parser) pairs(_ *node, c *cursor) {
	c.want("apart")
	p.rb.Batches.PairsApart = true
	if c.more() {
		c.want(",")
		c.want("standby")
		c.want("first")
	}
	c.end()
}

func (p *parser) order(n *node, c *cursor) {
	switch w := c.next(); w.text {
	case "far":
		p.rb.Batches.FarFirst = true
		c.want("first")
	case "as":
		c.want("listed")
	default:
		p.at(n, w.col, "far first, or as listed", "%q is not an order", w.text)
		return
	}
	c.end()
}

func (p *parser) hold(n *node, c *cursor) {
	c.want("after")
	switch w := c.next(); w.text {
	case "batch":
		for first := true; first || c.more(); first = false {
			if !first {
				c.want(",")
			}
			p.rb.Batches.HoldAfter = append(p.rb.Batches.HoldAfter, c.number(1, 10_000, "1"))
		}
	case "every":
		c.want("batch")
		c.end()
		p.rb.Batches.HoldAlways = true
	default:
		p.at(n, w.col, "hold after batch 1, or hold after every batch", "%q cannot stand here", w.text)
	}
}

func (p *parser) stop(n *node, c *cursor) {
	p.rb.Batches.StopGiven = true
	if c.more() && c.peek().text == "never" && !c.peek().quoted {
		c.next()
		p.rb.Batches.StopAfter = 0
		c.end()
		return
	}
	c.want("after")
	p.rb.Batches.StopAfter = c.number(1, 10_000, "2")
	if w := c.next(); w.text != "failures" && w.text != "failure" {
		p.at(n, w.col, "stop after 2 failures", "expected the word failures")
	}
	c.end()
}

// timer reads how long the rollback timer runs. Further lines name platforms whose timer
// runs for another time, or that have none:
//
//	timer  10m
//	timer  4m on osier
//	timer  none on plover
func (p *parser) timer(n *node, c *cursor) {
	p.leaf(n)
	t := &p.rb.Timer
	none := c.more() && c.peek().text == "none"
	if none {
		c.next()
	}
	if none && c.more() && c.peek().text == "on" {
		c.next()
		t.NoneOn = append(t.NoneOn, c.list("plover")...)
		c.end()
		if t.Line == 0 {
			t.Line = n.n
		}
		return
	}
	if !none {
		long := c.duration("10m")
		if c.more() && c.peek().text == "on" {
			c.next()
			for _, platform := range c.list("osier") {
				t.Of = append(t.Of, TimerOf{platform, long, n.n})
			}
			c.end()
			return
		}
		if !t.Given {
			t.For = long
		}
	}
	if t.Given {
		p.at(
			n,
			n.col(0),
			"timer 4m on PLATFORM, or timer none on PLATFORM, for those where it is another",
			"timer stands already on line %d",
			t.Line,
		)
	}
	t.Given, t.Line, t.None = true, n.n, none
	c.end()
}

// How long a night may wait for a person before its unattended line decides: a connection that
// breaks off is back within moments.
const (
	shortestAlone = 10 * time.Second
	longestAlone  = 24 * time.Hour
)

func (p *parser) unattended(n *node, c *cursor) {
	p.leaf(n)
	u := Unattended{Given: true, Line: n.n}
	hint := "take back the device, or: try again once, then take back the device"
	if c.more() && c.peek().text == "after" {
		c.next()
		from := c.here()
		if u.After = c.duration("10m"); u.After != 0 && (u.After < shortestAlone || u.After > longestAlone) {
			p.at(n, from, "after 10m", "a night waits for a person for %s at least, and for %s at most", FormatDuration(shortestAlone), FormatDuration(longestAlone))
		}
		c.want(",")
	}
	if c.more() && c.peek().text == "try" {
		c.next()
		c.want("again")
		switch w := c.next(); w.text {
		case "once":
			u.Tries = 1
		case "twice":
			u.Tries = 2
		default:
			v, err := strconv.Atoi(w.text)
			if err != nil || v < 1 || v > 9 {
				p.at(n, w.col, hint, "%q is not a number of tries from 1 to 9", w.text)
			}
			u.Tries = v
			c.want("times")
		}
		c.want(",")
		c.want("then")
	}
	from := c.here()
	action := c.rest()
	if first, goesOn := strings.CutSuffix(action, afterFailed); goesOn {
		action, u.GoOn = strings.TrimRight(strings.TrimSpace(first), ", "), true
	}
	if !slices.Contains(actions, action) {
		p.at(n, from, problem.OneOf(action, actions), "%q is not something an unattended run can do", action)
	}
	u.Then = Action(action)
	p.rb.Unattended = u
}
