package sim

import (
	"fmt"
	"io"
	"strings"
	"time"
)

// The command language of tern.
//
// Modes and their prompts:
//
//	[NAME look]            after login; may look at everything
//	[NAME work]            after "work" and the operator password
//	[NAME edit]            after "edit"; lines change the running configuration
//	[NAME edit port 7]     inside a section; "up" leaves it, "done" leaves edit
//
// Commands: tell version|clock|ports|neighbours|storage|running|saved|restart,
// probe ADDRESS, pages on|off, leave; in work mode also edit, look, keep (save),
// load running (replace the running configuration), recount ports, renew links, restart in N s|m,
// restart at HH:MM:SS, restart cancel, and restart alone, which restarts at once.
type shell struct {
	d *Device
	teletype
	mode    string // look, work, edit
	section string
	// calledOff tells that the last line was, with ^C.
	calledOff bool
	paged     bool
	prompts   func() string // its prompt, where a message breaks in; nil is that of a tern
}

const pageRows = 22

func newShell(d *Device, rw io.ReadWriter, user string) *shell {
	s := &shell{d: d, teletype: newTeletype(rw), mode: "look", paged: true}
	d.mu.Lock()
	defer d.mu.Unlock()
	d.shells[s] = &session{user: user, mode: "look", since: time.Now()}
	return s
}

// setMode changes the mode, so that other sessions can see it.
func (s *shell) setMode(mode string) {
	s.mode = mode
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	s.d.shells[s].mode = mode
}

// leave takes the session off the device's list.
func (s *shell) leave() {
	_ = s.out.Flush()
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	delete(s.d.shells, s)
}

func (s *shell) prompt() string {
	s.d.mu.Lock()
	name := s.d.running.name
	odd := s.d.fault(OddPrompt, "") != nil
	s.d.mu.Unlock()
	if odd {
		return name + " at your service: "
	}
	if s.section != "" {
		return fmt.Sprintf("[%s %s %s] ", name, s.mode, s.section)
	}
	return fmt.Sprintf("[%s %s] ", name, s.mode)
}

func (s *shell) run() {
	defer s.leave()
	if s.d.hasFault(NoPrompt) {
		s.print("starting up")
		_, _ = s.readLine(false)
		return
	}
	s.print("tern " + s.d.version() + ", serial " + s.d.spec.Serial + "\n")
	for !s.over {
		s.print(s.prompt())
		line, ok := s.readTyped()
		if !ok {
			return
		}
		if line = strings.TrimSpace(line); line != "" {
			s.command(line)
			if s.dropsAfter(line) {
				return
			}
		}
	}
}

// dropsAfter ends the session once a line was carried out, before it is answered, where
// that fault strikes: what was printed is lost, too.
func (s *shell) dropsAfter(line string) bool {
	if !s.d.hasFaultAt(DropsAfter) || !s.d.struckAt(DropsAfter, line) {
		return false
	}
	s.out.Reset(io.Discard)
	s.over = true
	return true
}

// readTyped reads a command, with what may happen while it is typed.
func (s *shell) readTyped() (string, bool) {
	if !s.d.hasFaultAt(Alters) && !s.d.hasFaultAt(BreaksIn) {
		return s.readLine(true)
	}
	return s.readWatched(true, func(b []byte) (lost bool) {
		s.d.mu.Lock()
		lost = s.d.fault(Alters, string(b)) != nil
		breaks := s.d.fault(BreaksIn, string(b)) != nil
		s.d.mu.Unlock()
		if breaks {
			prompt := s.prompt
			if s.prompts != nil {
				prompt = s.prompts
			}
			s.print("\nport 7 is up\n" + prompt() + string(b))
		}
		return lost
	})
}

// readLine reads a line as a terminal sends it, echoing it.
func (s *shell) readLine(echo bool) (string, bool) {
	return s.readWatched(echo, func([]byte) bool { return false })
}

