package sim

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"
)

// The command language of osier. What it runs is changed by a draft, which is applied as a
// whole, on trial: unless that is kept in time, what was kept before runs again. There is
// one draft at a time, and one who writes in it; who goes away leaves it standing.
//
// Prompts:
//
//	osier:NAME>                 after login
//	osier:NAME draft>           after "draft"
//	osier:NAME draft port 7>    in a section; "up" leaves it, "close" leaves the draft
//
// Commands: sight running|kept|draft|trial|clock|version|storage|ports|neighbours|sessions|pair,
// screen on|off, sound ADDRESS, zero counts, refresh links, draft, check draft, apply draft for N s, extend trial to N s, keep trial,
// end trial, load draft (a configuration up to a line "end of draft"), drop draft, restart
// (at once), bye.
type osier struct {
	*shell
	user string
}

func newOsier(d *Device, rw io.ReadWriter, user string) *osier {
	s := &osier{shell: newShell(d, rw, user), user: user}
	s.shell.prompts = s.prompt
	return s
}

// draft is what is to run, and who writes in it.
type draft struct {
	config *ternConfig
	by     string
	since  time.Time
	in     *shell   // the session that writes in it; nil when that is gone
	lines  []string // what was typed into it
}

// Drafted tells whose draft stands on the device, "" where there is none.
func (d *Device) Drafted() string {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.draft == nil {
		return ""
	}
	return d.draft.by
}

func (s *osier) prompt() string {
	s.d.mu.Lock()
	name := s.d.running.name
	odd := s.d.fault(OddPrompt, "") != nil
	s.d.mu.Unlock()
	switch {
	case odd:
		return name + " at your service: "
	case s.mode == "look":
		return "osier:" + name + "> "
	case s.section != "":
		return fmt.Sprintf("osier:%s draft %s> ", name, s.section)
	}
	return "osier:" + name + " draft> "
}

func (s *osier) run() {
	defer s.leave()
	defer s.goAway()
	if s.d.hasFault(NoPrompt) {
		s.print("starting up")
		_, _ = s.readLine(false)
		return
	}
	s.print("osier " + s.d.version() + "\n")
	for !s.over {
		s.print(s.prompt())
		line, ok := s.readTyped()
		if !ok {
			return
		}
		if line = strings.TrimSpace(line); line == "" || s.strike(line) {
			continue
		}
		s.command(line)
		if s.dropsAfter(line) {
			return
		}
	}
}

// goAway leaves the draft standing, where there is something in it.
func (s *osier) goAway() {
	s.d.mu.Lock()
	defer s.d.mu.Unlock()
	if f := s.d.draft; f != nil && f.in == s.shell {
		f.in = nil
		if f.config.String() == s.d.running.String() {
			s.d.draft = nil
		}
	}
}

func (s *osier) no(format string, args ...any) {
	s.print("Not possible: " + fmt.Sprintf(format, args...) + "\n")
}

func (s *osier) command(line string) {
	w := strings.Fields(line)
	switch {
	case s.mode == "edit" && line == "close":
		s.section = ""
		s.setMode("look")
	case s.mode == "edit" && line == "up" && s.section != "":
		s.section = ""
	case line == "check draft":
		s.drafting(line, w)
	case s.mode == "edit":
		s.stage(line)
	case line == "bye":
		s.over = true
	case line == "screen on", line == "screen off":
		s.paged = w[1] == "on"
	case w[0] == "sight" && len(w) == 2:
		s.show(w[1])
	case w[0] == "sound" && len(w) == 2:
		s.print(s.d.sound(line, w[1]))
	case w[0] == "weigh" && len(w) == 2:
		if sum, is := s.d.digest(w[1]); is {
			s.print("weight of " + w[1] + " is " + sum + "\n")
		} else {
			s.no("there is no file %s", w[1])
		}
	case w[0] == "image":
		s.imageCommand(line, w)
	case line == "hand over":
		if why := s.d.handOver(line); why != "" {
			s.no("%s", why)
		} else {
			s.print("Handed over.\n")
		}
	case line == "zero counts":
		s.d.recount(line)
		s.print("Counts are zero.\n")
	case line == "refresh links":
		s.d.renew(line)
		s.print("Refreshing.\n")
	case line == "draft":
		s.open()
	case line == "restart":
		if s.confirm("Restart now, with what is kept?") {
			_ = s.out.Flush()
			s.d.told(line)
			s.over = true
		}
	case len(w) > 1 && (w[1] == "draft" || w[1] == "trial"):
		s.drafting(line, w)
	default:
		s.no("unknown command %q", line)
	}
}

