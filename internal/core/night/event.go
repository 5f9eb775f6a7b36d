package night

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Kind says what an event tells.
type Kind string

// The kinds of event, and the fields each one uses.
const (
	Planned    Kind = "planned"     // Outline
	Began      Kind = "began"       // By
	BatchBegan Kind = "batch began" // Batch
	BatchEnded Kind = "batch ended" // Batch
	Forecast   Kind = "forecast"    // Slots, Due (likely end), Late, Stays (the chance of staying in the window)
	HoldOpened Kind = "hold"        // Hold, Device or none, Devices (without contact), Note (why), Lines (evidence), Offers
	HoldAnew   Kind = "offers"      // Hold, Device or none, Devices, Offers: what can be decided now, of a hold that is open
	HoldClosed Kind = "decided"     // Hold, Device, Choice, By, Note (the reason)
	Aborted    Kind = "abort"       // Choice (what happens to devices in change), By
	LetGo      Kind = "let go"      // By
	Ended      Kind = "ended"       // Note

	Moved      Kind = "state"      // see [Is] and [EndsIn]
	Doing      Kind = "doing"      // Device, Note
	Contact    Kind = "contact"    // Device
	Quiet      Kind = "quiet"      // Device, For: it has not answered for that long; any other event of it ends that
	Lost       Kind = "lost"       // Device, Note
	Prechecked Kind = "precheck"   // Device, What, OK, Note, Waived (the reason) and By
	BackedUp   Kind = "backup"     // Device, What (path), Note (SHA-256), OK when an identical one was there
	Shelved    Kind = "shelved"    // Device, What (path), Note (SHA-256), OK: what the night left on it; not OK, Note: why it could not be kept
	Recorded   Kind = "recorded"   // Device, What (Before or After), Lines: the tables; not OK, Note: why it could not be kept; or see [PredictionLost]
	Intent     Kind = "intent"     // Device, What, Step, Lines, For: durable before it is acted on
	Sent       Kind = "sent"       // Device, Step, Line (from 1), Lines (the one line)
	Refusal    Kind = "refusal"    // Device, Step, Line, Lines (the one line), Note (what it said)
	TimerSeen  Kind = "timer"      // see [TimerPending] and [TimerPerhaps]
	TimerGone  Kind = "no timer"   // Device
	Stepped    Kind = "step"       // see [Step]
	Expected   Kind = "expect"     // Device, Step, What (condition), OK, Note (wanted and got), Due
	Rung       Kind = "rung"       // see [Climbed] and [WentWrong]
	Differs    Kind = "diff"       // Device, Lines: what differs from the backup
	Prediction Kind = "foreseen"   // see [Predict], [NoPrediction] and [Notice]
	Looked     Kind = "looked"     // see [LookedAt]
	Reached    Kind = "reached"    // an address was asked for an answer
	Noted      Kind = "note"       // By, Note: what somebody wrote into the journal
	Alone      Kind = "alone"      // nobody is there to decide; from Due on the runbook's unattended line does: none is never
	Unattended Kind = "unattended" // from now on it does
	Attended   Kind = "attended"   // By is there to decide
	Done       Kind = "did"        // see [Did]
	Predicted  Kind = "predicted"  // see [AsPredicted], [NotAsPredicted] and [AtTheEnd]
	Software   Kind = "software"   // see [RunsSoftware]
	Edited     Kind = "edited"     // Device, Step, Lines (those in the place of the step's), By, Note (the reason)
	Worked     Kind = "by hand"    // Device, Step, By; see [WorkedOver]
)

// What an Intent is about to do.
const (
	ToArm      = "arm"
	ToExtend   = "extend"
	ToSend     = "send"
	ToUndo     = "undo"
	ToLead     = "lead back"
	ToRestore  = "restore"
	ToDisarm   = "disarm"
	ToSave     = "save"
	ToDo       = "do" // what cannot be undone
	ToHand     = "work by hand"
	ToHandOver = "hand over"
	// ToExchange is a command that is about the software of a device.
	ToExchange = "exchange software"
	// Of platforms whose way back is a trial.
	ToApply    = "apply"
	ToTakeBack = "take back"
)

