package work

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/config"
	"metabasis/internal/core/identity"
	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
)

// No line reaches a device that was not seen to be the one that is meant (law 16). Who it
// says it is, is read right after it was connected to, each time, before anything else is
// asked; at first it is held against the fleet and what was last seen under its name, and
// from then on against what was seen at first.

// Identities keeps who devices were seen to be.
type Identities interface {
	// Last is who was last seen under the name of a device; the zero value where nobody was.
	Last(device string) identity.Last
	// Saw takes down who was seen under a name, and whether that is the one that is meant.
	Saw(device string, s identity.Seen, at time.Time, meant bool) error
}

// ErrOther is another device than the one that is meant.
var ErrOther = errors.New("this is another device than the one that is meant")

// open opens a session with the device; it is all that does. From the second time on in a
// night, who answers must be who was seen at first: another is an [ErrOther], and nothing
// more is asked of it.
func (w *worker) open(ctx context.Context) error {
	ses, seen, err := w.crew.connect(ctx, w.t)
	if err != nil {
		return err
	}
	if err := w.same(seen); err != nil {
		_ = ses.Close()
		return err
	}
	w.mask = ses.Mask
	if w.ses, err = newLink(ses, w.t, w.clock, w.quiet); err != nil {
		_ = ses.Close()
	}
	return err
}

// identify holds who answers against what is meant, right after the device was reached for
// the first time, and takes the device for this night by who it is. It returns why not.
func (w *worker) identify(seen identity.Seen) string {
	last := w.crew.last(w.name())
	err := identity.Check(w.t.Device.Meant(), last, seen)
	e := night.Event{Kind: night.Prechecked, What: plan.IdentityCheck, OK: err == nil, Note: seen.Brief()}
	if seen.Nothing() {
		e.Note = nobodyTells
	}
	why := ""
	if err != nil {
		e.Note, why = err.Error(), plan.IdentityCheck+": "+err.Error()
		if waiver, ok := w.crew.Plan.Waived(plan.IdentityCheck, w.t); ok {
			e.Waived, e.By, why = waiver.Reason, waiver.By, ""
		}
	}
	if why == "" { // else it has no claim on whoever answers
		if other := w.crew.mine.take(w.name(), seen); other != "" {
			why = fmt.Sprintf("%s: it is the same device as %s, which this night has in change (%s): two lines of the fleet lead to it", plan.IdentityCheck, other, strings.Join(seen.Claims(), ", "))
			e.OK, e.Note = false, why
		}
	}
	if err := w.crew.saw(w.name(), seen, err == nil); err != nil {
		e.Note += "; this cannot be kept: " + err.Error()
	}
	w.emit(e)
	if why != "" {
		return why
	}
	w.who = seen
	if err := w.claimAs(seen); err != nil {
		return err.Error()
	}
	return w.ofAnother()
}

// nobodyTells is said of a device that tells in no way who it is.
const nobodyTells = "nothing on it tells who it is: no name, no serial number, no key"

// ofAnother refuses to put back what another device had.
func (w *worker) ofAnother() string {
	for _, s := range w.t.Steps {
		if s.Was == nil || w.who.Nothing() {
			continue
		}
		if d := identity.Differ(s.Was.Who, w.who); d != "" {
			if _, ok := w.crew.Plan.Waived(plan.IdentityCheck, w.t); !ok {
				return fmt.Sprintf("%s: the backup %s is of another device: %s", plan.IdentityCheck, s.Was.Name, d)
			}
		}
	}
	return ""
}

// same tells whether who answers is the device that was seen at first in this night. What
// it calls itself may have become another name by a step.
func (w *worker) same(seen identity.Seen) error {
	if w.who.Nothing() {
		w.who = seen
		return nil
	}
	now := seen
	if now.Name != "" && w.renamed(now.Name) {
		now.Name = w.who.Name
	}
	if d := identity.Differ(w.who, now); d != "" {
		return fmt.Errorf("%w: %s", ErrOther, d)
	}
	if now.Name != "" && w.who.Name != "" && !identity.SameName(now.Name, w.who.Name) {
		return fmt.Errorf("%w: it calls itself %s, not %s", ErrOther, now.Name, w.who.Name)
	}
	w.who = w.who.With(seen)
	return nil
}

// renamed tells whether a name is one that the device has by the change, or had before it:
// its configuration, as it was or as it was predicted, says so.
func (w *worker) renamed(name string) bool {
	says := func(c config.Config) bool { return identity.SameName(w.nameIn(c), name) }
	for _, s := range w.t.Steps {
		if s.After != nil && says(*s.After) {
			return true
		}
	}
	return says(w.before) || w.expected != nil && says(*w.expected)
}

// nameIn is the name that a configuration gives the device; "" where none is known.
func (w *worker) nameIn(c config.Config) (name string) {
	line := w.t.Traits.NameLine
	for _, l := range c.Lines {
		if line == nil {
			break
		}
		if m := line.FindStringSubmatch(l.Text); m != nil {
			name = m[len(m)-1]
		}
	}
	return name
}

// willBeCalled says what must be written into the fleet where the change gives the device
// another name; "" where it does not.
func (w *worker) willBeCalled() string {
	name := ""
	for _, s := range w.t.Steps {
		if s.After != nil {
			name = cmp.Or(w.nameIn(*s.After), name)
		}
	}
	m := w.t.Device.Meant()
	if name == "" || m.Name == "" || identity.SameName(name, m.Name) || identity.SameName(name, w.nameIn(w.before)) {
		return ""
	}
	return fmt.Sprintf("it will call itself %s: write that into its column %q of the fleet then, or it counts as another device from then on", name, "calls itself")
}

// claimAs takes the device for this night by who it is: another night may know it under
// another address.
func (w *worker) claimAs(seen identity.Seen) error {
	if w.crew.ClaimAs == nil || len(seen.Holds()) == 0 {
		return nil
	}
	release, err := w.crew.ClaimAs(w.ctx, seen.Holds())
	var taken *Taken
	if errors.As(err, &taken) {
		return fmt.Errorf("%w; under another address: it is the same device by its %s", err, strings.Join(seen.Claims(), ", "))
	}
	if err != nil {
		return err
	}
	before := w.release
	w.release = func() {
		release()
		if before != nil {
			before()
		}
	}
	return nil
}
