package work

import (
	"cmp"
	"context"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// Rehearsed is what a rehearsal found of one device: what its night would be, up to its
// first line. Secrets are masked.
type Rehearsed struct {
	Device   string          `json:"device"`
	Platform string          `json:"platform"`
	Batch    int             `json:"batch"`             // from 1
	Blocked  string          `json:"blocked,omitempty"` // why it would not be changed
	Checks   []night.Check   `json:"checks,omitempty"`
	Already  bool            `json:"already,omitempty"` // there is nothing to do
	Steps    []RehearsedStep `json:"steps,omitempty"`
	Differs  []string        `json:"differs,omitempty"` // what will differ from what it is
	Unknown  string          `json:"unknown,omitempty"` // what of that is not known
	// NotSaved are the lines that run and are not saved, where the night is to save them, and
	// Whose says whose they may be.
	NotSaved []string `json:"not_saved,omitempty"`
	Whose    string   `json:"whose,omitempty"`
	Unjudged []string `json:"unjudged,omitempty"` // lines of which nobody knows what they do
	Notices  []string `json:"notices,omitempty"`
	// Path are the lines of the difference that touch the way by which it is managed.
	Path []string `json:"path,omitempty"`
	// Backup is where its configuration is kept, and Fingerprint tells it from others.
	Backup      string `json:"backup,omitempty"`
	Fingerprint string `json:"fingerprint,omitempty"`
	// Software is what it takes to give it the software that the runbook wants; nil where it wants none.
	Software *Readiness `json:"software,omitempty"`
	// Neighbours are the devices at the other ends of its ports, by their names.
	Neighbours []string `json:"neighbours,omitempty"`
	// Took is how long reaching and checking it took; 0 where that failed.
	Took time.Duration `json:"took,omitempty"`
}

// Verdict is what a rehearsal says of a device against what its runbook wants.
type Verdict int

// The verdicts, from the best on.
const (
	AsIntended Verdict = iota // nothing would be done
	WouldDiffer
	CannotBeTold // it would be blocked, or what lines would do is not known
)

// Verdict tells whether anything would be done to the device.
func (r Rehearsed) Verdict() Verdict {
	switch {
	case r.Blocked != "" || r.Unknown != "" || len(r.Unjudged) > 0:
		return CannotBeTold
	case r.Already:
		return AsIntended
	}
	return WouldDiffer
}

// RehearsedStep is a step as it would be sent.
type RehearsedStep struct {
	Title string   `json:"title"`
	Send  []string `json:"send,omitempty"`
	Undo  []string `json:"undo,omitempty"`
	Done  bool     `json:"done,omitempty"`  // it is so already
	Not   string   `json:"not,omitempty"`   // why it is not for the device
	Later bool     `json:"later,omitempty"` // its lines are known once those before it were done
	// Kind is what it does where that is no configuration, and Commands by what.
	Kind     plan.StepKind `json:"kind,omitempty"`
	Commands []string      `json:"commands,omitempty"`
}

// Rehearse is a device's night without the change: it is reached, checked, recorded and
// backed up, and what would be done to it is computed. Nothing is changed on it. It
// returns the target with its lines, nil where they cannot be computed, what was found,
// and what is to be told of it.
func Rehearse(ctx context.Context, p *plan.Plan, t *plan.Target, o Outside) (*plan.Target, Rehearsed, []night.Event) {
	said := &told{}
	crew := &Crew{Outside: o, Plan: p, Log: said, Now: time.Now, Tell: func(Message) {}}
	w := crew.worker(ctx, begin(t))
	w.orders = NewOrders()
	found := w.rehearsing() //nolint:contextcheck // a worker has its context with it

	alone := &night.Outline{Batches: [][]night.OutlineDevice{{night.OutlinedDevice(p, t)}}} // of a night of its own
	d := night.Fold(night.Night{}, append([]night.Event{{Kind: night.Planned, Outline: alone}}, said.all()...)...)
	if got := d.Get(t.Device.Name); got != nil {
		found.Checks, found.Notices = got.Checks, got.Notices
		found.Differs, found.Unknown = got.WillDiffer, got.Unknown
	}
	if w.expected == nil && found.Steps == nil {
		return nil, found, said.all()
	}
	return w.t, found, said.all()
}

// told is what was said of a device at its rehearsal. Nothing of it is intended.
type told struct {
	mu     sync.Mutex // a device that is slow is told of by the clock
	events []night.Event
}

// Emit implements [Log].
func (l *told) Emit(e night.Event) {
	l.mu.Lock()
	defer l.mu.Unlock()
	e.At, e.Seq = time.Now(), int64(len(l.events)+1)
	l.events = append(l.events, e)
}

// Intend implements [Log].
func (l *told) Intend(night.Event) error {
	return fmt.Errorf("%w: this is a rehearsal", ErrJournal)
}

func (l *told) all() []night.Event {
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.Clone(l.events)
}

// rehearsing rehearses the device. Where we fail ourselves, its session is abandoned and
// nothing is predicted of it.
func (w *worker) rehearsing() (out Rehearsed) {
	defer func() {
		if p := recover(); p != nil {
			w.abandonSession(p, debug.Stack())
			out = w.notPredicted(w.unrehearsed(), fmt.Sprintf("Metabasis itself failed on this device (%v)", p))
		}
	}()
	out = w.rehearse()
	w.hangUp()
	return out
}

// unrehearsed is what is known of a device before it is reached.
func (w *worker) unrehearsed() Rehearsed {
	return Rehearsed{Device: w.name(), Platform: w.t.Device.Platform, Batch: w.t.Batch + 1}
}

// notPredicted says why nothing is predicted of the device.
func (w *worker) notPredicted(out Rehearsed, why string) Rehearsed {
	out.Blocked = w.maskText(why)
	w.emit(night.NoPrediction(why))
	return out
}

func (w *worker) rehearse() Rehearsed {
	out := w.unrehearsed()
	began := time.Now()
	unknown := func(why string) Rehearsed { return w.notPredicted(out, why) }
	if err := w.reach(); err != nil {
		w.emit(night.Event{Kind: night.Prechecked, What: "reachable", Note: err.Error()})
		return unknown("not reachable: " + err.Error())
	}
	w.emit(night.Event{Kind: night.Prechecked, What: "reachable", OK: true})
	if why := w.identify(w.who); why != "" {
		return unknown(why)
	}
	out.Blocked = w.maskText(w.precheck())
	if w.backup == "" { // it could not be read at all
		return unknown(out.Blocked)
	}
	out.Fingerprint = w.before.Fingerprint()
	if err := w.read(); err != nil {
		out.Software = w.readiness()
		return unknown(err.Error())
	}
	out.Took = time.Since(began)
	near := w.near()
	for _, row := range near {
		if name := fmt.Sprint(row["name"]); !slices.Contains(out.Neighbours, name) {
			out.Neighbours = append(out.Neighbours, w.maskText(name))
		}
	}
	out.Software = w.readiness()
	out.Path = w.onPath(w.uplinks(near))
	w.rehearsed(&out)
	w.tryLooks()
	if out.Already {
		unmet, err := w.unmet()
		if err != nil {
			return unknown(err.Error())
		}
		if out.Already = unmet == ""; unmet != "" {
			w.emit(
				night.Notice(1, "all of it is there already, and what is expected of it does not hold: "+unmet),
			)
		}
	}
	if out.Blocked != "" {
		w.emit(night.Notice(1, "it would be blocked: "+out.Blocked))
	}
	if out.Blocked == "" && !out.Already {
		out.Blocked = w.maskText(cmp.Or(w.noWayBack(), w.cannotRestart(), w.fitForSoftware()))
	}
	if out.Blocked == "" && w.t.Restarts() {
		if _, err := w.pairHealthy(); err != nil {
			w.emit(night.Notice(1, "it would not be restarted as it is now: "+err.Error()))
		}
	}
	if err := w.record(); err != nil && out.Blocked == "" {
		out.Blocked = w.maskText(err.Error())
	}
	if err := w.keep(&out); err != nil && out.Blocked == "" {
		out.Blocked = w.maskText("no backup: " + err.Error())
	}
	return out
}

// keep backs the device up.
func (w *worker) keep(out *Rehearsed) error {
	b, err := w.crew.Backups.Put(w.name(), w.backup, time.Now())
	if err != nil {
		return err
	}
	out.Backup = b.Path
	w.emit(night.Event{Kind: night.BackedUp, What: b.Path, Note: b.SHA256, OK: b.Same})
	return nil
}

// rehearsed tells what will be done, and takes it in.
func (w *worker) rehearsed(out *Rehearsed) {
	out.Already = w.t.Idle() && !w.toSave()
	if w.t.OnlySaves() && w.toSave() {
		out.NotSaved = w.maskLines(w.notSavedLines())
		if out.Whose = "what is saved cannot be read on it: whether anything is not saved is not known"; len(out.NotSaved) > 0 {
			out.Whose = w.maskText(w.whose())
		}
	}
	for _, s := range w.t.Steps {
		out.Steps = append(
			out.Steps,
			RehearsedStep{
				Title: s.Title,
				Send:  w.maskLines(w.shown(s.Send...)),
				Undo:  w.maskLines(w.shown(s.Undo...)),
				Done:  s.Done && s.Not == "",
				Not:   s.Not,
				Later: s.Later,

				Kind: s.Kind, Commands: w.maskLines(w.t.Said(s)),
			},
		)
	}
	out.Unjudged = w.maskLines(w.t.Masked(w.unjudged()))
	events := w.predictions()
	if len(out.Path) > 0 {
		events = append(events, night.Notice(1, "it is managed by what these lines change; a slip in them cuts it off", out.Path...))
	}
	if called := w.willBeCalled(); called != "" {
		events = append(events, night.Notice(1, called))
	}
	for _, e := range events {
		w.emit(e)
	}
	w.keepPrediction()
}

// onPath are the lines of what will differ that touch the way by which the device is
// managed: those its language knows, its own address, and the port to the device that it
// is reached through, where its neighbours tell it.
func (w *worker) onPath(uplinks []string) []string {
	after, known := w.t.Predicted(w.before)
	if !known && w.t.Traits.Language == nil {
		return nil
	}
	d := config.Compare(w.before, after)
	if d.Empty() {
		return nil
	}
	return w.maskLines(w.t.Masked(w.t.Traits.Language.ManagementPath(d, uplinks, []string{w.t.Device.Address})))
}

// uplinks are the sections of the ports to the device that it is reached through, such as
// "port 1": the name of the column and its value, as devices print them.
func (w *worker) uplinks(near []map[string]any) (out []string) {
	for _, row := range near {
		if fmt.Sprint(row["name"]) != w.t.Device.Upstream() {
			continue
		}
		for column, value := range row {
			if column != "name" {
				out = append(out, fmt.Sprintf("%s %v", column, value))
			}
		}
	}
	slices.Sort(out)
	return out
}

// near reads what stands at the other ends of the device's ports; nil where it does not
// tell.
func (w *worker) near() []map[string]any {
	if _, reads := w.t.Traits.Tables[neighbours]; !reads {
		return nil
	}
	v, err := w.ses.Read(w.ctx, neighbours)
	if err != nil {
		return nil
	}
	rows, _ := v.([]map[string]any)
	return rows
}

// neighbours is the table of what stands at the other ends of a device's ports.
const neighbours = "neighbours"
