package watch

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/attach"
	"metabasis/internal/core/night"
	"metabasis/internal/person"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/decide"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
)

// A night may be looked at from several screens, and run in another process than this one's. Then
// what happens comes from there, and a decision is passed on to it, if this screen has the wheel.
// Leaving leaves such a night as it is.

// elsewhere tells a night that runs in another process.
func (n *Live) elsewhere() bool { return n.src.Beside != nil && !n.src.Beside.Own() }

// EndsHere implements [screen.Standing].
func (n *Live) EndsHere() bool { return !n.elsewhere() }

// seen tells whether it is to be said who has the wheel: always of a night that runs elsewhere, and
// of one of this process once others look.
func (n *Live) seen() bool {
	return n.elsewhere() || n.src.Beside != nil && n.started && (!n.wheel.Mine || len(n.wheel.Viewers) > 1)
}

// Attach shows a night that runs in another process: it stands on top of every view from now on.
func (n *Live) Attach(h *screen.Host) {
	n.started = true
	for _, hold := range n.night.Holds { // who attaches sees them
		n.rung = max(n.rung, hold.Number)
	}
	root := h.Root()
	root.Stand(n)
	screen.Listen(root, n.src.Run.Next, n.take, func() { n.gone(root) })
	n.followWheel(root)
}

// followWheel follows who has the wheel.
func (n *Live) followWheel(root *screen.Host) {
	n.wheel = n.src.Beside.Wheel()
	screen.Listen(root, n.src.Beside.Turned, func(w []attach.Wheel) { n.turned(root, w[len(w)-1]) }, nil)
}

// turned takes in who has the wheel, and says it where it is another.
func (n *Live) turned(root *screen.Host, w attach.Wheel) {
	was := n.wheel
	n.wheel = w
	switch {
	case was.Mine && !w.Mine && w.Has != "":
		root.Say(w.Has + " has taken the wheel: what is decided here is not done any more")
	case !was.Mine && w.Mine:
		root.Say("you have the wheel: what you decide is done")
	case was.Mine && w.Has == "":
		root.Say("this screen stood still for a while, and nobody has the wheel: " + keys.Wheel.Help().Key + " takes it")
	case was.Has != "" && w.Has == "":
		root.Say(was.Has + " has gone, and nobody has the wheel")
	}
	n.view.changed()
}

// dying is how long a process may take to end that answers no more: until then it seems to run.
const dying = 5 * time.Second

// gone is the end of what comes from the process of the night: the night is over, or the process
// is no more. From then on it is a night of the journal.
func (n *Live) gone(root *screen.Host) {
	why := n.src.Beside.Err()
	root.Go(func(ctx context.Context) {
		past, err := n.src.Beside.Again(ctx)
		for began := time.Now(); err == nil && why != nil && past.Elsewhere != "" && time.Since(began) < dying; {
			select {
			case <-time.After(dying / 50):
			case <-ctx.Done():
			}
			past, err = n.src.Beside.Again(ctx)
		}
		root.Then(func() {
			switch {
			case err != nil && why == nil:
				root.Say("the night is over, and not all of it can be read from the journal: " + err.Error())
				return
			case err == nil: // it is told as the journal has it: as cut off, where nobody runs it
				was := n.src
				past.Close = was.Close
				n.src, n.night, n.started = past, past.Night, false
			}
			if why != nil {
				root.Stand(nil)
				root.Say(why.Error())
			}
			n.view.changed()
		})
	})
}