// Marks of a step on a device.
const (
	StepBegan   = "began"
	StepDone    = "done"
	StepAlready = "already"
	StepNot     = "not for it" // its when does not hold on the device
	StepFailed  = "failed"
	StepLeft    = "left out"
	StepUndone  = "undone"
)

// Choice is something that can be decided.
type Choice string

// The choices at a hold.
const (
	TryAgain   Choice = "try again"
	SkipStep   Choice = "skip the step"
	BackDevice Choice = "take back the device"
	BackBatch  Choice = "take back the batch"
	BackSite   Choice = "take back the site"
	BackAll    Choice = "take back everything"
	Extend     Choice = "extend the timer"
	Leave      Choice = "leave it as it is"
	GoOnBeside Choice = "go on meanwhile" // the rest does not wait for what has no contact
	StartEarly Choice = "start before the window"
	LetFire    Choice = "wait for the timer"
	Accept     Choice = "keep what runs" // although it is not as predicted
	GoOn       Choice = "go on"
	GoOnLate   Choice = "go on all the same" // although there is no time to turn back any more (law 9)
	Stop       Choice = "stop here"
	ItIsDone   Choice = "it is done"  // what is done by hand, or what nobody knows to be done
	DoAgain    Choice = "do it again" // what nobody knows to be done, and cannot be undone
	OtherLines Choice = "other lines" // the lines of the step are others on this device
	// A person works the device by hand, meanwhile its way back is watched; what was changed so is
	// read when that is over, and adopted, or not.
	AtConsole   Choice = "work it by hand"
	ConsoleOver Choice = "that is all"
	Adopt       Choice = "adopt it"

	// At any time: the reason of the command is written into the journal, and nothing is decided.
	Remark Choice = "note"

	// While it runs: a device that has not begun is left out, for a reason; or so many are in change at
	// once from now on.
	LeaveOut Choice = "leave it out"
	AtOnce   Choice = "so many at once"

	// Nobody is there to decide any more, or somebody is again.
	Nobody   Choice = "nobody"
	Somebody Choice = "somebody"

	// While it runs: no new device begins, until somebody says that it goes on.
	Stand Choice = "let it stand"
	// And what is in change is held, too: after the line in flight, or after its step.
	StandLine Choice = "hold after the line"
	StandStep Choice = "hold after the step"

	// At an abort only.
	Finish  Choice = "let them finish"
	Release Choice = "let go of everything"
)

// Wide tells a choice that is about more than the devices that it is asked of.
func (c Choice) Wide() bool { return c == BackBatch || c == BackSite || c == BackAll }

// Offer is a choice with its consequences.
type Offer struct {
	Choice  Choice        `json:"choice"`
	Touches int           `json:"touches"` // devices it touches
	Takes   time.Duration `json:"takes"`
	Fits    bool          `json:"fits"` // it would be done before the window closes
	// Reason tells that it must be given a reason, which is journalled.
	Reason bool `json:"reason,omitempty"`
	// Most is how long it takes at the most, where that is longer: what is waited for may come
	// at once, or late.
	Most time.Duration `json:"most,omitempty"`
	// Open tells that nobody can say how long it takes: a device that is waited for has no
	// contact, and no timer.
	Open bool `json:"open,omitempty"`
	// Does says what it sends, and what it leads to; "" for what its name says.
	Does string `json:"does,omitempty"`
	// Sends are the lines that it begins with, masked; they may be computed anew from what runs
	// then. Of [OtherLines] they are those that are to be edited.
	Sends []string `json:"sends,omitempty"`
	// Cuts are devices that are reached through those that it touches: they may lose contact.
	Cuts []string `json:"cuts,omitempty"`
	// Against tells that it goes on although something has failed: it is never what is chosen
	// by doing nothing.
	Against bool `json:"against,omitempty"`
	// Way is how the device takes the change back by itself, where that is waited for.
	Way plan.TimerKind `json:"way,omitempty"`
}

