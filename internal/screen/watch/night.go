package watch

import (
	"context"
	"fmt"
	"slices"
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
	"metabasis/internal/screen/strip"
)

// Live is a night with its view. Once it has begun it stands on top of every view.
type Live struct {
	src     Source
	night   night.Night
	started bool
	asked   bool         // the run was asked to begin
	wheel   attach.Wheel // of a night that runs in another process
	rung    int          // the newest hold that the bell was rung for
	view    *View
	play    *player     // it is played again; nil where it is shown as it ended
	whole   night.Night // as it ended, meanwhile
}

// New makes a night that is to be looked at. Its View is to be opened.
func New(src Source) *Live {
	n := &Live{src: src, night: src.Night}
	n.view = newView(n)
	return n
}

// View implements [screen.Standing].
func (n *Live) View() screen.View { return n.view }

// Title implements [screen.Standing].
func (n *Live) Title() string {
	title := "a night"
	if n.night.Outline != nil {
		title = n.night.Outline.Title
	}
	if k := len(n.night.Holds); k > 0 && n.started {
		title = fmt.Sprintf("◆ %d held · %s", k, title)
	}
	return title
}

// planned tells a night that has not begun and can be.
func (n *Live) planned() bool { return !n.started && n.src.Run != nil }

// past tells a night that is only looked at.
func (n *Live) past() bool { return !n.started && n.src.Run == nil }

// cutOff tells whether it has no end and nobody runs it.
func (n *Live) cutOff() bool {
	return n.past() && n.play == nil && n.night.Ended.IsZero() && n.src.Elsewhere == ""
}

// told is a device as it is told: of a night that was cut off, what it does is not said, but
// where it was, and what takes the change back.
func (n *Live) told(d *night.Device) *night.Device {
	if d == nil || !n.cutOff() || !d.CutOff() {
		return d
	}
	then := *d
	then.Note = "the night was cut off: it was " + d.WasAt()
	if d.Begun() {
		then.Note += ": look what it has now"
	}
	return &then
}

// Running implements [screen.Standing].
func (n *Live) Running() bool { return (n.started || n.asked) && n.night.Ended.IsZero() }

// Waits implements [screen.Standing].
func (n *Live) Waits() bool { return len(n.night.Holds) > 0 && n.src.Run != nil }

// Leads implements [screen.Standing].
func (n *Live) Leads() string {
	switch {
	case n.view.asking != nil && n.view.asking.host.Top():
		return "" // it is open
	case n.Waits():
		return "decide"
	case !n.night.Ended.IsZero():
		return "see its end"
	}
	return "night"
}

// clock is the time the night shows: that of one whose journal ends before it does
// stands still, as nobody knows what came then.
func (n *Live) clock(now time.Time) time.Time {
	if n.play != nil {
		return n.play.now
	}
	if n.past() && n.night.Ended.IsZero() && !n.night.Last.IsZero() {
		return n.night.Last
	}
	return now
}

// Head implements [screen.Standing].
func (n *Live) Head(f screen.Frame) []ink.Row {
	now := n.clock(f.Now)
	rows := strip.Rows(&n.night, now, f.Cells)
	if n.play != nil {
		return append(rows, n.play.row(f.Cells, n.lastNote(now)))
	}
	if n.past() && n.night.Ended.IsZero() {
		rows = strip.Still(&n.night, f.Cells)
	}
	rows = append(rows, n.attention())
	if n.seen() {
		rows = append(rows, n.besideRow())
	}
	return rows
}

// begin begins the run.
func (n *Live) begin(h *screen.Host) {
	n.asked = true
	root := h.Root()
	if s := root.Standing(); s == nil || !s.Running() {
		root.Stand(n) // leaving asks from now on
	}
	root.Go(func(ctx context.Context) {
		err := n.src.Run.Begin(ctx)
		root.Then(func() {
			n.asked = false
			if err != nil {
				if root.Standing() == screen.Standing(n) {
					root.Stand(nil)
				}
				root.Say(strings.ReplaceAll(err.Error(), "\n", " "))
				return
			}
			n.started = true
			root.Stand(n)
			if notes := n.src.Run.Notes(); len(notes) > 0 {
				root.Say("warning: " + strings.Join(notes, "; "))
			}
			screen.Listen(root, n.src.Run.Next, n.take, func() { n.pushed(root) })
			if n.src.Beside != nil {
				n.followWheel(root)
			}
		})
	})
}

