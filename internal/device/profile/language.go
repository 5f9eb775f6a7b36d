package profile

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"metabasis/internal/core/config"
)

// Grammar is how a platform's configuration is changed by lines; see [config.Language].
type Grammar struct {
	Leave string     `yaml:"leave"` // typed to leave a section
	Takes Pattern    `yaml:"takes"` // a typed line that takes something away
	Lines []LineRule `yaml:"lines"` // the first that fits a line counts
	// Harmless is a line of the top that does no harm while a profile is tried.
	Harmless string `yaml:"harmless"`
}

// LineRule is how one kind of line works; see [config.Rule].
type LineRule struct {
	In      Pattern  `yaml:"in"`      // the line of the section it stands in; none is the top
	Line    Pattern  `yaml:"line"`    // as it is printed
	Put     string   `yaml:"put"`     // what is typed to put it there; none is the line itself
	Away    string   `yaml:"away"`    // what is typed to take it away; none says that it cannot be
	Key     string   `yaml:"key"`     // lines with the same key replace one another
	Section bool     `yaml:"section"` // it opens a section
	Fixed   bool     `yaml:"fixed"`   // a section that is there by itself
	Places  []string `yaml:"places"`  // the words of the places in a list: group 1 is the entry, 2 its place
	Needs   []string `yaml:"needs"`   // lines without which it cannot stand
	Brings  []string `yaml:"brings"`  // lines that appear by themselves in it when it is made
	Path    bool     `yaml:"path"`    // it is part of the way by which the device is managed
}

// Language is how the platform's configuration is changed by lines; nil where the
// profile does not say.
func (p *Profile) Language() *config.Language {
	switch {
	case p.dialect().language != nil:
		return p.dialect().language(p)
	case !p.Typed() && p.Config.Ordered: // where a line comes is not known
		return nil
	case !p.Typed():
		return &config.Language{Tree: true, Style: p.Style()}
	}
	if len(p.Grammar.Lines) == 0 {
		return nil
	}
	l := &config.Language{Leave: p.Grammar.Leave, Takes: p.Grammar.Takes.Regexp, Style: p.Style()}
	for _, r := range p.Grammar.Lines {
		l.Rules = append(l.Rules, config.Rule{In: r.In.Regexp, Line: r.Line.Regexp, Put: r.Put, Away: r.Away, Key: r.Key,
			Section: r.Section, Fixed: r.Fixed, Places: r.Places, Needs: r.Needs, Brings: r.Brings, Path: r.Path})
	}
	return l
}

var templateGroup = regexp.MustCompile(`\$(\d)`)

// language checks the rules of the language.
func (c *checker) language() {
	g := c.p.Grammar
	if len(g.Lines) == 0 && (g.Leave != "" || g.Takes.Regexp != nil) {
		c.fail("language", "lines: with line: and away:", "it has no rules for lines")
	}
	sections := false
	for i, r := range g.Lines {
		at := fmt.Sprintf("language.lines[%d]", i)
		sections = sections || r.Section
		if r.Line.Regexp == nil {
			c.fail(at, `line: '^log host \S+$'`, "the rule has no pattern of the lines that it is for")
			continue
		}
		c.whole(at+".line", r.Line)
		if r.In.Regexp != nil {
			c.whole(at+".in", r.In)
		}
		if r.Put != "" && strings.Count(r.Put, "$0") != 1 {
			c.fail(at+".put", "set $0", "what is typed must have $0, the line as it is printed, once")
		}
		for _, t := range slices.Concat([]string{r.Put, r.Away, r.Key}, r.Needs, r.Brings) {
			for _, m := range templateGroup.FindAllStringSubmatch(t, -1) {
				if n, _ := strconv.Atoi(m[1]); n > r.Line.NumSubexp() {
					c.fail(
						at,
						fmt.Sprintf("(…) in line:, %d of them", n),
						"%q has $%d, and the pattern of the line has %d groups",
						t,
						n,
						r.Line.NumSubexp(),
					)
				}
			}
		}
		switch {
		case r.Fixed && !r.Section:
			c.fail(at+".fixed", "section: true", "only a section is there by itself")
		case r.Fixed && r.Away != "":
			c.fail(at+".away", "", "what is there by itself cannot be taken away")
		case len(r.Brings) > 0 && (!r.Section || r.Fixed):
			c.fail(at+".brings", "section: true", "lines appear by themselves only in a section that is made")
		case r.Section && (r.Key != "" || len(r.Places) > 0):
			c.fail(at, "a rule of its own for each", "a section has neither a key nor places")
		case len(r.Places) > 0 && (len(r.Places) < 2 || r.Line.NumSubexp() < 2):
			c.fail(
				at+".places",
				`line: '^time source (\S+) (first|second)$'`,
				"a list needs the words of two places at least, and groups for the entry and its place",
			)
		}
	}
	if h := g.Harmless; h != "" {
		l := c.p.Language()
		switch {
		case l == nil:
			c.fail("language.harmless", "lines: with line: and away:", "it has no rules for lines")
		case len(l.Refuses(config.Want{Lines: []config.Line{{Text: h}}, NoOther: nil})) > 0 || l.Replaces(h):
			c.fail(
				"language.harmless",
				"a line that has a rule with away: and without a key",
				"%q cannot be put there and taken away without touching another line",
				h,
			)
		}
	}
	if sections && c.p.Config.Layout == "flat" {
		c.fail("language", "layout: indented", "the configuration is flat: it has no sections")
	}
}

// whole reports a pattern that does not fit whole lines.
func (c *checker) whole(path string, p Pattern) {
	if s := p.String(); !strings.HasPrefix(s, "^") || !strings.HasSuffix(s, "$") {
		c.fail(path, "^"+strings.Trim(s, "^$")+"$", "the pattern must fit the whole line, or others would pass for it")
	}
}
