package decide

import (
	"fmt"
	"slices"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// Devices that are held for the same are decided on together: what is offered of all of them touches
// all of them, and takes as long as the slowest.

// OfAlike makes the question of an open hold and of those that are alike with it; the same as
// [OfHold] where there are none.
func OfAlike(n *night.Night, h night.Hold) Question {
	q, alike := OfHold(n, h), n.Alike(h)
	if len(alike) == 0 {
		return q
	}
	all := append([]night.Hold{h}, alike...)
	q.Offers = nil
	for _, o := range h.Offers {
		if o, ok := together(o, all); ok {
			q.Offers = append(q.Offers, o)
		}
	}
	for _, a := range alike {
		q.Alike, q.Also = append(q.Alike, a.Device), append(q.Also, a.Number)
		if d := n.Get(a.Device); d != nil && !d.TimerDue.IsZero() && (q.Due.IsZero() || d.TimerDue.Before(q.Due)) {
			q.Due = d.TimerDue // the first of them
		}
	}
	return q
}

// theirOwn stands behind what one device is sent, where others are sent something else.
const theirOwn = "… on others their own lines, which are not these"

// together is a choice of all of some holds; it is false where it is no choice of each of them.
func together(o night.Offer, all []night.Hold) (night.Offer, bool) {
	if o.Choice.Wide() {
		return o, true
	}
	if o.Choice == night.AtConsole || o.Choice == night.ConsoleOver || o.Choice == night.Adopt {
		return o, false // one at a time
	}
	lines := o.Sends
	for _, h := range all[1:] {
		i := slices.IndexFunc(h.Offers, func(x night.Offer) bool { return x.Choice == o.Choice })
		if i < 0 {
			return o, false
		}
		x := h.Offers[i]
		if o.Choice == night.OtherLines && !slices.Equal(x.Sends, lines) {
			return o, false // there is nothing that could be edited for all
		}
		if o.Choice != night.OtherLines && !slices.Equal(x.Sends, lines) && !slices.Contains(o.Sends, theirOwn) {
			o.Sends = append(slices.Clone(o.Sends), theirOwn)
		}
		o.Touches += x.Touches
		o.Takes, o.Most, o.Fits = max(o.Takes, x.Takes), max(o.Most, x.Most), o.Fits && x.Fits
		o.Open, o.Reason, o.Against = o.Open || x.Open, o.Reason || x.Reason, o.Against || x.Against
		for _, name := range x.Cuts {
			if !slices.Contains(o.Cuts, name) {
				o.Cuts = append(slices.Clone(o.Cuts), name)
			}
		}
	}
	return o, true
}

// alikeRows names the devices that are decided on together, and says whose evidence is shown.
func alikeRows(q Question, cells int) (rows []ink.Row) {
	if len(q.Alike) == 0 {
		return nil
	}
	for _, l := range ink.Wrap(report.Some(append([]string{q.Device}, q.Alike...), 12), cells, 3) {
		rows = append(rows, ink.T(ink.Foam, l))
	}
	return append(rows, ink.T(ink.Dim, "as it is on "+q.Device+":"))
}

// these is what a choice is called, of one device or of all that are alike.
func these(q Question, title string) string {
	if len(q.Alike) == 0 {
		return title
	}
	return fmt.Sprintf("Take these %d devices back", len(q.Alike)+1)
}

// LinesOf are the lines that can be edited; none where none can be.
func (q Question) LinesOf() []string {
	for _, o := range q.Offers {
		if o.Choice == night.OtherLines {
			return o.Sends
		}
	}
	return nil
}
