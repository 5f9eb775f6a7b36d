package report

import (
	"fmt"
	"slices"
	"strings"

	"github.com/aymanbagabas/go-udiff"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/document"
)

// mostAlike is how many groups of devices are shown of what was looked at: who needs more reads
// the journal or the transcripts.
const mostAlike = 8

// deeds tells what was done that cannot be undone, and shows what was looked at: what was looked
// at twice as what is different between the first and the last time.
func (d *morningDocument) deeds() {
	var done, exchanged [][]string
	looks := map[string]bool{}
	var commands []string
	for _, dev := range d.m.Devices {
		for _, g := range dev.Deeds {
			if g.Looks {
				if !looks[g.Command] {
					looks[g.Command] = true
					commands = append(commands, g.Command)
				}
				continue
			}
			was := "done"
			if !g.OK {
				was = "not known to be done"
			}
			row := []string{dev.Name, d.m.stepTitle(dev, g.Step), g.Command, hour(g.At), was, g.Note}
			if dev.exchanges(g.Step) {
				if !g.OK {
					row[4] = "NOT as it should"
				}
				exchanged = append(exchanged, row)
			} else {
				done = append(done, row)
			}
		}
	}
	if len(exchanged) > 0 {
		d.Add(document.Section("How software was exchanged"))
		d.table([]string{"device", "step", "command", "at", "", "what it said then"}, exchanged)
	}
	if len(done) > 0 {
		d.Add(document.Section("What was done, and cannot be undone"))
		d.table([]string{"device", "step", "command", "at", "", "what is to be known"}, done)
	}
	if len(commands) == 0 {
		return
	}
	d.Add(document.Section("What was looked at"))
	for _, c := range commands {
		d.looked(c)
	}
}

// exchanges tells whether a step, counted from 1, gives the device other software.
func (dev DeviceReport) exchanges(step int) bool {
	return step >= 1 && step <= len(dev.Steps) && dev.Steps[step-1].Kind == plan.SoftwareStep
}

// stepTitle is the title of a device's step, counted from 1.
func (m *Morning) stepTitle(dev DeviceReport, step int) string {
	if step >= 1 && step <= len(dev.Steps) {
		return dev.Steps[step-1].Title
	}
	return ""
}

// looked shows what devices printed to a command, those alike together.
func (d *morningDocument) looked(command string) {
	type group struct {
		lines   []string
		devices []string
	}
	var groups []*group
	at := map[string]*group{}
	twice := false
	for _, dev := range d.m.Devices {
		var all []night.Deed
		for _, g := range dev.Deeds {
			if g.Looks && g.Command == command {
				all = append(all, g)
			}
		}
		if len(all) == 0 {
			continue
		}
		lines := all[0].Got
		if last := all[len(all)-1]; len(all) > 1 {
			twice = true
			if lines = differ(all[0].Got, last.Got); last.Compared != nil {
				lines = last.Compared.Changes
			}
		}
		key := fmt.Sprint(len(all) > 1, strings.Join(lines, "\n"))
		if at[key] == nil {
			at[key] = &group{lines: lines}
			groups = append(groups, at[key])
		}
		at[key].devices = append(at[key].devices, dev.Name)
	}
	slices.SortStableFunc(groups, func(a, b *group) int { return len(b.devices) - len(a.devices) })
	title := command
	if twice {
		title += ", what is different between the first time and the last"
	}
	d.Add(document.Heading(title))
	for i, g := range groups {
		if i == mostAlike {
			d.text(fmt.Sprintf("And %s more that are alike; the journal has them.", Count(len(groups)-mostAlike, "group")))
			break
		}
		d.text(Count(len(g.devices), "device") + ": " + Some(g.devices, 24))
		if len(g.lines) == 0 {
			d.text("Nothing.")
			continue
		}
		d.Add(document.Code(g.lines))
	}
}

// differ is what is different between two texts, as lines with + and -.
func differ(before, after []string) (out []string) {
	join := func(l []string) string { return strings.Join(l, "\n") + "\n" }
	text := udiff.Unified("before", "after", join(before), join(after))
	for i, l := range strings.Split(strings.TrimRight(text, "\n"), "\n") {
		if i > 1 && !strings.HasPrefix(l, "@@") { // the names of both
			out = append(out, l)
		}
	}
	return out
}
