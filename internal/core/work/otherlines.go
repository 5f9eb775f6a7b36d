package work

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// The lines of a step may be edited for one device that is held. They are checked as those of a
// runbook are, and what they do is computed and shown before any is sent.

// otherLines takes lines in the place of the step's, and holds again: they are sent when that is
// tried again.
func (w *worker) otherLines(tr *trouble, c night.Command) *trouble {
	again := *tr
	again.remarks = nil
	i := w.at.step
	if i >= len(w.t.Steps) || w.t.Steps[i].Kind != plan.ChangeStep || w.crew.Plan.Seal != "" {
		return &again
	}
	s, why := w.edited(w.t.Steps[i], c.Lines)
	if why != "" {
		again.remarks = []string{"the other lines were not taken: " + why}
		return &again
	}
	_, now, err := w.running()
	if err != nil {
		return faced("reading what runs before other lines", err)
	}
	again.remarks = []string{fmt.Sprintf("other lines by %s: %s", c.By, w.t.Mask(c.Reason))}
	if l := w.t.Traits.Language; l != nil {
		after, err := l.Predict(now, s.Send)
		if err != nil {
			again.remarks = []string{"the other lines were not taken: " + w.wrong(err)}
			return &again
		}
		s.After, s.Unwritten = &after, true
		if d := config.Compare(now, after); d.Empty() {
			again.remarks = append(again.remarks, "computed: they change nothing")
		} else {
			for _, line := range d.Lines(w.t.Masked) {
				again.remarks = append(again.remarks, "computed: "+line)
			}
		}
	} else {
		again.remarks = append(again.remarks, "what they do is not known: its profile has no language; the undo lines stay those of the runbook")
	}
	w.at.sent = false
	if w.differs = nil; w.untaken != nil { // they come on top of what was done by hand, which is still to be adopted
		w.differs = &now
	}
	w.steps[i].already, w.steps[i].onto = false, now
	w.setStep(i, s)
	w.computeFrom(i+1, s.After)
	w.predictAnew()
	w.emit(night.Event{Kind: night.Edited, Step: i + 1, Lines: w.shown(s.Send...), By: c.By, Note: w.t.Mask(c.Reason)})
	return &again
}

// predictAnew tells and keeps what the device will have with the lines that it is sent now.
func (w *worker) predictAnew() {
	after, known := w.t.Predicted(w.before)
	if !known || w.t.Traits.Language == nil {
		return
	}
	w.emit(night.Predict(config.Compare(w.before, after).Lines(w.t.Masked), "", true))
	w.keepPrediction()
}

// Bounds on what is typed in the place of a step's lines.
const (
	mostLines   = 400
	longestLine = 1000
)

// edited is a step with other lines, or why it cannot have them.
func (w *worker) edited(s plan.Step, typed []string) (plan.Step, string) {
	if len(typed) > mostLines {
		return s, fmt.Sprintf("%d are more than %d", len(typed), mostLines)
	}
	meant := map[string]string{} // what is meant by a line as it is shown
	for i, shown := range w.shown(s.Send...) {
		meant[strings.TrimRightFunc(shown, unicode.IsSpace)] = s.Send[i]
	}
	var lines []string
	for n, line := range typed {
		line = strings.TrimRightFunc(line, unicode.IsSpace)
		if strings.TrimSpace(line) == "" {
			continue
		}
		if original, known := meant[line]; known {
			lines = append(lines, original)
			continue
		}
		if why := w.unfitLine(line); why != "" {
			return s, fmt.Sprintf("line %d, %q: %s", n+1, w.maskText(line), why)
		}
		lines = append(lines, line)
	}
	if len(lines) == 0 {
		return s, "there are none; to send nothing, skip the step"
	}
	other := s
	other.Send, other.Want, other.Through, other.Rounds = lines, nil, nil, nil
	other.Already, other.Done, other.After, other.Wrong = nil, false, nil, nil
	return other, ""
}

// unfitLine says why a line that was typed is not sent.
func (w *worker) unfitLine(line string) string {
	switch {
	case len(line) > longestLine:
		return fmt.Sprintf("it is longer than %d characters", longestLine)
	case strings.ContainsFunc(line, func(r rune) bool { return unicode.IsControl(r) && r != '\t' }):
		return "it has control characters in it"
	case strings.ContainsFunc(line, func(r rune) bool { return strings.ContainsRune(plan.Hidden, r) }):
		return "a secret stands in it that is not shown: leave the line as it was, or take it away"
	}
	for _, never := range w.t.Traits.Never {
		if never.MatchString(strings.TrimSpace(line)) {
			return "the profile never lets a runbook send it"
		}
	}
	if w.t.Traits.Unsendable != nil {
		return w.t.Traits.Unsendable(line)
	}
	return ""
}

// wrong says which line a language does not take, and why.
func (w *worker) wrong(err error) string {
	var wrong *config.Wrong
	if errors.As(err, &wrong) {
		return fmt.Sprintf("%q: %s", w.maskText(strings.TrimSpace(wrong.Line)), wrong.Why)
	}
	return w.maskText(err.Error())
}

// undoLines are the lines by which what was begun is undone, the newest first, masked; none where
// that is done by ending a trial. They may be computed anew, from what runs then.
func (w *worker) undoLines() (out []string) {
	if w.onTrial() && w.pends() {
		return nil
	}
	for n := len(w.ran) - 1; n >= 0; n-- {
		if i := w.ran[n]; !w.steps[i].undone {
			out = append(out, w.shown(w.t.Steps[i].Undo...)...)
		}
	}
	return out
}
