// Package profile is what Metabasis knows of a platform, as data.
//
// A [Profile] is read from a YAML file and checked: how the platform is reached, how its
// configuration is read, changed, saved and taken back, and how what it prints is turned into
// tables. What a plan must know of it are its [Profile.Traits]; what can be proven on it are
// its [Profile.Claims]. Nothing here talks to a device. Who does stands beside this package,
// one for each way: lines for those that are worked over a terminal, netconf, restconf and
// snmp. Each of them has a Session that does what driver.Session asks for, and a Start that
// begins one.
package profile

import (
	"maps"
	"regexp"
	"regexp/syntax"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// Profile is how a platform talks.
type Profile struct {
	Platform  string            `yaml:"platform"`
	Title     string            `yaml:"title"`
	Like      string            `yaml:"like"` // the platform whose profile says what this one does not
	Connect   Connect           `yaml:"connect"`
	Modes     map[string]Mode   `yaml:"modes"`
	Pager     Pager             `yaml:"pager"`
	Refused   []Pattern         `yaml:"refused"`  // what a refused line looks like
	Harmless  []Pattern         `yaml:"harmless"` // what looks like a refusal and is none
	Lines     []Proof           `yaml:"lines"`    // what proves a line of a change, beyond that nothing refuses it
	Quote     Quote             `yaml:"quote"`
	More      Continued         `yaml:"continued"`
	Never     []Pattern         `yaml:"never"` // lines no runbook may send
	Config    Configuration     `yaml:"configuration"`
	Grammar   Grammar           `yaml:"language"` // how lines change it
	Save      Command           `yaml:"save"`
	Restore   Restore           `yaml:"restore"`
	Restart   Restart           `yaml:"restart"`
	Files     Files             `yaml:"files"`
	Software  Software          `yaml:"software"`
	Timer     Timer             `yaml:"timer"`
	Trial     Trial             `yaml:"trial"`
	Readers   map[string]Reader `yaml:"readers"`
	Ask       Ask               `yaml:"ask"`
	Reach     Reach             `yaml:"reach"`
	Pairs     Pairs             `yaml:"pairs"`
	Identity  Identity          `yaml:"identity"`
	Models    Models            `yaml:"models"`  // where it is not worked over a terminal
	Netconf   Netconf           `yaml:"netconf"` // where it speaks that
	Snmp      Snmp              `yaml:"snmp"`    // the same
	Restconf  Restconf          `yaml:"restconf"`
	Pace      Pace              `yaml:"pace"`
	Stock     []software.Image  `yaml:"-"` // what software there is for it
	Start     string            `yaml:"-"` // the mode a session starts in
	Top       string            `yaml:"-"` // the privileged mode; "" when there is none
	ModeOrder []string          `yaml:"-"` // modes, sorted
	Bare      bool              `yaml:"-"` // a prompt tells no name
	sum       string            // SHA-256 of its text, and of those that it is like
}

// Connect is how a device is reached.
type Connect struct {
	Protocol string        `yaml:"protocol"` // ssh or telnet
	Port     int           `yaml:"port"`
	Prompt   time.Duration `yaml:"prompt_within"` // the longest a prompt may take
	Enter    string        `yaml:"enter"`         // what ends a line of ours: lf, cr or crlf
	Echo     string        `yaml:"echo"`          // yes, no, or "": found out as we go
	Unsent   string        `yaml:"unsendable"`    // characters that the device's line editor keeps for itself
	// Login is the dialogue before the first prompt, for protocols that have no
	// login of their own. <<user>> in a text stands for the user's name.
	Login  []Answer  `yaml:"login"`
	Denied []Pattern `yaml:"denied"` // what a denied login looks like
}

// Ask is how the device is asked what a person wants to know.
type Ask struct {
	In   string    `yaml:"in"`   // the mode
	Safe []Pattern `yaml:"safe"` // commands that change nothing
}

// Safe tells whether the profile knows a command to change nothing.
func (p *Profile) Safe(command string) bool {
	if !p.Typed() { // what is asked over a protocol says itself that it only reads
		return strings.HasPrefix(strings.TrimSpace(command), "get ")
	}
	return slices.ContainsFunc(p.Ask.Safe, func(s Pattern) bool { return s.Matches(command) }) && !p.NeverSent(command)
}

// NeverSent tells whether a command is one that is never sent.
func (p *Profile) NeverSent(command string) bool {
	return slices.ContainsFunc(p.Never, func(n Pattern) bool { return n.Matches(strings.TrimSpace(command)) })
}

// Mode is a state of the command line, known by its prompt.
type Mode struct {
	Prompt Pattern `yaml:"prompt"`
	Login  bool    `yaml:"login"` // a session starts here
	// Privileged is the mode in which the device can be read in full.
	Privileged bool    `yaml:"privileged"`
	From       string  `yaml:"from"` // the mode it is entered from
	Enter      Command `yaml:"enter"`
	Leave      Command `yaml:"leave"` // back to From
	Quit       string  `yaml:"quit"`  // ends the session
}

// Command is something said to the device, in a mode.
type Command struct {
	In      string   `yaml:"in"` // the mode
	Send    string   `yaml:"send"`
	Answers []Answer `yaml:"answers"` // questions it asks before it is done
	Done    Pattern  `yaml:"done"`    // what a line of a good answer looks like
	// What decides about this command before the platform's own patterns do.
	Refused  []Pattern `yaml:"refused"`
	Harmless []Pattern `yaml:"harmless"`
}

// Answer is a question the device may ask, and what to say to it: a text, or a
// named secret.
type Answer struct {
	Question Pattern `yaml:"question"`
	Send     string  `yaml:"send"`
	Secret   string  `yaml:"secret"`
	Once     bool    `yaml:"-"` // asked again means that it was not taken
}

// Pager is how output is stopped a screenful at a time, and how to stop that.
type Pager struct {
	Off  Command `yaml:"off"`
	Page `yaml:",inline"`
	Also []Page `yaml:"also"` // further ways in which it stops
}

// Page is what stands at the end of a screenful, and the key that goes on.
type Page struct {
	More Pattern `yaml:"more"`
	Next string  `yaml:"next"`
}

// Pages are all the ways in which output stops.
func (p Pager) Pages() []Page { return append([]Page{p.Page}, p.Also...) }

// Configuration is how the platform keeps and prints its configuration.
type Configuration struct {
	Layout  string `yaml:"layout"` // indented, braces or flat
	Ordered bool   `yaml:"ordered"`
	// Text is a line that begins a text of several lines, such as a banner; its group "end" is the
	// line that ends it.
	Text     Pattern   `yaml:"text"`
	Running  Command   `yaml:"running"`
	Saved    Command   `yaml:"saved"`
	Also     []Part    `yaml:"also"`     // what else makes up what runs, compared together with it
	Whole    bool      `yaml:"whole"`    // it takes only whole configurations: lines are carried out on the text
	Check    Command   `yaml:"check"`    // looks whether a text that was handed over can be applied
	Apply    Command   `yaml:"apply"`    // applies it
	Drop     Command   `yaml:"drop"`     // takes away one that was not applied
	Edit     string    `yaml:"edit"`     // the mode lines are sent in
	Lasts    bool      `yaml:"lasts"`    // edit mode is not left between steps
	End      Pattern   `yaml:"end"`      // the last line of a whole configuration
	Volatile []Pattern `yaml:"volatile"` // lines that change by themselves
	Secrets  []Pattern `yaml:"secrets"`  // what to mask: the groups, or all of the match
}

// Part is a further part of what runs.
type Part struct {
	Name    string `yaml:"name"`
	Command `yaml:",inline"`
}

// Restore is how a whole configuration is put back.
type Restore struct {
	Command `yaml:",inline"`
	Ready   Pattern `yaml:"ready"` // what the device says when it wants the text
	End     string  `yaml:"end"`   // the line that ends the text
}

// Timer is how the platform takes a change back by itself. In Arm, <<seconds>>
// stands for the delay, or <<at>> for the time of day by the device's own clock.
type Timer struct {
	Kind    plan.TimerKind `yaml:"kind"`
	Arm     Command        `yaml:"arm"`
	At      string         `yaml:"at"`   // how a time of day is written: HH:MM:SS or HH:MM
	Zone    string         `yaml:"zone"` // the zone that the device tells it in; UTC when not given
	Show    Command        `yaml:"show"`
	Pending Pattern        `yaml:"pending"` // group "seconds" is what is left, or "at" when it is due
	None    Pattern        `yaml:"none"`
	Disarm  Command        `yaml:"disarm"`
	Boot    time.Duration  `yaml:"boot"`
}

// Trial is how a platform applies a change that takes itself back unless it is confirmed
// in time. Lines are staged in edit mode, or a whole configuration is; nothing of them
// runs before they are applied. In Apply and Extend, <<seconds>> stands for the time.
type Trial struct {
	Check   Command `yaml:"check"` // looks whether what is staged can be applied
	Apply   Command `yaml:"apply"`
	Again   bool    `yaml:"again"`  // more can be applied while something is on trial; all of it is taken back then
	Extend  Command `yaml:"extend"` // gives a trial that runs more time; without it, where more can be applied, Apply does
	Drop    Command `yaml:"drop"`   // drops what is staged, whoever has staged it
	Show    Command `yaml:"show"`
	Pending Pattern `yaml:"pending"` // group "seconds" is what is left
	None    Pattern `yaml:"none"`
	Confirm Command `yaml:"confirm"`
	Undo    Command `yaml:"undo"`
}

// Pairs is how the members of a redundant pair share their work.
type Pairs struct {
	// TakesBack tells that the one that had the work takes it back by itself, when it is
	// there again.
	TakesBack bool `yaml:"takes_back"`
	// HandOver has the other do the work, where a device does it; which does, the column "active" of the
	// table "pair" tells.
	HandOver Command `yaml:"hand_over"`
}

// Pace is how long things usually take, for estimates.
type Pace struct {
	Connect time.Duration `yaml:"connect"`
	Command time.Duration `yaml:"command"`
}

// Pattern is a regular expression in a profile.
type Pattern struct {
	*regexp.Regexp
	prefix string // what a match must start with; "" is anything
}

// UnmarshalYAML compiles the pattern. (As a TextUnmarshaler the library would write the file
// out anew for each of them.)
func (p *Pattern) UnmarshalYAML(unmarshal func(any) error) error {
	var text string
	if err := unmarshal(&text); err != nil {
		return err
	}
	re, err := regexp.Compile(text)
	if err != nil {
		return err
	}
	p.Regexp, p.prefix = re, literalStart(re.String())
	return nil
}

// literalStart is the plain text behind a ^ at the start of a pattern. Most
// lines of most output fail on it, which is much cheaper than the pattern.
func literalStart(pattern string) string {
	tree, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil || tree.Op != syntax.OpConcat || len(tree.Sub) < 2 || tree.Sub[0].Op != syntax.OpBeginText ||
		tree.Sub[1].Op != syntax.OpLiteral || tree.Sub[1].Flags&syntax.FoldCase != 0 {
		return ""
	}
	return string(tree.Sub[1].Rune)
}

// Find returns the match and its groups, or nil; nothing matches a pattern that
// is not given.
func (p Pattern) Find(s string) []string {
	if p.Regexp == nil || !strings.HasPrefix(s, p.prefix) {
		return nil
	}
	return p.FindStringSubmatch(s)
}

// Matches tells whether the pattern is given and fits.
func (p Pattern) Matches(s string) bool {
	return p.Regexp != nil && strings.HasPrefix(s, p.prefix) && p.MatchString(s)
}

// Style is how the platform writes its configuration.
func (p *Profile) Style() config.Style {
	return config.Style{Layout: p.Config.Layout, Ordered: p.Config.Ordered, Volatile: regexps(p.Config.Volatile), Opens: p.Config.Text.Regexp}
}

// Traits are what a plan needs to know of the platform.
func (p *Profile) Traits() plan.Traits {
	if !p.Typed() {
		return p.modelTraits()
	}
	_, tellsPair := p.Readers["pair"]
	return plan.Traits{
		ClearText:   p.Connect.Protocol == Telnet,
		TellsPair:   tellsPair,
		TakesBack:   p.Pairs.TakesBack,
		HandsOver:   p.Pairs.HandOver.Send != "",
		Timer:       p.Timer.Kind,
		Boot:        p.Timer.Boot,
		Stages:      p.OnTrial() || p.Config.Whole,
		Whole:       p.Config.Whole,
		Once:        p.OnTrial() && !p.Trial.Again,
		Extends:     p.extends(),
		ByClock:     p.Timer.At != "",
		Style:       p.Style(),
		Language:    p.Language(),
		Connect:     p.Pace.Connect,
		Command:     p.Pace.Command,
		Never:       regexps(p.Never),
		Mask:        p.Mask,
		Unsendable:  p.Unsendable,
		Restores:    p.Restore.Send != "",
		Saves:       p.Save.Send != "",
		TellsSaved:  p.Config.Saved.Send != "",
		One:         p.one(),
		Tables:      p.Tables(),
		TellsName:   p.tellsName(),
		TellsSerial: p.Identity.Serial != "",
		ShowsKey:    p.showsKey(),
		NameLine:    p.Identity.Line.Regexp,

		ChangesNothing: p.Safe,
		Prints:         p.prints,
		Reaches:        p.Reach.Send != "",
		Restarts:       p.restarts(),
		Software:       p.software(),
		TakesCommands:  true,
		Modes:          slices.Sorted(maps.Keys(p.Modes)),
	}
}

// OnTrial tells whether changes are applied on trial.
func (p *Profile) OnTrial() bool { return p.Timer.Kind == plan.TrialTimer }

// extends tells whether a timer that runs can be given more time.
func (p *Profile) extends() bool {
	return !p.OnTrial() || p.Trial.Again || p.Trial.Extend.Send != ""
}

// one tells whether what runs and what is saved are printed by the same command.
func (p *Profile) one() bool {
	return p.Config.Saved.Send != "" && p.Config.Saved.Send == p.Config.Running.Send && p.Config.Saved.In == p.Config.Running.In
}

func regexps(ps []Pattern) (out []*regexp.Regexp) {
	for _, p := range ps {
		out = append(out, p.Regexp)
	}
	return out
}

// Set is the profiles at hand, by platform.
type Set map[string]*Profile

// Platforms lists their names, sorted.
func (s Set) Platforms() []string {
	var out []string
	for name := range s {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// Traits are the traits of each platform.
func (s Set) Traits() map[string]plan.Traits {
	out := map[string]plan.Traits{}
	for name, p := range s {
		out[name] = p.Traits()
	}
	return out
}

// Fingerprints tells profiles apart by their text, and by that of those they are like: a
// SHA-256 by platform.
func (s Set) Fingerprints() map[string]string {
	out := map[string]string{}
	for name, p := range s {
		out[name] = p.sum
	}
	return out
}

// Schema is what runbooks over these platforms may speak of.
func (s Set) Schema(f *fleet.Fleet) runbook.Schema { return plan.Schema(s.Traits(), f) }

// Abilities says what can be done with the platform.
func (p *Profile) Abilities() []string {
	out := []string{"be reached", "be read", "be backed up", "be changed"}
	t := p.Traits()
	if t.Saves {
		out = append(out, "save")
	}
	if t.Restores {
		out = append(out, "restore a backup")
	}
	if p.Timer.Kind.Guards() {
		out = append(out, "take a change back by itself")
	}
	return out
}

// Lacks says what cannot be done with the platform that others can. What cannot
// be known on it is told by [Profile.Claims].
func (p *Profile) Lacks() []string {
	var out []string
	typed := p.Typed()
	for _, l := range []struct {
		missing bool
		what    string
	}{
		{typed && len(p.Grammar.Lines) == 0, "a language: the lines that lead from one configuration to another are not known"},
		{typed && p.Restore.Send == "", "a way to restore: a backup can only be put back by undo lines or by hand"},
		{typed && len(p.Ask.Safe) == 0, "safe commands: metabasis ask sends nothing to it"},
		{len(p.Config.Secrets) == 0, "secrets to mask: whatever it prints is kept as it is"},
		{len(p.Never) == 0, "lines that are never sent, such as an immediate restart"},
		{typed && p.More.Prompt.Regexp == nil, "what it shows when a line is not complete (continued:): an unclosed quote would look like silence"},
	} {
		if l.missing {
			out = append(out, l.what)
		}
	}
	return out
}

// Secrets names the secrets the device may ask for after login, sorted.
func (p *Profile) Secrets() []string {
	var out []string
	add := func(c Command) {
		for _, a := range c.Answers {
			if a.Secret != "" && !slices.Contains(out, a.Secret) {
				out = append(out, a.Secret)
			}
		}
	}
	for _, m := range p.Modes {
		add(m.Enter)
	}
	if p.Snmp.Version == "3" {
		out = append(out, Privacy)
	}
	for _, a := range p.Connect.Login {
		if a.Secret != "" && a.Secret != "password" && !slices.Contains(out, a.Secret) {
			out = append(out, a.Secret)
		}
	}
	for _, c := range []Command{p.Save, p.Timer.Arm, p.Timer.Disarm,
		p.Restore.Command, p.Trial.Apply, p.Trial.Extend, p.Trial.Confirm, p.Trial.Undo} {
		add(c)
	}
	slices.Sort(out)
	return out
}

// MustPattern makes a pattern of text that we wrote ourselves.
func MustPattern(text string) Pattern {
	re := regexp.MustCompile(text)
	return Pattern{Regexp: re, prefix: literalStart(text)}
}
