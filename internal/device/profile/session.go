package profile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/reach"
	"metabasis/internal/core/run"
)

// Transcript keeps what was said between us and one device. What it is given is
// masked already.
type Transcript interface {
	// Sent is a line of ours, behind the prompt it was an answer to.
	Sent(prompt, line string)
	// Got is lines of the device's.
	Got(lines []string)
	// Note is a remark of ours, such as that contact was lost.
	Note(text string)
}

// Session works one device as its profile says. It implements [run.Session]
// and is used by one goroutine at a time.
type Session struct {
	p        *Profile
	rw       io.ReadWriteCloser
	opt      Options
	secrets  map[string]string
	log      Transcript
	enterKey string
	chunks   chan []byte
	quit     chan struct{}
	readErr  error // set before chunks is closed
	out      printed
	last     exchange
	mode     string
	prompt   string          // the prompt that stands there now
	host     string          // the name in it
	met      []string        // questions and pages met by the last command
	asked    map[string]bool // questions that one command, or the login, may answer once and has
	broken   error           // why the session is of no more use
}

// exchange is what was said last and what came back, without the echo.
type exchange struct {
	sent string
	got  []string
}

var _ run.Session = (*Session)(nil)

// Options are what a session needs beside a profile and a stream.
type Options struct {
	User    string
	Secrets map[string]string // by the names the profile uses, and "password"
	Log     Transcript
	Watch   func(reach.Stage) // is told of each stage as it begins; may be nil
	// Try is asked before a secret other than the login's password may be sent;
	// done is told what came of it, nil when the device was content. It keeps a
	// wrong secret from meeting a whole fleet. It may wait. nil allows all.
	Try func(ctx context.Context, secret string) (done func(error), err error)
	// Dialogue tells that the device asks for the login in the session itself.
	Dialogue bool
	// Translates tells that the stream makes ends of line of line feeds itself.
	Translates bool
	// Gently tells that the device must end the session before the connection
	// is closed, or it keeps it.
	Gently bool
}

// enters are the ways to end a line.
var enters = map[string]string{"": "\n", "lf": "\n", "cr": "\r", "crlf": "\r\n"}

// Host is the device's own name, as its prompt says; "" when it says none.
func (s *Session) Host() string {
	name := clean([]byte(s.host))
	return strings.ToValidUTF8(name[:min(len(name), 64)], "")
}

// read passes on what arrives until the stream ends. It is the only reader.
func (s *Session) read() {
	defer close(s.chunks)
	buf := make([]byte, 4<<10)
	for {
		n, err := s.rw.Read(buf)
		if n > 0 {
			select {
			case s.chunks <- slices.Clone(buf[:n]):
			case <-s.quit:
				return
			}
		}
		if err != nil {
			s.readErr = err
			return
		}
	}
}

// settling is how long a prompt under another host name must stand before it
// is believed: output may look like a prompt, a renamed device has one.
const settling = 200 * time.Millisecond

// wait waits until a known prompt stands there, answering the questions it was
// told of. With ready, it waits for a line that matches instead. It is bounded
// by the profile's time since the last sign of life, ten times that in all, and
// in size.
func (s *Session) wait(ctx context.Context, answers []Answer, ready *Pattern) error {
	within := s.p.Connect.Prompt
	start := time.Now()
	idle := time.NewTimer(within)
	defer idle.Stop()
	seen := 0
	for {
		settle := false
		if ready != nil {
			for ; seen < len(s.out.lines); seen++ {
				if ready.matches(s.out.lines[seen]) {
					return nil
				}
			}
		}
		if len(s.out.cur) > 0 {
			known, sure, err := s.stands(answers)
			if err != nil {
				return s.fail(err)
			}
			if known && sure {
				return nil
			}
			settle = known
		}
		if settle {
			idle.Reset(settling)
		} else {
			idle.Reset(within)
		}
		select {
		case b, ok := <-s.chunks:
			if !ok {
				return s.fail(fmt.Errorf("the session ended: %w", orEOF(s.readErr)))
			}
			if !s.out.write(b) {
				return s.fail(fmt.Errorf("it printed more than %d MB", maxPrinted>>20))
			}
			if time.Since(start) > 10*within {
				return s.fail(fmt.Errorf("no prompt in %s although it keeps printing", 10*within))
			}
		case <-idle.C:
			if settle {
				s.accept()
				return nil
			}
			return s.fail(&noPrompt{within, s.tail()})
		case <-ctx.Done():
			return s.fail(fmt.Errorf("waiting for a prompt: %w", ctx.Err()))
		}
	}
}

