package night

import (
	"time"
)

// An event has the fields of all kinds, since it is written as one row. Where a kind uses a field
// in a way of its own, or says more than one thing, it is made here and read here, and nobody
// else needs to know how.

// Step tells what became of a step, counted from 1; why is "" where that needs no reason.
func Step(step int, mark, why string) Event {
	return Event{Kind: Stepped, Step: step, What: mark, Note: why}
}

// TimerPending tells that a timer was seen pending: until when, and for how long.
func TimerPending(due time.Time, left time.Duration) Event {
	return Event{Kind: TimerSeen, Due: due, For: left}
}

// TimerPerhaps tells that a timer may be pending, and that contact was lost before it was seen.
func TimerPerhaps(due time.Time, left time.Duration) Event {
	return Event{Kind: TimerSeen, Due: due, For: left, Note: notSeen}
}

// Perhaps tells, of a timer, that it was not seen, and may be pending.
func (e Event) Perhaps() bool { return e.Kind == TimerSeen && e.Note == notSeen }

const notSeen = "not seen: contact was lost"

// Predict tells what a device will have: the lines by which that differs from its backup.
// Unknown says what of it is not known; "" where all is.
func Predict(differs []string, unknown string, known bool) Event {
	return Event{Kind: Prediction, Lines: differs, Note: unknown, OK: known}
}

// NoPrediction tells why it cannot be said what a night would do to a device.
func NoPrediction(why string) Event {
	return Event{Kind: Prediction, What: notPredicted, Note: why}
}

// Notice tells of a step, counted from 1, what whoever approves it must know.
func Notice(step int, note string, lines ...string) Event {
	return Event{Kind: Prediction, Step: step, Note: note, Lines: lines}
}

// IsNotice tells, of what is said before a change, that it is a [Notice].
func (e Event) IsNotice() bool { return e.Kind == Prediction && e.Step > 0 }

// Unpredicted tells that it is a [NoPrediction].
func (e Event) Unpredicted() bool { return e.Kind == Prediction && e.What == notPredicted }

const notPredicted = "not foreseen"

// AsPredicted tells that what runs after a step, counted from 1, is what was predicted.
func AsPredicted(step int) Event { return Event{Kind: Predicted, Step: step, OK: true} }

// NotAsPredicted tells how it is not.
func NotAsPredicted(step int, how []string) Event {
	return Event{Kind: Predicted, Step: step, Lines: how}
}

// AtTheEnd tells whether what a device is kept with is as it was predicted, and how it is not.
func AtTheEnd(asPredicted bool, how []string) Event {
	return Event{Kind: Predicted, What: atTheEnd, OK: asPredicted, Lines: how}
}

// IsAtTheEnd tells that it is said of what a device is kept with.
func (e Event) IsAtTheEnd() bool { return e.Kind == Predicted && e.What == atTheEnd }

const atTheEnd = "at the end"

// Climbed tells what came of a rung of the ladder back, and whether the device is equal to its
// backup now.
func Climbed(rung string, equal bool, note string) Event {
	return Event{Kind: Rung, What: rung, OK: equal, Note: note}
}

// WentWrong tells that the ladder back did not lead as far as it should.
func WentWrong(why error) Event { return Climbed("gone wrong", false, why.Error()) }

// Is tells that a device is in a state.
func Is(s State, note string) Event { return Event{Kind: Moved, State: s, Note: note} }

// IsAway tells that a device restarts, with which version of its software, "" being the one that it ran, by
// when it is usually back, by when in nine cases of ten, which is zero where nobody knows, and until when it
// is expected.
func IsAway(starts string, usual, seldom, most time.Time) Event {
	note := "restarts"
	if starts != "" {
		note += " with " + starts
	}
	note += "; usually by " + usual.Format("15:04:05")
	if !seldom.IsZero() {
		note += ", nine in ten by " + seldom.Format("15:04:05")
	}
	return Event{Kind: Moved, State: Absent, Due: usual, Late: most, Note: note + ", at most " + most.Format("15:04:05")}
}

// EndsIn tells that its night is over in it. Saved tells whether it can be read what is saved on
// it.
func EndsIn(s State, note string, saved bool) Event {
	e := Event{Kind: Moved, State: s, Note: note, OK: true}
	if !saved {
		e.What = savedUnread
	}
	return e
}

// SavedIsUnread tells, of the end of a device, that it cannot be read what is saved on it.
func (e Event) SavedIsUnread() bool { return e.Kind == Moved && e.What == savedUnread }

const savedUnread = "saved unread"

// PredictionLost tells why a prediction could not be kept.
func PredictionLost(why error) Event {
	return Event{Kind: Recorded, What: predictionLost, Note: why.Error()}
}

// IsPredictionLost tells that it is said of a prediction, and not of what was recorded.
func (e Event) IsPredictionLost() bool { return e.Kind == Recorded && e.What == predictionLost }

const predictionLost = "foretold"

// LookedAt tells what a command of a step printed that changes nothing: evidence of the night.
func LookedAt(step, n int, command string, got []string) Event {
	lines, cut := bounded(got)
	return Event{Kind: Looked, Step: step, Line: n, What: command, Lines: lines, Note: cut, OK: true}
}

// Did tells what came back of a command of a step that does something; not OK is one of which
// nobody knows whether it was done, and why.
func Did(step, n int, command string, got []string, ok bool, why string) Event {
	lines, cut := bounded(got)
	if why == "" {
		why = cut
	}
	return Event{Kind: Done, Step: step, Line: n, What: command, Lines: lines, Note: why, OK: ok}
}

// RunsSoftware tells which version a device runs, whether that is on trial, and which it ran before the night.
func RunsSoftware(version string, trial bool, before string) Event {
	e := Event{Kind: Software, What: version, Note: before}
	if trial {
		e.By = onTrial
	}
	return e
}

// IsOnTrial tells of a version that it is on trial.
func (e Event) IsOnTrial() bool { return e.Kind == Software && e.By == onTrial }

const onTrial = "on trial"

// WorkedOver tells what is different on a device after somebody has worked it by hand in the step,
// counted from 1; nothing where no line is.
func WorkedOver(step int, by string, differs []string) Event {
	return Event{Kind: Worked, Step: step, By: by, Lines: differs, What: workedOver}
}

// IsWorkedOver tells that it is said of the end of that, and not of its beginning.
func (e Event) IsWorkedOver() bool { return e.Kind == Worked && e.What == workedOver }

const workedOver = "over"

// Bounds on what is kept of what a command printed; the transcript has all of it.
const (
	mostKept  = 500
	widestRow = 400
)

// bounded is what is kept of what was printed, and what is to be said of the rest.
func bounded(got []string) (lines []string, cut string) {
	n := len(got)
	if n > mostKept {
		got, cut = got[:mostKept], "and "+CountLines(n-mostKept)+" more, in the transcript"
	}
	for _, l := range got {
		if r := []rune(l); len(r) > widestRow {
			l = string(r[:widestRow]) + "…"
		}
		lines = append(lines, l)
	}
	return lines, cut
}