// readWatched reads a line. Watch sees what was typed so far before each further
// character, and may lose that one.
func (s *shell) readWatched(echo bool, watch func([]byte) (lost bool)) (string, bool) {
	var b []byte
	show := func(text string) {
		if echo {
			s.print(text)
		}
	}
	for {
		c, ok := s.readByte()
		if !ok {
			return "", false
		}
		switch {
		case c == '\r' || c == '\n':
			if c == '\r' && s.in.Buffered() > 0 {
				if next, _ := s.in.Peek(1); next[0] == '\n' {
					_, _ = s.in.ReadByte()
				}
			}
			s.print("\n")
			return string(b), true
		case c == 3: // ^C
			s.print("^C\n")
			s.calledOff = true
			return "", true
		case c == 4 && len(b) == 0: // ^D
			return "", false
		case (c == 8 || c == 127) && len(b) > 0:
			b = b[:len(b)-1]
			show("\b \b")
		case c >= ' ' && c != 127 && len(b) < 4096:
			if watch(b) {
				break
			}
			b = append(b, c)
			show(string([]byte{c}))
		}
	}
}

// command carries out one line, with whatever goes wrong with it.
func (s *shell) command(line string) {
	if s.strike(line) {
		return
	}
	if s.mode == "edit" {
		s.edit(line)
		return
	}
	w := strings.Fields(line)
	switch {
	case line == "leave":
		s.over = true
	case w[0] == "tell" && len(w) == 2:
		s.tell(w[1])
	case w[0] == "probe" && len(w) == 2:
		s.print(s.d.probe(line, w[1]))
	case line == "pages on", line == "pages off":
		if s.d.hasFault(StuckPager) {
			s.print("Refused: the pager is locked.\n")
			return
		}
		s.paged = w[1] == "on"
	case line == "work" && s.mode == "look":
		s.print("Operator password: ")
		given, ok := s.readLine(false)
		if ok && given == s.d.fleet.scenario.Operator && !s.d.hasFault(NoOperator) {
			s.setMode("work")
		} else if ok {
			s.d.mu.Lock()
			s.d.note(Denied, "operator")
			s.d.mu.Unlock()
			s.print("Refused: wrong password.\n")
		}
	case s.mode == "work":
		s.work(line, w)
	default:
		s.print(fmt.Sprintf("Refused: unknown command %q in %s mode.\n", line, s.mode))
	}
}

func (s *shell) work(line string, w []string) {
	switch {
	case s.imageCommand(line, w):
	case s.fileCommand(line, w):
	case line == "look":
		s.setMode("look")
	case line == "edit":
		s.setMode("edit")
	case line == "keep":
		if s.confirm("Write the running configuration over the saved one?") {
			s.keep()
		}
	case line == "load running":
		s.load()
	case w[0] == "digest" && len(w) == 2:
		if sum, is := s.d.digest(w[1]); is {
			s.print(sum + " " + w[1] + "\n")
		} else {
			s.print("Refused: there is no file " + w[1] + ".\n")
		}
	case line == "recount ports":
		s.d.recount(line)
		s.print("Counted anew.\n")
	case line == "renew links":
		if s.confirm("Renew all links?") {
			s.d.renew(line)
			s.print("Renewing.\n")
		}
	case w[0] == "restart":
		s.restart(w[1:])
	default:
		s.print(fmt.Sprintf("Refused: unknown command %q in work mode.\n", line))
	}
}

func (s *shell) confirm(question string) bool {
	s.print(question + " (yes/no) ")
	answer, ok := s.readLine(true)
	return ok && answer == "yes"
}

