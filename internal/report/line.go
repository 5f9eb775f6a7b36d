// Package report tells people what happened, in words.
package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Line tells one event on one line, without the time. It is "" for events that
// a person following along does not need.
func Line(e night.Event) string {
	text := tell(e)
	if text == "" {
		return ""
	}
	who := e.Device
	if who == "" {
		who = "-"
	}
	return fmt.Sprintf("%-14s %s", who, text)
}

// Teller tells the events of one night in their order, and knows the titles of its steps.
type Teller struct {
	titles map[string][]string // by device
}

// Line is [Line] with the titles of steps, and each line that was sent.
func (t *Teller) Line(e night.Event) string {
	switch {
	case e.Kind == night.Planned && e.Outline != nil:
		t.titles = map[string][]string{}
		for _, b := range e.Outline.Batches {
			for _, d := range b {
				t.titles[d.Name] = d.Steps
			}
		}
	case e.Kind == night.Stepped && e.Step >= 1 && e.Step <= len(t.titles[e.Device]):
		text := fmt.Sprintf("step %d, %q: %s", e.Step, t.titles[e.Device][e.Step-1], e.What)
		if e.Note != "" {
			text += ": " + e.Note
		}
		return fmt.Sprintf("%-14s %s", e.Device, text)
	}
	return Line(e)
}

func tell(e night.Event) string {
	//exhaustive:enforce
	switch e.Kind {
	case night.Began, night.Forecast, night.HoldAnew, night.Ended, night.Contact, night.Intent, night.Differs: // other lines tell it
	case night.Planned:
		n := 0
		for _, b := range e.Outline.Batches {
			n += len(b)
		}
		within := "no window"
		if w := e.Outline.Window; !w.None {
			within = fmt.Sprintf("window %s to %s", Clock(w.Open), Clock(w.Close))
		}
		s := fmt.Sprintf("%s: %s in %s, %d left out; %s", e.Outline.Title, Count(n, "device"),
			Count(len(e.Outline.Batches), "batch"), len(e.Outline.LeftOut), within)
		if e.Outline.Budget > 0 {
			s += "; asks after " + Count(e.Outline.Budget, "failure")
		}
		if e.Outline.Seal != "" {
			s += "; sealed " + e.Outline.Seal
		}
		for _, w := range e.Outline.Warnings {
			s += "; warning: " + w
		}
		return s
	case night.BatchBegan:
		return fmt.Sprintf("batch %d begins", e.Batch)
	case night.BatchEnded:
		return fmt.Sprintf("batch %d is over", e.Batch)
	case night.HoldOpened:
		return "held: " + withLines(e.Note, e.Lines)
	case night.HoldClosed:
		if e.Choice == "" {
			return "no decision is needed any more"
		}
		s := fmt.Sprintf("decided: %s, by %s", e.Choice, e.By)
		if e.Note != "" {
			s += ": " + e.Note
		}
		return s
	case night.Aborted:
		return fmt.Sprintf("aborted by %s: %s", e.By, abortWords(e.Choice))
	case night.LetGo:
		return "let go of everything: " + e.By
	case night.Moved:
		if e.State == night.Held { // the hold itself is told, with its evidence
			return ""
		}
		if e.Note == "" || e.Note == string(e.State) {
			return string(e.State)
		}
		return string(e.State) + ": " + e.Note
	case night.Lost:
		return "contact lost: " + e.Note
	case night.Quiet:
		return "no answer for " + runbook.FormatDuration(e.For)
	case night.Doing:
		if strings.HasPrefix(e.Note, "no contact") {
			return e.Note
		}
	case night.Sent:
		if e.What != "" {
			return "sent to lead back, and taken: " + strings.Join(e.Lines, "")
		}
		return "sent, and taken: " + strings.Join(e.Lines, "")
	case night.Looked:
		return fmt.Sprintf("looked, %s: %s came back", e.What, Count(len(e.Lines), "line"))
	case night.Alone:
		if e.Due.IsZero() {
			return "nobody is there to decide: what is held waits"
		}
		return "nobody is there to decide; from " + e.Due.Local().Format("15:04:05") + " on the runbook's unattended line does"
	case night.Unattended:
		return "nobody has come: the runbook's unattended line decides"
	case night.Attended:
		return e.By + " is there to decide"
	case night.Noted:
		return "note by " + e.By + ": " + e.Note
	case night.Edited:
		return fmt.Sprintf("other lines by %s: %s: %s", e.By, e.Note, strings.Join(e.Lines, " / "))
	case night.Worked:
		switch {
		case !e.IsWorkedOver():
			return "worked by hand by " + e.By
		case len(e.Lines) == 0:
			return "worked by hand: nothing is different"
		}
		return withLines("worked by hand: different after it", e.Lines)
	case night.Reached:
		return reachedLine(e.Reach)
	case night.Done:
		if !e.OK {
			return fmt.Sprintf("whether %s was done is not known: %s", e.What, e.Note)
		}
		return strings.TrimSuffix(withLines("done: "+e.What, e.Lines)+"; "+e.Note, "; ")
	case night.Software:
		text := "runs " + cmp.Or(e.What, "none of what is installed")
		if e.IsOnTrial() {
			text += " on trial"
		}
		if e.Note != e.What {
			text += ", before " + e.Note
		}
		return text
	case night.Prechecked:
		if e.Waived != "" {
			return fmt.Sprintf("precheck %s: %s; waived by %s: %s", e.What, e.Note, e.By, e.Waived)
		}
		return "precheck " + e.What + ": " + okOr(e.OK, e.Note)
	case night.BackedUp:
		if e.OK {
			return "backup: identical to " + e.What
		}
		return "backup: " + e.What
	case night.Recorded:
		switch {
		case e.IsPredictionLost():
			return "what was predicted of it could not be kept: " + e.Note
		case !e.OK:
			return "what was recorded " + e.What + " could not be kept: " + e.Note
		}
		return "recorded " + e.What + ": " + strings.Join(e.Lines, ", ")
	case night.Shelved:
		if !e.OK {
			return "what it is left with could not be put on the shelf: " + e.Note
		}
		return "what it is left with: " + e.What
	case night.Refusal:
		return fmt.Sprintf("refused: %s: %s", strings.Join(e.Lines, ""), e.Note)
	case night.TimerSeen:
		if e.What == string(plan.TrialTimer) && e.Perhaps() {
			return fmt.Sprintf("may be on trial for %s, until %s; %s", runbook.FormatDuration(e.For), Clock(e.Due), e.Note)
		}
		if e.What == string(plan.TrialTimer) {
			return fmt.Sprintf("on trial for %s, until %s", runbook.FormatDuration(e.For), Clock(e.Due))
		}
		return fmt.Sprintf("timer armed for %s, due %s", runbook.FormatDuration(e.For), Clock(e.Due))
	case night.TimerGone:
		return "no timer is pending"
	case night.Stepped:
		if e.Note != "" {
			return fmt.Sprintf("step %d %s: %s", e.Step, e.What, e.Note)
		}
		return fmt.Sprintf("step %d %s", e.Step, e.What)
	case night.Expected:
		return "expectation " + okOr(e.OK, e.Note)
	case night.Prediction:
		return predicted(e)
	case night.Predicted:
		if !e.OK {
			return "not as predicted: " + Some(e.Lines, 3)
		}
		if e.IsAtTheEnd() {
			return "as predicted"
		}
	case night.Rung:
		return "taking back, " + e.What + ": " + e.Note
	}
	return ""
}

