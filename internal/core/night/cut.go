package night

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/plan"
)

// A night that was cut off, by kill -9, a full disk or the loss of power, has devices whose
// end nobody has written down. What is known of them is what was last intended (law 11) and
// what was last seen: whether something takes the change back by itself, and when. What they
// are now is known by looking only.

// Intention is the last thing that was to be done to a device. It may have been done, or not.
type Intention struct {
	What string // ToArm and so on; "" where nothing was ever intended
	Step int    // from 1; 0 for none
	At   time.Time
	For  time.Duration // of a timer or a trial
	// Command is what cannot be undone, masked.
	Command string
	deeds   int // how many were known before it
}

// disarmed is an intention to disarm that was seen to come true.
const disarmed = "disarmed"

// Begun tells whether anything was to be done to the device that changes it, or that puts
// something on its clock. Until then it is what it was.
func (d *Device) Begun() bool { return d.Intent.What != "" || d.Touched || d.Timed }

// Changes tells whether lines of the change may have reached the device.
func (d *Device) Changes() bool { return d.Touched || d.lined }

// CutOff tells whether nobody has written down how the device's night ended.
func (d *Device) CutOff() bool { return !d.Over && d.State != Waiting }

// MayRun tells whether the device may run the change, or part of it, without anybody having
// read that it does: its night was cut off in its change, or ended without knowing.
func (d *Device) MayRun() bool {
	return d.Begun() && (d.CutOff() || d.State == Stranded || d.State == Dark)
}

// WasAt says where the device was when its night was cut off: what was last to be done to it,
// and whether anything takes the change back by itself.
func (d *Device) WasAt() string {
	if !d.Begun() {
		return string(d.State) + ", and nothing of the change was sent to it"
	}
	return fmt.Sprintf("%s: %s; %s", d.State, d.lastDone(), d.wayBack())
}

// lastDone says what was last to be done.
func (d *Device) lastDone() string {
	title := ""
	if k := d.Intent.Step; k >= 1 && k <= len(d.Steps) {
		title = fmt.Sprintf(" of %q", d.Steps[k-1])
	}
	if d.State == Soaking && d.Intent.What != ToDisarm && d.Intent.What != disarmed && d.Intent.What != ToSave {
		return "all its steps were done, and nothing was saved"
	}
	switch d.Intent.What {
	case ToArm:
		armed := "its timer was being armed"
		if !d.TimerDue.IsZero() {
			armed = "its timer was armed"
		}
		if d.Changes() { // it had lost the one that it had
			return armed + " anew; lines were sent, and nothing was saved"
		}
		return armed + ", and no line was sent"
	case ToSend:
		return fmt.Sprintf("%d of %s%s had been sent, as far as was written down", d.Line, CountLines(d.Lines), title)
	case ToDo:
		if i := d.deedOfIntent(); i >= 0 && d.Deeds[i].OK {
			return fmt.Sprintf("%q%s was done, which cannot be undone", d.Intent.Command, title)
		}
		return fmt.Sprintf("%q%s was given, or was about to be: whether it was done is not known", d.Intent.Command, title)
	case ToHandOver:
		return "the work of its pair was handed over to its partner, or was about to be; it was not told to restart"
	case ToExchange:
		given := fmt.Sprintf("%q%s was given, or was about to be", d.Intent.Command, title)
		if i := d.deedOfIntent(); i >= 0 && d.Deeds[i].OK {
			given = fmt.Sprintf("%q%s was done", d.Intent.Command, title)
		}
		return given + "; it ran " + d.Ran + " before, and " + d.Runs + " when that was read last"
	case ToApply:
		return "the lines" + title + " were applied, or were about to be"
	case ToHand:
		if k := len(d.Works); k > 0 && !d.Works[k-1].Over.IsZero() {
			return "it had been worked by hand; nothing was saved by this night"
		}
		return "it was being worked by hand by " + d.worker() + ": what was done so, nobody has written down"
	case ToUndo, ToLead, ToTakeBack:
		return "it was being taken back"
	case ToRestore:
		if d.Intent.Step > 0 {
			return "a configuration was being put back, by the step"
		}
		return "its backup was being put back"
	case ToDisarm:
		return "its timer was being disarmed; nothing was saved yet"
	case disarmed:
		return "its timer was disarmed, and nothing was saved yet"
	case ToSave:
		return "what runs was being saved"
	}
	if d.Changes() {
		return "lines were sent, and nothing was saved"
	}
	return "no line was sent"
}

