package lines

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/device/profile"
	"metabasis/internal/person"
)

// Seen is what was found out about a device, enough to write a first profile.
type Seen struct {
	Platform, Device string
	Connect          profile.Connect
	Banner           []string
	Login, Top, Edit seenMode
	Echo             string
	Refused          []string // patterns
	Silent           bool     // a word that it does not know is answered by nothing
	Keys             string   // characters that its line editor keeps for itself
	QuoteKey         string   // the key that makes characters of them
	Continued        string   // its prompt behind a quote that is not closed
	Pages            []profile.Page
	PagesOff         string
	Running, Saved   string // commands
	Save, Quit       string
	Layout           string
	Volatile         []string // patterns
	SecretWords      []string // words behind which secrets seem to stand
	Unended          bool     // its configuration has no end of its last line
}

type seenMode struct {
	prompt      string // as it stood there
	host        string // the part of it that is the name
	enter, back string // commands
	question    string // it asks this before it lets one in
}

// explorer looks at a device.
type explorer struct {
	ctx  context.Context
	s    *Session
	who  person.Person
	tell func(text string, ok bool) // says what was seen, or, not ok, what the device did not take
	seen *Seen
	here string // the prompt that stands there now
}

// Explore looks at a device of a platform that nobody has taught yet, over a
// stream on which it was just logged in to. It sends a few words that no device
// should know, and the commands that the person gives; it changes nothing.
func Explore(
	ctx context.Context,
	p *profile.Profile,
	device string,
	rw io.ReadWriteCloser,
	opt profile.Options,
	who person.Person,
	tell func(text string, ok bool),
) (*Seen, error) {
	seen := &Seen{Platform: p.Platform, Device: device, Connect: p.Connect}
	e := &explorer{ctx: ctx, s: newSession(p, rw, opt), who: who, tell: tell, seen: seen}
	e.seen.Connect.Login = nil // what it asks is seen, not known
	defer e.s.Close()
	for _, look := range []func() error{e.login, e.top, e.words, e.config, e.edit, e.rest} {
		if err := look(); err != nil {
			return nil, err
		}
	}
	return e.seen, nil
}

// How long an explorer waits for more, once something that may be a prompt stands
// there, and where nothing does.
const (
	exploreStands = 700 * time.Millisecond
	exploreSilent = 4 * time.Second
	explorePress  = 1500 * time.Millisecond // behind a key where a page has ended
)

// look takes in what comes until the device is silent, and returns the lines and
// the row that is not complete.
func (e *explorer) look() (lines []string, row string, err error) { return e.within(exploreSilent) }

func (e *explorer) within(silent time.Duration) (lines []string, row string, err error) {
	for {
		wait := silent
		if len(e.s.out.cur) > 0 {
			wait = exploreStands
			if string(e.s.out.cur) == e.here {
				wait = settling
			}
		}
		select {
		case b, open := <-e.s.chunks:
			if !open {
				return nil, "", fmt.Errorf("the session ended: %w", orEOF(e.s.readErr))
			}
			if !e.s.take(b) {
				return nil, "", fmt.Errorf("it printed more than %d MB", maxPrinted>>20)
			}
		case <-time.After(wait):
			return e.s.out.lines, string(clean(e.s.out.cur)), nil
		case <-e.ctx.Done():
			return nil, "", e.ctx.Err()
		}
	}
}

// send types a line and looks at what comes of it.
func (e *explorer) send(line string) (lines []string, row string, err error) {
	e.s.out.reset()
	e.s.echo = newEcho(line, e.here, false)
	e.s.log.Sent(e.s.Mask(e.here), e.s.Mask(line))
	if err := e.s.write(line + e.s.enterKey); err != nil {
		return nil, "", err
	}
	lines, row, err = e.look()
	e.s.log.Got(e.s.MaskEach(lines))
	return lines, row, err
}

func (e *explorer) echoed() bool { return e.s.echo != nil && e.s.echo.state == echoSame }

// login looks at the banner and the first prompt.
func (e *explorer) login() error {
	if e.s.opt.Dialogue {
		if err := e.dialogue(); err != nil {
			return err
		}
	}
	lines, row, err := e.look()
	if err == nil && strings.TrimSpace(row) == "" { // some wait for a key
		lines, row, err = e.send("")
	}
	if err != nil {
		return err
	}
	if strings.TrimSpace(row) == "" {
		return fmt.Errorf("it shows no prompt: it is silent behind %q", last(lines))
	}
	e.seen.Banner = lines
	e.tell(fmt.Sprintf("it greets with %s, and its prompt is %q", profile.Plural(len(lines), "line"), row), true)
	e.here, e.seen.Login.prompt = row, row
	return e.nameIn(&e.seen.Login)
}

// dialogue answers the login in the session, as far as the questions are usual.
func (e *explorer) dialogue() error {
	for range 4 {
		_, row, err := e.look()
		if err != nil {
			return err
		}
		i := slices.IndexFunc(e.s.p.Connect.Login, func(a profile.Answer) bool { return a.Question.Matches(row) })
		if i < 0 {
			return nil
		}
		a := e.s.p.Connect.Login[i]
		say := strings.ReplaceAll(a.Send, "<<user>>", e.s.opt.User)
		if a.Secret != "" {
			say, _ = e.s.Secret(a.Secret)
		}
		e.seen.Connect.Login = append(
			e.seen.Connect.Login,
			profile.Answer{Question: profile.MustPattern("^" + literal(row) + "$"), Send: a.Send, Secret: a.Secret},
		)
		e.s.out.reset()
		if err := e.s.write(say + e.s.enterKey); err != nil {
			return err
		}
	}
	return fmt.Errorf("it asks for the login again: it did not take it")
}

