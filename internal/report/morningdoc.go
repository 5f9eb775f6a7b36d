package report

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/runbook"
	"metabasis/internal/document"
)

// MorningDocument is the report: what others ask first comes first.
func MorningDocument(m *Morning) *document.Document {
	d := &morningDocument{m: m}
	d.Add(document.Title(m.Title), document.Text(m.Outcome))
	d.head()
	d.todo()
	d.failures()
	d.changes()
	d.byHand()
	d.deeds()
	d.reached()
	d.decisions()
	d.timeline()
	d.deviceTable()
	d.each()
	d.sums()
	return &d.Document
}

type morningDocument struct {
	document.Document
	m *Morning
}

func (d *morningDocument) text(s string) { d.Add(document.Text(s)) }

func (d *morningDocument) table(head []string, rows [][]string) {
	d.Add(document.Table{Head: head, Rows: rows})
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("Mon 2 Jan 2006 15:04:05")
}

func hour(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("15:04:05")
}

func span(d time.Duration) string {
	if d <= 0 {
		return ""
	}
	return runbook.FormatDuration(d.Round(time.Second))
}

// lasted is how long a part took: what is over within a second is not said to have taken
// one, since such parts of many devices would add up to more than the night.
func lasted(d time.Duration) string {
	if d < time.Second {
		return "under 1s"
	}
	return span(d)
}

func (d *morningDocument) head() {
	m := d.m
	var rows [][]string
	add := func(what, text string) {
		if text != "" {
			rows = append(rows, []string{what, text})
		}
	}
	add("Night", fmt.Sprintf("%d, %s", m.Night, m.Runbook))
	add("Change", m.Change)
	add("Run by", m.By)
	add("Sealed", m.Sealed)
	add("Only", m.Only)
	if m.Ended.IsZero() {
		add("Ran", stamp(m.Began)+" to its last sign of life at "+stamp(m.Last))
	} else {
		add("Ran", fmt.Sprintf("%s to %s, %s", stamp(m.Began), hour(m.Ended), span(m.Took())))
	}
	if !m.Window.None {
		text := fmt.Sprintf("%s to %s", stamp(m.Window.Open), hour(m.Window.Close))
		if m.Window.Reserve > 0 {
			text += ", the last " + span(m.Window.Reserve) + " kept free for taking back"
		}
		add("Window planned", text)
		if m.Window.Used > 0 {
			add("Window", fmt.Sprintf("%.0f %% of it had passed when the night was over", 100*m.Window.Used))
		}
	}
	if !m.Likely.IsZero() && !m.Ended.IsZero() {
		off := m.Ended.Sub(m.Likely)
		word := "later"
		if off < 0 {
			off, word = -off, "earlier"
		}
		add("Planned end", fmt.Sprintf("%s; it was over %s %s", hour(m.Likely), span(max(off, time.Second)), word))
	}
	add(
		"Devices",
		fmt.Sprintf("%s in %s; %d of the fleet left out", Count(len(m.Devices), "device"), Count(len(m.Batches), "batch"), len(m.LeftOut)),
	)
	d.table([]string{"", ""}, rows)
	for _, w := range m.Warnings {
		d.Items("Warned before it began: " + w)
	}
}

func (d *morningDocument) todo() {
	d.Add(document.Section("Left to do"))
	if d.m.Runs {
		d.text("The night runs now: what it leaves is known at its end.")
		return
	}
	if d.m.Settled != "" {
		d.text("What it left was " + d.m.Settled)
	}
	if len(d.m.Todo) == 0 {
		d.text("Nothing.")
		return
	}
	for _, t := range d.m.Todo {
		d.Items(strings.Join(strings.Fields(t), " "))
	}
}