// besideRow says who decides on a night that runs in another process, and who looks.
func (n *Live) besideRow() ink.Row {
	r := ink.T(ink.Dim, " ")
	switch {
	case n.wheel.Mine:
		r = r.Strong(ink.Buoy, "◉ you have the wheel")
	case n.wheel.Has != "":
		r = r.Strong(ink.Lamp, "◌ "+n.wheel.Has+" has the wheel")
	default:
		r = r.Strong(ink.Lamp, "◌ nobody has the wheel")
	}
	if !n.wheel.Mine {
		r = r.Add(ink.Foam, "; "+keys.Wheel.Help().Key+" takes it")
	}
	others := ""
	if k := len(n.wheel.Viewers) - 1; k > 0 {
		others = fmt.Sprintf("; %s", report.Count(k, "other")) + " " + map[bool]string{true: "looks", false: "look"}[k == 1]
	}
	if n.night.Alone.Since.IsZero() {
		if n.elsewhere() {
			others += "; " + n.endsWith()
		}
		return r.Add(ink.Dim, others)
	}
	return r.Add(ink.Dim, others).Add(ink.Foam, "; "+n.alone())
}

// alone says what becomes of a night in which nobody decides.
func (n *Live) alone() string {
	switch a, line := n.night.Alone, n.night.Outline.Alone; {
	case a.Line:
		return "the unattended line decides: " + line
	case !a.Due.IsZero():
		return "from " + report.Clock(a.Due.Local()) + " on the unattended line decides: " + line
	}
	return "what is held waits, and comes back by its timer"
}

// endsWith says with what a night ends that runs in another process.
func (n *Live) endsWith() string {
	if n.src.Beside.Screened() {
		return "it ends with the screen it was begun on"
	}
	return "it runs without a screen, and goes on when you leave"
}

// takeWheel takes the wheel; from somebody who has it only where that is confirmed.
func (n *Live) takeWheel(h *screen.Host) {
	take := func() {
		if err := n.src.Beside.Take(); err != nil {
			h.Say(err.Error())
		}
	}
	if n.wheel.Has == "" {
		take()
		return
	}
	h.Ask(person.Form{Title: "Take the wheel", Lines: []string{
		n.wheel.Has + " has it, and is told. What is being decided there is not done any more.",
	}, Questions: []person.Question{{Text: "Take it?", Choices: []person.Choice{
		{Word: "stay", Does: n.wheel.Has + " goes on deciding"},
		{Word: "wheel", Does: "what is decided here is done from now on"},
	}}}}, func(answers []string) {
		if answers[0] == "wheel" {
			take()
		}
	})
}

// mayDo tells whether a decision from here is done; else it says who decides.
func (n *Live) mayDo(h *screen.Host) bool {
	if n.src.Beside == nil || !n.started || n.wheel.Mine {
		return true
	}
	who := n.wheel.Has
	if who == "" {
		who = "nobody"
	}
	h.Say(who + " has the wheel, so nothing is decided from here; " + keys.Wheel.Help().Key + " takes it")
	return false
}

// leavingBeside asks what leaving a night means that runs in another process.
func (n *Live) leavingBeside() person.Form {
	lines := []string{"Nothing is taken back, and nothing is ended: the night runs in another process; " + n.endsWith() + ".", "metabasis attach opens it again."}
	if n.wheel.Mine {
		lines = append(lines, "Nobody has the wheel then.")
	}
	if k := len(n.night.Holds); k > 0 {
		lines = append(lines, report.Count(k, "question")+" waits for a decision.")
	}
	return person.Form{Title: "The night runs", Lines: lines, Questions: []person.Question{{Text: "Leave?", Choices: []person.Choice{
		{Word: "stay", Does: "go on looking"},
		{Word: "leave", Does: "the night goes on without you"},
	}}}}
}

// note has a note written into the journal; whoever looks may.
func (v *View) note() {
	v.host.Type(screen.Line{Label: "note:", Hint: "for the journal and the report; nothing is decided by it", Done: func(text string) error {
		if text = strings.TrimSpace(text); text != "" {
			v.n.tell(v.host, night.Command{Choice: night.Remark, Reason: text})
		}
		return nil
	}})
}

