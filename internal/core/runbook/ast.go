package runbook

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/kind"
)

// Runbook is a parsed runbook. Its fields follow the sections of the file.
type Runbook struct {
	File       string
	Title      string
	Change     string // number of the change record
	Window     Window
	Reserve    time.Duration // kept free at the end of the window for taking back
	Ask        []Ask
	Scope      []*Cond // all must hold
	Batches    Batches
	Prechecks  []Precheck
	Record     Recording
	Timer      Timer
	Steps      []Step
	Soak       time.Duration
	Unattended Unattended

	// Past finds what a device had, for steps that restore; nil where nothing is known. The
	// error is a [NoPast] where there is nothing of the device.
	Past func(r Restore, device string) (Was, error)
	// Told gives what devices told when they were last read, for a scope that looks at that;
	// nil where nothing is known.
	Told Teller

	lines map[int]string // the source, for later problems
	files []*Text        // those that stand for the lines of files
	read  func(name string) ([]byte, error)
	own   ownFiles // those that are another one for each device
}

// Window is when we may work.
type Window struct {
	None   bool          // there is none: any time will do, and nothing must be over by any
	Now    bool          // it opens when the run begins: for laboratories and drills
	Date   string        // the day it is on, as 2006-01-02; "" is the next that comes
	Day    string        // the day of the week it is on; "" is any
	Start  time.Duration // since midnight
	Zone   string        // whose midnight, as Europe/Berlin; "" is this machine's
	Length time.Duration
	// From and To take the place of all that: it is the window of a night that is gone on with. No
	// runbook says so.
	From, To time.Time
	Line     int
}

// Ask is a value the runbook wants from the person who starts it.
type Ask struct {
	Name    string
	Kind    kind.Kind
	Prompt  string
	Default string
	Line    int
}

// Batches says how the devices in scope are split and how fast we go.
type Batches struct {
	Sizes     []Size // the last one repeats
	Together  int    // devices in change at once; 0 means as many as the batch has
	PerSite   int    // devices in change at once on one site; 0 means no cap
	PerRole   int    // of one role
	PerUplink int    // that are reached through the same device
	// Canaries are changed first, in a batch of their own: those that are named, or the
	// most ordinary device of each platform and role.
	Canaries   []string
	CanaryEach bool
	CanaryLine int
	GoOnHeld   bool // while a device is held, the others are begun all the same
	// DarkFor is how long devices without contact keep further batches from beginning; 0 is until it
	// is known what became of them.
	DarkFor    time.Duration
	PairsApart bool
	FarFirst   bool
	HoldAfter  []int // batch numbers from 1
	HoldAlways bool
	StopAfter  int  // failures after which we ask; 0 means never
	StopGiven  bool // the runbook says so itself
}

// UsualStop is the number of failures after which a run stops to ask when its
// runbook does not say.
const UsualStop = 2

// Size is a batch's size: a number of devices or a share of the scope.
type Size struct {
	Count   int
	Percent int
}

// Precheck is a condition that must hold on a device before it is changed.
type Precheck struct {
	Name     string        // one of the known ones, or the title of a check of one's own
	Off      bool          // switched off
	Within   time.Duration // clock: most it may differ from ours
	AtLeast  int64         // storage: bytes that must be free
	Versions []string      // version: those that are fit
	Where    *Cond         // a check of one's own
	From     string        // where it is asked for, when not in the runbook
	Line     int
}

// Own tells whether it is a check of one's own.
func (p Precheck) Own() bool { return p.Where != nil }

// Timer is the rollback timer armed on each device.
type Timer struct {
	None   bool
	For    time.Duration
	NoneOn []string  // platforms on which none is armed
	Of     []TimerOf // of single platforms
	Given  bool
	Line   int
}

// NoneFor tells whether the runbook says that a platform is changed without a
// rollback timer.
func (t Timer) NoneFor(platform string) bool { return t.None || slices.Contains(t.NoneOn, platform) }

// TimerOf is how long the timer of one platform runs.
type TimerOf struct {
	Platform string
	For      time.Duration
	Line     int
}

// Long is how long the timer of a platform runs at least.
func (t Timer) Long(platform string) time.Duration {
	for _, of := range t.Of {
		if of.Platform == platform {
			return of.For
		}
	}
	return t.For
}

