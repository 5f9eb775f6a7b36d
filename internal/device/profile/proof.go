package profile

import (
	"context"
	"fmt"
	"regexp"
	"strings"

	"metabasis/internal/core/run"
)

// Proof is how it is known that a line of a change did what it should, where
// that a device says nothing against it is not enough. The first one whose match
// fits the line counts. All that it names must be so.
type Proof struct {
	Match    Pattern   `yaml:"match"`  // the lines it is for; not given: all
	Status   Status    `yaml:"status"` // asked after the line
	Silent   bool      `yaml:"silent"` // a good line is answered by nothing
	Done     Pattern   `yaml:"done"`   // a good line is answered by such a line
	Refused  []Pattern `yaml:"refused"`
	Harmless []Pattern `yaml:"harmless"`
}

// Status is a question about how the line before it went.
type Status struct {
	Send string  `yaml:"send"`
	Good Pattern `yaml:"good"` // what a line of the answer looks like when all is well
}

// Continued is how a device shows that it waits for the rest of a line.
type Continued struct {
	Prompt Pattern `yaml:"prompt"`
	Cancel string  `yaml:"cancel"` // the key that calls the line off
	// Opens is a line that begins a text of several lines; its group "end" is the
	// line that ends it. Any other line that is not complete is called off.
	Opens Pattern `yaml:"opens"`
}

// opened is a text of several lines that is being sent.
type opened struct {
	by  string // the line that began it
	end string // the one that ends it
}

// rules decide about one answer. For each of its lines the first pattern that fits
// counts, in this order: harmless and refused of the command or line itself, then
// harmless and refused of the platform. One refused line refuses. Then, of what is
// asked for, done must fit a line, and a silent answer must have none left.
type rules struct {
	harmless, refused []Pattern
	done              Pattern
	silent            bool
}

func (c Command) rules() rules {
	return rules{harmless: c.Harmless, refused: c.Refused, done: c.Done}
}

func (p Proof) rules() rules {
	return rules{harmless: p.Harmless, refused: p.Refused, done: p.Done, silent: p.Silent}
}

// proofOf finds the proof of a line.
func (p *Profile) proofOf(line string) Proof {
	for _, proof := range p.Lines {
		if proof.Match.Regexp == nil || proof.Match.matches(line) {
			return proof
		}
	}
	return Proof{}
}

// undecided is what is said of an answer that nothing in it decides about.
const undecided = "nothing in the answer refuses it"

// judge decides about an answer, and takes note of what decided.
func (s *Session) judge(line string, got []string, r rules) error {
	s.decided = undecided
	left := ""
	for _, l := range got {
		switch verdict, by := s.p.verdict(l, r); verdict {
		case refusedLine:
			s.decided = fmt.Sprintf("refused: %s fits %q", by, l)
			return &run.Refused{Line: s.Mask(line), Said: s.Mask(l)}
		case harmlessLine:
			s.decided = fmt.Sprintf("harmless: %s fits %q, which is set aside", by, l)
		default:
			if left == "" && strings.TrimSpace(l) != "" {
				left = l
			}
		}
	}
	if r.done.Regexp != nil {
		i := indexMatch(got, r.done)
		if i < 0 {
			s.decided = fmt.Sprintf("done: %s fits no line of the answer", r.done)
			return &run.Unclear{Asked: s.Mask(line), Got: s.Mask(strings.Join(got[max(0, len(got)-3):], " / "))}
		}
		s.decided = fmt.Sprintf("done: %s fits %q", r.done, got[i])
	}
	if r.silent {
		if left != "" {
			s.decided = fmt.Sprintf("silent: it answers %q, and a good line is answered by nothing", left)
			return &run.Refused{Line: s.Mask(line), Said: s.Mask(left)}
		}
		s.decided += "; silent: it answers nothing"
	}
	return nil
}

func indexMatch(lines []string, p Pattern) int {
	for i, l := range lines {
		if p.matches(l) {
			return i
		}
	}
	return -1
}

type lineVerdict byte

const (
	openLine lineVerdict = iota
	harmlessLine
	refusedLine
)

// verdict decides about one line of an answer; by is the pattern that did.
func (p *Profile) verdict(l string, r rules) (v lineVerdict, by *regexp.Regexp) {
	for _, step := range []struct {
		of []Pattern
		v  lineVerdict
	}{{r.harmless, harmlessLine}, {r.refused, refusedLine}, {p.Harmless, harmlessLine}, {p.Refused, refusedLine}} {
		for _, pattern := range step.of {
			if pattern.matches(l) {
				return step.v, pattern.Regexp
			}
		}
	}
	return openLine, nil
}

