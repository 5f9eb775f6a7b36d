package draw

import (
	"cmp"
	"fmt"
	"maps"
	"slices"

	"metabasis/internal/core/plan"
)

// Sizes of what stands in the network.
const (
	boxWide, boxHigh = 29.0, 8.0
	gap              = 3.8
	inRow            = 4   // devices beside one another
	manyDevices      = 240 // from so many on, a site is one box
)

// Network draws the devices of a plan by their sites: what each is reached through, which
// are pairs, and the batch of each.
func Network(p Pen, of *plan.Plan) {
	sites := sitesOf(of)
	flow(sites)
	height := 0.0
	for _, s := range sites {
		height = max(height, s.y+s.high)
	}
	p.Page(wide+2*edge, height+22)
	head(p, of, fmt.Sprintf("The network of its scope: %d devices, the batch of each in its box", len(of.Targets())))
	at := map[string]*node{}
	for _, s := range sites {
		p.Rect(s.x, s.y, s.wide, s.high, 250, 170)
		p.Text(s.x+2, s.y+4.6, text, true, 0, s.name)
		p.Text(s.x+s.wide-2-p.Width(small, false, s.said), s.y+4.4, small, false, 60, s.said)
		for _, n := range s.nodes {
			n.x, n.y = n.x+s.x, n.y+s.y
			at[n.name] = n
		}
	}
	for _, s := range sites { // lines first: boxes stand on them
		for _, n := range s.nodes {
			if up := at[n.via]; up != nil {
				n.joined(p, up)
			}
			if mate := at[n.partner]; mate != nil && n.name < mate.name {
				p.Line(n.x+boxWide/2, n.y+boxHigh/2, mate.x+boxWide/2, mate.y+boxHigh/2, 1.1, 60, false)
			}
		}
	}
	for _, s := range sites {
		for _, n := range s.nodes {
			n.draw(p, len(of.Batches))
		}
	}
	y, x := height+6, edge
	item := func(draw func(), words string) {
		draw()
		p.Text(x+11, y+2.2, small, false, 0, words)
		x += 16 + p.Width(small, false, words)
	}
	item(
		func() { p.Rect(x, y-0.6, 8, 3.4, 225, 60); p.Text(x+3, y+2, small, true, 0, "2") },
		"in scope, changed in batch 2; later ones are darker",
	)
	item(func() { p.Rect(x, y-0.6, 8, 3.4, 255, 190) }, "not in scope")
	item(func() { p.Line(x, y+1, x+8, y+1, 0.25, 90, false) }, "reached through the upper one")
	item(func() { p.Line(x, y+1, x+8, y+1, 1.1, 60, false) }, "a pair: one after the other")
}

// node is a device, or one of another scope that others are reached through.
type node struct {
	name, via, partner string
	batch              int // from 1; 0 is not in scope
	depth              int
	nth                int     // of its depth in its site
	x, y               float64 // in its site, then on the page
}

func (n *node) draw(p Pen, batches int) {
	if n.batch == 0 {
		p.Rect(n.x, n.y, boxWide, boxHigh, 255, 190)
		p.Text(n.x+2, n.y+5, small, false, 110, fit(p, n.name, boxWide-4))
		return
	}
	p.Rect(n.x, n.y, boxWide, boxHigh, 255, 60)
	tone := 225 - 110*(n.batch-1)/max(batches-1, 1)
	p.Rect(n.x, n.y, 8, boxHigh, tone, 60)
	number := fmt.Sprint(n.batch)
	p.Text(n.x+4-p.Width(text, true, number)/2, n.y+5.2, text, true, 0, number)
	p.Text(n.x+9.5, n.y+5, small, false, 0, fit(p, n.name, boxWide-11))
}

// joined draws the line to the device that a node is reached through: up, along, and up,
// between the boxes, each such device with a level of its own to go along, so that no line
// seems to lead to another.
func (n *node) joined(p Pen, up *node) {
	x, to := n.x+boxWide/2, up.x+boxWide/2
	if n.y <= up.y+boxHigh { // in another row of sites
		p.Line(x, n.y, to, up.y+boxHigh, 0.25, 90, true)
		return
	}
	along := up.y + boxHigh + 1.2 + 1.1*float64(up.nth%4)
	p.Line(x, n.y, x, along, 0.25, 90, false)
	p.Line(x, along, to, along, 0.25, 90, false)
	p.Line(to, along, to, up.y+boxHigh, 0.25, 90, false)
}