func (d *morningDocument) failures() {
	if len(d.m.Failures) == 0 {
		return
	}
	d.Add(document.Section("What went wrong"))
	for _, f := range d.m.Failures {
		d.Add(document.Heading(fmt.Sprintf("%s: %s", f.Device, f.State)), textf("%s, %s", hour(f.At), f.Why))
		if len(f.Evidence) > 0 {
			d.Add(document.Text("As it was then:"), document.Code(f.Evidence))
		}
	}
}

// changes are the differences that devices have in common.
func (d *morningDocument) changes() {
	d.Add(document.Section("What is different now"))
	type group struct {
		lines   []string
		devices []string
	}
	var groups []*group
	at := map[string]*group{}
	for _, dev := range d.m.Devices {
		if dev.Result != night.Kept || len(dev.Differs) == 0 {
			continue
		}
		key := strings.Join(dev.Differs, "\n")
		if at[key] == nil {
			at[key] = &group{lines: dev.Differs}
			groups = append(groups, at[key])
		}
		at[key].devices = append(at[key].devices, dev.Name)
	}
	software := d.software()
	switch {
	case len(groups) > 0, software:
	case slices.ContainsFunc(d.m.Devices, func(dev DeviceReport) bool { return dev.Result == night.Kept }):
		d.text("Nothing on any device that was kept.")
	default:
		d.text("No device was kept.")
	}
	for _, g := range groups {
		d.Add(document.Heading(Count(len(g.devices), "device")), document.Text(Some(g.devices, 24)), document.Code(Folded(g.lines)))
	}
	var odd [][]string
	var unknown []string
	for _, dev := range d.m.Devices {
		if dev.Prediction == "not kept" {
			odd = append(odd, []string{dev.Name, Some(dev.Unlike, 6)})
		}
		if dev.mustLook || dev.Result == night.Dark {
			unknown = append(unknown, dev.Name)
		}
	}
	if len(unknown) > 0 {
		d.text("Of " + Count(len(unknown), "device") + " it is not known: " + Some(unknown, 24) + ".")
	}
	if len(odd) > 0 {
		d.text("Kept, and not as it was predicted:")
		d.table([]string{"device", "what"}, odd)
	}
}

// software tells which devices that were kept run other software than before; false where none does.
func (d *morningDocument) software() bool {
	by := map[[2]string][]string{}
	for _, dev := range d.m.Devices {
		if dev.Result == night.Kept && dev.Runs != dev.Ran {
			by[[2]string{dev.Runs, dev.Ran}] = append(by[[2]string{dev.Runs, dev.Ran}], dev.Name)
		}
	}
	keys := slices.SortedFunc(maps.Keys(by), func(a, b [2]string) int { return slices.Compare(a[:], b[:]) })
	for _, k := range keys {
		d.Items(fmt.Sprintf("runs %s, before %s: %s, %s", k[0], k[1], Count(len(by[k]), "device"), Some(by[k], 24)))
	}
	return len(keys) > 0
}

// byHand tells where a device had other lines than the runbook says, and what was done at consoles.
func (d *morningDocument) byHand() {
	if !slices.ContainsFunc(d.m.Devices, func(dev DeviceReport) bool { return len(dev.Edits)+len(dev.Works) > 0 }) {
		return
	}
	d.Add(document.Section("By hand, and other lines than the runbook's"))
	for _, dev := range d.m.Devices {
		for _, e := range dev.Edits {
			d.Add(document.Heading(dev.Name),
				textf("%s, other lines for %q by %s: %s", hour(e.At), d.m.stepTitle(dev, e.Step), e.By, e.Reason), document.Code(e.Lines))
		}
		for _, w := range dev.Works {
			d.Add(document.Heading(dev.Name))
			switch {
			case w.Over.IsZero():
				d.Add(textf("%s, worked by hand by %s: what was done so, nobody has read", hour(w.Began), w.By))
			case len(w.Differs) == 0:
				d.Add(textf("%s to %s, worked by hand by %s: nothing was different after it", hour(w.Began), hour(w.Over), w.By))
			default:
				d.Add(textf("%s to %s, worked by hand by %s. Different after it:", hour(w.Began), hour(w.Over), w.By), document.Code(w.Differs))
			}
		}
	}
}