// open opens the draft.
func (s *osier) open() {
	d := s.d
	d.mu.Lock()
	switch f := d.draft; {
	case d.spec.Editing != "":
		s.no("%s is writing in the draft", d.spec.Editing)
	case f != nil && f.in != nil && f.in != s.shell:
		s.no("%s is writing in the draft", f.by)
	case f != nil && f.in == nil:
		s.no("a draft of %s stands, from %s", f.by, f.since.UTC().Format("15:04:05"))
	default:
		if f == nil {
			d.draft = &draft{config: d.running.clone(), by: s.user, since: time.Now(), in: s.shell}
		}
		d.mu.Unlock()
		s.setMode("edit")
		return
	}
	d.mu.Unlock()
}

// stage writes a statement into the draft.
func (s *osier) stage(line string) {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	d.note(Staged, line)
	f := d.draft
	switch {
	case f == nil || f.in != s.shell:
		s.no("the draft is gone")
		return
	case d.fault(Rejects, line) != nil:
		d.note(Rejected, line)
		s.no("unknown word %q", strings.Fields(line)[0])
		return
	case d.fault(Ignores, line) != nil:
		return
	}
	next := f.config.clone()
	section, err := next.applyBraces(s.section, strings.TrimSuffix(line, ";"))
	if err != nil {
		d.note(Rejected, line)
		s.no("%v", err)
		return
	}
	f.config, f.lines, s.section = next, append(f.lines, line), section
}

// drafting carries out what concerns the draft and the trial as a whole.
func (s *osier) drafting(line string, w []string) {
	d := s.d
	seconds := 0
	timed := false
	if len(w) == 5 && w[4] == "s" {
		_, err := fmt.Sscan(w[3], &seconds)
		timed = err == nil && seconds > 0 && seconds <= 86_400
	}
	if line == "load draft" {
		s.load()
		return
	}
	d.mu.Lock()
	f := d.draft
	d.mu.Unlock()
	switch {
	case line == "drop draft" && f != nil && f.in != nil && f.in != s.shell:
		s.no("%s is writing in it", f.by)
	case line == "drop draft":
		d.mu.Lock()
		d.draft = nil
		d.mu.Unlock()
		s.print("Dropped.\n")
	case (line == "check draft" || strings.HasPrefix(line, "apply draft for ")) && (f == nil || f.in != s.shell):
		s.no("you have no draft")
	case line == "check draft":
		s.print("Sound.\n")
	case strings.HasPrefix(line, "apply draft for ") && timed:
		s.apply(time.Duration(seconds) * time.Second)
	case strings.HasPrefix(line, "extend trial to ") && timed:
		s.extend(time.Duration(seconds) * time.Second)
	case line == "keep trial":
		s.keepTrial()
	case line == "end trial":
		s.endTrial()
	default:
		s.no("unknown command %q", line)
	}
}

// apply lets the draft run, on trial.
func (s *osier) apply(lasts time.Duration) {
	d := s.d
	d.mu.Lock()
	f := d.draft
	if d.spec.Once && !d.due.IsZero() {
		d.mu.Unlock()
		s.no("something is on trial")
		return
	}
	if d.fault(RefusesApply, "") != nil {
		d.mu.Unlock()
		s.no("there is no room for it in the tables")
		return
	}
	before := d.running.String()
	if d.fault(QuietTimer, "") == nil {
		d.arm(lasts)
	}
	d.running, d.draft = f.config, nil
	if d.running.String() != before {
		for _, l := range f.lines {
			d.note(Changed, l)
		}
		for _, l := range f.lines {
			if d.fault(CutsOff, l) != nil {
				d.cut = true
			}
		}
	}
	d.follow()
	s.print(fmt.Sprintf("On trial for %d s.\n", int(lasts.Seconds())))
	d.mu.Unlock()
	d.moved()
}

func (s *osier) extend(by time.Duration) {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.due.IsZero() || d.spec.Once {
		s.no("nothing can be given more time")
		return
	}
	d.arm(by)
	s.print(fmt.Sprintf("On trial for %d s.\n", int(by.Seconds())))
}

// keepTrial keeps what is on trial, or says so.
func (s *osier) keepTrial() {
	d := s.d
	d.mu.Lock()
	defer d.mu.Unlock()
	switch late := (*Fault)(nil); {
	case d.due.IsZero():
		s.no("nothing is on trial")
		return
	case d.fault(NoSave, "") != nil:
		s.no("the store cannot be written")
		return
	case d.fault(StuckTimer, "") != nil:
	default:
		if late = d.fault(LateDisarm, ""); late != nil {
			pending := d.timer
			time.AfterFunc(late.By, func() {
				d.mu.Lock()
				defer d.mu.Unlock()
				if d.timer == pending && !d.due.IsZero() {
					d.kept()
				}
			})
			break
		}
		d.kept()
	}
	s.print("Kept.\n")
}

