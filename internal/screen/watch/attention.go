package watch

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// attention is the line under the strip. It answers: is it going well, and what
// needs me?
func (n *Live) attention() ink.Row {
	r := n.attentionText()
	// What needs somebody stands on a ground of its own, to be seen from afar.
	r.Marked = len(n.night.Holds) > 0 || n.night.Count()[night.Stranded]+n.night.Count()[night.Dark] > 0
	return r
}

func (n *Live) attentionText() ink.Row {
	told := &n.night
	count := told.Count()
	r := ink.T(ink.Foam, " ")
	bad := count[night.Stranded]
	switch {
	case n.asked:
		return r.Strong(ink.Lamp, "Beginning: the workspace, the journal and the devices are taken for this night.")
	case n.past() && told.Ended.IsZero() && n.src.Elsewhere != "":
		return r.Strong(ink.Lamp, "This night runs in another process: "+n.src.Elsewhere+". ").
			Add(ink.Foam, "Here it stands as it was in the journal at "+report.Clock(told.Last.Local())+".")
	case n.past() && told.Ended.IsZero():
		return r.Strong(ink.Port, "▲ This night crashed: its journal ends at "+told.Last.Local().Format("Mon 2 Jan 15:04:05")+". ").
			Add(ink.Foam, "Nobody has looked since; below it stands as it was.")
	case n.planned():
		return r.Strong(ink.Foam, "Ready. Nothing has been sent.").
			Add(ink.Dim, fmt.Sprintf("  %s in %s.", report.Count(len(told.Devices), "device"), report.Count(len(told.Outline.Batches), "batch")))
	case !told.Ended.IsZero():
		in := ink.Buoy
		if told.Outcome() != night.AllKept {
			in = ink.Lamp
		}
		if told.Outcome() == night.NeedsPerson {
			in = ink.Port
		}
		return r.Strong(in, "The night is over. ").Add(ink.Foam, report.Summary(told))
	case len(told.Holds) > 0:
		h, _ := told.Foremost()
		who := "The run"
		if h.Device != "" {
			who = h.Device
		}
		if h.Aside() {
			r = r.Strong(ink.Port, "▽ "+h.Why)
		} else {
			r = r.Strong(ink.Lamp, "◆ "+who+" is held: "+h.Why)
		}
		if len(told.Holds) > 1 {
			r = r.Strong(ink.Lamp, fmt.Sprintf("   and %d more", len(told.Holds)-1))
		}
		return r
	case bad > 0:
		return r.Strong(ink.Port, fmt.Sprintf("▲ %d stranded: a person must look at them", bad))
	case count[night.Dark] > 0:
		return r.Strong(ink.Port, fmt.Sprintf("▽ no contact with %s", n.names(night.Dark)))
	case n.silent() != "" && told.Aborted == "" && count[night.Reverting] == 0:
		return r.Strong(ink.Lamp, n.silent()+". ").Add(ink.Dim, report.Summary(told))
	case told.Aborted != "":
		return r.Strong(ink.Heather, "Aborted: ").Add(ink.Foam, report.Summary(told))
	case count[night.Reverting] > 0:
		return r.Strong(ink.Heather, "◀ taking back "+n.names(night.Reverting))
	}
	if told.Failures > 0 {
		return r.Strong(ink.Foam, fmt.Sprintf("Going on after %s. ", report.Count(told.Failures, "failure"))).Add(ink.Dim, report.Summary(told))
	}
	if blocked := count[night.Blocked]; blocked > 0 {
		word := "Going on. "
		if 2*blocked >= len(told.Devices) {
			word = "Most are blocked. "
		}
		return r.Strong(ink.Lamp, word).
			Strong(ink.Lamp, fmt.Sprintf("%s blocked, untouched. ", report.Count(blocked, "device"))).
			Add(ink.Dim, report.Summary(told))
	}
	return r.Strong(ink.Buoy, "Going well. ").Add(ink.Dim, report.Summary(told))
}

// silent says which devices have not answered for a while; "" for none.
func (n *Live) silent() string {
	var names []string
	var since time.Time
	for _, d := range n.night.Devices {
		if !d.QuietSince.IsZero() && !d.Over {
			names = append(names, d.Name)
			if since.IsZero() || d.QuietSince.Before(since) {
				since = d.QuietSince
			}
		}
	}
	if names == nil {
		return ""
	}
	return "No answer from " + report.Some(names, 4) + " since " + since.Local().Format("15:04:05")
}

// names lists the devices in a state, as many as fit.
func (n *Live) names(s night.State) string {
	var out []string
	for _, d := range n.night.Devices {
		if d.State == s {
			out = append(out, d.Name)
		}
	}
	if len(out) > 4 {
		return strings.Join(out[:4], ", ") + fmt.Sprintf(" and %d more", len(out)-4)
	}
	return strings.Join(out, ", ")
}