// Aside tells, of the opening of a hold, that the device waits by itself and the question
// stands beside that: whether to go on waiting.
func (e Event) Aside() bool { return e.Kind == HoldOpened && aside(e.Offers) }

func aside(offers []Offer) bool {
	return slices.ContainsFunc(offers, func(o Offer) bool { return o.Choice == Leave })
}

// Event is one thing that happened or is about to happen. Which fields are set
// depends on its kind.
type Event struct {
	Seq     int64         `json:"seq"`
	At      time.Time     `json:"at"`
	Kind    Kind          `json:"kind"`
	Device  string        `json:"device,omitempty"`
	Batch   int           `json:"batch,omitempty"` // from 1
	Step    int           `json:"step,omitempty"`  // index in the device's steps, from 1
	Line    int           `json:"line,omitempty"`
	State   State         `json:"state,omitempty"`
	What    string        `json:"what,omitempty"`
	Note    string        `json:"note,omitempty"`
	OK      bool          `json:"ok,omitempty"`
	Waived  string        `json:"waived,omitempty"`
	Lines   []string      `json:"lines,omitempty"`
	Due     time.Time     `json:"due,omitzero"`
	Late    time.Time     `json:"late,omitzero"`
	Stays   float64       `json:"stays,omitempty"`
	For     time.Duration `json:"for,omitempty"` // nanoseconds
	Hold    int           `json:"hold,omitempty"`
	Devices []string      `json:"devices,omitempty"` // that a question is about
	Choice  Choice        `json:"choice,omitempty"`
	By      string        `json:"by,omitempty"`
	Offers  []Offer       `json:"offers,omitempty"`
	Slots   []plan.Slot   `json:"slots,omitempty"`
	Outline *Outline      `json:"outline,omitempty"`
	// Reach is an address that was to answer, of [Reached].
	Reach *Reach `json:"reach,omitempty"`
	// Compared is what a look is against the first of the same command on the device.
	Compared *Compared `json:"compared,omitempty"`
}

// Reach is an address that was to answer, and what came of it.
type Reach struct {
	runbook.ReachAsk
	runbook.Reached
	Step int       `json:"step,omitempty"` // from 1; 0 is before all
	At   time.Time `json:"at,omitzero"`
}

// Compared is what is different in a table between two looks.
type Compared struct {
	Table   string   `json:"table"`
	Changes []string `json:"changes,omitempty"`
}

// Outline is what a night needs to know of its plan.
type Outline struct {
	Title    string            `json:"title"`
	Change   string            `json:"change,omitempty"`
	Window   plan.Window       `json:"window"`
	Batches  [][]OutlineDevice `json:"batches"`
	LeftOut  []plan.LeftOut    `json:"left_out,omitempty"`
	Only     string            `json:"only,omitempty"` // what of the scope was chosen for the night
	Warnings []string          `json:"warnings,omitempty"`
	Checks   []string          `json:"checks,omitempty"` // the prechecks
	Waivers  []plan.Waiver     `json:"waivers,omitempty"`
	Values   []plan.Value      `json:"values,omitempty"` // what was asked for
	Soak     time.Duration     `json:"soak,omitempty"`
	Budget   int               `json:"budget,omitempty"` // failures after which we stop to ask; 0 is never
	// BudgetGiven tells that the runbook says so itself.
	BudgetGiven bool `json:"budget_given,omitempty"`
	// Seal says by whom it was sealed, and when; "" where nobody has.
	Seal string `json:"seal,omitempty"`
	// Back is how long taking everything back takes, at the end.
	Back time.Duration `json:"back,omitempty"`
	// Alone is what the runbook's unattended line does where nobody is there; "" where there is none.
	// On a night that was begun on a screen it does so AloneAfter that; 0 is never.
	Alone      string        `json:"alone,omitempty"`
	Together   int           `json:"together,omitempty"` // devices in change at once; 0 is as many as a batch has
	AloneAfter time.Duration `json:"alone_after,omitempty"`
}