// kept makes what is on trial what it starts with. The caller holds d.mu.
func (d *Device) kept() {
	d.disarm()
	if d.fault(QuietSave, "") == nil {
		d.saved = d.running.clone()
		d.note(Saved, "")
	}
}

// endTrial has what was kept run again.
func (s *osier) endTrial() {
	d := s.d
	d.mu.Lock()
	switch {
	case d.due.IsZero():
		s.no("nothing is on trial")
		d.mu.Unlock()
		return
	case d.fault(LostUndo, "") != nil:
	default:
		d.timer.Stop()
		d.putBack()
	}
	s.print("Ended.\n")
	d.mu.Unlock()
	d.moved()
}

// load writes a whole configuration into the draft, up to a line "end of draft".
func (s *osier) load() {
	d := s.d
	s.print("Type the configuration, then: end of draft\n")
	text, ok := s.readText("end of draft")
	if !ok {
		return
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	next := newTernConfig(d.spec.Ports)
	if d.fault(HalfLoad, "") != nil {
		lines := strings.SplitAfter(text, "}\n")
		text = strings.Join(lines[:len(lines)/4], "")
	}
	err := next.loadBraces(text)
	switch f := d.draft; {
	case d.fault(Refusing, "") != nil:
		s.no("no memory for it")
	case err != nil:
		s.no("%v", err)
	case d.spec.Editing != "" || f != nil && f.in != nil && f.in != s.shell:
		s.no("somebody is writing in the draft")
	default:
		d.draft = &draft{config: next, by: s.user, since: time.Now(), in: s.shell, lines: []string{"a whole configuration"}}
		d.note(Staged, "")
		s.print("Loaded.\n")
	}
}

// show answers what looks at the device.
func (s *osier) show(what string) {
	d := s.d
	switch what {
	case "neighbours":
		s.page(s.neighbours())
		return
	case "sessions":
		s.page(s.sessions())
		return
	case "pair":
		if role, other := d.inPair(); role != "" {
			s.page(fmt.Sprintf("pair %s: this one is %s, the other is %s\n", d.spec.Pair, role, other))
		} else {
			s.page("This one stands alone.\n")
		}
		return
	}
	d.mu.Lock()
	text := s.shown(what)
	d.mu.Unlock()
	if text == "" {
		s.no("nothing is known of %q", what)
		return
	}
	s.page(text)
}

// shown answers from the device's own state. The caller holds d.mu.
func (s *osier) shown(what string) string {
	d := s.d
	now, source, settled := d.clock()
	head := "## " + d.spec.Name + ", " + now.UTC().Format(time.RFC3339) + "\n"
	switch what {
	case "running":
		return head + d.part("sight running", d.running.braces()) + "## end\n"
	case "kept":
		return head + d.part("sight kept", d.saved.braces()) + "## end\n"
	case "draft":
		if d.draft == nil {
			return "There is no draft.\n"
		}
		state := "left"
		if d.draft.in == s.shell {
			state = "ours"
		} else if d.draft.in != nil {
			state = "writing"
		}
		return fmt.Sprintf("draft of %s, since %s, %s\n", d.draft.by, d.draft.since.UTC().Format(time.RFC3339), state)
	case "trial":
		d.note(Shown, "")
		if d.due.IsZero() {
			return "Nothing is on trial.\n"
		}
		return fmt.Sprintf("On trial, %d s left.\n", int(time.Until(d.due).Round(time.Second).Seconds()))
	case "clock":
		return fmt.Sprintf(
			"now %s; follows %s; %s\n",
			now.UTC().Format(time.RFC3339),
			orElse(source, "nothing"),
			map[bool]string{true: "steady", false: "hunting"}[settled],
		)
	case "images":
		return d.imageRows()
	case "version":
		return fmt.Sprintf("osier %s, number %s\n", orElse(d.soft.runs, "rescue"), d.spec.Serial)
	case "uptime":
		return fmt.Sprintf("up for %d s\n", d.upFor())
	case "storage":
		return fmt.Sprintf("%d of 128 MB free\n", d.freeMB())
	case "ports":
		var b strings.Builder
		for _, n := range slices.Sorted(maps.Keys(d.running.ports)) {
			p := d.running.ports[n]
			state, carries := "on", orElse(p.lan, 0)
			if p.shut {
				state = "off"
			}
			fmt.Fprintf(&b, "port %d is %s, carries %s\n", n, state, map[bool]string{true: "all", false: fmt.Sprint(carries)}[p.trunk])
		}
		return b.String()
	}
	return ""
}