// predicted tells what was computed for a device.
func predicted(e night.Event) string {
	switch {
	case e.IsNotice() && len(e.Lines) == 0:
		return e.Note
	case e.IsNotice():
		return e.Note + ": " + Some(e.Lines, 4)
	case e.Note != "":
		return Count(len(e.Lines), "line") + " will differ; " + e.Note
	case len(e.Lines) == 0:
		return "nothing will differ"
	}
	return Count(len(e.Lines), "line") + " will differ"
}

func abortWords(c night.Choice) string {
	switch c {
	case night.Finish:
		return "devices in change may finish"
	case night.BackAll:
		return "everything is taken back"
	}
	return "devices in change are taken back"
}

func okOr(ok bool, note string) string {
	switch {
	case ok && note == "":
		return "holds"
	case ok:
		return "holds (" + note + ")"
	}
	return "does not hold: " + note
}

func withLines(note string, lines []string) string {
	if len(lines) == 0 {
		return note
	}
	return note + " (" + strings.Join(lines, "; ") + ")"
}

// Count is a number with its word: 1 device, 3 devices, 2 batches.
func Count(n int, word string) string {
	switch {
	case n == 1:
	case strings.HasSuffix(word, "ch"):
		word += "es"
	default:
		word += "s"
	}
	return fmt.Sprintf("%d %s", n, word)
}

// Clock is a time of day to the second.
func Clock(t time.Time) string { return t.Format("15:04:05") }

// Summary tells in one line how a night stands or ended.
func Summary(n *night.Night) string {
	count := n.Count()
	var parts []string
	for _, s := range slices.SortedFunc(maps.Keys(count), func(a, b night.State) int { return a.Rank() - b.Rank() }) {
		parts = append(parts, fmt.Sprintf("%d %s", count[s], s))
	}
	s := fmt.Sprintf("%s: %s", Count(len(n.Devices), "device"), strings.Join(parts, ", "))
	if left := leftSteps(n); left > 0 {
		s += "; left out: " + Count(left, "step")
	}
	if k := len(unread(n)); k > 0 {
		s += fmt.Sprintf("; on %d it cannot be read what is saved", k)
	}
	if k := len(unlike(n)); k > 0 {
		s += fmt.Sprintf("; %d kept and not as predicted", k)
	}
	return s
}

