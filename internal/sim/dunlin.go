package sim

import (
	"fmt"
	"io"
	"strings"
	"time"
)

// dunlin is a session with a device whose manners are drawn. What it keeps, and
// the lines that change it, are a tern's.
type dunlin struct {
	d *Device
	m Manners
	teletype
	mode    string
	section string
	paged   bool
	pages   int  // screenfuls that were stopped
	failed  bool // the last line was refused
	column  int  // where the cursor stands in its row, while a line is typed
}

func (d *Device) newDunlin(rw io.ReadWriter) *dunlin {
	return &dunlin{d: d, m: *d.fleet.scenario.Manners, teletype: newTeletype(rw), mode: "look", paged: true}
}

func (s *dunlin) run() {
	defer s.out.Flush()
	s.print("A dunlin of Marrow Sound Ferries.\n")
	for !s.over {
		line, ok := s.readLine(s.m.prompt(s.d.hostname(), s.mode), true)
		for ok && s.m.Asks != "" && strings.Count(line, `"`)%2 == 1 {
			var rest string
			if rest, ok = s.readLine(s.m.Asks, true); ok {
				line += " " + rest
			}
		}
		if ok && strings.TrimSpace(line) != "" {
			s.command(strings.TrimLeft(line, " "))
		}
	}
}

// hostname is what it calls itself.
func (d *Device) hostname() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.running.name
}

// rowWidth is where a dunlin's line editor thinks that the screen ends.
const rowWidth = 34

// scrolledTo is how much of a line stays in sight when it scrolls sideways. It is
// less than what any prompt leaves of a row.
const scrolledTo = 12

// readLine prints a prompt and reads a line through its line editor. It is not ok
// when the line was called off.
func (s *dunlin) readLine(prompt string, echo bool) (string, bool) {
	s.print(prompt)
	var b []byte
	quoting := false
	for {
		c, ok := s.readByte()
		if !ok {
			return "", false
		}
		plain := quoting
		quoting = false
		switch {
		case c == '\r' || c == '\n':
			if c == '\r' && s.in.Buffered() > 0 {
				if next, _ := s.in.Peek(1); next[0] == '\n' {
					_, _ = s.in.ReadByte()
				}
			}
			if echo && s.m.Echo != "none" || !echo {
				s.print("\n")
			}
			return string(b), true
		case c == 3:
			s.print("^C\n")
			return "", false
		case c == 22 && s.m.Quotes && !plain:
			quoting = true
		case c == '?' && s.m.Help && !plain && echo:
			s.print("\n  LINE  whatever you mean\n" + prompt)
			s.draw(string(b))
		case c == '\t' && s.m.Tab && !plain:
		case len(b) < 4096:
			b = append(b, c)
			if echo {
				s.echo(prompt, b)
			}
		}
	}
}

// draw shows a line that was typed before.
func (s *dunlin) draw(text string) {
	if s.m.Echo != "none" {
		s.print(text)
	}
}

// echo shows the last character of a line.
func (s *dunlin) echo(prompt string, b []byte) {
	full := (len(prompt)+len(b))%rowWidth == 0
	last := string(b[len(b)-1:])
	if len(b) == 1 {
		s.column = len(prompt)
	}
	s.column++
	switch {
	case s.m.Echo == "none":
	case s.column == rowWidth && s.m.Echo == "scrolled":
		s.print("\r<" + string(b[max(len(b)-scrolledTo, 0):]))
		s.column = 1 + scrolledTo
	case full && s.m.Echo == "wrapped":
		s.print(last + "\n")
	case full && s.m.Echo == "columns":
		s.print(last + " \r")
	case full && s.m.Echo == "again":
		s.print("\r\x1b[K" + prompt + string(b))
	default:
		s.print(last)
	}
}

// command carries out one line, with whatever goes wrong with it.
func (s *dunlin) command(line string) {
	struck := s.d.strikes(line)
	if struck.wait > 0 {
		_ = s.out.Flush()
		time.Sleep(struck.wait)
	}
	switch {
	case struck.drop:
		s.print("No")
		s.over = true
		return
	case struck.hang:
		for !s.over {
			s.readByte()
		}
		return
	case struck.restart:
		_ = s.out.Flush()
		s.d.restart()
		s.over = true
		return
	case struck.balk:
		s.refuse("not now")
		return
	}
	if s.mode == "edit" {
		s.edit(line)
		return
	}
	if !s.common(line) && (s.m.Raises && s.mode == "look" || !s.privileged(line)) {
		if s.m.Edits || s.mode != s.m.top() {
			s.refuse("there is no such thing")
		} else {
			s.edit(line)
		}
	}
}

// refuse says no, or says nothing.
func (s *dunlin) refuse(why string) {
	s.failed = true
	if !s.m.Silent || s.mode != s.m.editMode() {
		s.print(s.m.No + why + "\n")
	}
}

// is tells whether a line is a command.
func (s *dunlin) is(line, command string) bool { return line == s.m.Words[command] }

// common carries out what can be said in every mode but edit.
func (s *dunlin) common(line string) bool {
	switch {
	case s.is(line, "quit"):
		s.over = true
	case s.is(line, "raise") && s.m.Raises && s.mode == "look":
		word, ok := s.readLine("Word: ", false)
		if !ok {
			return true
		}
		if word != s.d.fleet.scenario.Operator {
			s.d.mu.Lock()
			s.d.note(Denied, "operator")
			s.d.mu.Unlock()
			s.refuse("not that word")
			return true
		}
		s.mode = "work"
	case s.is(line, "lower") && s.mode == "work":
		s.mode = "look"
	case s.is(line, "status") && s.m.Silent:
		s.status()
	default:
		return false
	}
	return true
}