// Step is one part of the change.
type Step struct {
	Title   string
	When    *Cond    // devices it is for; nil means all. Where it is [Cond.Late], that is known once they were read
	Needs   []string // titles of earlier steps without which it is not sent
	Already *Cond    // true when there is nothing to do; nil means never known
	For     *Loop
	On      []On
	Follows []string // titles of earlier steps: it is for devices on which one of them sent something tonight
	Restore *Restore // puts back what was, in place of lines; nil for none
	Wait    *Wait    // in place of lines
	Save    bool     // what runs is saved, and nothing else is done
	Hand    bool     // a person does it
	Console bool     // at the device's console
	Tell    []*Text  // and is told this
	Expect  []Expect
	Line    int
}

// On is a step's device text and conditions for some platforms. It says either what
// shall be there, or what is sent.
type On struct {
	Platforms []string // none means every platform
	Want      []*Text  // lines that shall be there, in their sections, as the device prints them
	Gone      []*Text  // lines that shall not
	NoOther   []*Text  // patterns: of the lines that fit, none shall be there but those wanted
	Put       []*Text  // the whole configuration, where only whole ones are taken
	Send      []*Text
	Undo      []*Text       // none: it is computed
	UndoFirst bool          // a take-back begins with the undo lines, before computed ones
	Look      []*Text       // commands that change nothing
	Do        []*Text       // commands that do something
	Deed      Deed          // how those are judged
	Mode      string        // in which the commands are typed; "" is the profile's own
	Restart   bool          // the device is restarted, as its profile says
	Back      time.Duration // by when it must be back; 0 where nothing is said
	Software  *Software     // what software it shall run; nil where nothing is said
	Already   *Cond         // beside the step's own
	Expect    []Expect
	Line      int
}

// Software is what software a device shall run, as a version of the catalogue of images.
type Software struct {
	Version  *Text
	Unproven string  // why a file is installed whose checksum nothing tells; "" where none is
	May      []*Text // patterns of lines that it may change by itself
	Line     int
}

// Wants tells whether it says what shall be there.
func (on On) Wants() bool { return len(on.Want)+len(on.Gone)+len(on.NoOther) > 0 }

// Names lists what the values in its lines look at, each once, sorted.
func (on On) Names() (out []string) {
	for _, t := range on.texts() {
		out = append(out, t.Names()...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// texts are all the lines for the device.
func (on On) texts() []*Text {
	out := slices.Concat(on.Want, on.Gone, on.NoOther, on.Put, on.Send, on.Undo, on.Look, on.Do, on.Deed.texts())
	if on.Software != nil && on.Software.Version != nil {
		out = append(append(out, on.Software.Version), on.Software.May...)
	}
	return out
}

// Expect is what must become true after a step.
type Expect struct {
	Cond   *Cond
	Within time.Duration
	Line   int
}

// Action is what is done with a hold.
type Action string

// The actions an unattended run can take, from the smallest to the largest.
const (
	SkipStep   Action = "skip the step"
	BackDevice Action = "take back the device"
	BackBatch  Action = "take back the batch"
	BackAll    Action = "take back everything"
)

var actions = []string{string(SkipStep), string(BackDevice), string(BackBatch), string(BackAll)}

// Unattended says what to do at a hold when nobody is there.
type Unattended struct {
	Given bool
	// After is how long a night that was begun on a screen waits for a person, once nobody is there;
	// 0 is for ever. One that is run without a screen does not wait.
	After time.Duration
	Tries int // times the step is tried again first
	Then  Action
	// GoOn says that the holds of the runbook are passed also after a batch in which a device
	// failed, or none was kept.
	GoOn bool
	Line int
}

// String writes it as it stands in a runbook.
func (u Unattended) String() string {
	s := string(u.Then)
	switch u.Tries {
	case 0:
	case 1:
		s = "try again once, then " + s
	default:
		s = fmt.Sprintf("try again %d times, then %s", u.Tries, s)
	}
	if u.GoOn {
		s += " " + afterFailed
	}
	if u.After > 0 {
		s = "after " + FormatDuration(u.After) + ", " + s
	}
	return s
}

// afterFailed is how that is written, behind the action.
const afterFailed = "and go on after a failed batch"
