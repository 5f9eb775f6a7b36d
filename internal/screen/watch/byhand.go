package watch

import (
	"slices"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/screen/console"
	"metabasis/internal/screen/decide"
)

// A device that is held may be worked by hand. The night gets it ready first: what runs is read, and
// its way back is watched. When the console is left, what was changed is read and told.

// readyForConsole opens the console that a person asked for, once the night waits for what is done
// there.
func (v *View) readyForConsole() {
	if v.toConsole == "" || v.host == nil {
		return
	}
	hold, waits := v.workedBy(v.toConsole)
	d := v.n.night.Get(v.toConsole)
	switch {
	case waits && v.prepared == nil:
		v.toConsole = ""
		v.host.Say("this screen opens no consoles: work the device in another way, and say with d when that is all")
	case waits:
		v.toConsole = ""
		v.openConsole(hold.Device, v.prepared)
	case d == nil || d.Over || !v.n.night.Ended.IsZero():
		v.toConsole = ""
	}
}

// meets opens the question of a night of one device that is there to be worked by hand, as soon as it
// is ready: whoever began it has come for that. What was done is asked about in the same way.
func (v *View) meets() {
	n := v.n
	if len(n.night.Devices) != 1 || len(n.night.Holds) != 1 || n.night.Holds[0].Number == v.met {
		return
	}
	if v.asking != nil || !n.started || v.host == nil || !v.host.Top() {
		return
	}
	d, h := n.night.Devices[0], n.night.Holds[0]
	if d.Kind(d.Step-1) != plan.ConsoleStep || h.Device != d.Name || v.toConsole != "" {
		return
	}
	v.met = h.Number
	if !slices.ContainsFunc(h.Offers, func(o night.Offer) bool { return o.Choice == night.ConsoleOver }) {
		v.ask(decide.OfHold(&n.night, h))
	}
}

// workedBy is the hold of a device that waits until somebody has worked it by hand.
func (v *View) workedBy(device string) (night.Hold, bool) {
	for _, h := range v.n.night.Holds {
		if h.Device == device && slices.ContainsFunc(h.Offers, func(o night.Offer) bool { return o.Choice == night.ConsoleOver }) {
			return h, true
		}
	}
	return night.Hold{}, false
}

// prepare gets the console of a device ready, to be opened once the night waits for what is done there;
// nil where this screen opens none.
func (v *View) prepare(device string) *console.Command {
	hands := v.n.src.Hands
	if hands == nil {
		return nil
	}
	c := hands.Console(v.host.Context(), device)
	c.Guard = func() string { return hands.WayBack(device) }
	return c
}

// openConsole opens the console of a device that the night waits for, and says when that is all.
func (v *View) openConsole(device string, c *console.Command) {
	v.host.Exec(c, func(err error) {
		if err != nil {
			v.host.Say("the console: " + err.Error() + "; d says when that is all")
			return
		}
		if hold, waits := v.workedBy(device); waits {
			v.n.do(v.host, night.Command{Hold: hold.Number, Choice: night.ConsoleOver})
		}
	})
}

// console opens the console of the device under the cursor: one that is held and waits for what is
// done there, or one that is only looked at.
func (v *View) console() {
	d := v.Device()
	if d == nil {
		return
	}
	if _, waits := v.workedBy(d.Name); waits && v.n.mayDo(v.host) {
		v.openConsole(d.Name, v.prepare(d.Name))
		return
	}
	console.Work(v.host, d.Name, v.n.src.Hands.Console(v.host.Context(), d.Name), nil)
}
