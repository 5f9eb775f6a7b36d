package lines

import (
	"fmt"
	"metabasis/internal/device/profile"
	"strings"
)

// Draft writes a first profile of what was seen of a device, with remarks on what
// was not.
func (s *Seen) Draft() string {
	d := &draft{}
	d.p("# A first profile of %s, written by metabasis profile new from what was seen of\n# %s. Lines behind # are remarks: what was not seen, and what to add. Then:\n#\n#   metabasis profile check FILE\n#   metabasis profile try FILE %s", s.Platform, s.Device, s.Device)
	d.p("platform: %s\ntitle: %s", s.Platform, s.Platform)
	s.connect(d)
	s.modes(d)
	s.answers(d)
	s.pager(d)
	s.configuration(d)
	if s.Save != "" {
		d.p("\n# It was not sent. Add what it says when it is done, as done: '^…$', and the\n# questions it asks, as answers:.\nsave: {in: %s, send: %s}", s.topMode(), quote(s.Save))
	}
	d.p("\n# How a change is taken back by itself: kind: restart, or put back; see docs/shell.md\n# for boxes with a shell. Without one, a device that is lost stays lost.\ntimer: {kind: none}")
	d.p("\n# Tables to look at, such as clock (with time), storage (with free) and version:\n# readers:\n#   clock:\n#     in: %s\n#     send: …\n#     columns:\n#       time: {type: time, match: '^(\\S+)$'}", s.topMode())
	d.p("\n# Lines that no runbook may send, such as an immediate restart:\n# never: ['^…$']\n\n# Commands that change nothing, for metabasis ask:\n# ask: {in: %s, safe: ['^…$']}", s.topMode())
	return d.b.String()
}

type draft struct{ b strings.Builder }

func (d *draft) p(format string, args ...any) { fmt.Fprintf(&d.b, format+"\n", args...) }

// quote writes a text between quotes, as YAML reads it.
func quote(text string) string {
	if strings.ContainsFunc(text, func(r rune) bool { return r < ' ' }) {
		return fmt.Sprintf("%q", text)
	}
	return "'" + strings.ReplaceAll(text, "'", "''") + "'"
}

func (s *Seen) topMode() string {
	if s.Top.enter != "" {
		return "work"
	}
	return "login"
}

func (s *Seen) editMode() string {
	if s.Edit.enter != "" && s.Edit.prompt != s.Top.prompt {
		return "edit"
	}
	return s.topMode()
}

func (s *Seen) connect(d *draft) {
	c := s.Connect
	d.p("\nconnect:\n  protocol: %s\n  port: %d\n  prompt_within: 15s\n  echo: %s", c.Protocol, profile.UsualPort(c.Protocol), s.Echo) // a device's own port is the fleet's
	if s.Keys != "" && s.QuoteKey == "" {
		d.p("  unsendable: %q    # keys of its line editor", s.Keys)
	}
	if len(c.Login) > 0 {
		d.p("  login:")
		for _, a := range c.Login {
			d.p("    - {question: %s, %s}", quote(a.Question.String()), sends(a))
		}
		d.p("  # What a denied login looks like, as denied: ['^…$'].")
	}
	if s.Keys != "" && s.QuoteKey != "" {
		d.p("\n# These are keys of its line editor; behind this key they are characters.\nquote: {key: %s, characters: %q}", s.QuoteKey, s.Keys)
	}
	if s.Echo == profile.EchoNo {
		d.p("\n# It does not say lines back, so what its line editor does to a line is not seen.")
	}
}

func sends(a profile.Answer) string {
	if a.Secret != "" {
		return "secret: " + a.Secret
	}
	return "send: " + quote(a.Send)
}

