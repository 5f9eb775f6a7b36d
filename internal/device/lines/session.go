package lines

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/identity"
	"metabasis/internal/device/profile"
)

// Session works one device as its profile says. It implements [driver.Session]
// and is used by one goroutine at a time.
type Session struct {
	profile.Confided
	p        *profile.Profile
	rw       io.ReadWriteCloser
	opt      profile.Options
	log      profile.Transcript
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
	echo     *echo           // of the line that was sent last; nil when none is looked for
	echoes   bool            // the device is known to echo
	early    []string        // what came before the echo
	open     string          // what stands there asks for the rest of a line
	pouring  bool            // a long text is being sent: it asks for the rest at each line
	patience time.Duration   // longer than the profile's own, for a command that takes its time
	here     *opened         // a text that a line began and that is not ended yet
	whole    *edited         // a text that is being changed, where only whole ones are taken
	decided  string          // what decided about the last answer
	broken   error           // why the session is of no more use
}

// exchange is what was said last and what came back, without the echo.
type exchange struct {
	sent  string
	got   []string
	typed string // what came in place of the echo; "" when that was the line
}

var (
	_ driver.Session  = (*Session)(nil)
	_ driver.Trial    = (*Session)(nil)
	_ driver.Putter   = (*Session)(nil)
	_ driver.Restorer = (*Session)(nil)
	_ driver.Saver    = (*Session)(nil)
)

// Host is the device's own name, as its prompt says; "" when it says none.
func (s *Session) Host() string {
	name := clean([]byte(s.host))
	return strings.ToValidUTF8(name[:min(len(name), 64)], "")
}

