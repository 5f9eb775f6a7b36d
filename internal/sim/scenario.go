package sim

import (
	"bytes"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strings"
	"text/template"
	"time"

	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
)

// Scenario describes a fleet to simulate.
type Scenario struct {
	Station     string            `yaml:"station"`      // address of the management station, where we are
	TimeSources []string          `yaml:"time_sources"` // time sources that answer
	Boot        time.Duration     `yaml:"boot"`         // time from restart to first prompt
	Settle      time.Duration     `yaml:"settle"`       // time for a clock to settle on a new source
	Install     time.Duration     `yaml:"install"`      // time that installing an image takes
	Latency     time.Duration     `yaml:"latency"`      // time a command takes, at least
	Jitter      time.Duration     `yaml:"jitter"`       // time a command may take on top
	Logins      map[string]string `yaml:"logins"`       // user to password
	Operator    string            `yaml:"operator"`     // password of tern's operator mode
	ClearLogins map[string]string `yaml:"clear_logins"` // user to password, over Telnet
	Master      string            `yaml:"master"`       // password of plover's master mode
	Record      bool              `yaml:"-"`            // keep what is asked over NETCONF, word for word
	Privacy     string            `yaml:"privacy"`      // what SNMP version 3 is encrypted by
	Config      string            `yaml:"config"`       // saved configuration, a text/template over Spec
	Manners     *Manners          `yaml:"manners"`      // how its dunlins talk
	Images      []Stocked         `yaml:"images"`       // what software there is for them
	Devices     []Spec            `yaml:"devices"`
}

// Spec describes one device of a scenario.
type Spec struct {
	Name       string        `yaml:"name"`
	Platform   string        `yaml:"platform"` // tern when not given, osier, skerry, bittern, plover or dunlin
	Address    string        `yaml:"address"`
	Site       string        `yaml:"site"`
	Uplink     string        `yaml:"uplink"`      // the device above it; "" is the operations centre
	UplinkPort int           `yaml:"uplink_port"` // its own port towards that; 1 when not given
	Ports      int           `yaml:"ports"`       // 12 when not given
	Version    string        `yaml:"version"`
	Serial     string        `yaml:"serial"`
	FreeMB     int           `yaml:"free_mb"`
	ClockOff   time.Duration `yaml:"clock_off"` // how far its clock is off
	Unsaved    string        `yaml:"unsaved"`   // a line put in the running configuration only
	Editing    string        `yaml:"editing"`   // somebody else who is in edit mode
	Pair       string        `yaml:"pair"`      // the name of a pair of osiers: one does the work of both
	Once       bool          `yaml:"once"`      // an osier that applies nothing while something is on trial
	Draft      string        `yaml:"draft"`     // somebody who has left an osier's draft standing
	Config     string        `yaml:"config"`    // in place of the scenario's
	Writable   bool          `yaml:"writable"`  // a skerry without a candidate: what runs is edited
	V3Only     bool          `yaml:"v3_only"`   // a bittern that speaks version 3 alone
	Code       string        `yaml:"code"`      // asked for in a dialogue behind the password
	Faults     []Fault       `yaml:"faults"`
}

// Fault is something that goes wrong with a device.
type Fault struct {
	Kind  string        `yaml:"kind"`
	Match string        `yaml:"match"` // the line it happens at, as a pattern; "" is every line
	With  string        `yaml:"with"`  // exchanged: the device that stands in its place, and it in that one's
	By    time.Duration `yaml:"by"`    // slow, slow login: how much longer it takes; late disarm, other timer, shows late: how much later
	Times int           `yaml:"times"` // how often it happens; 0 is always
	After int           `yaml:"after"` // how often the line comes before that without harm

	re   *regexp.Regexp
	came int
	done int
}