// worker is who worked it by hand last.
func (d *Device) worker() string {
	if k := len(d.Works); k > 0 {
		return d.Works[k-1].By
	}
	return "somebody"
}

// deedOfIntent is the command that was last to be given, among those of which is known what came
// back; -1 where it is none of them.
func (d *Device) deedOfIntent() int {
	if d.Intent.What != ToDo && d.Intent.What != ToExchange {
		return -1
	}
	for i := d.Intent.deeds; i < len(d.Deeds); i++ {
		if !d.Deeds[i].Looks {
			return i
		}
	}
	return -1
}

// Given are the commands of the device's steps, with what came back. One that was to be given
// when its night was cut off is the last of them: nobody knows whether it was done.
func (d *Device) Given() []Deed {
	if d.Intent.What != ToDo && d.Intent.What != ToExchange || !d.CutOff() || d.deedOfIntent() >= 0 {
		return d.Deeds
	}
	return append(slices.Clone(d.Deeds), Deed{
		Step: d.Intent.Step, Command: d.Intent.Command, At: d.Intent.At, Note: "the night was cut off when it was to be given",
	})
}

// wayBack says what takes the change back by itself, as far as was seen.
func (d *Device) wayBack() string {
	due := d.TimerDue
	switch {
	case d.Intent.What == ToDisarm && !due.IsZero():
		return d.returns(due) + ", unless it was disarmed"
	case !due.IsZero():
		return d.returns(due)
	case d.Intent.What == ToArm, d.Intent.What == ToApply && d.Intent.For > 0:
		return d.returns(d.Intent.At.Add(d.Intent.For)) + ", if that came through"
	case d.Timed:
		return "nothing takes it back by itself: its timer is gone"
	}
	return "nothing takes it back by itself"
}

// returns says what a device was to do by itself at a time: whoever reads it may read it
// before that, or long after, and nobody has looked.
func (d *Device) returns(at time.Time) string {
	clock := at.Local().Format("15:04:05")
	//exhaustive:enforce
	switch d.Way {
	case plan.TrialTimer:
		return "its trial was to end at " + clock + ", and the device to take it back by itself"
	case plan.PutBackTimer:
		return "it was to put back what is saved at " + clock + " by itself"
	case plan.NoTimer, plan.RestartTimer: // only nights of old do not say which it is
	}
	return "it was to restart at " + clock + " by itself"
}

// due takes in when timers are due that may be on the device: what was intended counts as done.
func (d *Device) due(e Event) {
	switch {
	case e.Kind == TimerSeen:
		d.Dues = append(slices.Clip(d.Dues), e.Due)
	case e.Kind == Intent && (e.What == ToArm || e.What == ToExtend || e.What == ToApply):
		d.Dues = append(slices.Clip(d.Dues), e.At.Add(e.For))
	case e.Kind == TimerGone, e.Kind == Moved && e.OK && e.State != Dark && e.State != Stranded:
		d.Dues = nil
	}
}

// TimersLeft finds when the timers are due that a night may have left on devices, by device: those of
// devices that it never saw the end of.
func (n *Night) TimersLeft() map[string][]time.Time {
	out := map[string][]time.Time{}
	for _, d := range n.Devices {
		if len(d.Dues) > 0 {
			out[d.Name] = d.Dues
		}
	}
	return out
}
