package work

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// read takes in what follows from the device's configuration and its tables: the lines of
// each step, and which of them are so already.
func (w *worker) read() error {
	t, err := w.computed()
	if err != nil {
		return err
	}
	if w.t = t; t.Traits.Language != nil {
		w.expected = &w.before
	}
	w.foundSoftware()
	return nil
}

// predictions tells what the night will do to the device, and which undo lines do not lead
// back as they are written.
func (w *worker) predictions() []night.Event {
	var events []night.Event
	for i, s := range w.t.Steps {
		if s.Empty != "" {
			events = append(events, night.Notice(i+1, s.Empty))
		}
	}
	known := w.t.Traits.Language != nil || !slices.ContainsFunc(w.t.Steps, func(s plan.Step) bool { return s.Changes() && s.Was == nil })
	if !known { // it was read, and that is not known all the same
		note := fmt.Sprintf("the profile of %s has no language: what lines do on it is not known", w.t.Device.Platform)
		return append([]night.Event{night.NoPrediction(note)}, events...)
	}
	after, known := w.t.Predicted(w.before)
	unknown := ""
	for i, s := range w.t.Steps {
		if s.After == nil {
			unknown = fmt.Sprintf("what %q does is not known%s, and what comes behind it", s.Title, w.unknownLine(i))
			break
		}
	}
	events = append([]night.Event{night.Predict(config.Compare(w.before, after).Lines(w.t.Masked), unknown, known)}, events...)
	if w.resumed() != nil { // undo lines lead back to what that night found, and not to what runs
		return events
	}
	for _, slip := range w.t.Slips(w.before) {
		events = append(events, w.slip(slip))
	}
	return events
}

// unknownLine names the line of a step of which the language cannot tell what it does.
func (w *worker) unknownLine(i int) string {
	s, now := w.t.Steps[i], &w.before
	if i > 0 {
		now = w.t.Steps[i-1].After
	}
	var wrong *config.Wrong
	if l := w.t.Traits.Language; l == nil || now == nil {
		return ""
	} else if _, err := l.Predict(*now, s.Send); !errors.As(err, &wrong) {
		return ""
	}
	return fmt.Sprintf(" (%q: %s)", w.maskText(strings.TrimSpace(wrong.Line)), wrong.Why)
}

// unjudged are the lines of the steps of which nobody knows what they do.
func (w *worker) unjudged() (out []string) {
	l, now := w.t.Traits.Language, &w.before
	for _, s := range w.t.Steps {
		if s.Done || s.Want != nil || s.Was != nil || len(s.Put) > 0 || len(s.Send) == 0 {
			if s.After != nil {
				now = s.After
			}
			continue
		}
		out = append(out, l.Unjudged(*now, s.Send)...)
		if s.After != nil {
			now = s.After
		}
	}
	return out
}

// noWayBack says why a device that takes nothing back by itself is not changed: the undo lines
// of a step do not lead back on it, and nothing else does; "" where something does.
func (w *worker) noWayBack() string {
	if w.guarded() || w.t.Traits.Restores {
		return ""
	}
	for _, slip := range w.t.Slips(w.before) {
		if len(slip.Computed) == 0 {
			return fmt.Sprintf("the undo lines of %q do not lead back on it, no others are known, and it takes nothing back by itself", w.t.Steps[slip.Step].Title)
		}
	}
	return ""
}

// keepPrediction keeps what the device will have, as a text, for the day on which somebody
// asks what was predicted. Where not all of it is known, there is nothing to keep; what
// cannot be kept is told, and the night goes on.
func (w *worker) keepPrediction() {
	if w.crew.Predict == nil {
		return
	}
	after, known := w.t.Predicted(w.before)
	if !known {
		return
	}
	text, err := w.written(after)
	if err == nil { // it may hold a secret that was asked for and never sent
		_, err = w.crew.Predict(w.name(), w.withoutSecrets(text), time.Now())
	}
	if err != nil {
		w.emit(night.PredictionLost(err))
	}
}

// withoutSecrets is a configuration as predictions are kept.
func (w *worker) withoutSecrets(text string) string {
	return strings.Join(w.maskLines(w.shown(strings.Split(text, "\n")...)), "\n")
}

// written is a configuration as its device would print it, as far as what was read of it
// tells how: with the comments and the order of that.
func (w *worker) written(c config.Config) (string, error) {
	style := w.t.Traits.Style
	if text, err := config.Rewrite(config.Alone(w.backup), style, c); err == nil {
		return text, nil
	}
	text := c.Text(style)
	if d := config.Compare(c, config.Parse(text, style)); !d.Empty() {
		return "", fmt.Errorf("it cannot be written so that it reads as meant: %s", d)
	}
	return text, nil
}

// sinceRehearsal tells what has changed on the device since it was rehearsed: the lines
// that were read and approved then may not be those that are sent now.
func (w *worker) sinceRehearsal() []night.Event {
	if w.crew.Rehearsed == nil {
		return nil
	}
	was := w.crew.Rehearsed(w.name())
	if was == nil {
		return nil
	}
	d := config.Compare(config.Parse(was.Config, w.t.Traits.Style), w.before)
	lines := d.Lines(w.t.Masked)
	if !slices.ContainsFunc(lines, func(l string) bool { return !slices.Contains(was.Differs, l) }) {
		return nil // nothing, or what this change makes: a night has done some of it since
	}
	note := fmt.Sprintf("it has changed since it was rehearsed, %s: %s", was.At.Format("Mon 2 Jan 15:04"), d)
	return []night.Event{night.Notice(1, note, lines...)}
}

// Earlier is what was found of a device at a rehearsal.
type Earlier struct {
	At      time.Time
	Config  string   // what ran
	Differs []string // what was to differ from it, secrets masked
}

// NotBack stands in the notice of undo lines that do not lead back.
const NotBack = "do not lead back"

// slip tells of undo lines that do not lead back.
func (w *worker) slip(s plan.Slip) night.Event {
	title := w.t.Steps[s.Step].Title
	note := fmt.Sprintf("the undo lines of %q %s: they would leave %s", title, NotBack, s.Leaves)
	if s.Why != "" {
		note = fmt.Sprintf("the undo lines of %q %s: one would be refused", title, NotBack)
	}
	lines := s.Leaves.Lines(w.t.Masked)
	for _, l := range w.shown(s.Computed...) {
		lines = append(lines, "computed: "+l)
	}
	return night.Notice(s.Step+1, note, lines...)
}
