package watch

import (
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/night"
)

// The cursor, and with it the panel, follows what needs a person, the newest of it, until a person
// moves it or does something where it stands: then it stays, until nothing needs one any more.

// hand makes of what a key does something that a person does where the cursor stands.
func (v *View) hand(do func()) func() {
	return func() {
		v.byHand = true
		do()
	}
}

// follow puts the cursor on the newest device that needs a person. Under a question, and where a
// person has it in hand, it stays.
func (v *View) follow() {
	newest, since, here := -1, time.Time{}, false
	for i, d := range v.n.night.Devices {
		switch d.State {
		case night.Held, night.Stranded, night.Dark:
			here = here || i == v.cursor
			if newest < 0 || d.Since.After(since) {
				newest, since = i, d.Since
			}
		}
	}
	switch {
	case !v.n.started || !v.n.night.Ended.IsZero():
	case newest < 0:
		v.byHand = false
	case v.byHand || v.asking != nil:
	case here && !since.After(v.after): // it stays where somebody is needed, until something new is
	default:
		v.after = since
		v.to(newest)
	}
}

// needs are the states that are not plainly well, what needs a person first.
func needs() [][]night.State {
	return [][]night.State{{night.Held}, {night.Stranded}, {night.Dark}, {night.Reverting, night.Reverted, night.Blocked}}
}

// notWell lists the devices that are not plainly well, what needs a person first; behind them those
// that were kept without a step, or do not have what was predicted, and those that do not answer.
func (v *View) notWell() (out []int) {
	devices := v.n.night.Devices
	add := func(fits func(d *night.Device) bool) {
		for i, d := range devices {
			if fits(d) && !slices.Contains(out, i) {
				out = append(out, i)
			}
		}
	}
	for _, states := range needs() {
		add(func(d *night.Device) bool { return slices.Contains(states, d.State) })
	}
	add(func(d *night.Device) bool {
		return d.Over && d.State == night.Kept && (d.LeftSteps() > 0 || len(d.Unlike) > 0)
	})
	add(func(d *night.Device) bool { return !d.Over && !d.QuietSince.IsZero() })
	return out
}

// nextInNeed moves the cursor to the next device that is not plainly well, and round again.
func (v *View) nextInNeed() {
	all := v.notWell()
	if len(all) == 0 {
		v.host.Say("no device needs you")
		return
	}
	at := (slices.Index(all, v.cursor) + 1) % len(all) // what stands elsewhere begins with the first
	v.to(all[at])
	v.host.Say(fmt.Sprintf("%d of %d that are not plainly well", at+1, len(all)))
}
