package night

import (
	"slices"
	"time"

	"metabasis/internal/core/plan"
)

// timed takes in how long a part of the device's night took. Only what went by itself
// counts: what waited for a person or for contact says nothing of how long things take.
func (d *Device) timed(e Event) {
	part := ""
	switch {
	case e.Kind == Stepped && e.What == StepDone && e.Step >= 1 && e.Step <= len(d.Steps):
		part = plan.StepPart(d.Steps[e.Step-1])
	case e.Kind == Stepped && e.What == StepBegan, e.Kind == Moved && e.State == Checking, e.Kind == Moved && e.State == Soaking:
	case e.Kind == Moved && e.State == Recording:
		part = plan.Before
	case e.Kind == Moved && e.State == Armed:
		part = plan.Guard
	case e.Kind == Moved && e.State == Kept:
		part = plan.Closing // and the soak before it
	case e.Kind == Moved && e.State == Verifying && d.State == Absent:
		part := plan.Away
		if d.Kind(d.Step-1) == plan.SoftwareStep {
			part = plan.AwayNew
		}
		d.Took = append(slices.Clip(d.Took), Took{part, e.At.Sub(d.Since)})
		return
	case e.Kind == Moved && (e.State == Held || e.State == Dark || e.State == Reverting):
		d.Hindered = true
		return
	default:
		return
	}
	if part != "" && !d.mark.IsZero() {
		d.Took = append(slices.Clip(d.Took), Took{part, e.At.Sub(d.mark)})
	}
	d.mark = e.At
}

// Took is how long a part of a device's night took.
type Took struct {
	Part string
	For  time.Duration
}

// Times is what the night shows of how long things take, from the devices that were kept
// and went by themselves.
func (n *Night) Times() plan.Times {
	var parts []plan.Part
	for _, d := range n.Devices {
		if d.State != Kept || !d.Over || d.Hindered {
			continue
		}
		for _, t := range d.Took {
			if t.Part == plan.Closing {
				t.For -= n.Outline.Soak
			}
			parts = append(parts, plan.Part{Device: d.Name, Platform: d.Platform, Name: t.Part, Took: max(t.For, 0)})
		}
	}
	return plan.Sum(parts)
}