// Who says who the device says it is.
func (s *Session) Who(ctx context.Context) (identity.Seen, error) {
	return s.p.Who(ctx, s.Host(), s.opt.Key, s.Read)
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

// How long what looks like a prompt must stand before it is believed. Output may
// look like a prompt; a renamed device has one under another name, one that tells
// no name has little of its own, and behind a last line without an end there is
// one in the midst of a line.
const (
	settling    = 200 * time.Millisecond
	settleBare  = 60 * time.Millisecond
	settleAfter = 500 * time.Millisecond
)

// wait waits until a known prompt stands there, answering the questions it was
// told of. With ready, it waits for a line that matches instead. It is bounded
// by the profile's time since the last sign of life, ten times that in all, and
// in size.
func (s *Session) wait(ctx context.Context, answers []profile.Answer, ready *profile.Pattern) error {
	within := max(s.p.Connect.Prompt, s.patience)
	start := time.Now()
	idle := time.NewTimer(within)
	defer idle.Stop()
	seen, stood := 0, standsNot
	for {
		settle := time.Duration(0)
		if ready != nil {
			for ; seen < len(s.out.lines); seen++ {
				if ready.Matches(s.out.lines[seen]) {
					return nil
				}
			}
		}
		if len(s.out.cur) > 0 {
			what, err := s.stands(answers)
			if err != nil {
				return s.fail(err)
			}
			if settle = s.believed(what); what != standsNot && settle == 0 {
				s.accept(what)
				return nil
			}
			if settle > 0 {
				idle.Reset(settle)
			} else {
				idle.Reset(within)
			}
			stood = what
		} else {
			idle.Reset(within)
		}
		select {
		case b, ok := <-s.chunks:
			if !ok {
				return s.fail(fmt.Errorf("the session ended: %w", orEOF(s.readErr)))
			}
			if !s.take(b) {
				return s.fail(fmt.Errorf("it printed more than %d MB", maxPrinted>>20))
			}
			if time.Since(start) > 10*within {
				return s.fail(fmt.Errorf("no prompt in %s although it keeps printing", 10*within))
			}
		case <-idle.C:
			if settle > 0 || s.unechoed() {
				s.accept(stood)
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

// take takes in what arrived. What was printed up to the end of an echo is not a
// part of the answer. It is false once there is too much.
func (s *Session) take(b []byte) bool {
	if s.echo == nil || s.echo.state == echoSame {
		return s.out.write(b)
	}
	for i, c := range b {
		s.out.put(c)
		if s.echo.put(c) {
			s.early = append(s.early, s.out.lines[:len(s.out.lines)-1]...)
			size := s.out.size
			s.out.reset()
			s.out.size = size + i + 1
			return s.out.write(b[i+1:])
		}
	}
	s.out.size += len(b)
	return s.out.size <= maxPrinted
}

// standing is what the incomplete line is.
type standing byte

const (
	standsNot    standing = iota // nothing that ends an answer
	standsAsWas                  // the prompt that stood there before
	standsPrompt                 // another prompt under the name we know, or the first
	standsOther                  // a prompt under another name
	standsAfter                  // the prompt that stood there before, behind a line without an end
	standsOpen                   // a prompt that asks for the rest of a line
)

// believed is how long what stands there must go on standing before it is taken
// for the end of an answer; 0 is at once, and less than that never. A device that
// echoes has answered nothing before it has said the line back.
func (s *Session) believed(what standing) time.Duration {
	if what == standsNot {
		return 0
	}
	if s.echo != nil && s.echo.strict && s.echo.state == echoPending {
		if s.echo.rows == 0 {
			return -1
		}
		s.echo.state = echoOther
	}
	switch {
	case what == standsAfter:
		return settleAfter
	case what == standsOther, s.echo != nil && s.echo.strict && s.echo.state == echoOther:
		return settling // more may come of what its line editor did
	case what == standsOpen, s.p.Bare && s.tellsNoName():
		return settleBare
	}
	return 0
}

// tellsNoName tells whether the prompt that stands there has no name in it.
func (s *Session) tellsNoName() bool {
	_, _, tells := s.p.PromptOf(string(s.out.cur))
	return !tells
}

// unechoed tells whether a prompt stands there although the line was never said
// back.
func (s *Session) unechoed() bool {
	if s.echo == nil || !s.echo.strict || s.echo.state != echoPending || len(s.out.cur) == 0 {
		return false
	}
	what, err := s.stands(nil)
	if err != nil || what == standsNot {
		return false
	}
	s.echo.state = echoOther
	return true
}

// stands looks what the incomplete line is; the pager or a question are answered
// on the spot.
func (s *Session) stands(answers []profile.Answer) (standing, error) {
	if s.prompt != "" && string(s.out.cur) == s.prompt {
		return standsAsWas, nil // the usual case
	}
	if len(s.out.cur) > maxPrompt && !s.endsInPrompt() {
		return standsNot, nil
	}
	cur := string(s.out.cur)
	mode, host, tells := s.p.PromptOf(cur)
	switch {
	case s.endsInPrompt():
		return standsAfter, nil
	case mode != "" && tells && s.host != "" && host != s.host:
		return standsOther, nil
	case mode != "":
		return standsPrompt, nil
	}
	for _, page := range s.p.Pager.Pages() {
		if page.More.Matches(cur) {
			s.out.cur = s.out.cur[:0]
			s.met = append(s.met, "pager: "+cur)
			return standsNot, s.write(profile.Key(page.Next))
		}
	}
	for _, a := range answers {
		if a.Question.Matches(cur) {
			return standsNot, s.reply(a, cur)
		}
	}
	if !s.pouring && s.p.More.Prompt.Matches(cur) {
		return standsOpen, nil
	}
	return standsNot, nil
}

// endsInPrompt tells whether the prompt that stood there before stands behind
// something else: the last line of a file need not have an end.
func (s *Session) endsInPrompt() bool {
	return len(s.prompt) > 1 && len(s.out.cur) > len(s.prompt) && strings.HasSuffix(string(s.out.cur), s.prompt)
}

// reply answers a question that the device asks.
func (s *Session) reply(a profile.Answer, cur string) error {
	if a.Once || a.Secret != "" { // a wrong secret is not sent twice
		key := a.Secret
		if key == "" {
			key = a.Question.String()
		}
		if s.asked[key] { // it asks again: it did not like the answer
			return fmt.Errorf("it asks %q again: %w", cur, driver.ErrDenied)
		}
		s.asked[key] = true
	}
	s.out.lines = append(s.out.lines, clean(s.out.cur))
	s.out.cur = s.out.cur[:0]
	s.met = append(s.met, "question: "+cur)
	say := a.Send
	if a.Secret != "" {
		v, ok := s.Secret(a.Secret)
		if !ok {
			return fmt.Errorf("it asks %q, and there is no secret named %q for it", cur, a.Secret)
		}
		say = v
	}
	return s.write(say + s.enterKey)
}

// maxPrompt is the longest a prompt or a question may be, in bytes.
const maxPrompt = 1024

// accept takes what stands there as the end of the answer.
func (s *Session) accept(what standing) {
	cur := string(s.out.cur)
	switch what {
	case standsAsWas:
		return
	case standsAfter:
		s.out.lines = append(s.out.lines, clean(s.out.cur[:len(cur)-len(s.prompt)]))
		return
	case standsOpen:
		s.open = cur
		return
	}
	mode, host, tells := s.p.PromptOf(cur)
	if mode == "" {
		return
	}
	s.mode, s.prompt = mode, cur
	if tells {
		s.host = host
	}
}

func (s *Session) tail() string {
	t := string(clean(s.out.cur))
	if t == "" && len(s.out.lines) > 0 {
		t = s.out.lines[len(s.out.lines)-1]
	} else if t == "" && s.echo != nil && s.echo.state == echoSame {
		t = s.echo.line // it said that back, and no more
	}
	t = s.Mask(s.Typed(s.last.sent, t)) // before it is cut: what is left of a secret is none that is known
	return strings.ToValidUTF8(t[max(0, len(t)-80):], "")
}

// fail marks the session as of no more use.
func (s *Session) fail(err error) error {
	if s.broken == nil {
		s.broken = err
		s.keepGot(s.out.lines)
		s.log.Note(s.Mask(err.Error()))
	}
	return err
}

var errNoRestore = errors.New("its profile knows no way to restore a configuration")
