package watch

import (
	"fmt"
	"strings"
	"time"

	"metabasis/internal/core/run"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// attention is the line under the strip. It answers: is it going well, and what
// needs me?
func (n *Night) attention() ink.Row {
	r := n.attentionText()
	// What needs somebody stands on a ground of its own, to be seen from afar.
	r.Marked = len(n.night.Holds) > 0 || n.night.Count()[run.Stranded]+n.night.Count()[run.Dark] > 0
	return r
}

func (n *Night) attentionText() ink.Row {
	night := &n.night
	count := night.Count()
	r := ink.T(ink.Foam, " ")
	bad := count[run.Stranded]
	switch {
	case n.asked:
		return r.Strong(ink.Lamp, "Beginning: the workspace, the journal and the devices are taken for this night.")
	case n.past() && night.Ended.IsZero() && n.src.Elsewhere != "":
		return r.Strong(ink.Lamp, "This night runs in another process: "+n.src.Elsewhere+". ").
			Add(ink.Foam, "Here it stands as it was in the journal at "+report.Clock(night.Last.Local())+".")
	case n.past() && night.Ended.IsZero():
		return r.Strong(ink.Port, "▲ This night crashed: its journal ends at "+night.Last.Local().Format("Mon 2 Jan 15:04:05")+". ").
			Add(ink.Foam, "Below is where each device was then; nobody has looked since.")
	case n.planned():
		return r.Strong(ink.Foam, "Ready. Nothing has been sent.").Add(ink.Dim, fmt.Sprintf("  %s in %s.", report.Count(len(night.Devices), "device"), report.Count(len(night.Outline.Batches), "batch")))
	case !night.Ended.IsZero():
		in := ink.Buoy
		if night.Outcome() != run.AllKept {
			in = ink.Lamp
		}
		if night.Outcome() == run.NeedsPerson {
			in = ink.Port
		}
		return r.Strong(in, "The night is over. ").Add(ink.Foam, report.Summary(night))
	case len(night.Holds) > 0:
		h := night.Holds[0]
		who := "The run"
		if h.Device != "" {
			who = h.Device
		}
		r = r.Strong(ink.Lamp, "◆ "+who+" is held: "+h.Why)
		if len(night.Holds) > 1 {
			r = r.Strong(ink.Lamp, fmt.Sprintf("   and %d more", len(night.Holds)-1))
		}
		return r
	case bad > 0:
		return r.Strong(ink.Port, fmt.Sprintf("▲ %d stranded: a person must look at them", bad))
	case count[run.Dark] > 0:
		return r.Strong(ink.Port, fmt.Sprintf("▽ no contact with %s", n.names(run.Dark)))
	case n.silent() != "" && night.Aborted == "" && count[run.Reverting] == 0:
		return r.Strong(ink.Lamp, n.silent()+". ").Add(ink.Dim, report.Summary(night))
	case night.Aborted != "":
		return r.Strong(ink.Heather, "Aborted: ").Add(ink.Foam, report.Summary(night))
	case count[run.Reverting] > 0:
		return r.Strong(ink.Heather, "◀ taking back "+n.names(run.Reverting))
	}
	if night.Failures > 0 {
		return r.Strong(ink.Foam, fmt.Sprintf("Going on after %s. ", report.Count(night.Failures, "failure"))).Add(ink.Dim, report.Summary(night))
	}
	if blocked := count[run.Blocked]; blocked > 0 {
		word := "Going on. "
		if 2*blocked >= len(night.Devices) {
			word = "Most are blocked. "
		}
		return r.Strong(ink.Lamp, word).Strong(ink.Lamp, fmt.Sprintf("%s blocked, untouched. ", report.Count(blocked, "device"))).Add(ink.Dim, report.Summary(night))
	}
	return r.Strong(ink.Buoy, "Going well. ").Add(ink.Dim, report.Summary(night))
}

// silent says which devices have not answered for a while; "" for none.
func (n *Night) silent() string {
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
func (n *Night) names(s run.State) string {
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