func (d *morningDocument) decisions() {
	m := d.m
	if len(m.Values) > 0 {
		d.Add(document.Section("Values"))
		var rows [][]string
		for _, v := range m.Values {
			from := "given"
			if v.Usual {
				from = "the runbook's own"
			}
			rows = append(rows, []string{v.Name, v.Prompt, v.Value, from})
		}
		d.table([]string{"value", "what it is", "was", "from"}, rows)
	}
	if len(m.Notes) > 0 {
		d.Add(document.Section("What was noted"))
		var rows [][]string
		for _, n := range m.Notes {
			rows = append(rows, []string{hour(n.At), n.By, n.Text})
		}
		d.table([]string{"at", "who", "note"}, rows)
	}
	d.Add(document.Section("Who decided what"))
	if len(m.Decisions)+len(m.Waivers) == 0 {
		d.text("Nothing had to be decided.")
		return
	}
	if len(m.Decisions) > 0 {
		var rows [][]string
		for _, x := range m.Decisions {
			about := x.Why
			if x.Device != "" {
				about = x.Device + ": " + about
			}
			rows = append(rows, []string{hour(x.At), x.By, string(x.Choice), about, x.Reason})
		}
		d.table([]string{"at", "who", "decided", "about", "why"}, rows)
	}
	if len(m.Waivers) > 0 {
		d.text("Prechecks that were waived:")
		var rows [][]string
		for _, w := range m.Waivers {
			used := "not needed"
			if w.Used {
				used = "passed by it"
			}
			rows = append(rows, []string{w.Check, w.On, w.By, w.Reason, used})
		}
		d.table([]string{"check", "on", "who", "why", ""}, rows)
	}
}

// Shapes are how the states are drawn in a line of text.
var shapes = map[night.State]rune{
	night.Checking:  '·',
	night.Recording: '○',
	night.Armed:     '○',
	night.Changing:  '█',
	night.Verifying: '▓',
	night.Soaking:   '░',
	night.Held:      '■',
	night.Absent:    '◐',
	night.Dark:      '▲',
	night.Reverting: '◄',
}

// mostDrawn is how many devices are drawn one by one; with more, their batches are.
const mostDrawn = 120

func (d *morningDocument) timeline() {
	const columns = 60
	m := d.m
	took := m.Took()
	if took <= 0 || len(m.Devices) == 0 {
		return
	}
	d.Add(document.Section("Timeline"))
	column := "less than 0.1s"
	if c := (took / columns).Round(100 * time.Millisecond); c > 0 {
		column = c.String()
	}
	d.text("One column is " + column +
		"; · checking  ○ backup and timer  █ changing  ▓ verifying  ░ soaking  ◐ absent  ■ held  ▲ out of contact  ◄ being taken back.")
	var lines []string
	lines = append(lines, fmt.Sprintf("%-16s %-*s %s", "", columns-8, hour(m.Began), hour(m.Began.Add(took))))
	cell := func(t time.Time) int {
		return min(max(int(float64(columns)*float64(t.Sub(m.Began))/float64(took)), 0), columns-1)
	}
	for _, b := range m.Batches {
		if b.Began.IsZero() {
			lines = append(lines, fmt.Sprintf("batch %-3d never began", b.Number))
			continue
		}
		lines = append(lines, fmt.Sprintf("batch %-3d  %s, %d of %d kept", b.Number, m.during(b), b.Kept, b.Devices))
		for _, dev := range m.Devices {
			if dev.Batch != b.Number || len(m.Devices) > mostDrawn && dev.Result == night.Kept {
				continue
			}
			row := []rune(strings.Repeat(" ", columns))
			for _, s := range dev.Stages {
				for i := cell(s.From); i <= cell(s.To); i++ {
					if shape := shapes[s.State]; shape != 0 {
						row[i] = shape
					}
				}
			}
			lines = append(lines, fmt.Sprintf("  %-14s %s %s", dev.Name, string(row), dev.Result))
		}
	}
	d.Add(document.Code(lines))
	var rows [][]string
	for _, p := range m.Durations() {
		rows = append(rows, []string{string(p.State), fmt.Sprint(len(p.Times)), lasted(p.Median()), lasted(p.Most())})
	}
	d.table([]string{"stage", "devices", "in the middle", "longest"}, rows)
	if causes, sites := m.Causes(); len(causes) > 0 {
		rows = nil
		for _, c := range causes {
			rows = append(rows, []string{"cause", c.What, fmt.Sprint(c.N)})
		}
		for _, c := range sites {
			rows = append(rows, []string{"site", c.What, fmt.Sprint(c.N)})
		}
		d.table([]string{"failures by", "", "devices"}, rows)
	}
}

