package run

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/core/work"
)

// Devices without contact wait by themselves: each is looked for until its own way back must have
// brought it back. Those that went dark together are one question, whether to go on waiting for them,
// with what they have in common: what takes four devices away at once is seldom on the four.

// darkness is the devices without contact, and the question that is asked of them.
type darkness struct {
	devices map[string]*darkDevice
	hold    int      // in which it is asked; 0 where it is not
	asked   []string // the devices of that question, as it was told last
}

// darkDevice is what is known of one of them.
type darkDevice struct {
	work.GoneDark
	since  time.Time
	beside bool // the rest does not wait for it
}

// gathers is how long further devices are waited for that go dark with the first, and patience how long
// is waited before anybody is asked of one that was left to its timer: who decided that knows of it.
const (
	gathers  = time.Second
	patience = 20 * time.Second
)

// askDark and goBeside are our own messages: it is time to ask of a device, and to go on beside it, if
// it is dark since then.
type (
	askDark  struct{ *darkDevice }
	goBeside struct{ *darkDevice }
)

// goneDark takes in that contact is lost with a device.
func (r *Run) goneDark(m work.GoneDark) {
	if r.dark.devices == nil {
		r.dark.devices = map[string]*darkDevice{}
	}
	d := &darkDevice{GoneDark: m, since: r.now()}
	r.dark.devices[m.Device] = d
	wait := gathers
	if m.Decided {
		wait = patience
	}
	r.later(wait, askDark{d})
	if wait := r.plan.Rules.DarkFor; wait > 0 {
		r.later(wait, goBeside{d})
	}
}

// still tells whether a device is dark since then.
func (r *Run) still(d *darkDevice) bool { return r.dark.devices[d.Device] == d }

// regained takes in that a device is there again, or that nobody waits for it any more.
func (r *Run) regained(device string) {
	if r.dark.devices[device] == nil {
		return
	}
	delete(r.dark.devices, device)
	switch {
	case r.dark.hold == 0:
		r.dark.asked = r.stillAsked() // it may go dark again
	case len(r.stillAsked()) == 0:
		r.closeDark()
	default:
		r.offerAnew()
	}
}

// stillAsked are the devices of the question that are still dark.
func (r *Run) stillAsked() []string {
	return slices.DeleteFunc(slices.Clone(r.dark.asked), func(name string) bool { return r.dark.devices[name] == nil })
}

// closeDark closes the question that nobody has to answer any more.
func (r *Run) closeDark() {
	if r.holds[r.dark.hold] != nil {
		delete(r.holds, r.dark.hold)
		r.rec.Emit(night.Event{Kind: night.HoldClosed, Hold: r.dark.hold})
	}
	r.dark.hold, r.dark.asked = 0, nil
}

// askOfDark asks of all devices that are dark: a question of fewer is closed. Where nobody is there,
// they wait by themselves.
func (r *Run) askOfDark() {
	names := slices.Sorted(maps.Keys(r.dark.devices))
	if len(names) == 0 || r.released || r.byLine() || slices.Equal(names, r.dark.asked) {
		return
	}
	r.closeDark()
	offers := r.darkOffers(names)
	why := "no contact with " + names[0]
	if len(names) > 1 {
		why = fmt.Sprintf("no contact with %d devices", len(names))
	}
	r.dark.asked = names
	r.open(&openHold{aside: true, devices: names, offers: offers, answer: r.answerDark}, "", why, r.darkEvidence(names))
	r.dark.hold = r.nextHold
}

// answerDark carries out what was decided of the devices that were asked of, and of no other.
func (r *Run) answerDark(c night.Command) {
	names := r.stillAsked()
	r.dark.hold = 0 // they are not asked of again
	for _, name := range names {
		switch c.Choice {
		case night.Leave:
			r.active[name].orders.Leave()
		case night.GoOnBeside:
			r.dark.devices[name].beside = true
		}
	}
	if c.Choice == night.BackAll {
		r.takeAllBack()
	}
}

// darkOffers are what can be decided of devices without contact: they are waited for in any case.
func (r *Run) darkOffers(names []string) []night.Offer {
	open := slices.ContainsFunc(names, func(name string) bool { return r.dark.devices[name].Due.IsZero() })
	back, touched := r.backAll()
	out := []night.Offer{{Choice: night.Leave, Touches: len(names)}}
	if r.unstarted() && !r.stopping {
		out = append(out, night.Offer{Choice: night.GoOnBeside, Touches: r.toCome(), Open: open, Against: true})
	}
	return append(out, night.Offer{Choice: night.BackAll, Touches: touched, Takes: back, Open: r.unknown(r.inChange())})
}

// darkEvidence says of each device when it should be there again, and what all have in common.
func (r *Run) darkEvidence(names []string) (out []string) {
	at := func(t time.Time) string { return t.Format("15:04:05") }
	var targets []*plan.Target
	first, last := time.Time{}, time.Time{}
	for _, name := range names {
		d, t := r.dark.devices[name], r.active[name].target
		text := fmt.Sprintf("%s: dark since %s; ", name, at(d.since))
		if d.Due.IsZero() {
			text += "no timer takes the change back; it is looked for until " + at(d.Until)
		} else {
			text += t.Traits.Timer.Does(at(d.Due)) + ", "
			text += fmt.Sprintf("should be back by %s; it is looked for until %s", at(d.Back), at(d.Until))
		}
		out, targets = append(out, text), append(targets, t)
		if first.IsZero() || d.since.Before(first) {
			first = d.since
		}
		if d.since.After(last) {
			last = d.since
		}
	}
	if len(targets) > 1 {
		out = append(out, common(targets))
		if over := last.Sub(first).Round(time.Second); over > 0 {
			out = append(out, fmt.Sprintf("they went dark within %s", over))
		}
	}
	return append(out, "each is looked for in any case, with growing pauses")
}

// common says what devices have in common that went dark together.
func common(of []*plan.Target) string {
	for _, t := range of { // one that the others are reached through says most
		behind := 0
		for _, o := range of {
			if slices.Contains(o.Above, t.Device.Name) {
				behind++
			}
		}
		if behind > 0 && behind == len(of)-1 {
			return t.Device.Name + " is one of them, and all others are reached through it"
		}
	}
	for _, name := range of[0].Above {
		if !slices.ContainsFunc(of, func(t *plan.Target) bool { return !slices.Contains(t.Above, name) }) {
			return "all are reached through " + name
		}
	}
	if site := of[0].Device.Site; site != "" && !slices.ContainsFunc(of, func(t *plan.Target) bool { return t.Device.Site != site }) {
		return "all are of site " + site + ", and as far as is known none is reached through another"
	}
	var sites []string
	for _, t := range of {
		if !slices.Contains(sites, t.Device.Site) {
			sites = append(sites, t.Device.Site)
		}
	}
	return "nothing that is known do they have in common; they are of " + strings.Join(sites, ", ")
}

// heldUp tells whether the batch that runs has devices that the rest waits for: all but those without
// contact that it does not wait for any more.
func (r *Run) heldUp() bool {
	for name := range r.active {
		if d := r.dark.devices[name]; d == nil || !d.beside {
			return true
		}
	}
	return false
}
