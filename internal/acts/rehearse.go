package acts

import (
	"context"
	"errors"
	"time"

	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/work"
	"metabasis/internal/device/echo"
	"metabasis/internal/report"
	"metabasis/internal/settings"
	"metabasis/internal/store"
)

// Rehearse is the night without the change: every device is reached, checked and backed
// up, and what would be done to it is computed. Nothing is changed on any. What is to be
// told of a device is passed on as it comes, from several goroutines. What was found is
// kept in the workspace; one that was given up is not.
func (n *Tonight) Rehearse(ctx context.Context, each func(...night.Event)) (*store.Rehearsal, error) {
	if n.Began() {
		return nil, errors.New("the night has begun")
	}
	ctx, stop := context.WithCancel(ctx)
	done := make(chan struct{})
	defer close(done)
	defer stop()
	n.mu.Lock()
	if n.stopReading != nil {
		n.mu.Unlock()
		return nil, errors.New("they are being read already")
	}
	n.stopReading = func() { stop(); <-done }
	n.mu.Unlock()
	defer func() {
		n.mu.Lock()
		n.stopReading = nil
		n.mu.Unlock()
	}()
	began := time.Now()
	found := n.rehearseEach(ctx, each)
	n.desk.did("rehearse", began, ctx.Err(), "devices", len(found))
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	r := n.Rehearsal()
	r.Began, r.Ended, r.By = began, time.Now(), Who()
	for _, t := range n.Plan.Targets() {
		r.Devices = append(r.Devices, found[t.Device.Name])
	}
	id, err := n.desk.KeepRehearsal(r)
	r.ID = id
	return &r, err
}

// Rehearsed sums up the newest rehearsal of this night; "" where there was none. One of
// another text or of other values is called that.
func (n *Tonight) Rehearsed(ctx context.Context) string {
	r, stale := n.newest(ctx)
	switch {
	case r == nil:
		return ""
	case stale != "":
		return "not as it is now: " + stale
	}
	return r.Ended.Local().Format("Mon 2 Jan 15:04") + " by " + r.By + ": " + report.Rehearsed(r)
}

// Found tells all that the newest rehearsal of this night found; nothing where there was
// none.
func (n *Tonight) Found(ctx context.Context) []string {
	r, stale := n.newest(ctx)
	if r == nil || stale != "" {
		return nil
	}
	return report.Rehearsal(r)
}

// newest is the newest rehearsal of a runbook of that title, nil where there was none, and
// why it is not one of this night.
func (n *Tonight) newest(ctx context.Context) (r *store.Rehearsal, stale string) {
	r, err := n.desk.Rehearsed(ctx, 0, n.Plan.Title)
	if err != nil {
		return nil, ""
	}
	return r, r.Stale(n.Rehearsal().Runbook, n.Plan.Values)
}

func (n *Tonight) rehearseEach(ctx context.Context, each func(...night.Event)) map[string]work.Rehearsed {
	devices, found := map[string]*plan.Target{}, map[string]work.Rehearsed{}
	list := n.Plan.Devices()
	for _, t := range n.Plan.Targets() {
		devices[t.Device.Name] = t
	}
	o := work.Outside{
		Connector:  n.Connector,
		Backups:    n.desk.Backups("rehearsal", list...),
		Predict:    n.desk.Predictions("rehearsal", list...).Put,
		Remnants:   n.desk.Remnants(ctx),
		Unfinished: n.desk.Unfinished(ctx, 0),
		Broke:      n.mistake,
		Here:       echo.Reach,
		Others:     &work.Others{},
	}
	if ids, err := n.desk.Identities(); err == nil {
		o.Who = ids
	}
	n.access.Once()
	reach.Sweep(ctx, list, n.desk.Settings.Int(settings.Together), func(ctx context.Context, d fleet.Device) {
		read, got, events := work.Rehearse(ctx, n.Plan, devices[d.Name], o)
		if ctx.Err() != nil {
			return // what failed then says nothing of the device
		}
		n.mu.Lock()
		n.read[d.Name], found[d.Name] = read, got
		n.mu.Unlock()
		each(events...)
	}, func(context.Context, fleet.Device) {})
	return found
}
