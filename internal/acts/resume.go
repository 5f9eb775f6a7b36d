package acts

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	all = slices.DeleteFunc(all, func(l store.Listed) bool { return l.Summary != nil || l.Runs != "" || l.Seen != nil })
	if len(all) == 0 {
		return nil, err
	}
	j, wrong := d.ReadJournal()
	if wrong != nil {
		return nil, errors.Join(err, wrong)
	}
	defer j.Close()
	for _, l := range all {
		ended, wrong := j.Ended(ctx, l.ID) // one may have been killed between its end and its summary
		if err = errors.Join(err, wrong); !ended {
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
		out = append(out, fmt.Sprintf("night %d, %s, was cut off, and nobody has seen to it: metabasis resume %d goes on with it, or takes back what it left",
			l.ID, l.Title, l.ID))
	}
	return out
}

// Resuming is how a night that was cut off is gone on with.
type Resuming struct {
	Night int64 // 0 is the newest that was cut off
	Back  bool  // what it left is taken back, and nothing is gone on with
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
	p, err := d.cutOffNight(ctx, r.Night)
	if err != nil {
		return nil, nil, err
	}
	return d.resume(p, goneOnWith(&p.Night, r.Back), r)
}

// cutOffNight reads a night that was cut off; 0 is the newest.
func (d *Desk) cutOffNight(ctx context.Context, id int64) (*Past, error) {
	if id == 0 {
		all, err := d.CutOff(ctx)
		if len(all) == 0 {
			return nil, errors.Join(ErrNoneCutOff, err)
		}
		id = all[0].ID
	}
	p, err := d.Stands(ctx, id)
	switch {
	case p == nil:
		return nil, fmt.Errorf("night %d cannot be read from the journal: %w", id, err)
	case p.Elsewhere != "":
		return nil, fmt.Errorf("night %d runs now, %s: metabasis attach looks at it", id, p.Elsewhere)
	case err != nil: // devices may have been begun with of which nothing can be read
		return nil, fmt.Errorf("not all of night %d can be read, so what it left is not known: %w", id, err)
	case !p.Night.Ended.IsZero():
		return nil, fmt.Errorf("night %d was not cut off: %s", id, report.Summary(&p.Night))
	}
	return p, nil
}

// resume makes the change that goes on with what a night left.
func (d *Desk) resume(p *Past, left []string, r Resuming) (c *Change, answers []string, err error) {
	if len(left) == 0 {
		return nil, nil, fmt.Errorf("night %d left nothing that %s; metabasis journal settle %d \"REASON\" says that it is seen to",
			p.ID, map[bool]string{true: "could be taken back", false: "is to be done"}[r.Back], p.ID)
	}
	if c, answers, err = d.once(p, left, r.Fleet, true); err != nil {
		return nil, nil, err
	}
	c.resumes = &resumes{p, r.Back}
	rb := c.Runbook
	w := p.Night.Outline.Window
	if r.Back {
		rb.Window, rb.Prechecks, rb.Record = runbook.Window{None: true}, nil, runbook.Recording{} // whatever they are fit for
		rb.Batches.Sizes, rb.Batches.HoldAlways, rb.Batches.HoldAfter = []runbook.Size{{Percent: 100}}, false, nil
		rb.Batches.StopAfter, rb.Batches.StopGiven, rb.Batches.Canaries, rb.Batches.CanaryEach = 0, true, nil, false
		if !rb.Unattended.Given { // there is nothing else that could be done
			rb.Unattended = runbook.Unattended{Given: true, Then: runbook.BackDevice}
		}
		rb.Title = fmt.Sprintf("Take back what night %d left: %s", p.ID, rb.Title)
		return c, answers, nil
	}
	if !w.None {
		if report.WindowClosed(&p.Night, time.Now()) {
			return nil, nil, fmt.Errorf("the window of night %d closed at %s, and is not opened again for it: metabasis resume --back takes back what it left; what is left to do then is run in a window of its own",
				p.ID, w.Close.Local().Format("Mon 2 Jan 15:04:05"))
		}
		rb.Window = runbook.Window{From: w.Open, To: w.Close}
	}
	rb.Title = fmt.Sprintf("Go on with night %d: %s", p.ID, rb.Title)
	return c, answers, nil
}

// goneOnWith are the devices that a night left to be gone on with, or to be taken back.
func goneOnWith(n *night.Night, back bool) (names []string) {
	for _, dev := range n.Devices {
		if dev.MayRun() || !back && !dev.Over {
			names = append(names, dev.Name)
		}
	}
	return names
}

// Resumes is the night that this one goes on with, and whether it is taken back; nil is none.
func (n *Tonight) Resumes() (past *Past, back bool) {
	if n.change == nil || n.change.resumes == nil {
		return nil, false
	}
	return n.change.resumes.past, n.change.resumes.back
}

// seenTo writes down that this night has gone on with another: it is that one's word from now on. As
// long as there are devices that it has begun with and that this one did nothing about, it is not.
func (n *Tonight) seenTo(told *night.Night) error {
	past, back := n.Resumes()
	if past == nil {
		return nil
	}
	if open := notTakenUp(&past.Night, told); len(open) > 0 {
		return fmt.Errorf("night %d is not seen to: it had begun with %s, and nothing was done there by this one; metabasis resume %d --look says what they have",
			past.ID, report.Some(open, 6), past.ID)
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

// notTakenUp are the devices that a night had begun with of which nothing is known by another that was
// to go on with it.
func notTakenUp(past, told *night.Night) (out []string) {
	for _, d := range past.Devices {
		if !d.MayRun() {
			continue
		}
		now := told.Get(d.Name)
		if now == nil || !now.State.Good() && now.State != night.Reverted && now.Intent.What == "" {
			out = append(out, d.Name)
		}
	}
	return out
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
	Devices []work.Looked // those on which it had begun
	// GoesOn tells that it can be gone on with, and GoesBack that there is something to be taken back.
	GoesOn, GoesBack bool
}

// LookAtCutOff looks at the devices on which a night that was cut off had begun. Nothing is done to
// any.
func (d *Desk) LookAtCutOff(ctx context.Context, r Resuming, of Request) (*CutOffLook, error) {
	p, err := d.cutOffNight(ctx, r.Night)
	if err != nil {
		return nil, err
	}
	on, back := goneOnWith(&p.Night, false), goneOnWith(&p.Night, true)
	l := &CutOffLook{Past: p, GoesBack: len(back) > 0}
	l.GoesOn = len(on) > 0 && !report.WindowClosed(&p.Night, time.Now())
	if !l.GoesBack { // it had begun with none
		return l, nil
	}
	c, had, err := d.resume(p, back, Resuming{Night: p.ID, Back: true, Fleet: r.Fleet})
	if err != nil {
		return nil, err
	}
	of.Answers = append(had, of.Answers...)
	n, err := c.Plan(ctx, of)
	if err != nil {
		return nil, err
	}
	l.Devices = n.Look(ctx)
	return l, n.Close()
}