// strike lets the faults of the scenario act on a line. It tells whether the
// line is dealt with.
func (s *shell) strike(line string) bool {
	d := s.d
	struck := d.strikes(line)
	if struck.wait > 0 {
		if s.out.Flush() != nil {
			s.over = true
		}
		time.Sleep(struck.wait)
	}
	switch {
	case struck.drop:
		s.print("Fau")
		s.over = true
		return true
	case struck.hang:
		for { // says nothing more; the session is of no use
			if _, ok := s.readByte(); !ok {
				return true
			}
		}
	case struck.restart:
		_ = s.out.Flush()
		d.restart()
		s.over = true
		return true
	case struck.balk:
		s.print("Fault: not now.\n")
		return true
	case struck.garbage:
		s.print(noise(d.fleet.scenario.Operator))
	}
	return false
}

// edit carries out a line of edit mode.
func (s *shell) edit(line string) {
	switch {
	case line == "done":
		s.section = ""
		s.setMode("work")
		return
	case line == "up" && s.section != "":
		s.section = ""
		return
	}
	if m := greetingForm.FindStringSubmatch(line); m != nil && s.section == "" {
		text, ok := s.greeting(line, m[1])
		if !ok {
			return
		}
		line = text
	}
	section, err := s.d.change(s.section, line)
	if err != nil {
		s.print("Refused: " + err.Error() + "\n")
		return
	}
	s.section = section
}

// greeting reads the lines of a greeting up to its end; it is false where it was called off.
func (s *shell) greeting(line, end string) (string, bool) {
	text := line
	for {
		s.print("text> ")
		next, ok := s.readLine(true)
		if !ok {
			s.over = true
			return "", false
		}
		if next == "" && s.calledOff {
			s.calledOff = false
			return "", false
		}
		text += "\n" + strings.TrimRight(next, " ")
		if strings.TrimSpace(next) == end {
			return text, true
		}
	}
}

// change carries out one line in a section of the configuration, and returns the
// section that the editor is in then.
func (d *Device) change(section, line string) (string, error) {
	d.mu.Lock()
	whole := line
	line, _, _ = strings.Cut(line, "\n") // of a text, its first names it
	d.note(Received, line)
	var err error
	switch {
	case d.fault(Rejects, line) != nil:
		err = fmt.Errorf("unknown word %q", strings.Fields(line)[0])
	case d.fault(SaysBack, line) != nil:
		err = fmt.Errorf("unknown line %q", line)
	case strings.HasPrefix(line, "drop ") && d.fault(LostUndo, line) != nil:
	case d.fault(Ignores, line) != nil:
	default:
		before := d.running.String()
		next := d.running.clone()
		if section, err = next.apply(section, whole); err == nil {
			d.running = next
			if next.String() != before {
				d.note(Changed, line)
				if f := d.fault(ShowsLate, line); f != nil {
					if time.Now().After(d.late) {
						d.stale = before
					}
					d.late = time.Now().Add(f.By)
				}
			}
			d.follow()
			if d.fault(CutsOff, line) != nil {
				d.cut = true
			}
		}
	}
	if err != nil {
		d.note(Rejected, line)
	}
	d.mu.Unlock()
	if err == nil && (strings.HasPrefix(section, "port") || strings.HasPrefix(line, "manage") || d.hasFaultAt(CutsOff)) {
		d.moved()
	}
	return section, err
}

// load reads a whole configuration up to a line "end of text".
func (s *shell) load() {
	s.print("Send the configuration, then a line: end of text\n")
	text, ok := s.readText("end of text")
	if !ok {
		return
	}
	if err := s.d.replace(text); err != nil {
		s.print("Refused: " + err.Error() + "\n")
		return
	}
	s.print("Loaded.\n")
}

// readText reads lines up to one that ends the text.
func (s *shell) readText(end string) (string, bool) {
	var text strings.Builder
	for {
		line, ok := s.readLine(false)
		if !ok || line == end {
			return text.String(), ok
		}
		if text.Len() < 1<<20 {
			text.WriteString(line + "\n")
		}
	}
}