func last(lines []string) string {
	for _, l := range slices.Backward(lines) {
		if strings.TrimSpace(l) != "" {
			return l
		}
	}
	return ""
}

// nameIn finds the device's name in a prompt: its name in the fleet, or what the
// person says.
func (e *explorer) nameIn(m *seenMode) error {
	if m.host = e.seen.Login.host; m.host != "" && strings.Contains(m.prompt, m.host) {
		return nil
	}
	if m.host = e.seen.Device; strings.Contains(m.prompt, m.host) {
		return nil
	}
	m.host = ""
	if m != &e.seen.Login && e.seen.Login.host == "" {
		return nil
	}
	answer, err := e.answer(
		fmt.Sprintf("Which part of the prompt %q is the device's name?", m.prompt),
		"Enter alone: none is; every device of the platform shows this very prompt",
	)
	if err != nil {
		return err
	}
	if strings.Contains(m.prompt, answer) {
		m.host = answer
	}
	return nil
}

// answer asks for what cannot be seen; hint says what an answer may look like, and what an empty
// one means.
func (e *explorer) answer(question, hint string) (string, error) {
	return person.AskOne(e.ctx, e.who, "", person.Question{Text: question, Hint: hint})
}

// needed marks a question that an empty answer does not answer.
const needed = "it is needed"

// ask asks for a command, and tries it. What the device does not take is told, and
// asked for again.
func (e *explorer) ask(question, hint string, try func(command string) error) error {
	for n := 1; ; n++ {
		command, err := e.answer(question, hint)
		switch {
		case err != nil:
			return err
		case command == "" && hint != needed:
			return nil
		case command == "":
			err = &driver.Refused{Line: "nothing", Said: "this one is needed"}
		default:
			err = try(command)
		}
		var r *driver.Refused
		switch {
		case !errors.As(err, &r):
			return err
		case n == 3:
			return fmt.Errorf("nothing that was given answers: %s", question)
		}
		e.tell("it does not take that: "+r.Said, false)
	}
}

// top goes to the mode in which everything can be read.
func (e *explorer) top() error {
	e.seen.Top = e.seen.Login
	return e.ask("Which command gives more rights, as for reading the whole configuration?", "Enter alone: none is needed", e.raise)
}

func (e *explorer) raise(command string) error {
	m := seenMode{enter: command}
	lines, row, err := e.send(command)
	if err != nil {
		return err
	}
	if asksHidden.MatchString(row) && row != e.here {
		m.question = row
		secret, err := person.AskOne(e.ctx, e.who, "", person.Question{Text: fmt.Sprintf("It asks %q: ", row), Secret: true})
		if err != nil {
			return err
		}
		e.s.HideAs("of the mode", secret)
		if lines, row, err = e.send(secret); err != nil {
			return err
		}
	}
	if row == e.here || strings.TrimSpace(row) == "" {
		return &driver.Refused{Line: command, Said: "it does not lead to another prompt; it says " + e.s.Mask(last(lines))}
	}
	m.prompt, e.here = row, row
	e.tell(fmt.Sprintf("its prompt is %q there", row), true)
	if err := e.nameIn(&m); err != nil {
		return err
	}
	if m.back, err = e.answer("Which command leads back from there?", "such as end"); err != nil {
		return err
	}
	e.seen.Top = m
	return nil
}

var asksHidden = regexp.MustCompile(`[:?]\s*$`)

// edit looks at the mode in which lines are sent.
func (e *explorer) edit() error {
	e.seen.Edit = e.seen.Top
	return e.ask(
		"Which command leads to where changes are typed?",
		"it is entered and left again, nothing is typed there; Enter alone: they are typed here",
		e.editing,
	)
}

func (e *explorer) editing(command string) error {
	m := seenMode{enter: command}
	top := e.here
	lines, row, err := e.send(command)
	if err != nil {
		return err
	}
	if row == top || strings.TrimSpace(row) == "" {
		return &driver.Refused{Line: command, Said: "it does not lead to another prompt; it says " + e.s.Mask(last(lines))}
	}
	m.prompt, e.here = row, row
	e.tell(fmt.Sprintf("its prompt is %q there", row), true)
	if err := e.nameIn(&m); err != nil {
		return err
	}
	err = e.ask("Which command leads back from there?", needed, func(back string) error {
		m.back = back
		lines, row, err := e.send(back)
		if err != nil || row == top {
			return err
		}
		return &driver.Refused{Line: back, Said: fmt.Sprintf("it does not lead back to %q; it says %s %q", top, e.s.Mask(last(lines)), row)}
	})
	if err != nil {
		return fmt.Errorf("leaving the mode for changes: %s: see to that session by hand", err.Error()) // not asked for again
	}
	e.here, e.seen.Edit = top, m
	return nil
}

// rest asks for what is not tried here.
func (e *explorer) rest() (err error) {
	if e.seen.Save, err = e.answer("Which command saves what runs?", "it is not sent now; Enter alone: there is none"); err != nil {
		return err
	}
	if e.seen.Quit, err = e.answer(
		"Which command ends a session?",
		"Enter alone: the connection is closed",
	); err != nil ||
		e.seen.Quit == "" {
		return err
	}
	if e.seen.Top.back != "" { // it is said from where a session starts
		if _, _, err := e.send(e.seen.Top.back); err != nil {
			return err
		}
	}
	return e.s.write(e.seen.Quit + e.s.enterKey)
}

func literal(s string) string { return regexp.QuoteMeta(s) }