// stand lets the night stand: no new device begins, and what is in change goes on, or is held, too.
// That it goes on is a decision like any other.
func (v *View) stand() {
	if i := slices.IndexFunc(v.n.night.Holds, func(h night.Hold) bool { return h.Device == "" && !h.Aside() }); i >= 0 {
		v.ask(decide.OfHold(&v.n.night, v.n.night.Holds[i])) // it stands already: whether it goes on
		return
	}
	if !v.n.mayDo(v.host) {
		return
	}
	waiting, in := 0, 0
	for _, d := range v.n.night.Devices {
		switch {
		case d.State == night.Waiting:
			waiting++
		case !d.Over && d.State != night.Held && d.State != night.Dark:
			in++
		}
	}
	if waiting+in == 0 {
		v.host.Say("no device is to come, and none is in change: there is nothing that could be let stand")
		return
	}
	v.host.Ask(person.Form{Title: "Let the night stand", Lines: []string{
		fmt.Sprintf("%s to come, and %d in change. A decision lets it go on.", report.Count(waiting, "device"), in),
	}, Questions: []person.Question{{Text: "What is in change:", Choices: []person.Choice{
		{Word: "goes on", Does: "to its end; no new device begins"},
		{Word: "step", Does: "each is held after the step in flight, its way back running"},
		{Word: "line", Does: "each is held after the line in flight, its way back running"},
		{Word: "leave", Does: "nothing stands: the night goes on as it is"},
	}}}}, func(answers []string) {
		how := map[string]night.Choice{"goes on": night.Stand, "step": night.StandStep, "line": night.StandLine}[answers[0]]
		if how != "" {
			v.n.do(v.host, night.Command{Choice: how})
		}
	})
}

// leaveOut leaves out the device under the cursor, which has not begun, for a reason.
func (v *View) leaveOut() {
	d := v.Device()
	switch {
	case d == nil || !v.n.mayDo(v.host):
		return
	case d.State != night.Waiting:
		v.host.Say(d.Name + " is " + string(d.State) + ": only what has not begun is left out")
		return
	}
	name := d.Name
	label, hint := "leave out "+name+", because:", "for the journal; Enter does it, Esc leaves it"
	v.host.Type(screen.Line{Label: label, Hint: hint, Done: func(reason string) error {
		if reason = strings.TrimSpace(reason); len(reason) < acts.LeastReason {
			return errors.New("write a reason that says something: it is for the journal")
		}
		v.n.do(v.host, night.Command{Choice: night.LeaveOut, Device: name, Reason: reason})
		return nil
	}})
}

// atOnce changes how many devices are in change at once.
func (v *View) atOnce() {
	if !v.n.mayDo(v.host) {
		return
	}
	hint := "what is in change stays so"
	most := v.n.night.Outline.Together
	if most > 0 {
		hint = fmt.Sprintf("%d at most, as the runbook says; %s", most, hint)
	}
	v.host.Type(screen.Line{Label: "in change at once:", Hint: hint, Done: func(text string) error {
		n, err := strconv.Atoi(strings.TrimSpace(text))
		switch {
		case err != nil || n < 1:
			return fmt.Errorf("%q is no number of devices", text)
		case most > 0 && n > most:
			return fmt.Errorf("the runbook says %d together: a night is made slower, and not faster than that", most)
		}
		v.n.do(v.host, night.Command{Choice: night.AtOnce, Number: n})
		return nil
	}})
}

// passOn passes on a decision, if it is this screen that decides.
func (n *Live) passOn(h *screen.Host, c night.Command) {
	if n.mayDo(h) {
		n.tell(h, c)
	}
}

// tell tells the night a command.
func (n *Live) tell(h *screen.Host, c night.Command) {
	if !n.elsewhere() {
		if err := n.src.Run.Do(c); err != nil {
			h.Say(err.Error())
		}
		return
	}
	h.Root().Go(func(context.Context) { // the other process may take its time
		err := n.src.Run.Do(c)
		h.Root().Then(func() {
			if err != nil {
				h.Root().Say(err.Error())
			}
		})
	})
}
