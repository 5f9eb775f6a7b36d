package report

import (
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/night"
	"metabasis/internal/document"
)

// Place is where a device is found, for somebody who goes there.
type Place struct {
	Address, Via string
}

// Errand is what a night could not put back, for the person who drives there: of each device that
// nobody has proven to be what it was, or what it was meant to be, what is known of it, line by line,
// and what it was. Places are by device; what is not known is left out.
func Errand(m *Morning, places map[string]Place) *document.Document {
	d := &errand{}
	d.Add(document.Title("To be seen to on site, after night " + fmt.Sprint(m.Night)))
	d.Add(textf("%s. The night began %s and %s.", m.Title, stamp(m.Began), m.ending()))
	list := m.Unproven()
	if m.Runs {
		d.Add(document.Text("The night runs now: this may change."))
	}
	if len(list) == 0 {
		d.Add(document.Text("Nothing: every device was read, and is what it was or what it was meant to be."))
		return &d.Document
	}
	var rows [][]string
	for _, dev := range list {
		rows = append(rows, []string{dev.Site, dev.Name, places[dev.Name].Address, dev.Platform, string(dev.Result)})
	}
	d.Add(document.Table{Head: []string{"site", "device", "address", "platform", "it is"}, Rows: rows})
	for _, dev := range list {
		d.device(dev, places[dev.Name])
	}
	return &d.Document
}

type errand struct{ document.Document }

// device is the list of one device.
func (d *errand) device(dev DeviceReport, at Place) {
	d.Add(document.Section(dev.Name))
	if at.Via != "" {
		d.Add(document.Text("It is reached through " + at.Via + "."))
	}
	why := dev.Note
	if dev.Cut != "" {
		why = "the night was cut off: it was " + dev.Cut
	}
	d.Add(document.Text("As it was told last: " + why + "."))
	if !dev.Due.IsZero() {
		d.Add(textf("Its own way back was due at %s, as far as was seen: look first whether it took the change back by itself.", stamp(dev.Due)))
	} else {
		d.Add(document.Text("Nothing on it takes the change back by itself, as far as was seen."))
	}
	if dev.Ran != "" && dev.Runs != dev.Ran {
		d.Add(textf("Its software: it ran %s before, and %s when that was read last.", dev.Ran, orNone(dev.Runs)))
	} else if dev.Ran != "" {
		d.Add(textf("Its software: it ran %s before, and when that was read last; it was being given another.", dev.Ran))
	}
	d.differs(dev)
	if len(dev.Sent) > 0 {
		d.Add(textf("It took these lines of the change, in this order, the last of all that was done at %s:", hour(dev.SentAt)), document.Code(taken(dev)))
	}
	for _, w := range dev.Works {
		if w.Over.IsZero() {
			d.Add(textf("It was worked by hand by %s from %s on: what was done so, nobody has read. Ask them.", w.By, hour(w.Began)))
		}
	}
	for _, g := range dev.Deeds {
		if !g.Looks {
			was := "was done, and cannot be undone"
			if dev.exchanges(g.Step) {
				was = "was done: " + g.Note
			}
			if !g.OK {
				was = "was given, and whether it was done is not known"
			}
			d.Items(fmt.Sprintf("%q %s (%s)", g.Command, was, hour(g.At)))
		}
	}
	if dev.Backup == "" {
		d.Add(document.Text("No backup was taken of it in this night."))
		return
	}
	d.Add(document.Text("What it was stands in this file, which has its secrets in it; its SHA-256 is below:"),
		document.Code{dev.Backup, dev.SHA256})
	d.Add(document.Text("Once it is put right, say so with metabasis restore --before, which reads it and sends nothing where it is what it was."))
}

// orNone is a version in words.
func orNone(version string) string {
	if version == "" {
		return "none of those that are installed"
	}
	return version
}

// differs lists what is to be put right, line by line, where that was read.
func (d *errand) differs(dev DeviceReport) {
	switch {
	case dev.ReadAt.IsZero():
		d.Add(document.Text("What runs on it was not read since the change began: compare it with its backup."))
		return
	case len(dev.Differs) == 0 && dev.ReadAt.Before(dev.SentAt), len(dev.Differs) == 0 && dev.Result == night.Dark:
		d.Add(textf("When it was read last, at %s, it was equal to its backup. Something was to be done to it since: compare it again.", hour(dev.ReadAt)))
		return
	case len(dev.Differs) == 0:
		d.Add(textf("When it was read last, at %s, what runs was equal to its backup.", hour(dev.ReadAt)))
		return
	}
	known := fmt.Sprintf("This is to be put right, as it was read at %s:", hour(dev.ReadAt))
	if dev.ReadAt.Before(dev.SentAt) {
		known = fmt.Sprintf("This differed when it was read at %s. Something was to be done to it after that, at %s: compare it again. To be put right was:", hour(dev.ReadAt), hour(dev.SentAt))
	}
	d.Add(document.Text(known), document.Code(boxed(putRight(dev.Differs))))
}

// putRight says of each line that differs what is to be done.
func putRight(differs []string) (out []string) {
	for _, l := range differs {
		switch {
		case strings.HasPrefix(l, "+ "):
			out = append(out, "take away  "+l[2:])
		case strings.HasPrefix(l, "- "):
			out = append(out, "put back   "+l[2:])
		default:
			out = append(out, l)
		}
	}
	return out
}

// taken are the lines that a device took. They are ticked off one by one only where nobody has read
// what is to be put right: else that is.
func taken(dev DeviceReport) []string {
	if len(dev.Differs) > 0 {
		return dev.Sent
	}
	return boxed(dev.Sent)
}

// boxed is lines with a box each, to be ticked on paper.
func boxed(lines []string) (out []string) {
	for _, l := range lines {
		out = append(out, "[ ] "+l)
	}
	return out
}

// ending says when the night was over.
func (m *Morning) ending() string {
	if m.Ended.IsZero() {
		return "never saw its end; its last sign of life is of " + stamp(m.Last)
	}
	return "was over " + stamp(m.Ended)
}

// Unproven are the devices of which nobody has proven what they have, by site.
func (m *Morning) Unproven() (out []DeviceReport) {
	for _, dev := range m.Devices {
		if dev.mustLook || dev.Result == night.Dark || dev.Result == night.Stranded {
			out = append(out, dev)
		}
	}
	slices.SortStableFunc(out, func(a, b DeviceReport) int { return strings.Compare(a.Site, b.Site) })
	return out
}