// OutlineDevice is a device of the plan.
type OutlineDevice struct {
	Name     string   `json:"name"`
	Site     string   `json:"site,omitempty"`
	Role     string   `json:"role,omitempty"`
	Platform string   `json:"platform"`
	Steps    []string `json:"steps"` // titles
	// Kinds are what the steps do, one each; none where all are changes.
	Kinds []plan.StepKind `json:"kinds,omitempty"`
	Why   string          `json:"why,omitempty"` // it is where it is among the batches
	// Above are the devices that it is reached through, the nearest first.
	Above []string `json:"above,omitempty"`
	// ClearText tells that it is reached without encryption.
	ClearText bool `json:"clear_text,omitempty"`
	// Boot is how long it takes to come back once its timer has fired, and Back how long taking it back
	// takes.
	Boot time.Duration `json:"boot,omitempty"`
	Back time.Duration `json:"back,omitempty"`
	// Way is how it takes a change back by itself, in this night.
	Way plan.TimerKind `json:"way,omitempty"`
}

// Outlined makes the outline of a plan.
func Outlined(p *plan.Plan) *Outline {
	o := &Outline{Title: p.Title, Change: p.Change, Window: p.Window, LeftOut: p.LeftOut, Warnings: p.Warnings, Waivers: p.Waivers,
		Values: p.Values, Soak: p.Soak, Budget: p.Rules.StopAfter, BudgetGiven: p.Rules.StopGiven, Seal: p.Seal, Back: p.BackTime(p.Targets()),
		Only: p.Only, Together: p.Rules.Together}
	if u := p.Unattended; u.Given {
		o.AloneAfter, u.After = u.After, 0
		o.Alone = u.String()
	}
	for _, pc := range p.Prechecks {
		o.Checks = append(o.Checks, pc.String())
	}
	for _, b := range p.Batches {
		var batch []OutlineDevice
		for _, t := range b {
			batch = append(batch, OutlinedDevice(p, t))
		}
		o.Batches = append(o.Batches, batch)
	}
	return o
}

// OutlinedDevice outlines one device of a plan.
func OutlinedDevice(p *plan.Plan, t *plan.Target) OutlineDevice {
	d := OutlineDevice{
		Name:      t.Device.Name,
		Site:      t.Device.Site,
		Role:      t.Device.Role,
		Platform:  t.Device.Platform,
		Boot:      t.Traits.Boot,
		Back:      t.Back(),
		ClearText: t.ClearText,
		Why:       t.Why,
		Above:     t.Above,
		Way:       p.Way(t),
	}
	other := false
	for _, s := range t.Steps {
		d.Steps, d.Kinds = append(d.Steps, s.Title), append(d.Kinds, s.Kind)
		other = other || s.Kind != plan.ChangeStep
	}
	if !other {
		d.Kinds = nil
	}
	return d
}

// Command is what a person decides.
type Command struct {
	// Choice answers the hold. For an abort it says what becomes of the devices
	// in change: BackDevice, Finish, BackAll or Release.
	Choice Choice `json:"choice"`
	// Hold is the number of the hold that is answered, or 0 for an abort.
	Hold int    `json:"hold,omitempty"`
	By   string `json:"by,omitempty"`
	// Device is that which is left out, and Number how many are in change at once.
	Device string `json:"device,omitempty"`
	Number int    `json:"number,omitempty"`
	// Reason is why, for choices that must be given one.
	Reason string `json:"reason,omitempty"`
	// Lines are those that are sent in the place of the step's, of [OtherLines].
	Lines []string `json:"lines,omitempty"`
	// Also are further holds that are answered with the same choice, in one decision.
	Also []int `json:"also,omitempty"`
}

// CountLines counts lines in words.
func CountLines(n int) string {
	if n == 1 {
		return "1 line"
	}
	return fmt.Sprintf("%d lines", n)
}