// during says when a batch was.
func (m *Morning) during(b BatchReport) string {
	switch {
	case !b.Ended.IsZero():
		return hour(b.Began) + " to " + hour(b.Ended)
	case m.Runs:
		return "since " + hour(b.Began)
	}
	return "from " + hour(b.Began) + ", its end was not seen"
}

func (d *morningDocument) deviceTable() {
	d.Add(document.Section("Every device"))
	var rows [][]string
	for _, dev := range d.m.Devices {
		rows = append(
			rows,
			[]string{dev.Name, dev.Site, dev.Platform, fmt.Sprint(dev.Batch), string(dev.Result), hour(dev.Began), span(dev.Took()),
				dev.DiffersBy(), dev.Prediction},
		)
	}
	d.table([]string{"device", "site", "platform", "batch", "result", "began", "took", "differs by", "prediction"}, rows)
	if len(d.m.LeftOut) == 0 {
		return
	}
	d.text("Left out of it:")
	rows = nil
	for _, l := range d.m.LeftOut {
		rows = append(rows, []string{l.Device, l.Why})
	}
	d.table([]string{"device", "why"}, rows)
}

// each tells of devices with which something was special.
func (d *morningDocument) each() {
	var rows [][]string
	for _, dev := range d.m.Devices {
		var marks []string
		for _, s := range dev.Steps {
			if s.Mark != night.StepDone && s.Mark != "" {
				marks = append(marks, fmt.Sprintf("%s: %s", s.Title, s.Mark))
			}
		}
		for _, c := range dev.Checks {
			if !c.OK {
				text := "precheck " + c.Name + ": " + c.Note
				if c.Waived != "" {
					text += " (waived: " + c.Waived + ")"
				}
				marks = append(marks, text)
			}
		}
		if marks = append(marks, dev.Notices...); len(marks) > 0 {
			rows = append(rows, []string{dev.Name, strings.Join(marks, "; ")})
		}
	}
	if len(rows) > 0 {
		d.Add(document.Section("Steps and prechecks that were not as usual"))
		d.table([]string{"device", "what"}, rows)
	}
}

func (d *morningDocument) sums() {
	d.Add(document.Section("Checksums"))
	d.text("SHA-256. Of this night's events in the journal:")
	d.Add(document.Code{d.m.Sum})
	var lines []string
	for _, dev := range d.m.Devices {
		if dev.Backup != "" {
			lines = append(lines, dev.SHA256+"  "+dev.Name+"/"+fileOf(dev.Backup))
		}
		if dev.Left != "" {
			lines = append(lines, dev.LeftSHA256+"  "+dev.Name+"/"+fileOf(dev.Left))
		}
	}
	if len(lines) > 0 {
		d.text("Of the backups, before and after, as sha256sum -c reads them in the directory of the backups:")
		d.Add(document.Code(lines))
	}
}

func fileOf(path string) string { return path[strings.LastIndexAny(path, `/\`)+1:] }