func (s *Seen) modes(d *draft) {
	d.p("\nmodes:")
	mode := func(name string, m seenMode) {
		d.p("  %s:\n    prompt: %s", name, quote(promptLike(m)))
		if m.host == "" {
			d.p("    # It tells no name: a device that was renamed goes unnoticed.")
		}
	}
	mode("login", s.Login)
	d.p("    login: true")
	if s.Quit != "" {
		d.p("    quit: %s", quote(s.Quit))
	}
	if s.Top.enter != "" {
		mode("work", s.Top)
		d.p("    from: login\n    privileged: true\n    enter:\n      send: %s", quote(s.Top.enter))
		if s.Top.question != "" {
			d.p("      answers: [{question: %s, secret: operator}]", quote("^"+literal(s.Top.question)+"$"))
		}
		d.p("    leave: {send: %s}", quote(s.Top.back))
	}
	if s.editMode() == "edit" {
		mode("edit", s.Edit)
		d.p("    # Where it shows other prompts in sections, the pattern must fit those, too.")
		d.p("    from: %s\n    enter: {send: %s}\n    leave: {send: %s}", s.topMode(), quote(s.Edit.enter), quote(s.Edit.back))
	}
}

// promptLike is the pattern of a prompt.
func promptLike(m seenMode) string {
	text := literal(m.prompt)
	if m.host != "" {
		text = strings.Replace(text, literal(m.host), `(?P<host>\S+)`, 1)
	}
	return "^" + text + "$"
}

func (s *Seen) answers(d *draft) {
	if s.Silent {
		d.p("\n# A word that it does not know was answered by nothing, so a refused line goes\n# unnoticed. Write what an error looks like, or how it is asked for its status:\n# lines: [{status: {send: 'echo \"status $?\"', good: '^status 0$'}}]\nrefused: ['^error\\b']")
	} else {
		d.p("\n# One refusal was seen. Others may begin otherwise, and where changes are typed it may\n# say nothing at all: metabasis profile try --change looks.\nrefused:")
		for _, p := range s.Refused {
			d.p("  - %s", quote(p))
		}
	}
	if s.Continued != "" {
		d.p("\n# Behind a quote that is not closed.\ncontinued: {prompt: %s, cancel: ^C}", quote("^"+literal(s.Continued)+"$"))
	}
}

func (s *Seen) pager(d *draft) {
	if len(s.Pages) == 0 && s.PagesOff == "" {
		d.p("\n# No page was seen to end. Where one does, pager: more: and next: say how it goes on.")
		return
	}
	d.p("\npager:")
	if s.PagesOff != "" {
		d.p("  off: {in: %s, send: %s}", s.topMode(), quote(s.PagesOff))
	}
	for i, page := range s.Pages {
		switch i {
		case 0:
			d.p("  more: %s\n  next: %s", quote(page.More.String()), quote(page.Next))
		case 1:
			d.p("  also:")
			fallthrough
		default:
			d.p("    - {more: %s, next: %s}", quote(page.More.String()), quote(page.Next))
		}
	}
}

func (s *Seen) configuration(d *draft) {
	d.p("\nconfiguration:\n  layout: %s\n  # ordered: true    # where the order of lines has a meaning\n  running: {in: %s, send: %s}", s.Layout, s.topMode(), quote(s.Running))
	if s.Saved != "" {
		d.p("  saved: {in: %s, send: %s}", s.topMode(), quote(s.Saved))
	} else {
		d.p("  # saved: it is not known whether a change outlives a restart.")
	}
	d.p("  edit: %s\n  # end: '^…$'       # the last line of a whole configuration, where it has one of its own", s.editMode())
	if s.Unended {
		d.p("  # The last line has no end: the prompt stands behind it, in the same row.")
	}
	if len(s.Volatile) > 0 {
		d.p("  volatile:        # these were others when it was read again")
		for _, v := range s.Volatile {
			d.p("    - %s", quote(v))
		}
	}
	if len(s.SecretWords) > 0 {
		d.p("  secrets:         # what stands behind these words is masked\n    - %s", quote(`(?i)\b(?:`+strings.Join(s.SecretWords, "|")+`)\s+(\S+)`))
	} else {
		d.p("  # secrets: none were seen; what the pattern of one fits is masked.")
	}
}
