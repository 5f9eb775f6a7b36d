package acts

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/work"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/store"
)

// A night that was cut off, by kill -9, a full disk or the loss of power, has left devices whose end
// nobody has written down. It is gone on with, or taken back, by a night of its own, which takes over
// what that one had: its backups, its timers, what it had done.

// ErrNoneCutOff says that no night was.
var ErrNoneCutOff = errors.New("no night of this workspace was cut off and not seen to since")

// CutOff are the nights that have no end, that nobody runs, and that nobody has seen to; the newest
// first.
func (d *Desk) CutOff(ctx context.Context) (out []store.Listed, err error) {
	all, err := d.Nights(ctx)
	for _, l := range all {
		if l.Summary == nil && l.Runs == "" && l.Seen == nil && l.Damage == nil {
			out = append(out, l)
		}
	}
	return out, err
}

// cutOff warns of nights that were cut off and wait for somebody. What cannot be listed is told
// elsewhere.
func (d *Desk) cutOff(ctx context.Context) (out []string) {
	all, _ := d.CutOff(ctx)
	for _, l := range all {
		out = append(out, fmt.Sprintf("night %d, %s, was cut off, and nobody has seen to it: metabasis resume %d goes on with it, or takes back what it left", l.ID, l.Title, l.ID))
	}
	return out
}

// Resuming is how a night that was cut off is gone on with.
type Resuming struct {
	Night int64    // 0 is the newest that was cut off
	Back  bool     // what it left is taken back, and nothing is gone on with
	Only  []string // a part of its devices, as [Desk.Select] takes words; none are all
	Fleet string
}

// resumes is a change that goes on with a night.
type resumes struct {
	past *Past
	back bool
}

// Resume makes the change that goes on with a night that was cut off, or takes back what it left, and
// the values that the night was given.
func (d *Desk) Resume(ctx context.Context, r Resuming) (c *Change, answers []string, err error) {
	if r.Night == 0 {
		all, err := d.CutOff(ctx)
		if len(all) == 0 {
			return nil, nil, errors.Join(ErrNoneCutOff, err)
		}
		r.Night = all[0].ID
	}
	p, err := d.Open(ctx, r.Night)
	switch {
	case p == nil:
		return nil, nil, fmt.Errorf("night %d cannot be read from the journal: %w", r.Night, err)
	case p.Elsewhere != "":
		return nil, nil, fmt.Errorf("night %d runs now, %s: metabasis attach looks at it", r.Night, p.Elsewhere)
	case !p.Night.Ended.IsZero():
		return nil, nil, fmt.Errorf("night %d was not cut off: %s", r.Night, report.Summary(&p.Night))
	}
	left := goneOnWith(&p.Night, r.Back)
	if len(left.names) == 0 {
		return nil, nil, fmt.Errorf("night %d left nothing that %s; metabasis journal settle %d \"REASON\" says that it is seen to",
			r.Night, map[bool]string{true: "could be taken back", false: "is to be done"}[r.Back], r.Night)
	}
	if c, answers, err = d.once(p, left.names, r.Fleet, true); err != nil {
		return nil, nil, err
	}
	c.resumes = &resumes{p, r.Back}
	c.notes = append(c.notes, left.notes...)
	rb := c.Runbook
	w := p.Night.Outline.Window
	if r.Back {
		rb.Window = runbook.Window{None: true}
		rb.Batches.Sizes, rb.Batches.HoldAlways, rb.Batches.HoldAfter = []runbook.Size{{Percent: 100}}, false, nil
		rb.Batches.StopAfter, rb.Batches.StopGiven, rb.Batches.Canaries, rb.Batches.CanaryEach = 0, true, nil, false
		rb.Title = fmt.Sprintf("Take back what night %d left: %s", r.Night, rb.Title)
		return c, answers, nil
	}
	if !w.None {
		if !time.Now().Before(w.Close) {
			return nil, nil, fmt.Errorf("the window of night %d closed at %s, and is not opened again for it: metabasis resume --back takes back what it left; what is left to do then is run in a window of its own",
				r.Night, w.Close.Local().Format("Mon 2 Jan 15:04:05"))
		}
		rb.Window = runbook.Window{From: w.Open, To: w.Close}
	}
	rb.Title = fmt.Sprintf("Go on with night %d: %s", r.Night, rb.Title)
	return c, answers, nil
}