// Line sends one line of a change. A refused line leaves the device in the
// mode it was in.
func (s *Session) Line(ctx context.Context, line string) error {
	if s.p.Config.Whole {
		return s.lineWhole(line)
	}
	if why := s.p.Unsendable(line); why != "" && s.broken == nil {
		return &run.Refused{Line: s.Mask(line), Said: why + "; it was not sent"}
	}
	if s.mode != s.p.Config.Edit && s.broken == nil {
		return &run.Unclear{Asked: s.Mask(line), Got: "it is in mode " + s.mode + ", where no line of a change belongs; nothing was sent"}
	}
	before := s.prompt
	got, err := s.say(ctx, line, nil)
	if err != nil {
		return err
	}
	if s.echoes && s.prompt == before {
		if again := s.redrawn(got); again != "" {
			return &run.Unclear{Asked: s.Mask(line), Got: "the device drew the line again, as " + s.unlessSecret(line, again)}
		}
	}
	by := line
	if s.here != nil {
		by = s.here.by
	}
	if goesOn, err := s.goesOn(ctx, line); goesOn || err != nil {
		return err
	}
	proof := s.p.proofOf(by)
	if err := s.judge(line, got, proof.rules()); err != nil {
		return err
	}
	if s.mode != s.p.Config.Edit {
		return &run.Unclear{Asked: s.Mask(line), Got: "the line led to mode " + s.mode}
	}
	return s.status(ctx, line, proof.Status)
}

// goesOn tells whether a line is a part of a text that is not ended yet, as it
// should be. A line that is not complete, and opens none, is called off.
func (s *Session) goesOn(ctx context.Context, line string) (bool, error) {
	if s.here == nil && s.open != "" {
		m := s.p.More.Opens.find(line)
		if m == nil {
			return false, s.callOff(ctx, line)
		}
		s.here = &opened{by: line, end: m[s.p.More.Opens.SubexpIndex("end")]}
		return true, nil
	}
	if s.here == nil {
		return false, nil
	}
	h := s.here
	switch over := strings.TrimLeft(line, "\t") == h.end; {
	case over && s.open == "":
		s.here = nil
		return false, nil
	case over:
		return false, s.callOff(ctx, line)
	case s.open == "":
		s.here = nil
		return false, &run.Unclear{Asked: s.Mask(line), Got: "the text that " + s.Mask(h.by) + " began ended before its last line, " + h.end}
	}
	return true, nil
}

// callOff calls off a line that waits for its rest.
func (s *Session) callOff(ctx context.Context, line string) error {
	asks := s.open
	s.here, s.open = nil, ""
	s.out.reset()
	s.log.Note("calling off a line that is not complete")
	if err := s.write(key(s.p.More.Cancel)); err != nil {
		return s.fail(err)
	}
	if err := s.wait(ctx, nil, nil); err != nil {
		return err
	}
	if s.open != "" {
		return s.fail(fmt.Errorf("it waits for the rest of a line, and cannot be called off"))
	}
	s.log.Got(s.masked(s.out.lines))
	s.decided = fmt.Sprintf("continued: it showed %q", asks)
	return &run.Refused{Line: s.Mask(line), Said: fmt.Sprintf("it waits for the rest of the line (%q): something in it is not closed; it was called off", asks)}
}

// status asks how a line went.
func (s *Session) status(ctx context.Context, line string, st Status) error {
	if st.Send == "" {
		return nil
	}
	got, err := s.say(ctx, st.Send, nil)
	if err != nil {
		return err
	}
	if s.open != "" {
		return s.callOff(ctx, st.Send)
	}
	if i := indexMatch(got, st.Good); i >= 0 {
		s.decided = fmt.Sprintf("status: %s fits %q", st.Good, got[i])
		return nil
	}
	said := strings.Join(got[:min(len(got), 3)], " / ")
	s.decided = fmt.Sprintf("status: %s does not fit %q", st.Good, said)
	if said == "" {
		return &run.Unclear{Asked: s.Mask(line), Got: "no word on how it went, asked by " + st.Send}
	}
	return &run.Refused{Line: s.Mask(line), Said: s.Mask("asked how it went, the device says " + said)}
}