// pushed tells how the backups of a night that is over are brought off this machine.
func (n *Live) pushed(root *screen.Host) {
	if n.src.Shelf == nil || len(n.src.Shelf.Places()) == 0 {
		return
	}
	places := strings.Join(n.src.Shelf.Places(), ", ")
	root.Say("the night is over; its backups are being pushed to " + places)
	root.Go(func(ctx context.Context) {
		err := n.src.Shelf.Pushed(ctx)
		root.Then(func() {
			if err != nil {
				root.Say("warning: " + strings.ReplaceAll(err.Error(), "\n", " "))
				return
			}
			root.Say("its backups are pushed to " + places)
		})
	})
}

// take takes in what has happened. A note of a person is said to all who look.
func (n *Live) take(events []night.Event) {
	noted := len(n.night.Notes)
	n.night = night.Fold(n.night, events...)
	for _, note := range n.night.Notes[min(noted, len(n.night.Notes)):] {
		if note.By != acts.Ourselves && n.view.host != nil {
			n.view.host.Root().Say(note.String())
		}
	}
	n.ring()
	n.view.changed()
}

// ring rings once for each hold, when it is opened.
func (n *Live) ring() {
	rung := n.rung
	for _, h := range n.night.Holds {
		n.rung = max(n.rung, h.Number)
	}
	if n.rung > rung && n.view.host != nil {
		n.view.host.Root().Ring()
	}
}

// do passes on a decision.
func (n *Live) do(h *screen.Host, c night.Command) { n.passOn(h, c) }

// lastNote is what was noted in the last minute before a time; "" is nothing.
func (n *Live) lastNote(now time.Time) string {
	if k := len(n.night.Notes); k > 0 && now.Sub(n.night.Notes[k-1].At) <= time.Minute {
		return n.night.Notes[k-1].String()
	}
	return ""
}

// Decide implements [screen.Standing].
func (n *Live) Decide() {
	if hold, ok := n.view.hold(); ok {
		n.view.ask(decide.OfAlike(&n.night, hold))
	}
}

// Abort implements [screen.Standing].
func (n *Live) Abort() { n.view.ask(decide.OfAbort(&n.night, n.view.host.Now())) }

// Leaving implements [screen.Standing].
func (n *Live) Leaving() person.Form {
	if n.elsewhere() {
		return n.leavingBeside()
	}
	in := 0
	for _, d := range n.night.Devices {
		if !d.Over && d.State != night.Waiting {
			in++
		}
	}
	return person.Form{Title: "The night runs", Lines: []string{
		"Leaving aborts it: no new device starts, and what is in change is taken back, each",
		"device after the line in flight: " + report.Count(in, "device") + " now. What is kept stays. This process ends",
		"when that is done.",
	}, Questions: []person.Question{{Text: "Leave?", Choices: []person.Choice{
		{Word: "stay", Does: "the night goes on"},
		{Word: "leave", Does: "abort the night and take back what is in change"},
	}}}}
}

// Plain implements [screen.Standing].
func (n *Live) Plain() []string {
	if !n.Running() {
		return nil
	}
	lines := []string{"The night goes on.", ""}
	for state, k := range n.night.Count() {
		lines = append(lines, fmt.Sprintf("%d %s", k, state))
	}
	slices.Sort(lines[2:])
	if n.elsewhere() {
		return append(lines, "", "Closing the terminal leaves it as it is: it runs in another process; "+n.endsWith()+".")
	}
	return append(lines, "", "Closing the terminal takes back what is in change, and ends the night then.")
}
