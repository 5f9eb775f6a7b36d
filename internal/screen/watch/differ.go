package watch

import (
	"context"
	"fmt"
	"strings"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/page"
	"metabasis/internal/stream"
)

// rehearse reads and checks the devices and computes what the night will do to them,
// behind what is shown.
func (v *View) rehearse() {
	v.busy = true
	events, done := stream.New[night.Event](), 0
	v.host.Go(func(ctx context.Context) {
		defer events.Close()
		if err := v.n.src.Plan.Rehearse(ctx, func(e ...night.Event) { events.Put(e...) }); err != nil {
			v.host.Then(func() {
				if v.n.planned() && !v.n.asked { // else that is why
					v.host.Say("not rehearsed: " + err.Error())
				}
			})
		}
	})
	total := len(v.n.night.Devices)
	screen.Listen(v.host, events.Next, func(list []night.Event) {
		if !v.n.planned() {
			return // it has begun meanwhile, and tells by itself
		}
		v.n.night = night.Fold(v.n.night, list...)
		for _, e := range list {
			if e.Kind == night.Prediction && e.Step == 0 {
				done++
			}
		}
		v.host.Progress("rehearsing", done, total)
	}, func() {
		v.host.Progress("", 0, 0)
		v.busy = false
		v.lookBack()
	})
}

// lines is the page of what will be sent to a device; the difference that it makes can
// be shown in its place.
func (v *View) lines(device string) *page.Page {
	differs := false
	toggle := screen.On(keys.Differs, "lines or difference", func() { differs = !differs })
	return page.Of("What will be sent to "+device, func(f screen.Frame) []ink.Row {
		if differs {
			return Difference(v.n.night.Get(device), f.Cells-2)
		}
		var rows []ink.Row
		for _, l := range v.n.src.Plan.Lines(device) {
			rows = append(rows, ink.T(ink.Foam, l))
		}
		return rows
	}, toggle)
}

// difference opens what changes on the device under the cursor.
func (v *View) difference() {
	d := v.Device()
	if d == nil {
		return
	}
	name := d.Name
	v.host.Open(page.Of("What changes on "+name, func(f screen.Frame) []ink.Row { return Difference(v.n.night.Get(name), f.Cells-2) }))
}

// Difference draws all that is known of what changes on a device: what was computed, what
// runs in truth, and where the two are not the same.
func Difference(d *night.Device, cells int) []ink.Row {
	if d == nil {
		return nil
	}
	var rows []ink.Row
	part := func(title string, in ink.Ink, lines []string) {
		if len(rows) > 0 {
			rows = append(rows, ink.Row{})
		}
		rows = append(rows, ink.Row{}.Strong(in, title))
		for _, l := range report.Folded(lines) {
			rows = append(rows, differing("  "+l, cells))
		}
	}
	if len(d.Unlike) > 0 {
		part("Not as predicted: "+report.Count(len(d.Unlike), "line"), ink.Lamp, d.Unlike)
	}
	switch {
	case !d.Computed && d.Unknown != "":
		part("It cannot be said what will change", ink.Lamp, []string{d.Unknown})
	case !d.Computed:
		part("What will change is not known yet: the device was not read", ink.Foam, nil)
	case len(d.WillDiffer) == 0 && d.Unknown == "":
		part("Nothing will change", ink.Buoy, nil)
	default:
		part("As computed from its configuration", ink.Foam, d.WillDiffer)
		if d.Unknown != "" {
			rows = append(rows, ink.T(ink.Lamp, "  "+d.Unknown))
		}
	}
	if len(d.Notices) > 0 {
		part("What does not fit", ink.Lamp, d.Notices)
	}
	if d.Touched || len(d.Diff) > 0 {
		title := "As it was last read, against its backup"
		if d.Predicted {
			title += ": as predicted"
		}
		if len(d.Diff) == 0 {
			title += ": equal"
		}
		part(title, ink.Foam, d.Diff)
	}
	return rows
}

// differing draws a line of a difference: what comes and what goes differ in their sign
// and in colour.
func differing(l string, cells int) ink.Row {
	in := ink.Foam
	switch strings.TrimSpace(l)[:min(1, len(strings.TrimSpace(l)))] {
	case "+":
		in = ink.Buoy
	case "-":
		in = ink.Heather
	}
	return ink.T(in, ink.Fit(l, cells))
}

// predicted are the rows of the panel on what was computed for a device.
func predicted(d *night.Device, cells int) (rows []ink.Row) {
	label := func(name string) ink.Row { return ink.T(ink.Dim, ink.Fit(name, 9)) }
	if len(d.Unlike) > 0 {
		rows = append(
			rows,
			label("unlike").Strong(ink.Lamp, fmt.Sprintf("not as predicted: %s, v shows them", report.Count(len(d.Unlike), "line"))),
		)
	} else if d.Predicted && d.LeftSteps() > 0 {
		rows = append(rows, label("differs").Add(ink.Lamp, ink.Fit("as predicted, WITHOUT "+strings.Join(d.LeftTitles(), ", "), cells-9)))
	} else if d.Predicted {
		rows = append(rows, label("differs").Add(ink.Buoy, "as predicted"))
	}
	if len(d.Notices) > 0 {
		rows = append(rows, label("look").Add(ink.Lamp, ink.Fit(d.Notices[0], cells-9)))
	}
	if d.Touched || len(d.Diff) > 0 {
		return rows
	}
	switch {
	case !d.Computed && d.Unknown != "":
		rows = append(rows, label("changes").Add(ink.Lamp, ink.Fit(d.Unknown, cells-9)))
	case d.Computed && len(d.WillDiffer) == 0 && d.Unknown == "":
		rows = append(rows, label("changes").Add(ink.Buoy, "nothing"))
	}
	folded := report.Folded(d.WillDiffer)
	for i, l := range folded {
		name := ""
		if i == 0 {
			name = "changes"
		}
		if i == 9 && len(folded) > 10 {
			rows = append(rows, label("").Add(ink.Dim, fmt.Sprintf("and %d lines more, v shows them", len(folded)-9)))
			break
		}
		rows = append(rows, label(name).Then(differing(l, cells-9)))
	}
	if d.Computed && d.Unknown != "" {
		rows = append(rows, label("").Add(ink.Lamp, ink.Fit(d.Unknown, cells-9)))
	}
	return rows
}
