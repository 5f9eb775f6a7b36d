package sim

import (
	"fmt"
	"math/rand/v2"
	"strings"
)

// Manners are how a dunlin talks. Dunlins are the devices that nobody here has
// seen before: each fleet of them has manners of its own, drawn at random, and
// [Manners.Profile] writes the profile that fits them.
type Manners struct {
	Words map[string]string `yaml:"words"` // what each command is called
	// Prompt is the prompt, with {host} and {mode}.
	Prompt string `yaml:"prompt"`
	Raises bool   `yaml:"raises"` // a privileged mode, behind a secret
	Edits  bool   `yaml:"edits"`  // a mode of its own for changes
	Echo   string `yaml:"echo"`   // none, plain, wrapped, columns, again or scrolled
	Help   bool   `yaml:"help"`   // ? is a key of its line editor
	Tab    bool   `yaml:"tab"`    // so is the tab
	Quotes bool   `yaml:"quotes"` // ^V before such a key makes it a character
	Pages  []Page `yaml:"pages"`  // how output stops, one after the other
	// PagesOff tells that this can be turned off.
	PagesOff bool   `yaml:"pages_off"`
	No       string `yaml:"no"`        // begins what it says to a line that is refused
	Silent   bool   `yaml:"silent"`    // it says nothing then; a command tells the status
	Chatter  bool   `yaml:"chatter"`   // it says something harmless after each line, that looks like a refusal
	Unended  bool   `yaml:"unended"`   // the last line of a configuration has no end
	Ends     bool   `yaml:"ends"`      // a configuration has a last line of its own
	Asks     string `yaml:"asks"`      // the prompt behind a line whose quote is not closed
	Keeps    string `yaml:"keeps"`     // command, itself or never
	Tells    bool   `yaml:"tells"`     // what is saved can be read
	Timer    bool   `yaml:"timer"`     // a restart can be put on the clock
	PutsBack bool   `yaml:"puts_back"` // and it goes on running when that fires: only its configuration is put back
	Restores bool   `yaml:"restores"`  // a whole configuration can be put back
}

// Page is what stands at the end of a screenful, and the key that goes on.
type Page struct {
	More string `yaml:"more"`
	Next string `yaml:"next"`
}

// How a dunlin keeps its configuration over a restart.
const (
	keepsByCommand = "command"
	keepsByItself  = "itself"
	keepsNever     = "never"
)

// DrawManners draws manners at random.
func DrawManners(rng *rand.Rand) Manners {
	pick := func(of ...string) string { return of[rng.IntN(len(of))] }
	maybe := func() bool { return rng.IntN(2) == 0 }
	look := pick("say", "give", "print", "what")
	m := Manners{
		Words: map[string]string{
			"running": look + " " + pick("now", "live", "settings"), "saved": look + " " + pick("kept", "stored", "later"),
			"save": pick("hold", "write", "keep all"), "edit": pick("alter", "tune", "set about"), "done": pick("enough", "over", "so be it"),
			"arm": pick("back in %d", "go back after %d s"), "due": look + " due", "disarm": pick("stay", "never mind"),
			"clock": look + " time", "storage": look + " room", "version": look + " make", "neighbours": look + " near",
			"pages off": pick("roll on", "no pages"), "load": pick("take all", "read in"), "load end": pick("that is all", "== over =="),
			"quit": pick("bye", "off"), "raise": pick("deck", "bridge"), "lower": pick("below", "quay"), "status": pick("how", "and so"),
		},
		Prompt:   pick("{host} {mode}> ", "{mode}@{host}: ", "({host}) {mode} # ", "{mode}> ", ":{mode}: "),
		Raises:   maybe(),
		Edits:    maybe(),
		Echo:     pick("none", "plain", "plain", "wrapped", "columns", "again", "scrolled"),
		Help:     maybe(),
		Tab:      maybe(),
		Quotes:   maybe(),
		PagesOff: maybe(),
		No:       pick("No: ", "Bad line, ", "?! "),
		Silent:   rng.IntN(3) == 0,
		Chatter:  rng.IntN(3) == 0,
		Unended:  maybe(),
		Ends:     maybe(),
		Asks: pick(
			"",
			"> ",
			"... ",
		),
		Keeps:    pick(keepsByCommand, keepsByCommand, keepsByCommand, keepsByItself, keepsNever),
		Tells:    rng.IntN(3) > 0,
		Restores: maybe(),
	}
	pages := []Page{{"--more--", " "}, {"(go on?) ", "y"}, {"[page] ", "n"}}
	rng.Shuffle(len(pages), func(i, j int) { pages[i], pages[j] = pages[j], pages[i] })
	m.Pages = pages[:rng.IntN(3)]
	m.Timer = m.Keeps == keepsByCommand && m.Tells && rng.IntN(6) > 0
	m.PutsBack = m.Timer && maybe()
	return m
}

