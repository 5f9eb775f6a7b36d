package lines

import (
	"context"
	"fmt"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// enter goes to a mode, step by step; each is confirmed by its prompt.
func (s *Session) enter(ctx context.Context, mode string) error {
	if s.broken != nil {
		return s.broken
	}
	if s.here != nil { // a text was left in its midst
		if err := s.callOff(ctx, s.here.by); s.broken != nil {
			return err
		}
	}
	for s.mode != mode {
		next, c := s.towards(mode)
		if c.Send == "" {
			return fmt.Errorf("there is no way from mode %s to %s", s.mode, mode)
		}
		if err := s.step(ctx, next, c); err != nil {
			return fmt.Errorf("entering mode %s: %w", next, err)
		}
	}
	return nil
}

// step goes to the next mode.
func (s *Session) step(ctx context.Context, next string, c profile.Command) (err error) {
	for _, a := range c.Answers {
		if a.Secret == "" || s.opt.Try == nil {
			continue
		}
		done, err2 := s.opt.Try(ctx, a.Secret)
		if err2 != nil {
			return err2
		}
		defer func() { done(err) }()
	}
	got, err := s.say(ctx, c.Send, c.Answers)
	if err != nil {
		return err
	}
	if err := s.judge(c.Send, got, c.Rules()); err != nil {
		return err
	}
	if s.mode != next {
		return &driver.Unclear{Asked: c.Send, Got: "in mode " + s.mode + ", not " + next}
	}
	return nil
}

// towards is the next mode on the way and the command that leads there: down
// where the goal lies below, else up.
func (s *Session) towards(goal string) (string, profile.Command) {
	for at := goal; at != ""; at = s.p.Modes[at].From {
		if s.p.Modes[at].From == s.mode {
			return at, s.p.Modes[at].Enter
		}
	}
	m := s.p.Modes[s.mode]
	return m.From, m.Leave
}