// noPrompt is a device that shows no prompt we know and says nothing more.
type noPrompt struct {
	within time.Duration
	last   string // what it printed last
}

func (e *noPrompt) Error() string { return "no prompt in " + e.within.String() + e.saying() }

func (e *noPrompt) saying() string { return fmt.Sprintf("; last: %q", e.last) }

func orEOF(err error) error {
	if err == nil {
		return io.EOF
	}
	return err
}

// stands looks what the incomplete line is: a prompt (known), and whether under
// the name we know (sure); the pager or a question are answered on the spot.
func (s *Session) stands(answers []Answer) (known, sure bool, err error) {
	if s.prompt != "" && string(s.out.cur) == s.prompt {
		return true, true, nil // as before, which is the usual case
	}
	if len(s.out.cur) > maxPrompt {
		return false, false, nil
	}
	cur := string(s.out.cur)
	if mode, host := s.p.promptOf(cur); mode != "" {
		if s.host != "" && host != s.host {
			return true, false, nil
		}
		s.mode, s.prompt, s.host = mode, cur, host
		return true, true, nil
	}
	if s.p.Pager.More.matches(cur) {
		s.out.cur = s.out.cur[:0]
		s.met = append(s.met, "pager: "+cur)
		return false, false, s.write(s.p.Pager.Next)
	}
	for _, a := range answers {
		if a.Question.matches(cur) {
			if a.once || a.Secret != "" { // a wrong secret is not sent twice
				key := a.Secret
				if key == "" {
					key = a.Question.String()
				}
				if s.asked[key] { // it asks again: it did not like the answer
					return false, false, fmt.Errorf("it asks %q again: %w", cur, run.ErrDenied)
				}
				s.asked[key] = true
			}
			s.out.lines = append(s.out.lines, clean(s.out.cur))
			s.out.cur = s.out.cur[:0]
			s.met = append(s.met, "question: "+cur)
			say := a.Send
			if a.Secret != "" {
				v, ok := s.secrets[a.Secret]
				if !ok {
					return false, false, fmt.Errorf("it asks %q, and there is no secret named %q for it", cur, a.Secret)
				}
				say = v
			}
			return false, false, s.write(say + s.enterKey)
		}
	}
	return false, false, nil
}

// maxPrompt is the longest a prompt or a question may be, in bytes.
const maxPrompt = 1024

// accept takes the prompt that stands there as ours, whatever its name.
func (s *Session) accept() {
	cur := string(s.out.cur)
	if mode, host := s.p.promptOf(cur); mode != "" {
		s.mode, s.prompt, s.host = mode, cur, host
	}
}

// promptOf finds the mode that a line is the prompt of, and the host name in
// it; "" when it is none.
func (p *Profile) promptOf(line string) (mode, host string) {
	for _, name := range p.order {
		re := p.Modes[name].Prompt
		if m := re.FindStringSubmatch(line); m != nil {
			if i := re.SubexpIndex("host"); i > 0 {
				host = m[i]
			}
			return name, host
		}
	}
	return "", ""
}

func (s *Session) tail() string {
	t := string(clean(s.out.cur))
	if t == "" && len(s.out.lines) > 0 {
		t = s.out.lines[len(s.out.lines)-1]
	}
	return s.Mask(t[max(0, len(t)-80):])
}

