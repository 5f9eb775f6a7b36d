package acts

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"metabasis/internal/attach"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/report"
	"metabasis/internal/store/locks"
	"metabasis/internal/stream"
	"metabasis/internal/workspace"
)

// Tonight is a night of this process: planned, then running, then over. It runs to its
// end whoever looks at it.
type Tonight struct {
	*workspace.OpenNight
	// Events are what happens, from the first event of the run on, to be drawn or
	// printed. They end with the night.
	Events *stream.Stream[night.Event]

	desk    *Desk
	change  *Change // what it was planned from
	request Request
	access  *workspace.Access
	needs   atomic.Pointer[string]
	now     atomic.Pointer[night.Night] // as it stands while it runs

	consoles    consoles
	mu          sync.Mutex
	read        map[string]*plan.Target // as computed from what was read before the night
	stopReading func()                  // ends the reading that goes on; nil for none
	began       bool
	closed      bool
	interrupted bool
	over        chan struct{} // closed at the end of the run
	pushing     *pushing      // of its backups, behind the end
	end         night.Night
	err         error
	hands       func()        // waits for those that work devices by hand from elsewhere; nil for none
	local       *attach.Local // this process's own screen, among those that look
}

func newNight(d *Desk, n *workspace.OpenNight, a *workspace.Access) *Tonight {
	return &Tonight{
		OpenNight: n,
		desk:      d,
		access:    a,
		Events:    stream.New[night.Event](),
		read:      map[string]*plan.Target{},
		over:      make(chan struct{}),
		pushing:   newPushing(),
	}
}

// Warnings are what was met while it was planned.
func (n *Tonight) Warnings() []string { return n.access.Warnings }

// Planned is the night before it begins.
func (n *Tonight) Planned() night.Night {
	n.mu.Lock()
	defer n.mu.Unlock()
	o := n.Plan.Whole()
	return night.Fold(night.Night{}, night.Event{Kind: night.Planned, Outline: night.Outlined(n.Plan)},
		night.Event{Kind: night.Forecast, Slots: o.Slots, Due: o.Likely, Late: o.Late, Stays: o.Stays})
}

// Lines tells what will be sent to a device, secrets masked: as planned, or as computed
// once it was read; see [Tonight.Rehearse].
func (n *Tonight) Lines(device string) []string {
	n.mu.Lock()
	read := n.read[device]
	n.mu.Unlock()
	if read != nil {
		return report.LinesOf(n.Plan, read)
	}
	return report.Lines(n.Plan, device)
}

// Begin takes the workspace and the devices and begins the run. Where another night
// has the workspace, it says by whom; with wait it waits for that night's end, as long
// as ctx lives, and say is told. The run itself does not end with ctx: it is ended by
// decisions, or by [Tonight.Interrupt].
func (n *Tonight) Begin(ctx context.Context, wait bool, say func(string)) error {
	n.mu.Lock()
	again, stop := n.began, n.stopReading
	n.mu.Unlock()
	if again {
		return errors.New("the night has begun already")
	}
	if stop != nil { // no device is read and changed at once
		stop()
	}
	began := time.Now()
	n.access.Once()
	n.Broke, n.AtConsole = n.mistake, n.consoles.at
	err := n.OpenNight.Begin(ctx, wait, say)
	n.desk.did("begin", began, err, "night", n.ID)
	if err != nil {
		var held *locks.Held
		if errors.As(err, &held) {
			err = fmt.Errorf("%w; wait for its end with --wait", err)
			if held.By.Workspace == n.desk.Path() { // it is this one's
				err = fmt.Errorf("%w, or look at it with metabasis attach", err)
			}
		}
		return err
	}
	n.mu.Lock()
	n.began = true
	n.mu.Unlock()
	ctx = context.WithoutCancel(ctx)
	put, over := n.serve(ctx)
	go n.run(ctx, put, over)
	return nil
}

// mistake writes a mistake of ours on one device into the log.
func (n *Tonight) mistake(device string, what any, stack []byte) {
	n.desk.Log.Error("mistake", "night", n.ID, "device", device, "what", fmt.Sprint(what), "stack", string(stack))
}