// replace puts a whole configuration in the place of what runs.
func (d *Device) replace(whole string) error {
	d.mu.Lock()
	next := newTernConfig(d.spec.Ports)
	if d.fault(HalfLoad, "") != nil {
		lines := strings.SplitAfter(whole, "\n")
		whole = strings.Join(lines[:len(lines)/2], "")
	}
	err := next.load(whole)
	if d.fault(Refusing, "") != nil {
		err = fmt.Errorf("no memory for it")
	}
	if err == nil {
		d.running = next
		d.note(Loaded, "")
		d.follow()
	}
	d.mu.Unlock()
	if err == nil {
		d.moved()
	}
	return err
}

func (s *shell) keep() {
	if !s.d.store() {
		s.print("Fault: the store cannot be written.\n")
		return
	}
	s.print("Kept.\n")
}

// store saves what runs, and tells whether it could, or says that it could.
func (d *Device) store() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.fault(NoSave, "") != nil {
		return false
	}
	if d.fault(QuietSave, "") == nil {
		d.saved = d.running.clone()
		d.note(Saved, "")
	}
	return true
}

// restart arms, cancels or carries out a restart.
func (s *shell) restart(w []string) {
	d := s.d
	if len(w) == 0 {
		if s.confirm("Restart now, with the saved configuration?") {
			_ = s.out.Flush()
			d.told("restart")
			s.over = true
		}
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	in, err := restartDelay(w, time.Now().UTC().Add(d.spec.ClockOff))
	switch {
	case w[0] == "cancel" && d.due.IsZero():
		s.print("No restart is pending.\n")
	case w[0] == "cancel":
		d.cancel()
		s.print("Restart cancelled.\n")
	case err != nil:
		s.print("Refused: " + err.Error() + "\n")
	case d.fault(NoTimer, "") != nil:
		s.print("Fault: a restart cannot be put on the clock.\n")
	case d.fault(QuietTimer, "") != nil:
		s.print("Restart due in " + fmt.Sprint(int(in.Seconds())) + " s.\n")
	default:
		d.arm(in)
		s.print(s.pending())
	}
}

// cancel takes the restart off the clock, or says so. The caller holds d.mu.
func (d *Device) cancel() {
	if d.fault(StuckTimer, "") != nil {
		return
	}
	if late := d.fault(LateDisarm, ""); late != nil {
		d.disarmIn(late.By)
		return
	}
	d.disarm()
}

// restartDelay reads "in 10 m", "in 90 s" or "at 02:15:00".
func restartDelay(w []string, now time.Time) (time.Duration, error) {
	switch {
	case len(w) == 1 && w[0] == "cancel":
		return 0, nil
	case len(w) == 3 && w[0] == "in" && (w[2] == "s" || w[2] == "m"):
		var n int
		if _, err := fmt.Sscan(w[1], &n); err != nil || n < 1 || n > 86_400 {
			return 0, fmt.Errorf("%q is not a delay", w[1])
		}
		if w[2] == "m" {
			return time.Duration(n) * time.Minute, nil
		}
		return time.Duration(n) * time.Second, nil
	case len(w) == 2 && w[0] == "at":
		t, err := time.ParseInLocation("15:04:05", w[1], now.Location())
		if err != nil {
			return 0, fmt.Errorf("%q is not a time of day", w[1])
		}
		at := time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location())
		if !at.After(now) {
			at = at.AddDate(0, 0, 1)
		}
		return at.Sub(now), nil
	}
	return 0, fmt.Errorf("restart in 10 m, restart at 02:15:00 or restart cancel")
}

// pending tells of the restart on the clock. The caller holds d.mu.
func (s *shell) pending() string {
	d := s.d
	if d.due.IsZero() {
		return "No restart is pending.\n"
	}
	left := time.Until(d.due)
	at := d.due.UTC().Add(d.spec.ClockOff)
	return fmt.Sprintf("Restart due at %s, in %d s, with the saved configuration.\n",
		at.Format("15:04:05"), int(left.Round(time.Second).Seconds()))
}
