package sim

import (
	"bufio"
	"fmt"
	"io"
	"strings"
	"sync"
	"time"

	"metabasis/internal/device/telnet"
)

// The command language of plover, an old gate controller.
//
// It speaks Telnet only, to one person at a time, slowly. A session that is not
// ended with "bye" stays open on its side for a while, and nobody else gets in.
//
//	Name?  Word?           the login
//	NAME:                  after login
//	NAME!                  after "master" and the master's word
//
// Commands: list version|clock|gates|settings|stored, screen on|off, bye; as
// master also call ADDRESS, set KEY VALUE, clear KEY, store, restart (at once, unasked) and
// plain.
type plover struct {
	d      *Device
	in     *bufio.Reader
	out    io.Writer
	master bool
	paged  bool
	over   bool
	bye    bool
}

// lingers is how long a session stays that was not ended properly.
const lingers = 45 * time.Second

// ploverRows is how many rows of output a plover prints before it waits.
const ploverRows = 12

// ploverState is what a plover keeps.
type ploverState struct {
	running, stored []string
	busy            sync.Mutex // held by the one session
}

func newPloverState(s Spec, text string) *ploverState {
	lines := []string{"name " + s.Name}
	for _, l := range strings.Split(text, "\n") {
		if strings.HasPrefix(l, "gate ") {
			lines = append(lines, l)
		}
	}
	for n := len(lines); n <= 4; n++ {
		lines = append(lines, fmt.Sprintf("gate %d open %d s", n, 6+n))
	}
	lines = append(lines, "clock source 192.0.2.9", "panel language brief", "report host 198.51.100.9")
	return &ploverState{running: lines, stored: append([]string(nil), lines...)}
}

// servePlover speaks Telnet (RFC 854) on one connection until it ends.
func (d *Device) servePlover(g *gate) {
	conn, err := telnet.New(
		g,
		telnet.Config{Ours: []byte{telnet.Echo, telnet.SuppressGA}, Theirs: []byte{telnet.SuppressGA, telnet.WindowSize, telnet.TerminalType},
			Offer: []byte{telnet.Echo, telnet.SuppressGA}, Ask: []byte{telnet.WindowSize}},
	)
	if err != nil {
		return
	}
	p := &plover{d: d, in: bufio.NewReader(conn), out: conn, paged: true}
	if !d.gates.busy.TryLock() {
		p.print("In use. Try later.\n")
		return
	}
	p.run()
	if p.bye || d.fleet.closed.Load() || !d.up.Load() {
		d.gates.busy.Unlock()
		return
	}
	time.AfterFunc(lingers, d.gates.busy.Unlock)
}

func (p *plover) print(text string) {
	if _, err := io.WriteString(p.out, strings.ReplaceAll(text, "\n", "\r\n")); err != nil {
		p.over = true
	}
}

// ask prints a question and reads the answer.
func (p *plover) ask(question string, echo bool) (string, bool) {
	p.print(question)
	var b []byte
	for {
		c, err := p.in.ReadByte()
		if err != nil {
			p.over = true
			return "", false
		}
		switch {
		case c == '\n' && len(b) == 0 && question == "": // the rest of CR LF
		case c == '\r':
			if next, _ := p.in.Peek(1); p.in.Buffered() > 0 && next[0] == '\n' {
				_, _ = p.in.ReadByte()
			}
			p.print("\n")
			return string(b), true
		case (c == 8 || c == 127) && len(b) > 0:
			b = b[:len(b)-1]
			p.print("\b \b")
		case c >= ' ' && c < 127 && len(b) < 256:
			b = append(b, c)
			if echo {
				p.print(string(rune(c)))
			}
		}
	}
}

func (p *plover) run() {
	if p.d.hasFault(NoPrompt) {
		p.print("GATE CONTROL")
		_, _ = io.Copy(io.Discard, p.in)
		return
	}
	p.print("\nGATE CONTROL, MARROW SOUND FERRIES\n")
	if !p.login() {
		p.bye = true // it ended this one itself
		return
	}
	for !p.over {
		mark := ":"
		if p.master {
			mark = "!"
		}
		if p.d.hasFault(OddPrompt) {
			mark = " at your service>"
		}
		line, ok := p.ask(p.d.spec.Name+mark+" ", true)
		if ok && strings.TrimSpace(line) != "" {
			p.command(strings.Fields(line))
		}
	}
}

func (p *plover) login() bool {
	name, ok := p.ask("Name? ", true)
	if !ok {
		return false
	}
	word, ok := p.ask("Word? ", false)
	if !ok {
		return false
	}
	p.slow()
	if p.d.hasFault(HangsLogin) {
		_, _ = io.Copy(io.Discard, p.in)
		return false
	}
	p.d.slowLogin()
	if want, known := p.d.users[name]; !known || want != word || p.d.hasFault(BadPassword) {
		p.d.mu.Lock()
		p.d.note(Denied, "")
		p.d.mu.Unlock()
		p.print("Not known here.\n")
		return false
	}
	return true
}

// slow takes the time that everything takes here.
func (p *plover) slow() { time.Sleep(4 * p.d.fleet.scenario.Latency) }

