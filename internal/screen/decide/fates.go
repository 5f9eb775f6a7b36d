package decide

import (
	"slices"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// Fate is what becomes of a device by a choice that is about many.
type Fate struct {
	Device string
	State  night.State
	Does   string
	By     time.Time // when that is done; zero is not known
	Open   bool      // nobody can know
}

// fates are what becomes of each device where the run is aborted by a choice: of those in change,
// and of those that are kept where it is about them, too.
func fates(n *night.Night, c night.Choice, now time.Time) (out []Fate) {
	for _, d := range n.Devices {
		if f, is := fate(d, c, now); is {
			out = append(out, f)
		}
	}
	return out
}

func fate(d *night.Device, c night.Choice, now time.Time) (f Fate, is bool) {
	f = Fate{Device: d.Name, State: d.State}
	switch {
	case d.State == night.Waiting, d.Over && d.State != night.Kept, d.Over && c != night.BackAll:
		return f, false
	case d.Over:
		f.Does, f.By = "is taken back, and saved as it was", now.Add(d.Back)
	case c == night.Release:
		f.leftAlone(d)
	case d.State == night.Dark:
		f.waitsFor(d)
	case d.State == night.Absent && c != night.Finish:
		back := d.Usual
		if now.After(back) { // it is late
			back = d.Most
		}
		f.Does, f.By = "restarts; once it is back, it is compared with its backup", back.Add(d.Back)
	case d.State == night.Reverting:
		f.Does, f.By = "is being taken back", now.Add(d.Back)
	case !d.Begun():
		f.Does, f.By = "is left as it is: nothing was sent", now
	case c == night.Finish && d.State == night.Held:
		f.Does, f.Open = "stays held, to be decided", true
	case c == night.Finish:
		f.Does = "goes on to its end"
	default:
		f.Does, f.By = "is taken back after the line in flight", now.Add(d.Back)
	}
	return f, true
}

// leftAlone says what a device does by itself that is let go of.
func (f *Fate) leftAlone(d *night.Device) {
	switch {
	case !d.TimerDue.IsZero():
		f.Does, f.By = "is left to its timer, which "+takesBack(d.Way), d.TimerDue.Add(d.Boot)
	case d.State == night.Absent:
		f.Does = "restarts, and is not looked for any more"
	case d.Changes():
		f.Does, f.Open = "STAYS with what was changed: nothing takes it back by itself", true
	default:
		f.Does = "is left as it is: nothing was sent"
	}
}

// waitsFor says what a device waits for that has no contact.
func (f *Fate) waitsFor(d *night.Device) {
	if d.TimerDue.IsZero() {
		f.Does, f.Open = "has no contact and no timer: it is taken back once it answers", true
		return
	}
	f.Does, f.By = "has no contact: its timer "+takesBack(d.Way)+", and it is looked at then", d.TimerDue.Add(d.Boot)
}

// takesBack says what a timer does.
func takesBack(way plan.TimerKind) string {
	//exhaustive:enforce
	switch way {
	case plan.PutBackTimer:
		return "puts back what is saved"
	case plan.TrialTimer:
		return "ends the trial"
	case plan.NoTimer, plan.RestartTimer: // only nights of old do not say which it is
	}
	return "restarts it with what is saved"
}

// most is when the last of them is done, and whether nobody can know.
func most(all []Fate, now time.Time) (takes time.Duration, open bool) {
	for _, f := range all {
		takes, open = max(takes, f.By.Sub(now)), open || f.Open
	}
	return takes, open
}

// fatesRows draws what becomes of each.
func fatesRows(all []Fate, cells int) []ink.Row {
	if len(all) == 0 {
		return nil
	}
	rows := []ink.Row{{}, ink.Row{}.Strong(ink.Foam, "What becomes of each: "+report.Count(len(all), "device"))}
	for _, does := range kinds(all) {
		for _, l := range ink.Wrap(does, cells-2, 4) {
			rows = append(rows, ink.T(ink.Foam, "  "+l))
		}
		for _, f := range all {
			if f.Does != does {
				continue
			}
			s, by := ink.SignOf(f.State), ink.Row{}
			switch {
			case f.Open:
				by = ink.T(ink.Lamp, "nobody knows when")
			case !f.By.IsZero():
				by = ink.T(ink.Dim, "by "+f.By.Local().Format("15:04:05"))
			}
			row := ink.T(ink.Dim, "    ").Col(ink.Dim, f.Device, 16).Add(s.Ink, s.Shape+" ").Col(s.Ink, string(f.State), 10)
			rows = append(rows, row.Right(by, cells))
		}
	}
	return rows
}

// kinds are what becomes of them, each once, in order.
func kinds(all []Fate) (out []string) {
	for _, f := range all {
		if !slices.Contains(out, f.Does) {
			out = append(out, f.Does)
		}
	}
	return out
}
