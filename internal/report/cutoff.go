package report

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/work"
)

// CutOff tells of a night that was cut off: each device on which it had begun with what was last to be
// done to it, what a fresh look says, and what can be done.
func CutOff(n *night.Night, looked []work.Looked) (out []string) {
	now := time.Now()
	closed := WindowClosed(n, now)
	at := n.Last.Local().Format("Mon 2 Jan 15:04:05")
	out = append(out, fmt.Sprintf("%s was cut off at %s. %s", n.Outline.Title, at, windowLeft(n, now)))
	texts := map[string][]string{} // the devices of each, which are often the same
	var order []string
	for _, l := range looked {
		text := cutOffText(n, l, closed)
		if texts[text] == nil {
			order = append(order, text)
		}
		texts[text] = append(texts[text], l.Device)
	}
	for _, text := range order {
		names := texts[text]
		head := CutOffMark + strings.Join(names[:min(len(names), 12)], ", ")
		if more := len(names) - 12; more > 0 {
			head += fmt.Sprintf(" and %d more", more)
		}
		if len(names) > 1 {
			head += ": " + Count(len(names), "device")
		}
		out = append(append(out, "", head), strings.Split(text, "\n")...)
	}
	untouched := 0
	for _, d := range n.Devices {
		if !d.Begun() && !d.Over {
			untouched++
		}
	}
	if untouched > 0 {
		them := map[bool]string{true: "it", false: "them"}[untouched == 1]
		out = append(out, "", fmt.Sprintf("%s had not been begun with: nothing was sent to %s", Count(untouched, "device"), them))
	}
	return out
}

// CutOffMark begins the line with the devices of which something is told.
const CutOffMark = "◆ "

// cutOffText tells of one device what was, what is, and what can be done.
func cutOffText(n *night.Night, l work.Looked, closed bool) string {
	was := "its night had begun with it"
	if d := n.Get(l.Device); d != nil {
		was = d.WasAt()
	}
	out := []string{"  then      " + was, "  now       " + LookedText(l)}
	for i, line := range l.Lines {
		if i == 8 {
			out = append(out, fmt.Sprintf("            and %d lines more", len(l.Lines)-i))
			break
		}
		out = append(out, "            "+line)
	}
	return strings.Join(append(out, "  proposed  "+Proposed(l, closed)), "\n")
}

// WindowClosed tells whether the window of a night has closed: it is not gone on with any more.
func WindowClosed(n *night.Night, now time.Time) bool {
	return !n.Outline.Window.None && !now.Before(n.Outline.Window.Close)
}

// windowLeft says what is left of the window of a night.
func windowLeft(n *night.Night, now time.Time) string {
	w := n.Outline.Window
	switch {
	case w.None:
		return "It has no window."
	case WindowClosed(n, now):
		return "Its window closed at " + w.Close.Local().Format("15:04:05") + ": it can be taken back, and not gone on with."
	}
	return fmt.Sprintf("Its window closes at %s, in %s.", w.Close.Local().Format("15:04:05"), w.Close.Sub(now).Round(time.Second))
}

// LookedText says what a device has now.
func LookedText(l work.Looked) string {
	if l.Unreached != "" {
		return "not looked at: " + l.Unreached
	}
	parts := []string{"what runs is " + string(l.Runs)}
	if l.Runs == work.NotKnown && len(l.Lines) > 0 {
		parts[0] = "what runs is not as before; whether it is of the change cannot be computed"
	}
	if l.Saved == l.Runs && l.Saved != work.NotKnown {
		parts[0] = "what runs and what is saved are " + string(l.Runs)
	} else {
		parts = append(parts, "what is saved is "+string(l.Saved))
	}
	if l.Software != "" {
		parts = append([]string{l.Software}, parts...)
	}
	if l.Restarted != "" {
		parts = append([]string{"it was restarted, and has been up for " + l.Restarted}, parts...)
	}
	switch {
	case l.Timer == "" && l.Trial:
		parts = append(parts, "its software goes back by itself, unless that is kept")
	case l.Timer == "":
		parts = append(parts, "nothing takes it back by itself")
	case l.Ours:
		parts = append(parts, l.Timer+", by the timer of this night")
	default:
		parts = append(parts, l.Timer+", by a timer that is not of this night")
	}
	return strings.Join(parts, "; ")
}

// Proposed says what can be done with a device on which a night was cut off. Closed is that the window
// is: then it can only be taken back.
func Proposed(l work.Looked, closed bool) string {
	switch {
	case l.Unreached != "":
		return "look again once it answers"
	case l.Left != "":
		return "a person: " + l.Left
	case l.Waits && closed:
		return "wait until its own way back takes the change back"
	case l.NotOn != "" && !closed && !l.Waits:
		return l.NotOn
	case l.Waits:
		return "wait until its own way back takes the change back; then begin with it anew, or leave it"
	case l.Runs == work.AsBefore && l.Timer == "" && closed:
		return "nothing: it is as before"
	case l.Runs == work.AsBefore && closed:
		return "take its timer off the clock: it is as before"
	case closed:
		return "take it back"
	case l.Runs == work.AsBefore && l.Restarted != "" && l.Software == "":
		return "go on behind the restart; or leave it, as it has what it had before"
	case l.Runs == work.AsBefore && l.Timer == "":
		return "begin with it anew; or leave it, as it is as before"
	case l.Runs == work.AsBefore:
		return "begin with it anew, with its timer; or take that off the clock"
	case l.Runs == work.AsPredicted && l.Saved == work.AsPredicted:
		return "prove it; or take it back"
	case l.Runs == work.AsPredicted:
		return "prove it and save it; or take it back"
	}
	if l.Software != "" {
		return "go on with what is left to be done; or take it back"
	}
	return "go on with what is left to be sent; or take it back"
}
