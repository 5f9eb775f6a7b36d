package lines

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
)

// say sends a line and returns what the device printed before its next prompt,
// without the echo. Where the device is known to echo, and said back something
// else than was sent, that is an [driver.Unclear].
func (s *Session) say(ctx context.Context, line string, answers []profile.Answer) ([]string, error) {
	if s.broken != nil {
		return nil, s.broken
	}
	keys, err := s.p.Typing(line)
	if err != nil {
		return nil, &driver.Refused{Line: s.Mask(line), Said: err.Error() + "; it was not sent"}
	}
	for _, secret := range s.p.SecretsIn(line) { // the device may say it back to us
		s.HideAs("in a line: "+secret, secret)
	}
	s.out.reset()
	s.met, s.early, s.open, s.decided = nil, nil, "", ""
	s.last = exchange{sent: line}
	clear(s.asked)
	s.listen(line)
	defer func() { s.echo = nil }()
	s.log.Sent(s.Mask(s.prompt), s.Mask(line))
	if err := s.typeOut(ctx, line, keys); err != nil {
		return nil, s.fail(err)
	}
	if err := s.wait(ctx, answers, nil); err != nil {
		return nil, err
	}
	s.last.got = s.out.lines
	s.keepGot(append(s.early, s.last.got...))
	return s.last.got, s.heard(line)
}

// keepGot puts what came into the transcript, without secrets. Of what came in the place of
// a line that holds one, nothing is kept where it was not said back as it is: it may be the
// secret with a character less, and no pattern knows that.
func (s *Session) keepGot(lines []string) {
	line := s.last.sent
	if s.confides(line) && s.echo != nil && s.echo.strict && s.echo.state != echoSame {
		s.log.Note("what came back is not kept: the line holds a secret, and was not said back as it is")
		return
	}
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = s.Mask(s.Typed(line, l))
	}
	s.log.Got(out)
}

// A line that may be longer than a row is typed in pieces where it is said back: a
// line editor that scrolls sideways would else show no more than its end. Each piece
// is waited for a moment.
const (
	rowOfOurs   = 200
	pieceOfLine = 100
	pieceShown  = time.Second
)

// typeOut types a line, and ends it.
func (s *Session) typeOut(ctx context.Context, line, keys string) error {
	if s.echo == nil || len(s.prompt)+len(line) <= rowOfOurs {
		return s.write(keys + s.enterKey)
	}
	s.echo.typed = 0
	silent := false
	for piece := range slices.Chunk([]rune(line), pieceOfLine) {
		keys, err := s.p.Typing(string(piece))
		if err != nil {
			return err
		}
		s.echo.typed = min(s.echo.typed+len(string(piece)), len(s.echo.line))
		if err := s.write(keys); err != nil {
			return err
		}
		if silent { // it says nothing back, or not so soon
			continue
		}
		if silent, err = s.pieceBack(ctx); err != nil {
			return err
		}
	}
	return s.write(s.enterKey)
}

// pieceBack waits until a piece is said back; it is silent when nothing comes.
func (s *Session) pieceBack(ctx context.Context) (silent bool, err error) {
	idle := time.NewTimer(pieceShown)
	defer idle.Stop()
	for s.echo.state == echoPending && s.echo.shown() < s.echo.typed {
		select {
		case b, open := <-s.chunks:
			if !open {
				return false, fmt.Errorf("the session ended: %w", orEOF(s.readErr))
			}
			if !s.take(b) {
				return false, fmt.Errorf("it printed more than %d MB", maxPrinted>>20)
			}
			idle.Reset(pieceShown)
		case <-idle.C:
			return true, nil
		case <-ctx.Done():
			return false, fmt.Errorf("typing a line: %w", ctx.Err())
		}
	}
	return false, nil
}

// listen gets ready for the echo of a line.
func (s *Session) listen(line string) {
	s.echo = nil
	if s.p.Connect.Echo != profile.EchoNo {
		s.echo = newEcho(line, s.prompt, s.p.Connect.Echo == profile.EchoYes || s.echoes)
	}
}

// heard looks at the echo of a line.
func (s *Session) heard(line string) error {
	e := s.echo
	if e == nil {
		return nil
	}
	if e.state == echoSame {
		s.echoes = true
		return nil
	}
	if !e.strict {
		return nil
	}
	s.last.typed = "nothing"
	if len(s.last.got) > 0 {
		s.last.typed = strings.TrimPrefix(s.last.got[0], s.prompt)
	}
	s.last.typed = s.unlessSecret(line, s.last.typed)
	return &driver.Unclear{Asked: s.Mask(line), Got: "what the device says back is not what was sent: " + s.last.typed}
}

// confides tells whether a line holds a secret.
func (s *Session) confides(line string) bool { return s.Mask(line) != line }

// unlessSecret is what came in the place of a line, to be shown.
func (s *Session) unlessSecret(line, came string) string {
	if s.confides(line) {
		return "something else, which is not shown since the line holds a secret"
	}
	return s.Mask(came)
}

// redrawn finds a row of an answer in which the device drew its prompt and a line
// again: its line editor did something with a key of ours.
func (s *Session) redrawn(got []string) string {
	for _, l := range got {
		if rest, again := strings.CutPrefix(l, s.prompt); again && s.prompt != "" && strings.TrimSpace(rest) != "" {
			return rest
		}
	}
	return ""
}

// command says something in its mode and checks the answer.
func (s *Session) command(ctx context.Context, c profile.Command, vars map[string]string) ([]string, error) {
	if err := s.enter(ctx, c.In); err != nil {
		return nil, err
	}
	line := fill(c.Send, vars)
	got, err := s.say(ctx, line, c.Answers)
	if err != nil {
		return got, err
	}
	if s.open != "" {
		return got, s.callOff(ctx, line)
	}
	return got, s.checked(line, c, got)
}

func (s *Session) checked(line string, c profile.Command, got []string) error {
	if err := s.judge(line, got, c.Rules()); err != nil {
		return err
	}
	if s.mode != c.In {
		return &driver.Unclear{Asked: line, Got: "now in mode " + s.mode + ", not " + c.In}
	}
	return nil
}

func fill(text string, vars map[string]string) string {
	for k, v := range vars {
		text = strings.ReplaceAll(text, "<<"+k+">>", v)
	}
	return text
}