// unlike are the devices that were kept although they are not as predicted.
func unlike(n *night.Night) (out []*night.Device) {
	for _, d := range n.Devices {
		if d.State == night.Kept && len(d.Unlike) > 0 {
			out = append(out, d)
		}
	}
	return out
}

// unread names the devices of which it cannot be read what is saved.
func unread(n *night.Night) (names []string) {
	for _, d := range n.Devices {
		if d.SavedUnread {
			names = append(names, d.Name)
		}
	}
	return names
}

func leftSteps(n *night.Night) int {
	k := 0
	for _, d := range n.Devices {
		k += d.LeftSteps()
	}
	return k
}

// Needs lists what a person must see to after the night, one line each.
func Needs(n *night.Night) []string {
	var out, notes, waiting []string
	skipped := map[string][]string{} // by the reason: a night that was stopped has many
	unbegun := map[night.State][]string{}
	for _, d := range n.Devices {
		if d.State == night.Dark && d.CutOff() && d.Begun() { // it was looked for, and nobody does so any more
			out = append(out, wasAt(d))
			continue
		}
		switch d.State {
		case night.Stranded, night.Dark, night.Reverted, night.Blocked:
			out = append(out, fmt.Sprintf("%-14s %s: %s", d.Name, d.State, d.Note))
		case night.Skipped:
			if skipped[d.Note] == nil {
				notes = append(notes, d.Note)
			}
			skipped[d.Note] = append(skipped[d.Note], d.Name)
		case night.Kept, night.Already:
		case night.Waiting:
			waiting = append(waiting, d.Name)
		default: // the night has no end
			if !d.Begun() {
				unbegun[d.State] = append(unbegun[d.State], d.Name)
				break
			}
			out = append(out, wasAt(d))
		}
		if k := d.LeftSteps(); k > 0 && d.State == night.Kept {
			out = append(out, fmt.Sprintf("%-14s kept without %s", d.Name, leftTitles(d)))
		}
	}
	for _, note := range notes {
		names := skipped[note]
		if len(names) == 1 {
			out = append(out, fmt.Sprintf("%-14s skipped: %s", names[0], note))
			continue
		}
		out = append(out, fmt.Sprintf("%s skipped: %s: %s", Count(len(names), "device"), note, Some(names, 6)))
	}
	for _, st := range night.States() {
		if names := unbegun[st]; len(names) > 0 {
			out = append(out, fmt.Sprintf("%s %s when it was cut off, and nothing of the change was sent: %s", Count(len(names), "device"), st, Some(names, 6)))
		}
	}
	if len(waiting) > 0 {
		out = append(out, fmt.Sprintf("%s never begun: %s", Count(len(waiting), "device"), Some(waiting, 6)))
	}
	for _, d := range unlike(n) {
		out = append(out, fmt.Sprintf("%-14s kept, and not as predicted: %s", d.Name, Some(d.Unlike, 3)))
	}
	if names := unread(n); len(names) > 0 {
		out = append(out, "look whether they would outlive a restart, what is saved cannot be read: "+Some(names, 6))
	}
	return out
}

// Some lists names, and counts those that are too many.
func Some(names []string, most int) string {
	list := strings.Join(names[:min(len(names), most)], ", ")
	if len(names) > most {
		list += fmt.Sprintf(" and %d more", len(names)-most)
	}
	return list
}

// wasAt says of a device whose night was cut off where it was, and what is to be done.
func wasAt(d *night.Device) string {
	return fmt.Sprintf("%-14s %s: look what it has now", d.Name, d.WasAt())
}

// leftTitles names the steps that were left out on a device.
func leftTitles(d *night.Device) string {
	var titles []string
	for i, m := range d.Marks {
		if m == night.StepLeft {
			titles = append(titles, strconv.Quote(d.Steps[i]))
		}
	}
	return strings.Join(titles, ", ")
}

// Crashed tells how a night stood whose journal ends before it does.
func Crashed(n *night.Night) string {
	open := 0
	for _, d := range n.Devices {
		if d.CutOff() && d.Begun() {
			open++
		}
	}
	inChange := "none in change"
	if open > 0 {
		inChange = fmt.Sprintf("%d in change", open)
	}
	return fmt.Sprintf("crashed at %s, %s; then: %s", Clock(n.Last.Local()), inChange, Summary(n))
}

// reachedLine says what came of an address that was to answer.
func reachedLine(r *night.Reach) string {
	if r == nil {
		return ""
	}
	out := fmt.Sprintf("%s: %s", r.ReachAsk, r.Reached)
	if r.Took > 0 && r.Answered > 0 {
		out += ", the first after " + milliseconds(r.Took)
	}
	return out
}

// milliseconds is a time as the answers of an address are told.
func milliseconds(d time.Duration) string {
	return strconv.FormatFloat(float64(d.Microseconds())/1000, 'f', -1, 64) + " ms"
}
