package profile

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

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
	p       *Profile
	rw      io.ReadWriteCloser
	secrets map[string]string
	log     Transcript
	chunks  chan []byte
	quit    chan struct{}
	readErr error // set before chunks is closed
	out     printed
	mode    string
	prompt  string // the prompt that stands there now
	host    string // the name in it
	broken  error  // why the session is of no more use
}

var _ run.Session = (*Session)(nil)

// Start takes over a byte stream on which a device has just been logged in to:
// it waits for the first prompt and turns the pager off. Secrets are by the
// names the profile uses. On an error the stream is closed.
func Start(ctx context.Context, p *Profile, rw io.ReadWriteCloser, secrets map[string]string, log Transcript) (*Session, error) {
	s := &Session{p: p, rw: rw, secrets: maps.Clone(secrets), log: log, chunks: make(chan []byte), quit: make(chan struct{})}
	go s.read()
	if err := s.begin(ctx); err != nil {
		_ = s.Close()
		return nil, err
	}
	return s, nil
}

func (s *Session) begin(ctx context.Context) error {
	if err := s.wait(ctx, nil, nil); err != nil {
		return fmt.Errorf("logged in, then %w", err)
	}
	s.log.Got(s.masked(s.out.lines))
	if s.mode != s.p.login {
		return fmt.Errorf("logged in, then in mode %s, not %s", s.mode, s.p.login)
	}
	if s.p.Pager.Off.Send != "" {
		if _, err := s.command(ctx, s.p.Pager.Off, nil); err != nil {
			return fmt.Errorf("turning the pager off: %w", err)
		}
	}
	return nil
}

// read passes on what arrives until the stream ends. It is the only reader.
func (s *Session) read() {
	defer close(s.chunks)
	buf := make([]byte, 16<<10)
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

// Close ends the session the way the device wants it.
func (s *Session) Close() error {
	select {
	case <-s.quit:
		return nil
	default:
	}
	if m, ok := s.p.Modes[s.mode]; ok && s.broken == nil && s.mode != s.p.Config.Edit {
		if m.Quit == "" {
			m = s.p.Modes[s.p.login]
		}
		if m.Quit != "" {
			_, _ = io.WriteString(s.rw, m.Quit+"\n")
		}
	}
	close(s.quit)
	err := s.rw.Close()
	for range s.chunks { // until the reader has ended
	}
	return err
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
			return s.fail(fmt.Errorf("no prompt in %s; last: %q", within, s.tail()))
		case <-ctx.Done():
			return s.fail(fmt.Errorf("waiting for a prompt: %w", ctx.Err()))
		}
	}
}

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
		return false, false, s.write(s.p.Pager.Next)
	}
	for _, a := range answers {
		if a.Question.matches(cur) {
			s.out.lines = append(s.out.lines, clean(s.out.cur))
			s.out.cur = s.out.cur[:0]
			say := a.Send
			if a.Secret != "" {
				v, ok := s.secrets[a.Secret]
				if !ok {
					return false, false, fmt.Errorf("it asks %q, and there is no secret named %q for it", cur, a.Secret)
				}
				say = v
			}
			return false, false, s.write(say + "\n")
		}
	}
	return false, false, nil
}

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

func (s *Session) write(text string) error {
	if _, err := io.WriteString(s.rw, text); err != nil {
		return fmt.Errorf("the session ended: %w", err)
	}
	return nil
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
		if s.secrets == nil {
			s.secrets = map[string]string{}
		}
		s.secrets["in a line: "+secret] = secret
	}
	s.out.reset()
	s.log.Sent(s.Mask(s.prompt), s.Mask(line))
	if err := s.write(line + "\n"); err != nil {
		return nil, s.fail(err)
	}
	if err := s.wait(ctx, answers, nil); err != nil {
		return nil, err
	}
	got := s.out.lines
	if len(got) > 0 && strings.TrimSpace(got[0]) == strings.TrimSpace(line) {
		got = got[1:]
	}
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
		got, err := s.say(ctx, c.Send, c.Answers)
		if err != nil {
			return fmt.Errorf("entering mode %s: %w", next, err)
		}
		if err := s.refusal(c.Send, got); err != nil {
			return fmt.Errorf("entering mode %s: %w", next, err)
		}
		if s.mode != next {
			return &run.Unclear{Asked: c.Send, Got: "in mode " + s.mode + ", not " + next}
		}
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

// Mask takes secrets out of text: the values we know, and what the profile
// says looks like one.
func (s *Session) Mask(text string) string {
	for _, v := range s.secrets {
		if len(v) > 2 {
			text = strings.ReplaceAll(text, v, masked)
		}
	}
	return s.p.Mask(text)
}

func (s *Session) masked(lines []string) []string {
	out := make([]string, len(lines))
	for i, l := range lines {
		out[i] = s.Mask(l)
	}
	return out
}

const masked = "▒▒▒▒"

// Mask takes out of one line what the profile says is a secret.
func (p *Profile) Mask(line string) string {
	for _, secret := range p.secretsIn(line) {
		line = strings.ReplaceAll(line, secret, masked)
	}
	return line
}

// secretsIn finds what the profile says is a secret in one line: the groups of
// its patterns, or all of what they match.
func (p *Profile) secretsIn(line string) (out []string) {
	line = strings.TrimLeft(line, " ")
	for _, re := range p.Config.Secrets {
		m := re.find(line)
		if m == nil {
			continue
		}
		if len(m) > 1 {
			m = m[1:]
		}
		for _, secret := range m {
			if secret != "" {
				out = append(out, secret)
			}
		}
	}
	return out
}

var errNoRestore = errors.New("its profile knows no way to restore a configuration")
