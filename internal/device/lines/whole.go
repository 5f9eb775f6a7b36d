package lines

import (
	"context"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/driver"
)

// Some platforms take only whole configurations: what they run is a file. Lines of a
// change are then not typed. They are carried out, by the rules of the platform's
// language, on the text that was read, and that is handed over as a whole: staged as a
// restore is, checked by the device's own checker, and applied.

// edited is a text that lines are carried out on.
type edited struct {
	text  string
	lines []string // that are carried out on it from the top on
}

// editWhole reads what runs, to be changed. What was changed before stays changed, and what
// follows begins at the top.
func (s *Session) editWhole(ctx context.Context) error {
	if s.whole == nil {
		text, err := s.Config(ctx, driver.Running)
		if err != nil {
			return err
		}
		s.whole = &edited{text: config.Alone(text)}
		return nil
	}
	text, err := s.rewritten()
	if err == nil {
		s.whole = &edited{text: text}
	}
	return err
}

// lineWhole carries out one line on the text.
func (s *Session) lineWhole(line string) error {
	l := s.p.Language()
	refuse := func(why string) error {
		s.decided = "refused: " + why
		return &driver.Refused{Line: s.Mask(line), Said: why + "; nothing was sent"}
	}
	switch {
	case s.broken != nil:
		return s.broken
	case s.whole == nil:
		return &driver.Unclear{Asked: s.Mask(line), Got: "no text is being changed; nothing was sent"}
	case l == nil:
		return refuse("its profile has no language: how a line changes its file is not known")
	}
	lines := append(s.whole.lines, line)
	if _, err := l.Predict(config.Parse(s.whole.text, s.p.Style()), lines); err != nil {
		return refuse("its language does not take it: " + s.Mask(err.Error()))
	}
	s.whole.lines = lines
	s.log.Note("carried out on the text: " + s.Mask(line))
	return nil
}

// Put makes of what is being changed a whole configuration.
func (s *Session) Put(_ context.Context, text string) error {
	switch {
	case s.broken != nil:
		return s.broken
	case !s.p.Config.Whole:
		return &driver.Refused{
			Line: "a whole file",
			Said: "the profile of " + s.p.Platform + " knows no way to put one in place; nothing was sent",
		}
	}
	s.log.Note(fmt.Sprintf("a whole file of %d lines is to be put in place", strings.Count(text, "\n")))
	s.whole = &edited{text: text}
	return nil
}

// rewritten is the text with its lines carried out.
func (s *Session) rewritten() (string, error) {
	if len(s.whole.lines) == 0 {
		return s.whole.text, nil
	}
	to, err := s.p.Language().Predict(config.Parse(s.whole.text, s.p.Style()), s.whole.lines)
	if err != nil {
		return "", &driver.Refused{Line: "the file", Said: s.Mask(err.Error())}
	}
	text, err := config.Rewrite(s.whole.text, s.p.Style(), to)
	if err != nil {
		return "", &driver.Refused{Line: "the file", Said: s.Mask(err.Error()) + "; nothing was sent"}
	}
	return text, nil
}

// applyWhole hands the text over, has it checked and applies it: on trial for a time,
// where that is the way back.
func (s *Session) applyWhole(ctx context.Context, trial time.Duration) error {
	if s.whole != nil {
		text, err := s.rewritten()
		if err != nil {
			return err
		}
		if err := s.stage(ctx, text); err != nil {
			return fmt.Errorf("handing the file over: %w", err)
		}
	}
	check, apply := s.p.Config.Check, s.p.Config.Apply
	if s.p.OnTrial() {
		check, apply = s.p.Trial.Check, s.p.Trial.Apply
	}
	if check.Send != "" {
		if _, err := s.command(ctx, check, nil); err != nil {
			return fmt.Errorf("its own check: %w", err)
		}
	}
	if err := s.timed(ctx, apply, trial); err != nil {
		return err
	}
	s.whole = nil
	return nil
}