// fail marks the session as of no more use.
func (s *Session) fail(err error) error {
	if s.broken == nil {
		s.broken = err
		s.log.Got(s.masked(s.out.lines))
		s.log.Note(s.Mask(err.Error()))
	}
	return err
}

// say sends a line and returns what the device printed before its next prompt,
// without the echo.
func (s *Session) say(ctx context.Context, line string, answers []Answer) ([]string, error) {
	if s.broken != nil {
		return nil, s.broken
	}
	if strings.ContainsAny(line, "\r\n") {
		return nil, &run.Refused{Line: s.Mask(line), Said: "a line must be one line; it was not sent"}
	}
	for _, secret := range s.p.secretsIn(line) { // the device may say it back to us
		s.hide("in a line: "+secret, secret)
	}
	s.out.reset()
	s.met = nil
	s.last = exchange{sent: line}
	clear(s.asked)
	s.log.Sent(s.Mask(s.prompt), s.Mask(line))
	if err := s.write(line + s.enterKey); err != nil {
		return nil, s.fail(err)
	}
	if err := s.wait(ctx, answers, nil); err != nil {
		return nil, err
	}
	got := s.out.lines
	if len(got) > 0 && strings.TrimSpace(got[0]) == strings.TrimSpace(line) {
		got = got[1:]
	}
	s.last.got = got
	s.log.Got(s.masked(got))
	return got, nil
}

// refusal finds a line that says no.
func (s *Session) refusal(line string, got []string) error {
	for _, l := range got {
		for _, p := range s.p.Refused {
			if p.matches(l) {
				return &run.Refused{Line: s.Mask(line), Said: s.Mask(l)}
			}
		}
	}
	return nil
}

// command says something in its mode and checks the answer.
func (s *Session) command(ctx context.Context, c Command, vars map[string]string) ([]string, error) {
	if err := s.enter(ctx, c.In); err != nil {
		return nil, err
	}
	line := fill(c.Send, vars)
	got, err := s.say(ctx, line, c.Answers)
	if err != nil {
		return nil, err
	}
	return got, s.checked(line, c, got)
}

func (s *Session) checked(line string, c Command, got []string) error {
	if err := s.refusal(line, got); err != nil {
		return err
	}
	if c.Done.Regexp != nil && !slices.ContainsFunc(got, c.Done.matches) {
		return &run.Unclear{Asked: line, Got: s.Mask(strings.Join(got[max(0, len(got)-3):], " / "))}
	}
	if s.mode != c.In {
		return &run.Unclear{Asked: line, Got: "now in mode " + s.mode + ", not " + c.In}
	}
	return nil
}

func fill(text string, vars map[string]string) string {
	for k, v := range vars {
		text = strings.ReplaceAll(text, "<<"+k+">>", v)
	}
	return text
}

// enter goes to a mode, step by step; each is confirmed by its prompt.
func (s *Session) enter(ctx context.Context, mode string) error {
	if s.broken != nil {
		return s.broken
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
func (s *Session) step(ctx context.Context, next string, c Command) (err error) {
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
	if err := s.refusal(c.Send, got); err != nil {
		return err
	}
	if s.mode != next {
		return &run.Unclear{Asked: c.Send, Got: "in mode " + s.mode + ", not " + next}
	}
	return nil
}

// towards is the next mode on the way and the command that leads there: down
// where the goal lies below, else up.
func (s *Session) towards(goal string) (string, Command) {
	for at := goal; at != ""; at = s.p.Modes[at].From {
		if s.p.Modes[at].From == s.mode {
			return at, s.p.Modes[at].Enter
		}
	}
	m := s.p.Modes[s.mode]
	return m.From, m.Leave
}

var errNoRestore = errors.New("its profile knows no way to restore a configuration")