// The kinds of fault.
const (
	NoName       = "no name"        // its name has no address
	NoRoute      = "no route"       // there is no way to it
	Silent       = "silent"         // packets to it vanish
	Refuses      = "refuses"        // no session: the port is closed
	Mute         = "mute"           // takes the connection and says nothing
	Closes       = "closes"         // takes the connection and closes it
	Stranger     = "stranger"       // something else listens on its port
	OldOnly      = "old only"       // knows only weak ways to exchange keys
	OtherKey     = "other key"      // shows another host key than its own
	HangsLogin   = "hangs at login" // never answers a password
	SlowLogin    = "slow login"     // takes longer over a password
	NoPrompt     = "no prompt"      // lets one in and prints no prompt
	OddPrompt    = "odd prompt"     // prints a prompt nobody expects
	NoOperator   = "no operator"    // every operator's password is wrong
	StuckPager   = "stuck pager"    // its pager cannot be turned off
	BadPassword  = "bad password"   // every password is wrong
	Hangs        = "hangs"          // says nothing more after the line
	Drops        = "drops"          // the session ends in the middle of the line
	Rejects      = "rejects"        // the line is refused
	SaysBack     = "says back"      // the line is refused, and said back in full
	Garbage      = "garbage"        // prints noise before the answer
	Slow         = "slow"           // every command takes longer
	Restarts     = "restarts"       // restarts by itself at the line
	NeverBack    = "never back"     // does not come back from a restart
	NoTimer      = "no timer"       // the restart timer cannot be armed
	NoSave       = "no save"        // the configuration cannot be saved
	NeverSettles = "never settles"  // the clock never settles on a new source
	CutsOff      = "cuts off"       // contact is lost once the line is carried out
	QuietTimer   = "quiet timer"    // says the timer is armed, but it is not
	StuckTimer   = "stuck timer"    // says the timer is cancelled, but it is not
	LostUndo     = "lost undo"      // takes "drop" lines without doing anything
	Refusing     = "refuses loads"  // a whole configuration cannot be loaded
	SlowBoot     = "slow boot"      // takes longer to come back from a restart
	Spoils       = "spoils restart" // comes back from a restart with something else
	QuietSave    = "quiet save"     // says the configuration is saved, but it is not
	LateDisarm   = "late disarm"    // the timer goes off the clock some time after it says so
	Drifts       = "drifts"         // the running configuration changes by itself once the line is carried out
	CutShort     = "cut short"      // prints only a part of a configuration, and nothing tells
	HalfLoad     = "half load"      // takes half of a configuration it is sent, and says all is well
	OtherTimer   = "other timer"    // somebody else takes the timer off the clock, or puts it off, at the line
	Joined       = "joined"         // somebody else begins to change the configuration at the line
	Balks        = "balks"          // answers the line with a fault, whatever it was
	Ignores      = "ignores"        // takes the line without doing anything
	Alters       = "alters"         // its line editor loses the character behind what matches
	ShowsLate    = "shows late"     // prints what ran before, for some time after a line
	DropsAfter   = "drops after"    // the session ends once the line is carried out, before it is answered
	NeverFires   = "never fires"    // what is on the clock goes off it at its time, and nothing happens
	RefusesApply = "refuses apply"  // a draft that was found sound cannot be applied
	OldFraming   = "old framing"    // speaks NETCONF 1.0 only
	Notifies     = "notifies"       // sends a notification before it answers
	HalfSet      = "half set"       // carries out half of the variables of a set, and says that it failed
	PairAway     = "pair away"      // says that the other member of its pair is away
	QuietApply   = "quiet apply"    // says that a draft is applied, and drops it
	Exchanged    = "exchanged"      // its address leads to another device, and that one's to it; with match: from that line on
	Lossy        = "lossy"          // of what it asks an address for, half comes back
	StaysStandby = "stays standby"  // does not take the work of its pair when it is handed over
	TakesBack    = "takes back"     // takes the work of its pair back by itself, once it is there again
	NoRoom       = "no room"        // an image cannot be installed
	BootsOld     = "boots the old"  // starts with the version that it ran, whatever is next
	Rescue       = "rescue"         // cannot start with the new version: it runs none, and starts with the old one next
	Bare         = "bare"           // starts with a new version, and without much of its configuration
	BreaksIn     = "breaks in"      // prints a message while the line is typed, behind what matches, and draws the line again
)