// toGoOn is what of a night is gone on with.
type toGoOn struct {
	names []string
	notes []string // of what is not, and why
}

// goneOnWith are the devices that a night left to be gone on with, or to be taken back.
func goneOnWith(n *night.Night, back bool) (out toGoOn) {
	for _, dev := range n.Devices {
		given := dev.Given()
		switch {
		case back && !dev.MayRun(), !back && dev.State.Good() && dev.LeftSteps() == 0, !back && dev.Over && !dev.MayRun():
			continue
		case !back && len(given) > 0 && !given[len(given)-1].OK:
			out.notes = append(out.notes, fmt.Sprintf("%s is not gone on with: whether %q was done on it is not known; look there, then take it back, or do by hand what is left",
				dev.Name, given[len(given)-1].Command))
			continue
		}
		out.names = append(out.names, dev.Name)
	}
	return out
}

// Resumes is the night that this one goes on with, and whether it is taken back; nil is none.
func (n *Tonight) Resumes() (past *Past, back bool) {
	if n.change == nil || n.change.resumes == nil {
		return nil, false
	}
	return n.change.resumes.past, n.change.resumes.back
}

// seenTo writes down that this night has gone on with another: it is that one's word from now on.
func (n *Tonight) seenTo(told *night.Night) error {
	past, back := n.Resumes()
	if past == nil {
		return nil
	}
	what := "gone on with"
	if back {
		what = "taken back"
	}
	why := fmt.Sprintf("%s by night %d: %s", what, n.ID, report.Summary(told))
	if err := n.desk.Settle(past.ID, why); err != nil {
		return fmt.Errorf("that night %d was %s is not written down: %w", past.ID, what, err)
	}
	return nil
}

// Look looks at the devices on which a night was cut off that this one goes on with, and says what
// each has now, in the plan's order. Nothing is done to any.
func (n *Tonight) Look(ctx context.Context) (out []work.Looked) {
	of := n.Resumed()
	if of == nil {
		return nil
	}
	targets := map[string]*plan.Target{}
	var devices []fleet.Device
	for _, t := range n.Plan.Targets() {
		if of(t.Device.Name) != nil {
			targets[t.Device.Name] = t
			devices = append(devices, t.Device)
		}
	}
	o := work.Outside{
		Connector: n.Connector,
		Backups:   n.desk.Backups("look", devices...),
		Remnants:  n.desk.Remnants(ctx),
		Resumed:   of,
		Broke:     n.mistake,
		Others:    &work.Others{},
	}
	if ids, err := n.desk.Identities(); err == nil {
		o.Who = ids
	}
	n.access.Once()
	var mu sync.Mutex
	found := map[string]work.Looked{}
	reach.Sweep(ctx, devices, n.desk.Settings.Int(settings.Together), func(ctx context.Context, d fleet.Device) {
		l := work.Look(ctx, n.Plan, targets[d.Name], o)
		mu.Lock()
		defer mu.Unlock()
		found[d.Name] = l
	}, func(_ context.Context, d fleet.Device) {
		mu.Lock()
		defer mu.Unlock()
		found[d.Name] = work.Looked{Device: d.Name, Runs: work.NotKnown, Saved: work.NotKnown, Unreached: notBegun}
	})
	for _, d := range devices {
		out = append(out, found[d.Name])
	}
	return out
}

// CutOffLook is what a fresh look at the devices of a night that was cut off says.
type CutOffLook struct {
	Past    *Past
	Devices []work.Looked
	Notes   []string
	night   *Tonight
}

// Close ends what was open for it.
func (l *CutOffLook) Close() error { return l.night.Close() }

// LookAtCutOff looks at the devices on which a night that was cut off had begun. Nothing is done to
// any.
func (d *Desk) LookAtCutOff(ctx context.Context, r Resuming, answers []string) (*CutOffLook, error) {
	r.Back = true // those on which it had begun
	c, had, err := d.Resume(ctx, r)
	if err != nil {
		return nil, err
	}
	n, err := c.Plan(ctx, Request{Answers: append(had, answers...)})
	if err != nil {
		return nil, err
	}
	on := goneOnWith(&c.resumes.past.Night, false)
	return &CutOffLook{Past: c.resumes.past, Devices: n.Look(ctx), Notes: on.notes, night: n}, nil
}