// status tells how the last line went.
func (s *dunlin) status() {
	s.print(map[bool]string{true: "code 1\n", false: "code 0\n"}[s.failed])
	s.failed = false
}

// privileged carries out what can be said where everything can be read.
func (s *dunlin) privileged(line string) bool {
	d, so := s.d, func() { s.print("It is so.\n") }
	var seconds int
	switch {
	case s.is(line, "edit") && s.m.Edits:
		s.mode = "edit"
	case s.is(line, "save") && s.m.Keeps == keepsByCommand:
		if !d.store() {
			s.refuse("it cannot be written")
			return true
		}
		so()
	case s.is(line, "pages off") && s.m.PagesOff:
		s.paged = false
	case s.is(line, "load") && s.m.Restores:
		s.load()
	case s.m.Timer && scans(line, s.m.Words["arm"], &seconds):
		s.arm(time.Duration(seconds) * time.Second)
	case s.is(line, "due") && s.m.Timer:
		s.due()
	case s.is(line, "disarm") && s.m.Timer:
		d.mu.Lock()
		if !d.due.IsZero() {
			d.cancel()
		}
		d.mu.Unlock()
		so()
	default:
		return s.tell(line)
	}
	return true
}

func scans(line, form string, n *int) bool {
	_, err := fmt.Sscanf(line, form, n)
	return err == nil && line == fmt.Sprintf(form, *n) && *n > 0
}

func (s *dunlin) arm(in time.Duration) {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case d.fault(NoTimer, "") != nil:
		s.refuse("no clock for it")
		return
	case d.fault(QuietTimer, "") == nil:
		d.arm(in)
	}
	s.print("It is so.\n")
}

func (s *dunlin) due() {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(Shown, "")
	if d.due.IsZero() {
		s.print("Nothing is due.\n")
		return
	}
	s.print(fmt.Sprintf("Due in %d s\n", int(time.Until(d.due).Round(time.Second).Seconds())))
}

// tell answers the commands that look at the device.
func (s *dunlin) tell(line string) bool {
	d := s.d
	d.mu.Lock()
	text := ""
	now, source, settled := d.clock()
	switch {
	case s.is(line, "running"):
		text = s.whole(d.part("running", d.running.String()))
	case s.is(line, "saved") && s.m.Tells:
		text = s.whole(d.part("saved", d.saved.String()))
	case s.is(line, "clock"):
		state := "seeking"
		if settled {
			state = fmt.Sprintf("settled\noffset %.3f", d.spec.ClockOff.Seconds())
		}
		text = fmt.Sprintf("time %s\nsource %s\nstate %s\n", now.UTC().Format(time.RFC3339), orElse(source, "none"), state)
	case s.is(line, "storage"):
		text = fmt.Sprintf("free %d MB\n", d.spec.FreeMB)
	case s.is(line, "version"):
		text = fmt.Sprintf("make %s\n", d.spec.Version)
	}
	d.mu.Unlock()
	if s.is(line, "neighbours") {
		for _, n := range d.neighbours() {
			text += fmt.Sprintf("%d %s\n", n.port, n.name)
		}
		text = orElse(text, s.m.No+"nobody is near\n")
	}
	if text == "" {
		return false
	}
	s.page(text)
	return true
}

// whole is a configuration as it is printed.
func (s *dunlin) whole(text string) string {
	if s.m.Ends {
		text += "= end =\n"
	}
	if s.m.Unended {
		text = strings.TrimSuffix(text, "\n")
	}
	return text
}

const dunlinRows = 7

// page prints text, stopping when the screen is full.
func (s *dunlin) page(text string) {
	for i, l := range strings.SplitAfter(text, "\n") {
		if s.paged && len(s.m.Pages) > 0 && i > 0 && i%dunlinRows == 0 && l != "" {
			page := s.m.Pages[s.pages%len(s.m.Pages)]
			s.pages++
			s.print(page.More)
			for {
				c, ok := s.readByte()
				if !ok {
					return
				}
				if string(c) == page.Next {
					break
				}
			}
			s.print("\r" + strings.Repeat(" ", len(page.More)) + "\r")
		}
		s.print(l)
	}
}

// edit carries out a line of a change.
func (s *dunlin) edit(line string) {
	switch {
	case s.is(line, "done") && s.m.Edits:
		s.section, s.mode = "", s.m.top()
		return
	case s.is(line, "status") && s.m.Silent:
		s.status()
		return
	case line == "up" && s.section != "":
		s.section = ""
		return
	}
	s.failed = false
	section, err := s.d.change(s.section, strings.TrimSpace(line))
	if err != nil && s.section != "" { // it may be meant for the top
		section, err = s.d.change("", strings.TrimSpace(line))
	}
	if err != nil {
		s.refuse(err.Error())
		return
	}
	s.section = section
	if s.m.Keeps == keepsByItself {
		s.d.mu.Lock()
		s.d.saved = s.d.running.clone()
		s.d.mu.Unlock()
	}
	if s.m.Chatter {
		s.print(s.m.No + "this is written down\n")
	}
}

// load reads a whole configuration.
func (s *dunlin) load() {
	s.print("Go on.\n")
	var text strings.Builder
	for {
		line, ok := s.readLine("", true)
		if !ok {
			return
		}
		if line == s.m.Words["load end"] {
			break
		}
		if text.Len() < 1<<20 && line != "= end =" {
			text.WriteString(line + "\n")
		}
	}
	if err := s.d.replace(text.String()); err != nil {
		s.refuse(err.Error())
		return
	}
	if s.m.Keeps == keepsByItself {
		s.d.mu.Lock()
		s.d.saved = s.d.running.clone()
		s.d.mu.Unlock()
	}
	s.print("It is so.\n")
}