var kinds = []string{
	NoName,
	SlowBoot,
	NoRoute,
	Silent,
	Refuses,
	Mute,
	Closes,
	Stranger,
	OldOnly,
	OtherKey,
	HangsLogin,
	SlowLogin,
	NoPrompt,
	OddPrompt,
	NoOperator,
	StuckPager,
	BadPassword,
	Hangs,
	Drops,
	Rejects,
	SaysBack,
	Garbage,
	Slow,
	Restarts,
	NeverBack,
	NoTimer,
	NoSave,
	NeverSettles,
	CutsOff,
	QuietTimer,
	StuckTimer,
	LostUndo,
	Refusing,
	Spoils,
	StaysStandby, TakesBack, NoRoom, BootsOld, Rescue, Bare,
	QuietSave,
	LateDisarm,
	Drifts,
	CutShort,
	HalfLoad,
	OtherTimer,
	Joined,
	Balks,
	Ignores,
	Alters,
	BreaksIn,
	ShowsLate,
	DropsAfter,
	NeverFires,
	RefusesApply,
	OldFraming,
	Notifies,
	HalfSet,
	PairAway,
	QuietApply,
	Exchanged,
	Lossy,
}

// Kinds lists the kinds of fault.
func Kinds() []string { return slices.Clone(kinds) }

// ReadScenario reads a scenario file. The error is a problem.List.
func ReadScenario(file string, data []byte) (Scenario, error) {
	var s Scenario
	data, err := textfile.Decode(file, data)
	if err != nil {
		return s, err
	}
	if _, err := textfile.YAML(file, data, &s, false); err != nil {
		return s, err
	}
	if err := s.Prepare(); err != nil {
		return s, problem.List{{File: file, Msg: err.Error()}}
	}
	return s, nil
}

// Prepare fills in what a scenario leaves open and checks it.
func (s *Scenario) Prepare() error {
	if s.Station == "" {
		s.Station = "203.0.113.5"
	}
	if _, err := netip.ParseAddr(s.Station); err != nil {
		return fmt.Errorf("station %q is not an address", s.Station)
	}
	names := map[string]bool{}
	for i := range s.Devices {
		d := &s.Devices[i]
		names[d.Name] = true
		d.Platform = orElse(d.Platform, "tern")
		kind := speciesOf(d.Platform)
		if kind == nil {
			return fmt.Errorf("%s: there is no simulated %q%s", d.Name, d.Platform, problem.Write(d.Platform, speciesNames()))
		}
		if needs := kind.needs(s); needs != "" {
			return fmt.Errorf("%s: %s", d.Name, needs)
		}
		d.UplinkPort = orElse(d.UplinkPort, 1)
		d.Ports = orElse(d.Ports, 12)
		d.FreeMB = orElse(d.FreeMB, 41)
		d.Version = orElse(d.Version, "4.2")
		d.Serial = orElse(d.Serial, fmt.Sprintf("T-%06d", 100_101+37*i))
		for j := range d.Faults {
			f := &d.Faults[j]
			if !slices.Contains(kinds, f.Kind) {
				return fmt.Errorf("%s: unknown fault %q%s", d.Name, f.Kind, problem.Write(f.Kind, kinds))
			}
			re, err := regexp.Compile(f.Match)
			if err != nil {
				return fmt.Errorf("%s: fault %s: %w", d.Name, f.Kind, err)
			}
			f.re = re
		}
	}
	for _, d := range s.Devices {
		for _, f := range d.Faults {
			if f.Kind == Exchanged && (!names[f.With] || f.With == d.Name) {
				return fmt.Errorf("%s: it is exchanged with %q, which is no other device of the scenario: write with: NAME", d.Name, f.With)
			}
		}
	}
	for _, d := range s.Devices {
		if d.Uplink != "" && !names[d.Uplink] {
			return fmt.Errorf("%s: its uplink %q is not in the scenario", d.Name, d.Uplink)
		}
	}
	return nil
}

func orElse[T comparable](v, other T) T {
	var zero T
	if v == zero {
		return other
	}
	return v
}

// initial renders the configuration a device starts with.
func (s *Scenario) initial(d Spec) (string, error) {
	source := orElse(d.Config, s.Config)
	t, err := template.New(d.Name).Option("missingkey=error").Parse(source)
	if err != nil {
		return "", fmt.Errorf("configuration of %s: %w", d.Name, err)
	}
	var b bytes.Buffer
	if err := t.Execute(&b, d); err != nil {
		return "", fmt.Errorf("configuration of %s: %w", d.Name, err)
	}
	return strings.TrimRight(b.String(), "\n") + "\n", nil
}