// fit is a text as far as it goes into a width.
func fit(p Pen, s string, wide float64) string {
	if p.Width(small, false, s) <= wide {
		return s
	}
	r := []rune(s)
	for len(r) > 1 && p.Width(small, false, string(r)+"…") > wide {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

// site is a place with its devices.
type site struct {
	name, said       string
	nodes            []*node
	x, y, wide, high float64
}

// sitesOf puts the devices into their sites, in the order of the plan's names.
func sitesOf(of *plan.Plan) (out []*site) {
	bySite, in := map[string]*site{}, map[string]bool{}
	add := func(name string, n *node) {
		s := bySite[name]
		if s == nil {
			s = &site{name: cmp.Or(name, "no site")}
			bySite[name] = s
		}
		s.nodes = append(s.nodes, n)
	}
	for _, t := range of.Targets() {
		in[t.Device.Name] = true
	}
	if len(in) > manyDevices {
		return summed(of)
	}
	for _, t := range of.Targets() {
		d := t.Device
		add(d.Site, &node{name: d.Name, via: d.Upstream(), partner: t.Partner, batch: t.Batch + 1, depth: len(t.Above)})
		if up := d.Upstream(); up != "" && !in[up] {
			in[up] = true
			add(d.Site, &node{name: up, depth: len(t.Above) - 1})
		}
	}
	for _, name := range slices.Sorted(maps.Keys(bySite)) {
		s := bySite[name]
		changed := 0
		for _, n := range s.nodes {
			if n.batch > 0 {
				changed++
			}
		}
		s.said = fmt.Sprintf("%d in scope", changed)
		s.layers()
		out = append(out, s)
	}
	return out
}

// layers places the devices of a site: those nearest to us at the top, and those that are
// reached through one beside one another. Where a layer goes on in another row, that is
// moved by half a box, so that its lines go up between those above.
func (s *site) layers() {
	slices.SortStableFunc(s.nodes, func(a, b *node) int {
		return cmp.Or(cmp.Compare(a.depth, b.depth), cmp.Compare(a.via, b.via), cmp.Compare(a.name, b.name))
	})
	y, col, nth, last := 8.0, 0, 0, -1
	shift := 0.0
	for _, n := range s.nodes {
		switch {
		case last >= 0 && n.depth != last:
			y, col, nth, shift = y+boxHigh+2*gap, 0, 0, 0
		case col == inRow:
			y, col = y+boxHigh+gap, 0
			shift = (boxWide+gap)/2 - shift
		}
		n.x, n.y, n.nth = gap+shift+float64(col)*(boxWide+gap), y, nth
		s.wide = max(s.wide, n.x+boxWide+gap)
		last = n.depth
		col++
		nth++
	}
	s.wide, s.high = max(s.wide, 46), y+boxHigh+gap
}

// summed is a site a box, where there are too many devices to draw.
func summed(of *plan.Plan) (out []*site) {
	count := map[string]map[int]int{}
	for _, t := range of.Targets() {
		if count[t.Device.Site] == nil {
			count[t.Device.Site] = map[int]int{}
		}
		count[t.Device.Site][t.Batch+1]++
	}
	for _, name := range slices.Sorted(maps.Keys(count)) {
		batches := slices.Sorted(maps.Keys(count[name]))
		s := &site{name: cmp.Or(name, "no site")}
		total := 0
		for _, b := range batches {
			total += count[name][b]
			s.nodes = append(s.nodes, &node{name: fmt.Sprintf("%d of them", count[name][b]), batch: b})
		}
		s.said = fmt.Sprintf("%d in scope", total)
		s.layers()
		out = append(out, s)
	}
	return out
}

// flow places the sites on the page, one beside the other as long as there is room.
func flow(sites []*site) {
	x, y, high := edge, 26.0, 0.0
	for _, s := range sites {
		if x > edge && x+s.wide > edge+wide {
			x, y, high = edge, y+high+gap, 0
		}
		s.x, s.y = x, y
		x += s.wide + gap
		high = max(high, s.high)
	}
}
