package draw

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/report"
)

// shade is how a state is drawn: its ground, and a sign in it for what grey alone would not
// tell.
type shade struct {
	fill  int
	sign  string
	words string
}

var shades = map[night.State]shade{
	night.Checking:  {232, "", "checking"},
	night.Recording: {205, "", "backup, records"},
	night.Armed:     {205, "", "backup, records"},
	night.Changing:  {60, "", "changing"},
	night.Verifying: {120, "", "verifying"},
	night.Soaking:   {178, "", "soaking"},
	night.Held:      {255, "H", "held"},
	night.Absent:    {236, "~", "restarting"},
	night.Dark:      {255, "?", "out of contact"},
	night.Reverting: {255, "<", "being taken back"},
}

// legendOf is the order of the legend.
var legendOf = []night.State{
	night.Checking,
	night.Recording,
	night.Changing,
	night.Verifying,
	night.Soaking,
	night.Absent,
	night.Held,
	night.Dark,
	night.Reverting,
}

// Sizes of the timeline, in millimetres.
const (
	deviceRow = 4.4
	pageHigh  = 210.0
	foot      = 24.0 // for the legend, and the number of the page
	// mostRows is how many devices are drawn one by one; of more, those that went as
	// intended are told by their batch.
	mostRows = 240
)

// Timeline draws a night by batch and device: a row a device, what it was in when.
func Timeline(p Pen, m *report.Morning) {
	t := &timeline{Pen: p, m: m, s: scale{from: m.Began, to: cmp.Or(m.Ended, m.Last), left: edge + labels, width: wide - labels - times}}
	if !t.s.to.After(t.s.from) {
		t.s.to = t.s.from.Add(time.Minute)
	}
	t.high = pageHigh
	if rows := len(m.Devices); rows <= mostRows { // a short night needs less
		t.high = min(pageHigh, 33+float64(rows)*deviceRow+float64(len(m.Batches))*(deviceRow+2)+foot+6)
	}
	t.page()
	for _, b := range m.Batches {
		t.batch(b)
	}
	t.end()
}

type timeline struct {
	Pen
	m     *report.Morning
	s     scale
	y     float64
	high  float64 // of a page
	pages int
}

// page begins a page, with the axis at its top.
func (t *timeline) page() {
	t.pages++
	t.Page(wide+2*edge, t.high)
	title := t.m.Title
	if t.m.Change != "" {
		title += " · " + t.m.Change
	}
	if t.pages > 1 {
		title += fmt.Sprintf(" (%d)", t.pages)
	}
	t.Text(edge, 12, 5, true, 0, title)
	t.Text(edge, 19, text, false, 60, fmt.Sprintf("Night %d, %s. %s", t.m.Night, t.m.Began.Local().Format("Mon 2 Jan 2006"), t.m.Outcome))
	local := t.s
	local.from, local.to = t.s.from.Local(), t.s.to.Local()
	local.axis(t.Pen, 30, t.high-foot)
	t.y = 33
}

// room makes room for a row of that height.
func (t *timeline) room(high float64) {
	if t.y+high > t.high-foot {
		t.end()
		t.page()
	}
}

func (t *timeline) batch(b report.BatchReport) {
	t.room(3 * deviceRow)
	said := "never began"
	if !b.Began.IsZero() {
		said = fmt.Sprintf("%d of %d kept", b.Kept, b.Devices)
	}
	t.Text(edge, t.y+3.6, text, true, 0, fmt.Sprintf("Batch %d", b.Number))
	t.Text(edge+18, t.y+3.6, small, false, 60, said)
	if !b.Began.IsZero() {
		from, to := t.s.at(b.Began), t.s.at(cmp.Or(b.Ended, t.m.Last))
		t.Line(from, t.y+2.4, to, t.y+2.4, 0.5, 0, false)
		t.Line(from, t.y+1.4, from, t.y+3.4, 0.5, 0, false)
		t.Line(to, t.y+1.4, to, t.y+3.4, 0.5, 0, false)
	}
	t.y += deviceRow + 0.6
	folded := 0
	for _, d := range t.m.Devices {
		if d.Batch != b.Number {
			continue
		}
		if len(t.m.Devices) > mostRows && d.Result.Good() {
			folded++
			continue
		}
		t.room(deviceRow)
		t.device(d)
	}
	if folded > 0 {
		t.room(deviceRow)
		t.Text(edge+3, t.y+3.1, small, false, 60, fmt.Sprintf("and %d as intended", folded))
		t.y += deviceRow
	}
	t.y += 1.4
}