// Commands lists what a person can say to such a device, and what it does.
func (m Manners) Commands() (out [][2]string) {
	for _, c := range []struct {
		is         bool
		word, does string
	}{
		{m.Raises, "raise", "more rights; asks for a word"}, {m.Raises, "lower", "back from there"},
		{true, "running", "prints the configuration that runs"}, {m.Tells, "saved", "prints what it would start with"},
		{m.Edits, "edit", "to where changes are typed"}, {m.Edits, "done", "back from there"},
		{m.Keeps == keepsByCommand, "save", "saves what runs"}, {m.PagesOff && len(m.Pages) > 0, "pages off", "turns the pager off"},
		{m.Timer, "arm", "puts a way back on the clock, in seconds"}, {m.Timer, "due", "tells of it"}, {m.Timer, "disarm", "takes it off"},
		{m.Restores, "load", "takes a whole configuration"}, {m.Restores, "load end", "ends it"},
		{true, "clock", "tells its clock"}, {true, "storage", "tells its storage"},
		{true, "version", "tells what it is"}, {true, "neighbours", "tells who is near"},
		{m.Silent, "status", "tells how the last line went"}, {true, "quit", "ends the session"},
	} {
		if c.is {
			out = append(out, [2]string{strings.Replace(m.Words[c.word], "%d", "N", 1), c.does})
		}
	}
	return out
}

func (m Manners) prompt(host, mode string) string {
	return strings.NewReplacer("{host}", host, "{mode}", mode).Replace(m.Prompt)
}

// top is the mode in which everything can be read.
func (m Manners) top() string {
	if m.Raises {
		return "work"
	}
	return "look"
}

// editMode is the mode that lines are sent in.
func (m Manners) editMode() string {
	if m.Edits {
		return "edit"
	}
	return m.top()
}

// Profile writes the profile that fits these manners, as YAML.
func (m Manners) Profile() string {
	var b strings.Builder
	p := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	top, w := m.top(), func(name string) string { return quoted(m.Words[name]) }
	p("platform: dunlin\ntitle: dunlin, whose manners are drawn at random\n")
	p("connect:\n  protocol: ssh\n  prompt_within: 30s")
	p("  echo: %s", map[bool]string{true: "no", false: "yes"}[m.Echo == "none"])
	if keys := m.lostKeys(); keys != "" && !m.Quotes {
		p("  unsendable: %q", keys)
	} else if keys != "" {
		p("\nquote: {key: ^V, characters: %q}", keys)
	}
	m.modes(p, w)
	m.pager(p, w)
	p("\nrefused: [%s]", quoted("^"+escaped(m.No)))
	if m.Chatter {
		p("harmless: [%s]", quoted("^"+escaped(m.No)+"this is written down$"))
	}
	if m.Silent {
		p("lines:\n  - status: {send: %s, good: '^code 0$'}", w("status"))
	}
	if m.Asks != "" {
		p("continued: {prompt: %s, cancel: ^C}", quoted("^"+escaped(m.Asks)+"$"))
	}
	p("\nconfiguration:\n  layout: indented\n  running: {in: %s, send: %s}", top, w("running"))
	if m.Tells {
		p("  saved: {in: %s, send: %s}", top, w("saved"))
	}
	p("  edit: %s", m.editMode())
	if m.Ends {
		p("  end: '^= end =$'\n  volatile: ['^= end =$']")
	}
	p("  secrets: ['^login \\S+ secret (\\S+)']")
	if m.Keeps == keepsByCommand {
		p("\nsave: {in: %s, send: %s, done: '^It is so\\.$'}", top, w("save"))
	}
	if m.Restores {
		p("\nrestore: {in: %s, send: %s, ready: '^Go on\\.$', end: %s, done: '^It is so\\.$'}", top, w("load"), w("load end"))
	}
	m.timer(p, w)
	m.readers(p, w)
	p("\npace: {connect: 2s, command: 200ms}")
	return b.String()
}

