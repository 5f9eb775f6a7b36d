package watch

import (
	"errors"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// asking is the view in which a hold is decided on, or an abort: the question beside
// the list of devices.
type asking struct {
	v      *View
	host   *screen.Host
	number int // of the hold; 0 for an abort
	choice decide.View
	one    bool // it is decided on one device alone, also where others are held for the same
	top    int
}

func newAsking(v *View, q decide.Question) *asking {
	a := &asking{v: v, number: q.Hold}
	a.choice.Open(q)
	return a
}

// Opened implements [screen.Opener].
func (a *asking) Opened(h *screen.Host) { a.host = h }

// Name implements [screen.View].
func (a *asking) Name() string {
	if a.number == 0 {
		return "Abort"
	}
	return "Decide"
}

// question is what is asked, as it stands now; it is false when it is over.
func (a *asking) question() (decide.Question, bool) {
	n := &a.v.n.night
	if a.number == 0 {
		return decide.OfAbort(n, a.host.Now()), n.Ended.IsZero()
	}
	for _, h := range n.Holds {
		if h.Number == a.number {
			if a.one {
				return decide.OfHold(n, h), true
			}
			return decide.OfAlike(n, h), true
		}
	}
	return decide.Question{}, false
}

// changed closes a question that is over: a key that was meant for it answers no other.
func (a *asking) changed() {
	if _, open := a.question(); open || a.host.Left() {
		return
	}
	a.close()
	if a.number == 0 {
		a.host.Say("the night was over before it was aborted")
		return
	}
	a.host.Say("that hold is over")
}

// stillOpen tells whether the question is still asked, and says so where it is not.
func (a *asking) stillOpen() bool {
	_, open := a.question()
	if !open {
		a.host.Say("that hold is over: nothing was sent, and nothing is decided")
	}
	return open
}

func (a *asking) close() {
	if a.v.asking == a {
		a.v.asking = nil
	}
	a.host.Back()
}

// Keys implements [screen.View].
func (a *asking) Keys() []screen.Key {
	q, open := a.question()
	if !open {
		return nil
	}
	down := screen.On(keys.Down, "choose", func() { a.choice.Move(q, 1) })
	down.Binding.SetHelp("↑↓ 1…9", keys.Down.Help().Desc)
	out := []screen.Key{
		screen.On(keys.Up, "", func() { a.choice.Move(q, -1) }), down,
		{Binding: keys.Choose, Do: func(pressed string) {
			if i := int(pressed[0] - '1'); i < len(q.Offers) {
				a.choice.Choose(q, i)
			}
		}},
		screen.On(keys.Open, "do it", func() { a.enter(q) }),
	}
	if len(q.Alike) > 0 || a.one {
		does := "this one alone"
		if a.one {
			does = "all that are alike"
		}
		out = append(out, screen.On(keys.Order, does, func() { a.one = !a.one; a.reopen() }))
	}
	if n := a.v.n; n.seen() && !n.wheel.Mine {
		out = append(out, screen.On(keys.Wheel, "take the wheel", func() { n.takeWheel(a.host) }))
	}
	return out
}

// reopen begins the choice anew: what is asked is another question.
func (a *asking) reopen() {
	if q, open := a.question(); open {
		a.choice.Open(q)
	}
}

// enter does what is chosen, once it is confirmed and has the lines and the reason it wants.
func (a *asking) enter(q decide.Question) {
	if !a.v.n.mayDo(a.host) {
		return
	}
	offer, sure := a.choice.Enter(q)
	c := night.Command{Hold: q.Hold, Also: q.Also, Choice: offer.Choice}
	switch {
	case !sure:
	case offer.Choice == night.OtherLines:
		open := func() bool { _, open := a.question(); return open }
		a.host.Open(otherLines(q, offer.Sends, open, func(lines []string) {
			if c.Lines = lines; a.stillOpen() {
				a.reason(c)
			}
		}))
	case offer.Reason:
		a.reason(c)
	case offer.Choice == night.AtConsole:
		a.v.toConsole, a.v.prepared = q.Device, a.v.prepare(q.Device)
		a.answer(c)
	default:
		a.answer(c)
	}
}

// reason asks for the reason of a decision, and then does it.
func (a *asking) reason(c night.Command) {
	a.host.Type(screen.Line{Label: "Reason:", Hint: "for the journal; Enter does it, Esc leaves it", Done: func(reason string) error {
		if reason = strings.TrimSpace(reason); len(reason) < acts.LeastReason {
			return errors.New("write a reason that says something: it is for the journal")
		}
		if a.stillOpen() {
			c.Reason = reason
			a.answer(c)
		}
		return nil
	}, Left: a.choice.Forget})
}

// answer does what was decided. Of those that are alike, only those that are still held for the same
// are answered: the run passes over the others.
func (a *asking) answer(c night.Command) {
	a.v.n.do(a.host, c)
	a.close()
}

// Click implements [screen.Pointed]: a click chooses an answer, and does not do it.
func (a *asking) Click(_, y int) {
	if q, open := a.question(); open {
		if i := a.choice.OfferAt(y + a.top - a.from()); i >= 0 {
			a.choice.Choose(q, i)
		}
	}
}

// from is the row at which the question begins.
func (a *asking) from() int { return a.v.listTop }

// Wheel implements [screen.Pointed].
func (a *asking) Wheel(rows int) {
	if q, open := a.question(); open {
		a.choice.Move(q, rows/3)
	}
}

// Rows implements [screen.View]. What does not fit scrolls; what a key would act on is
// always in sight.
func (a *asking) Rows(f screen.Frame) []ink.Row {
	if f.Cells >= ink.SideBySide {
		return a.v.body(f, 0, a.pane)
	}
	a.v.frame, a.v.listTop = f, 0
	f.Cells -= 2
	return a.pane(f)
}

func (a *asking) pane(f screen.Frame) []ink.Row {
	q, open := a.question()
	if !open {
		return nil
	}
	rows := a.choice.Within(q, a.v.n.clock(f.Now), true, f.Cells, f.Height)
	if d := a.v.n.night.Get(q.Device); d != nil && f.Height-len(rows) >= 6 {
		rows = append(rows, ink.Row{}, ink.T(ink.Faint, strings.Repeat("─", f.Cells)))
		rows = append(rows, Panel(d, a.v.n.clock(f.Now), func(n int) []string { return a.v.tail(d.Name, n) }, f.Cells, f.Height-len(rows))...)
	}
	rows, a.top = ink.Scroll(rows, a.top, ink.LastMarked(rows), f.Height)
	return indent(rows)
}
