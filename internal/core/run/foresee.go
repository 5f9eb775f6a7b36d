package run

import (
	"context"
	"fmt"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/plan"
)

// Foresee reads a device and computes what a night would do to it. Nothing is changed on
// it. It returns the target with its lines, nil where they cannot be computed, and what is
// to be told: events of the kind [Foreseen].
func Foresee(ctx context.Context, c Connector, t *plan.Target) (*plan.Target, []Event) {
	w := &worker{target: t, t: t, ctx: ctx, back: make(chan struct{})}
	events, err := w.lookAhead(ctx, c)
	if err != nil {
		events = []Event{{Kind: Foreseen, What: NotForeseen, Note: err.Error()}}
		w.t = nil
	}
	for i := range events {
		events[i].Device, events[i].At = w.name(), time.Now()
		if w.t == nil {
			events[i].Note = t.Mask(events[i].Note)
			continue
		}
		events[i] = w.masked(events[i])
	}
	return w.t, events
}

// NotForeseen marks that it cannot be said what a night would do to a device.
const NotForeseen = "not foreseen"

func (w *worker) lookAhead(ctx context.Context, c Connector) ([]Event, error) {
	ses, err := c.Connect(ctx, w.t)
	if err != nil {
		return nil, fmt.Errorf("not reachable: %w", err)
	}
	w.ses, w.mask = ses, ses.Mask
	defer w.hangUp()
	if _, w.before, err = w.running(); err != nil {
		return nil, fmt.Errorf("reading the running configuration: %w", err)
	}
	if err := w.read(); err != nil {
		return nil, err
	}
	events := w.foreseen()
	if w.t.Traits.Language == nil { // it was read, and that is not known all the same
		note := fmt.Sprintf("the profile of %s has no language: what lines do on it is not known", w.t.Device.Platform)
		events = append([]Event{{Kind: Foreseen, What: NotForeseen, Note: note}}, events...)
	}
	return events, nil
}

// read takes in what follows from the device's configuration and its tables: the lines of
// each step, and which of them are so already.
func (w *worker) read() error {
	read := tables{"config": w.before}
	t, err := w.target.Read(plan.Reading{
		Config: w.before,
		Holds: func(c plan.Check) (bool, error) {
			ok, _, err := w.holds(c, read)
			return ok, err
		},
		Rows: func(table string) ([]map[string]any, error) { return w.rows(table, read) },
	})
	if err != nil {
		return err
	}
	if w.t = t; t.Traits.Language != nil {
		w.expected = &w.before
	}
	return nil
}

// foreseen tells what the night will do to the device, and which undo lines do not lead
// back as they are written.
func (w *worker) foreseen() []Event {
	var events []Event
	for i, s := range w.t.Steps {
		if s.Empty != "" {
			events = append(events, Event{Kind: Foreseen, Step: i + 1, Note: s.Empty})
		}
	}
	if w.t.Traits.Language == nil {
		return events
	}
	after, known := w.t.Predicted(w.before)
	e := Event{Kind: Foreseen, OK: known, Lines: config.Compare(w.before, after).Lines(w.t.Masked)}
	for _, s := range w.t.Steps {
		if s.After == nil {
			e.Note = fmt.Sprintf("what %q does is not known, and what comes behind it", s.Title)
			break
		}
	}
	events = append([]Event{e}, events...)
	for _, slip := range w.t.Slips(w.before) {
		events = append(events, w.slip(slip))
	}
	return events
}

// slip tells of undo lines that do not lead back.
func (w *worker) slip(s plan.Slip) Event {
	title := w.t.Steps[s.Step].Title
	e := Event{Kind: Foreseen, Step: s.Step + 1, Lines: s.Leaves.Lines(w.t.Masked),
		Note: fmt.Sprintf("the undo lines of %q do not lead back: they would leave %s", title, s.Leaves)}
	if s.Why != "" {
		e.Note = fmt.Sprintf("the undo lines of %q do not lead back: one would be refused", title)
	}
	for _, l := range w.shown(s.Computed...) {
		e.Lines = append(e.Lines, "computed: "+l)
	}
	return e
}
