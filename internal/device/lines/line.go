package lines

import (
	"context"
	"fmt"
	"strings"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// opened is a text of several lines that is being sent.
type opened struct {
	by  string // the line that began it
	end string // the one that ends it
}

// undecided is what is said of an answer that nothing in it decides about.
const undecided = "nothing in the answer refuses it"

// judge decides about an answer, and takes note of what decided.
func (s *Session) judge(line string, got []string, r profile.Rules) error {
	s.decided = undecided
	left := ""
	for _, l := range got {
		switch verdict, by := s.p.Verdict(l, r); verdict {
		case profile.RefusedLine:
			s.decided = fmt.Sprintf("refused: %s fits %q", by, l)
			return &driver.Refused{Line: s.Mask(line), Said: s.Mask(l)}
		case profile.HarmlessLine:
			s.decided = fmt.Sprintf("harmless: %s fits %q, which is set aside", by, l)
		default:
			if left == "" && strings.TrimSpace(l) != "" {
				left = l
			}
		}
	}
	if r.Done.Regexp != nil {
		i := profile.IndexMatch(got, r.Done)
		if i < 0 {
			s.decided = fmt.Sprintf("done: %s fits no line of the answer", r.Done)
			return &driver.Unclear{Asked: s.Mask(line), Got: s.Mask(strings.Join(got[max(0, len(got)-3):], " / "))}
		}
		s.decided = fmt.Sprintf("done: %s fits %q", r.Done, got[i])
	}
	if r.Silent {
		if left != "" {
			s.decided = fmt.Sprintf("silent: it answers %q, and a good line is answered by nothing", left)
			return &driver.Refused{Line: s.Mask(line), Said: s.Mask(left)}
		}
		s.decided += "; silent: it answers nothing"
	}
	return nil
}

// Line sends one line of a change. A refused line leaves the device in the
// mode it was in.
func (s *Session) Line(ctx context.Context, line string) error {
	if s.p.Config.Whole {
		return s.lineWhole(line)
	}
	if why := s.p.Unsendable(line); why != "" && s.broken == nil {
		return &driver.Refused{Line: s.Mask(line), Said: why + "; it was not sent"}
	}
	if s.mode != s.p.Config.Edit && s.broken == nil {
		return &driver.Unclear{Asked: s.Mask(line), Got: "it is in mode " + s.mode + ", where no line of a change belongs; nothing was sent"}
	}
	before := s.prompt
	got, err := s.say(ctx, line, nil)
	if err != nil {
		return err
	}
	if s.echoes && s.prompt == before {
		if again := s.redrawn(got); again != "" {
			return &driver.Unclear{Asked: s.Mask(line), Got: "the device drew the line again, as " + s.unlessSecret(line, again)}
		}
	}
	by := line
	if s.here != nil {
		by = s.here.by
	}
	if goesOn, err := s.goesOn(ctx, line); goesOn || err != nil {
		return err
	}
	proof := s.p.ProofOf(by)
	if err := s.judge(line, got, proof.Rules()); err != nil {
		return err
	}
	if s.mode != s.p.Config.Edit {
		return &driver.Unclear{Asked: s.Mask(line), Got: "the line led to mode " + s.mode}
	}
	return s.status(ctx, line, proof.Status)
}

// goesOn tells whether a line is a part of a text that is not ended yet, as it
// should be. A line that is not complete, and opens none, is called off.
func (s *Session) goesOn(ctx context.Context, line string) (bool, error) {
	if s.here == nil && s.open != "" {
		m := s.p.More.Opens.Find(line)
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
		return false, &driver.Unclear{Asked: s.Mask(line), Got: "the text that " + s.Mask(h.by) + " began ended before its last line, " + h.end}
	}
	return true, nil
}

// callOff calls off a line that waits for its rest.
func (s *Session) callOff(ctx context.Context, line string) error {
	asks := s.open
	s.here, s.open = nil, ""
	s.out.reset()
	s.log.Note("calling off a line that is not complete")
	if err := s.write(profile.Key(s.p.More.Cancel)); err != nil {
		return s.fail(err)
	}
	if err := s.wait(ctx, nil, nil); err != nil {
		return err
	}
	if s.open != "" {
		return s.fail(fmt.Errorf("it waits for the rest of a line, and cannot be called off"))
	}
	s.keepGot(s.out.lines)
	s.decided = fmt.Sprintf("continued: it showed %q", asks)
	return &driver.Refused{Line: s.Mask(line), Said: fmt.Sprintf("it waits for the rest of the line (%q): something in it is not closed; it was called off", asks)}
}

// status asks how a line went.
func (s *Session) status(ctx context.Context, line string, st profile.Status) error {
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
	if i := profile.IndexMatch(got, st.Good); i >= 0 {
		s.decided = fmt.Sprintf("status: %s fits %q", st.Good, got[i])
		return nil
	}
	said := strings.Join(got[:min(len(got), 3)], " / ")
	s.decided = fmt.Sprintf("status: %s does not fit %q", st.Good, said)
	if said == "" {
		return &driver.Unclear{Asked: s.Mask(line), Got: "no word on how it went, asked by " + st.Send}
	}
	return &driver.Refused{Line: s.Mask(line), Said: s.Mask("asked how it went, the device says " + said)}
}