// run runs the night to its end, whoever looks. Put passes on to those that are attached what
// happens, and over that it has ended.
func (n *Tonight) run(ctx context.Context, put func(...night.Event), over func()) {
	done := make(chan error, 1)
	go func() { done <- n.Run.Go(ctx) }()
	calls := newCalls(ctx, n)
	var told night.Night
	stood := int64(0)
	for batch := range n.Run.Events() {
		told = night.Fold(told, batch...)
		if slices.ContainsFunc(batch, func(e night.Event) bool { return e.Kind == night.Moved && e.State == night.Blocked }) {
			n.desk.refused() // it may have been the login
		}
		n.needs.Store(new(needing(&told)))
		stands := told
		n.now.Store(&stands)
		n.Events.Put(batch...)
		put(batch...)
		calls.on(batch, &told)
		if told.Seq-stood >= standsEvery {
			stood = told.Seq
			n.standing(&stands)
		}
	}
	err := <-done
	over() // before the workspace is given free: the next night's socket has the same name
	n.desk.did("night", told.Began, err, "night", n.ID, "outcome", int(told.Outcome()))
	wrong := n.Finish(&told)
	if err2 := n.writeReport(ctx); err2 != nil {
		wrong = errors.Join(wrong, fmt.Errorf("the report of the night is not written: %w; write it with metabasis report %d", err2, n.ID))
	}
	wrong = errors.Join(wrong, n.seenTo(&told)) //nolint:contextcheck // what is written down at the end is, whoever looks
	if wrong != nil {
		n.Note(wrong.Error())
	}
	calls.end()
	n.mu.Lock()
	n.end, n.err = told, err
	n.mu.Unlock()
	n.Events.Close()
	close(n.over) // who waits for the night waits for no other machine
	n.pushing.end(n.push(n.pushing.within(ctx)))
}

// standsEvery is how many events are read at the most by whoever reads how the night stands.
const standsEvery = 40_000

// standing writes down how the night stands, so that nobody who goes on with it has to read all of it.
// Where that cannot be written, all of it is read.
func (n *Tonight) standing(told *night.Night) {
	if err := n.Stand(told); err != nil {
		n.desk.Log.Warn("how the night stands is not written down", "night", n.ID, "error", err.Error())
	}
}

// InChange tells whether a device is in change, or waits for a decision, at this moment.
func (n *Tonight) InChange() bool {
	told := n.now.Load()
	if told == nil || !n.Running() || !told.Ended.IsZero() {
		return false
	}
	return slices.ContainsFunc(told.Devices, func(d *night.Device) bool { return !d.Over && d.Begun() })
}

// Began tells whether the night has begun.
func (n *Tonight) Began() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.began
}

// Running tells whether the night has begun and is not over.
func (n *Tonight) Running() bool {
	if !n.Began() {
		return false
	}
	select {
	case <-n.over:
		return false
	default:
		return true
	}
}

// Wait waits for the end of a night that has begun, and returns it as it stood then.
func (n *Tonight) Wait() (night.Night, error) {
	<-n.over
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.end, n.err
}

// Do passes on a decision.
func (n *Tonight) Do(c night.Command) error {
	c.By = Who()
	if !n.Began() {
		return errors.New("the night has not begun")
	}
	if own := n.Local(); own != nil {
		return own.Do(c)
	}
	return n.Run.Do(context.Background(), c)
}

// Interrupt asks the night to end because of something that nobody decided on the
// screen: the first time by taking back what is in change, then by letting go of
// everything.
func (n *Tonight) Interrupt(why string) {
	n.mu.Lock()
	choice := night.BackDevice
	if n.interrupted {
		choice = night.Release
	}
	begun := n.began
	n.interrupted = n.interrupted || begun
	n.mu.Unlock()
	if begun {
		_ = n.Run.Do(context.Background(), night.Command{Choice: choice, By: Who() + " (" + why + ")"}) // the night may be over
	}
}

// Interrupted tells whether it was asked to end so.
func (n *Tonight) Interrupted() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.interrupted
}