func (m Manners) modes(p func(string, ...any), w func(string) string) {
	p("\nmodes:")
	mode := func(name string) {
		p(
			"  %s:\n    prompt: %s",
			name,
			quoted("^"+strings.NewReplacer(`\{host\}`, `(?P<host>\S+)`, `\{mode\}`, name).Replace(escaped(m.Prompt))+"$"),
		)
	}
	mode("look")
	p("    login: true\n    quit: %s", w("quit"))
	if m.Raises {
		mode("work")
		p(
			"    from: look\n    privileged: true\n    enter:\n      send: %s\n      answers: [{question: '^Word: $', secret: operator}]\n    leave: {send: %s}",
			w("raise"),
			w("lower"),
		)
	}
	if m.Edits {
		mode("edit")
		p("    from: %s\n    enter: {send: %s}\n    leave: {send: %s}", m.top(), w("edit"), w("done"))
	}
}

func (m Manners) pager(p func(string, ...any), w func(string) string) {
	if len(m.Pages) == 0 {
		return
	}
	p("\npager:")
	if m.PagesOff {
		p("  off: {in: %s, send: %s}", m.top(), w("pages off"))
	}
	for i, page := range m.Pages {
		text := fmt.Sprintf("more: %s, next: %s", quoted("^"+escaped(page.More)+"$"), quoted(page.Next))
		if i == 0 {
			p("  %s", strings.Replace(text, ", next", "\n  next", 1))
		} else {
			p("  also: [{%s}]", text)
		}
	}
}

func (m Manners) timer(p func(string, ...any), w func(string) string) {
	if !m.Timer {
		p("\ntimer: {kind: none}")
		return
	}
	p(
		"\ntimer:\n  kind: %[5]s\n  arm: {in: %[1]s, send: %[2]s, done: '^It is so'}\n  show: {in: %[1]s, send: %[3]s}\n  pending: '^Due in (?P<seconds>\\d+) s$'\n  none: '^Nothing is due\\.$'\n  disarm: {in: %[1]s, send: %[4]s, done: '^It is so'}\n  boot: 20s",
		m.top(),
		quoted(strings.Replace(m.Words["arm"], "%d", "<<seconds>>", 1)),
		w("due"),
		w("disarm"),
		map[bool]string{true: "put back", false: "restart"}[m.PutsBack],
	)
}

func (m Manners) readers(p func(string, ...any), w func(string) string) {
	top := m.top()
	p("\nreaders:\n  clock:\n    in: %s\n    send: %s\n    columns:", top, w("clock"))
	p(
		"      time: {type: time, match: '^time (\\S+)$'}\n      source: {type: text, match: '^source (\\S+)$'}\n      settled: {type: yes/no, match: '^state (\\S+)$', yes: settled}",
	)
	p("      offset: {type: number, match: '^offset (-?[\\d.]+)$', optional: true}")
	p("  storage:\n    in: %s\n    send: %s\n    columns:\n      free: {type: number, match: '^free (\\d+) MB$', unit: MB}", top, w("storage"))
	p("  version:\n    in: %s\n    send: %s\n    columns:\n      version: {type: text, match: '^make (\\S+)$'}", top, w("version"))
	p(
		"  neighbours:\n    in: %s\n    send: %s\n    none: %s\n    row: '^(?P<port>\\d+) (?P<name>\\S+)$'\n    columns:\n      port: {type: number}\n      name: {type: text}",
		top,
		w("neighbours"),
		quoted("^"+escaped(m.No)+"nobody is near$"),
	)
}

// lostKeys are the characters that its line editor keeps for itself.
func (m Manners) lostKeys() (keys string) {
	if m.Help {
		keys = "?"
	}
	if m.Tab {
		keys += "\t"
	}
	return keys
}

// quoted writes a text between single quotes, as YAML does.
func quoted(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }

// escaped takes the meaning out of the characters of a pattern.
func escaped(s string) string {
	var b strings.Builder
	for _, r := range s {
		if strings.ContainsRune(`\.+*?()|[]{}^$`, r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return b.String()
}
