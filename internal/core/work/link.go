package work

import (
	"context"
	"fmt"
	"time"

	"metabasis/internal/core/driver"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
	"metabasis/internal/core/software"
)

// link is a session with a device, as its worker uses it: it times the answers, and knows what
// can be asked of the device.
type link struct {
	driver.Session
	timer    driver.Timer // nil where it has none; so are the others
	trial    driver.Trial
	putter   driver.Putter
	restorer driver.Restorer
	saver    driver.Saver
	looker   driver.Looker
	doer     driver.Doer
	reacher  driver.Reacher
	restarts driver.Restarter
	upgrades driver.Upgrader

	c     *clock
	quiet func() (heard func()) // begins to wait for an answer
}

// newLink makes a link of a session with a device of those traits. What its profile claims and
// the way to it cannot do, is an error: it would be found out in the midst of a change.
func newLink(s driver.Session, t *plan.Target, c *clock, quiet func() func()) (*link, error) {
	if lacks := driver.Lacks(s, t.Traits); lacks != "" {
		return nil, fmt.Errorf("%w: the profile of %s has %s; mend the profile", driver.ErrLacks, t.Device.Platform, lacks)
	}
	l := &link{Session: s, c: c, quiet: quiet}
	l.timer, _ = s.(driver.Timer)
	l.trial, _ = s.(driver.Trial)
	l.putter, _ = s.(driver.Putter)
	l.restorer, _ = s.(driver.Restorer)
	l.saver, _ = s.(driver.Saver)
	l.looker, _ = s.(driver.Looker)
	l.doer, _ = s.(driver.Doer)
	l.reacher, _ = s.(driver.Reacher)
	l.restarts, _ = s.(driver.Restarter)
	l.upgrades, _ = s.(driver.Upgrader)
	return l, nil
}

// cannot is asked of a device what its way cannot do.
func cannot(what string) error {
	return &driver.Refused{Line: what, Said: "there is no such thing on the way to it"}
}

// asks begins to wait for an answer; what it returns ends that.
func (l *link) asks(o op) (answered func()) {
	began, heard := time.Now(), l.quiet()
	return func() {
		heard()
		l.c.add(o, began)
	}
}

// Read implements [driver.Session].
func (l *link) Read(ctx context.Context, table string) (any, error) {
	defer l.asks(opRead)()
	return l.Session.Read(ctx, table)
}

// Config implements [driver.Session].
func (l *link) Config(ctx context.Context, which driver.Which) (string, error) {
	defer l.asks(opConfig)()
	return l.Session.Config(ctx, which)
}

// Line implements [driver.Session].
func (l *link) Line(ctx context.Context, line string) error {
	defer l.asks(opLine)()
	return l.Session.Line(ctx, line)
}

// Edit implements [driver.Session].
func (l *link) Edit(ctx context.Context) error {
	defer l.asks(opEdit)()
	return l.Session.Edit(ctx)
}

// Apply implements [driver.Session].
func (l *link) Apply(ctx context.Context, trial time.Duration) error {
	defer l.asks(opApply)()
	return l.Session.Apply(ctx, trial)
}

// Arm is that of [driver.Timer].
func (l *link) Arm(ctx context.Context, d time.Duration) error {
	if l.timer == nil {
		return cannot("arm a timer")
	}
	defer l.asks(opArm)()
	return l.timer.Arm(ctx, d)
}

// Pending is that of [driver.Timer]; where there is no timer, none is pending.
func (l *link) Pending(ctx context.Context) (time.Duration, bool, error) {
	if l.timer == nil {
		return 0, false, nil
	}
	defer l.asks(opPending)()
	return l.timer.Pending(ctx)
}

// Disarm is that of [driver.Timer].
func (l *link) Disarm(ctx context.Context) error {
	if l.timer == nil {
		return cannot("disarm a timer")
	}
	defer l.asks(opDisarm)()
	return l.timer.Disarm(ctx)
}

// TakeBack is that of [driver.Trial].
func (l *link) TakeBack(ctx context.Context) error {
	if l.trial == nil {
		return cannot("take back what is on trial")
	}
	defer l.asks(opEnd)()
	return l.trial.TakeBack(ctx)
}

// Put is that of [driver.Putter].
func (l *link) Put(ctx context.Context, text string) error {
	if l.putter == nil {
		return cannot("put a whole configuration in place")
	}
	return l.putter.Put(ctx, text)
}

// Save is that of [driver.Saver].
func (l *link) Save(ctx context.Context) error {
	if l.saver == nil {
		return cannot("save")
	}
	defer l.asks(opSave)()
	return l.saver.Save(ctx)
}

// Restore is that of [driver.Restorer].
func (l *link) Restore(ctx context.Context, text string) error {
	if l.restorer == nil {
		return cannot("restore a backup")
	}
	defer l.asks(opRestore)()
	return l.restorer.Restore(ctx, text)
}

// Look is that of [driver.Looker].
func (l *link) Look(ctx context.Context, mode, command string) ([]string, error) {
	if l.looker == nil {
		return nil, cannot("look by a command")
	}
	defer l.asks(opRead)()
	return l.looker.Look(ctx, mode, command)
}

// Do is that of [driver.Doer].
func (l *link) Do(ctx context.Context, c driver.Command) ([]string, error) {
	if l.doer == nil {
		return nil, cannot("do something by a command")
	}
	heard := l.quiet()
	defer heard()
	return l.doer.Do(ctx, c)
}

// Reach is that of [driver.Reacher].
func (l *link) Reach(ctx context.Context, address string) (runbook.Reached, error) {
	if l.reacher == nil {
		return runbook.Reached{}, cannot("reach an address")
	}
	heard := l.quiet()
	defer heard()
	return l.reacher.Reach(ctx, address)
}

// Restart is that of [driver.Restarter].
func (l *link) Restart(ctx context.Context) error {
	if l.restarts == nil {
		return cannot("restart")
	}
	heard := l.quiet()
	defer heard()
	return l.restarts.Restart(ctx)
}

// Up is that of [driver.Restarter].
func (l *link) Up(ctx context.Context) (time.Duration, error) {
	if l.restarts == nil {
		return 0, cannot("tell for how long it has been up")
	}
	defer l.asks(opRead)()
	return l.restarts.Up(ctx)
}

// Software is that of [driver.Upgrader].
func (l *link) Software(ctx context.Context) (software.State, error) {
	if l.upgrades == nil {
		return software.State{}, cannot("tell its software")
	}
	defer l.asks(opRead)()
	return l.upgrades.Software(ctx)
}

// Sum is that of [driver.Upgrader].
func (l *link) Sum(ctx context.Context, path string) (sum string, known bool, err error) {
	if l.upgrades == nil {
		return "", false, cannot("tell a checksum")
	}
	heard := l.quiet()
	defer heard()
	return l.upgrades.Sum(ctx, path)
}

// upgrade gives a command that is about the device's software.
func (l *link) upgrade(give func(driver.Upgrader) error) error {
	if l.upgrades == nil {
		return cannot("exchange its software")
	}
	heard := l.quiet()
	defer heard()
	return give(l.upgrades)
}

// HandOver is that of [driver.Paired].
func (l *link) HandOver(ctx context.Context) error {
	pair, ok := l.Session.(driver.Paired)
	if !ok {
		return cannot("hand over the work of its pair")
	}
	heard := l.quiet()
	defer heard()
	return pair.HandOver(ctx)
}
