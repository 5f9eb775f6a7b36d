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

// darkness is what is known of devices without contact.
type darkness struct {
	devices map[string]work.GoneDark
	since   map[string]time.Time
	hold    int             // in which it is asked; 0 where it is not
	asked   []string        // the devices of that question, as it was told last
	soon    int             // of the newest one that is to be asked
	beside  map[string]bool // the rest does not wait for those
}

// gathers is how long further devices are waited for that go dark with the first.
const gathers = time.Second

// askDark and goBeside are our own messages: it is time to ask, and to go on.
type (
	askDark  struct{ soon int }
	goBeside struct{ device string }
)

// goneDark takes in that contact is lost with a device.
func (r *Run) goneDark(m work.GoneDark) {
	d := &r.dark
	if d.devices == nil {
		d.devices, d.since, d.beside = map[string]work.GoneDark{}, map[string]time.Time{}, map[string]bool{}
	}
	d.devices[m.Device], d.since[m.Device] = m, r.now()
	if !r.byLine() { // else it waits by itself, and nobody is there
		d.soon++
		r.later(gathers, askDark{d.soon})
	}
	if wait := r.plan.Rules.DarkFor; wait > 0 {
		r.later(wait, goBeside{m.Device})
	}
}

// regained takes in that a device is there again, or that nobody waits for it any more.
func (r *Run) regained(device string) {
	if _, dark := r.dark.devices[device]; !dark {
		return
	}
	delete(r.dark.devices, device)
	delete(r.dark.since, device)
	delete(r.dark.beside, device)
	switch {
	case r.dark.hold == 0:
	case len(r.dark.devices) == 0:
		r.closeDark()
	default:
		r.offerAnew()
	}
}

// closeDark closes the question that nobody has to answer any more.
func (r *Run) closeDark() {
	if r.holds[r.dark.hold] != nil {
		delete(r.holds, r.dark.hold)
		r.rec.Emit(night.Event{Kind: night.HoldClosed, Hold: r.dark.hold})
	}
	r.dark.hold = 0
}

// askOfDark asks of the devices that are dark, those before included: a question of fewer is closed.
func (r *Run) askOfDark(m askDark) {
	if m.soon != r.dark.soon || len(r.dark.devices) == 0 || r.released || r.byLine() {
		return
	}
	r.closeDark()
	names := slices.Sorted(maps.Keys(r.dark.devices))
	offers := r.darkOffers(names)
	h := &openHold{aside: true, offers: offers, answer: func(c night.Command) {
		r.dark.hold = 0
		switch c.Choice {
		case night.Leave:
			for name := range r.dark.devices {
				if h := r.active[name]; h != nil {
					h.orders.Leave()
				}
			}
		case night.GoOnBeside:
			for name := range r.dark.devices {
				r.dark.beside[name] = true
			}
		case night.BackAll:
			r.takeAllBack()
		}
	}}
	why := "no contact with " + names[0]
	if len(names) > 1 {
		why = fmt.Sprintf("no contact with %d devices", len(names))
	}
	r.openOf(h, names, why, r.darkEvidence(names))
	r.dark.hold, r.dark.asked = r.nextHold, names
}

// darkOffers are what can be decided of devices without contact: they are waited for in any case.
func (r *Run) darkOffers(names []string) []night.Offer {
	longest, open := time.Duration(0), false
	for _, name := range names {
		d := r.dark.devices[name]
		longest, open = max(longest, d.Back.Sub(r.now())), open || d.Due.IsZero()
	}
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
		d, since := r.dark.devices[name], r.dark.since[name]
		text := fmt.Sprintf("%s: dark since %s; ", name, at(since))
		switch {
		case d.Due.IsZero():
			text += "no timer takes the change back; it is looked for until " + at(d.Until)
		default:
			h := r.active[name]
			text += h.target.Traits.Timer.Does(at(d.Due)) + ", "
			text += fmt.Sprintf("should be back by %s; it is looked for until %s", at(d.Back), at(d.Until))
		}
		out = append(out, text)
		if h := r.active[name]; h != nil {
			targets = append(targets, h.target)
		}
		if first.IsZero() || since.Before(first) {
			first = since
		}
		if since.After(last) {
			last = since
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
	dark := map[string]bool{}
	for _, t := range of {
		dark[t.Device.Name] = true
	}
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
		if !r.dark.beside[name] {
			return true
		}
	}
	return false
}