func (t *timeline) device(d report.DeviceReport) {
	t.Text(edge+3, t.y+3.1, small, false, 0, fitted(t.Pen, d.Name, labels-6))
	for _, s := range d.Stages {
		look, known := shades[s.State]
		if !known {
			continue
		}
		from, to := t.s.at(s.From), t.s.at(s.To)
		line := none
		if look.fill >= 200 {
			line = 110
		}
		t.Rect(from, t.y+0.5, max(to-from, 0.3), deviceRow-1.2, look.fill, line)
		if look.sign != "" && to-from > 2 {
			t.Text((from+to)/2-0.7, t.y+3.1, small, true, 0, look.sign)
		}
	}
	said := string(d.Result)
	if !d.Result.Good() && d.Note != "" {
		said += ": " + d.Note
	}
	t.Text(t.s.left+t.s.width+2, t.y+3.1, small, !d.Result.Good(), 0, fitted(t.Pen, said, times-4))
	t.y += deviceRow
}

// end writes the legend at the foot of a page.
func (t *timeline) end() {
	x, y := edge, t.high-foot+4
	for _, s := range legendOf {
		look := shades[s]
		line := none
		if look.fill >= 200 {
			line = 110
		}
		t.Rect(x, y, 7, 2.8, look.fill, line)
		if look.sign != "" {
			t.Text(x+2.7, y+2.3, small, true, 0, look.sign)
		}
		t.Text(x+9, y+2.3, small, false, 0, look.words)
		x += 14 + t.Width(small, false, look.words)
	}
}

// fitted is a text that is no wider than there is room.
func fitted(p Pen, s string, room float64) string {
	if p.Width(small, false, s) <= room {
		return s
	}
	r := []rune(s)
	for len(r) > 1 && p.Width(small, false, string(r)+"…") > room {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// Charts draws how long the stages took, and the failures by cause and by site.
func Charts(p Pen, m *report.Morning) {
	parts := m.Durations()
	causes, sites := m.Causes()
	const most = 14
	high := 36 + 7.5*float64(len(parts)) + 16
	if len(causes) > 0 {
		high += 26 + 6.4*float64(min(len(causes), most)+min(len(sites), most))
	}
	p.Page(wide+2*edge, max(high, 90))
	p.Text(edge, 12, 5, true, 0, m.Title)
	p.Text(
		edge,
		19,
		text,
		false,
		60,
		fmt.Sprintf(
			"Night %d: how long the stages took on each device, from the quickest to the slowest; the mark is the one in the middle",
			m.Night,
		),
	)
	y := stages(p, parts, 28)
	if len(causes) == 0 {
		p.Text(edge, y+8, text, false, 60, "Nothing went wrong.")
		return
	}
	p.Text(edge, y+10, text, true, 0, "What went wrong, by cause")
	y = bars(p, causes[:min(len(causes), most)], y+13)
	p.Text(edge, y+8, text, true, 0, "and by site")
	bars(p, sites[:min(len(sites), most)], y+11)
}

// stages draws the range of the durations of each stage.
func stages(p Pen, parts []report.Parts, y float64) float64 {
	longest := time.Second
	for _, d := range parts {
		longest = max(longest, d.Most())
	}
	left, width := edge+labels, wide-labels-times
	at := func(d time.Duration) float64 { return left + width*float64(d)/float64(longest) }
	for _, d := range parts {
		p.Text(edge, y+4, text, false, 0, string(d.State))
		p.Text(edge+26, y+4, small, false, 90, fmt.Sprintf("%d devices", len(d.Times)))
		first, mid, last := at(slices.Min(d.Times)), at(d.Median()), at(d.Most())
		p.Rect(first, y+1, max(last-first, 0.6), 4, 215, 110)
		p.Rect(mid-0.5, y+0.2, 1, 5.6, 0, none)
		p.Text(left+width+3, y+4, small, false, 0, fmt.Sprintf("%s in the middle, %s at most", short(d.Median()), short(d.Most())))
		y += 7.5
	}
	p.Line(left, y, left+width, y, 0.2, 120, false)
	p.Text(left, y+4, small, false, 60, "0s")
	word := short(longest)
	p.Text(left+width-p.Width(small, false, word), y+4, small, false, 60, word)
	return y + 4
}

func short(d time.Duration) string {
	if d < 10*time.Second {
		return fmt.Sprintf("%.1fs", d.Seconds())
	}
	return long(d)
}

// bars draws how often things were.
func bars(p Pen, counts []report.Counted, y float64) float64 {
	most := 1
	for _, c := range counts {
		most = max(most, c.N)
	}
	const left, width = edge + 100, 120.0
	for _, c := range counts {
		p.Text(edge, y+3.8, small, false, 0, fitted(p, c.What, 96))
		w := width * float64(c.N) / float64(most)
		p.Rect(left, y+0.8, w, 4, 120, none)
		p.Text(left+w+2, y+3.8, small, false, 0, fmt.Sprint(c.N))
		y += 6.4
	}
	return y
}