// Close ends what the night had open. A night that runs is not closed: it must be over. Its
// backups are pushed on: whoever ends the process waits for that; see [Tonight.Pushed].
func (n *Tonight) Close() error {
	if n.Running() {
		return errors.New("the night runs")
	}
	n.mu.Lock()
	again, stop := n.closed, n.stopReading
	n.closed = true
	n.mu.Unlock()
	if again {
		return nil
	}
	if stop != nil {
		stop()
	}
	return errors.Join(n.OpenNight.Close(), n.access.Close())
}

// changes tells whether the night works on a device at this moment. One that is held
// waits, and may be looked at.
func (n *Tonight) changes(device string) bool {
	told := n.now.Load()
	if told == nil || !n.Running() {
		return false
	}
	d := told.Get(device)
	if d == nil {
		return false
	}
	switch d.State {
	case night.Checking, night.Recording, night.Armed, night.Changing, night.Verifying, night.Soaking, night.Reverting, night.Absent:
		return true
	}
	return false
}

// Console opens a device of the night to be worked by hand, in a window of that size.
func (n *Tonight) Console(ctx context.Context, device string, columns, rows int) (*Hand, error) {
	raw, err := n.Connector.Console(ctx, n.device(device), columns, rows, false)
	if err != nil {
		return nil, err
	}
	n.consoles.add(device, 1)
	return &Hand{raw, sync.OnceFunc(func() { n.consoles.add(device, -1) })}, nil
}

// NeverSent tells whether a line is one that the profile of a device never has sent.
func (n *Tonight) NeverSent(device, line string) bool {
	return n.desk.neverSent(n.device(device).Platform, line)
}

func (d *Desk) neverSent(platform, line string) bool {
	p := d.Profiles[platform]
	return p != nil && p.WantsReason(line)
}

// WayBack says what takes back by itself what is done on a device now, and when; "" for nothing that
// is known.
func (n *Tonight) WayBack(device string) string { return wayBack(n.now.Load(), device) }

func wayBack(told *night.Night, device string) string {
	if told == nil {
		return ""
	}
	d := told.Get(device)
	switch {
	case d == nil || d.Over:
		return ""
	case !d.TimerDue.IsZero():
		left := max(time.Until(d.TimerDue).Round(time.Second), 0)
		return fmt.Sprintf("%s, in %d:%02d", d.Way.Does(d.TimerDue.Local().Format("15:04:05")), int(left.Minutes()), int(left.Seconds())%60)
	}
	return "NOTHING THAT IS KNOWN TAKES IT BACK"
}

// ClearText tells whether a device is reached without encryption.
func (n *Tonight) ClearText(device string) bool { return n.Connector.ClearText(n.device(device)) }

func (n *Tonight) device(name string) fleet.Device {
	for _, t := range n.Plan.Targets() {
		if t.Device.Name == name {
			return t.Device
		}
	}
	return fleet.Device{Name: name}
}

// needing says what needs a person now; "" for nothing. Whoever is at a console is there.
func needing(told *night.Night) string {
	waits := *told
	waits.Holds = slices.DeleteFunc(slices.Clone(told.Holds), func(h night.Hold) bool {
		return slices.ContainsFunc(h.Offers, func(o night.Offer) bool { return o.Choice == night.ConsoleOver })
	})
	h, held := waits.Foremost()
	dark := told.Count()[night.Dark] + told.Count()[night.Stranded]
	switch {
	case !told.Ended.IsZero():
		return "the night is over"
	case held:
		who := "the run"
		if h.Device != "" {
			who = h.Device
		}
		text := "◆ " + who + " is held"
		if h.Aside() {
			text = "▽ " + h.Why
		}
		if more := len(waits.Holds) - 1; more > 0 {
			text += fmt.Sprintf(", and %d more", more)
		}
		return text
	case dark > 0:
		return fmt.Sprintf("▲ %d out of contact", dark)
	}
	return ""
}

// Needs is what needs a person now, in a few words, for whoever cannot see the night:
// somebody who works a device by hand. It is "" for nothing.
func (n *Tonight) Needs() string {
	if n == nil {
		return ""
	}
	if p := n.needs.Load(); p != nil {
		return *p
	}
	return ""
}