// strike lets the faults of the scenario act on a line. It tells whether the
// line is dealt with.
func (p *plover) strike(line string) bool {
	struck := p.d.strikes(line)
	time.Sleep(struck.wait)
	switch {
	case struck.drop:
		p.print("? g")
		p.over = true
	case struck.hang:
		_, _ = io.Copy(io.Discard, p.in)
		p.over = true
	case struck.restart:
		p.d.restart()
		p.over = true
	case struck.balk:
		p.print("? not now\n")
		return true
	case struck.garbage:
		p.print(noise(p.d.fleet.scenario.Master))
	}
	return p.over
}

func (p *plover) command(w []string) {
	p.slow()
	line := strings.Join(w, " ")
	if p.strike(line) {
		return
	}
	switch {
	case line == "bye":
		p.bye, p.over = true, true
	case line == "screen on", line == "screen off":
		if p.d.hasFault(StuckPager) {
			p.print("? screen\n")
			return
		}
		p.paged = w[1] == "on"
	case line == "plain" && p.master:
		p.master = false
	case line == "master":
		word, ok := p.ask("Master word? ", false)
		if ok && (word != p.d.fleet.scenario.Master || p.d.hasFault(NoOperator)) {
			p.d.mu.Lock()
			p.d.note(Denied, "master")
			p.d.mu.Unlock()
			p.print("? no\n")
			return
		}
		p.master = ok
	case w[0] == "list" && len(w) == 2:
		p.list(w[1])
	case p.master && w[0] == "call" && len(w) == 2:
		p.print(p.d.call(line, w[1]))
	case p.master:
		p.change(line, w)
	default:
		p.print("? " + w[0] + "\n")
	}
}

func (p *plover) list(what string) {
	d := p.d
	d.mu.Lock()
	var text string
	switch what {
	case "version":
		text = fmt.Sprintf("MODEL    plover\nRELEASE  %s\nSERIAL   %s\n", d.spec.Version, d.spec.Serial)
	case "clock":
		text = "TIME  " + time.Now().Add(d.spec.ClockOff).UTC().Format(time.RFC3339) + "\n"
	case "uptime":
		text = fmt.Sprintf("UP    %d\n", d.upFor())
	case "gates":
		text = "GATE  STATE   OPEN\n"
		for _, l := range d.gates.running {
			var n, s int
			if _, err := fmt.Sscanf(l, "gate %d open %d s", &n, &s); err == nil {
				text += fmt.Sprintf("%-5d closed  %d s\n", n, s)
			}
		}
	case "settings":
		text = d.part("list settings", strings.Join(d.gates.running, "\n")+"\n")
	case "stored":
		text = d.part("list stored", strings.Join(d.gates.stored, "\n")+"\n")
	}
	d.mu.Unlock()
	if text == "" {
		p.print("? " + what + "\n")
		return
	}
	p.page(text)
}

// page prints text, stopping when the screen is full.
func (p *plover) page(text string) {
	for i, l := range strings.SplitAfter(text, "\n") {
		if p.paged && i > 0 && i%ploverRows == 0 {
			p.print("[more] ")
			if _, err := p.in.ReadByte(); err != nil {
				p.over = true
				return
			}
			p.print("\r       \r")
		}
		p.print(l)
	}
}

// change carries out a master's command.
func (p *plover) change(line string, w []string) {
	d := p.d
	d.mu.Lock()
	defer d.mu.Unlock()
	switch {
	case (w[0] == "set" || w[0] == "clear") && d.fault(Rejects, line) != nil:
		d.note(Received, line)
		d.note(Rejected, line)
		p.print("? " + w[0] + "\n")
	case w[0] == "set" && len(w) >= 3:
		d.note(Received, line)
		d.gates.running = with(d.gates.running, w[1:])
		d.note(Changed, line)
	case w[0] == "clear" && len(w) >= 2:
		d.note(Received, line)
		d.gates.running = without(d.gates.running, strings.Join(w[1:], " "))
		d.note(Changed, line)
	case line == "store" && d.fault(NoSave, "") != nil:
		p.print("? store\n")
	case line == "store":
		if d.fault(QuietSave, "") == nil {
			d.gates.stored = append([]string(nil), d.gates.running...)
			d.note(Saved, "")
		}
		p.print("Stored.\n")
	case line == "test lamps":
		if d.fault(Ignores, line) == nil {
			d.note(Done, line)
		}
		p.print("Lamps lit.\n")
	case line == "restart": // it takes a bare restart at its word
		p.bye, p.over = true, true
		go d.told(line)
	default:
		p.print("? " + w[0] + "\n")
	}
}

// with sets a key, in its place when it is set already. A gate's key is its
// number; else all words but the last are the key.
func with(lines, w []string) []string {
	key := strings.Join(w[:len(w)-1], " ")
	if w[0] == "gate" {
		key = strings.Join(w[:2], " ")
	}
	out := append([]string(nil), lines...)
	for i, l := range out {
		if strings.HasPrefix(l, key+" ") {
			out[i] = strings.Join(w, " ")
			return out
		}
	}
	return append(out, strings.Join(w, " "))
}

func without(lines []string, key string) []string {
	var out []string
	for _, l := range lines {
		if l != key && !strings.HasPrefix(l, key+" ") {
			out = append(out, l)
		}
	}
	return out
}
