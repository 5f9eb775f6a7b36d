package lines

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/reach"
	"metabasis/internal/device/profile"
)

// Start takes over a byte stream on which a device has just been logged in to,
// or asks for the login: it waits for the first prompt, enters the privileged
// mode and turns the pager off. On an error, a [reach.Failure], the stream is
// closed.
func Start(ctx context.Context, p *profile.Profile, rw io.ReadWriteCloser, opt profile.Options) (*Session, error) {
	s := newSession(p, rw, opt)
	if f := s.begin(ctx); f != nil {
		_ = s.Close()
		return nil, f
	}
	return s, nil
}

func newSession(p *profile.Profile, rw io.ReadWriteCloser, opt profile.Options) *Session {
	s := &Session{Confided: profile.NewConfided(p, opt.Secrets), p: p, rw: rw, opt: opt, log: opt.Log, enterKey: "\n",
		chunks: make(chan []byte), quit: make(chan struct{}), asked: map[string]bool{}}
	if !opt.Translates {
		s.enterKey = profile.Enters[p.Connect.Enter]
	}
	go s.read()
	return s
}

func (s *Session) at(stage reach.Stage) {
	if s.opt.Watch != nil {
		s.opt.Watch(stage)
	}
}

// begin goes through the stages that lie inside the session.
func (s *Session) begin(ctx context.Context) *reach.Failure {
	if s.opt.Dialogue {
		s.at(reach.Login)
	} else {
		s.at(reach.Prompt)
	}
	err := s.wait(ctx, s.p.LoginAnswers(s.opt), nil)
	if f := s.denial(err); f != nil {
		return f
	}
	if err != nil {
		return s.failure(reach.Prompt, "logged in, then "+err.Error(), "see whether the prompt in its profile fits", err)
	}
	if s.opt.Dialogue {
		s.at(reach.Prompt)
	}
	s.log.Got(s.MaskEach(s.out.lines))
	if s.mode != s.p.Start {
		return s.failure(
			reach.Prompt,
			fmt.Sprintf("starts in mode %s, not %s", s.mode, s.p.Start),
			"an earlier session may have been left in it",
			nil,
		)
	}
	if s.p.Top != "" {
		s.at(reach.Privileged)
		if err := s.enter(ctx, s.p.Top); err != nil {
			return s.failure(reach.Privileged, err.Error(), "check the secret of mode "+s.p.Top+"; it was tried once", err)
		}
	}
	if s.p.Pager.Off.Send != "" {
		s.at(reach.Pager)
		if _, err := s.command(ctx, s.p.Pager.Off, nil); err != nil {
			return s.failure(reach.Pager, "its pager cannot be turned off: "+err.Error(), "see pager in its profile", err)
		}
	}
	return nil
}

// denial finds out whether the device denied the login in its dialogue.
func (s *Session) denial(err error) *reach.Failure {
	if !s.opt.Dialogue {
		return nil
	}
	no := errors.Is(err, driver.ErrDenied)
	for _, l := range append(slices.Clone(s.out.lines), string(clean(s.out.cur))) {
		no = no || slices.ContainsFunc(s.p.Connect.Denied, func(p profile.Pattern) bool { return p.Matches(l) })
	}
	fail := func(cause, remedy string, err error) *reach.Failure {
		f := s.failure(reach.Login, cause, remedy, err)
		f.Last = s.tail()
		return f
	}
	ended := errors.Is(err, io.EOF) || errors.Is(err, io.ErrClosedPipe)
	switch {
	case no:
		return s.failure(reach.Login, "login is denied", "check user and password; it was tried once", driver.ErrDenied)
	case err == nil:
		return nil
	case ended && !s.asked["password"]:
		return fail("ends the session before its login", "it may be out of sessions", err)
	case ended:
		return fail("ends the session after the login", "it may be out of sessions, or denies this user", err)
	case !s.asked["password"]:
		return fail("asks for no login that its profile knows", "see connect: login: in its profile", err)
	case len(s.out.cur) == 0 && s.lastIsQuestion():
		return s.failure(
			reach.Login,
			"took the password, then silent for "+s.p.Connect.Prompt.String(),
			"it may be overloaded or out of sessions",
			err,
		)
	}
	return nil
}

// lastIsQuestion tells whether nothing was printed since we answered the login.
func (s *Session) lastIsQuestion() bool {
	for i := len(s.out.lines) - 1; i >= 0; i-- {
		if l := s.out.lines[i]; strings.TrimSpace(l) != "" {
			return slices.ContainsFunc(s.p.Connect.Login, func(a profile.Answer) bool { return a.Question.Matches(l) })
		}
	}
	return true
}

func (s *Session) failure(stage reach.Stage, cause, remedy string, err error) *reach.Failure {
	f := &reach.Failure{Stage: stage, Remedy: remedy, Err: err}
	var silent *noPrompt
	switch {
	case errors.As(err, &silent) && silent.last != "":
		cause, f.Last = strings.TrimSuffix(cause, silent.saying()), silent.last
	case stage == reach.Prompt:
		f.Last = s.tail()
	}
	f.Cause = s.Mask(cause)
	if s.broken == nil {
		s.log.Note(s.Mask(f.Error()))
	}
	return f
}
