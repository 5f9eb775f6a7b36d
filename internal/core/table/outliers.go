package table

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/core/runbook"
)

// group is what the devices of one group have in common.
type group struct {
	devices int
	tallies []map[string]int // devices by value, for each column
	telling []bool           // by column
	bySite  []bool           // by column: its values are those of a site
}

// Count is how many devices have a value.
type Count struct {
	Value   string
	Devices int
}

// tally counts the devices of a group that have each value of a column, the most
// common first.
func (t *Table) tally(in string, column int) []Count {
	seen := map[string]map[string]bool{}
	for _, r := range t.Rows {
		if r.Group != in {
			continue
		}
		v := t.Columns[column].Text(r.Values[column])
		if seen[v] == nil {
			seen[v] = map[string]bool{}
		}
		seen[v][r.Device] = true
	}
	var out []Count
	for v, devices := range seen {
		out = append(out, Count{v, len(devices)})
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Value, b.Value))
	})
	return out
}

// Groups lists the groups in the order of their first rows.
func (t *Table) Groups() (out []string) {
	for _, r := range t.Rows {
		if !slices.Contains(out, r.Group) {
			out = append(out, r.Group)
		}
	}
	return out
}

// analyse finds what the devices of each group have in common.
func (t *Table) analyse() {
	t.groups = map[string]*group{}
	for _, name := range t.Groups() {
		g := &group{devices: t.devicesIn(name)}
		for i, c := range t.Columns {
			tally := t.tally(name, i)
			counts := map[string]int{}
			for _, n := range tally {
				counts[n.Value] = n.Devices
			}
			g.tallies = append(g.tallies, counts)
			g.telling = append(g.telling, tells(c, tally, g.devices))
			g.bySite = append(g.bySite, t.isBySite(name, i))
		}
		t.groups[name] = g
	}
}

// tells tells whether a column tells devices apart in a way worth looking at: it
// has more than one value, most devices share theirs with others, and not all
// have all of them. Times, serial numbers and the like are different on every
// device, the numbers of ports the same on all: they tell nothing.
func tells(c Column, tally []Count, devices int) bool {
	if c.Type == runbook.TimeColumn || len(tally) == 0 || tally[len(tally)-1].Devices == devices {
		return false
	}
	shared, all := 0, 0
	for _, n := range tally {
		all += n.Devices
		if n.Devices > 1 {
			shared += n.Devices
		}
	}
	return len(tally) > 1 && 2*shared > all
}

// isBySite tells whether a column of a group has the same values on all devices of a site,
// and others at other sites: at two sites at least, of two devices at least.
func (t *Table) isBySite(in string, column int) bool {
	of := map[string][]string{} // the values of a device
	for _, r := range t.Rows {
		if r.Group == in {
			of[r.Device] = append(of[r.Device], t.Columns[column].Text(r.Values[column]))
		}
	}
	at, devices := map[string]string{}, map[string]int{}
	for device, values := range of {
		site := t.Sites[device]
		if site == "" {
			return false
		}
		slices.Sort(values)
		all := strings.Join(values, "\x00")
		if devices[site]++; devices[site] > 1 && at[site] != all {
			return false
		}
		at[site] = all
	}
	several, values := 0, map[string]bool{}
	for site, n := range devices {
		if n > 1 {
			several++
			values[at[site]] = true
		}
	}
	return several > 1 && len(values) > 1
}

// Telling lists the columns that tell devices of some group apart.
func (t *Table) Telling() (out []int) {
	if t.groups == nil {
		t.analyse()
	}
	for i := range t.Columns {
		for _, g := range t.groups {
			if g.telling[i] {
				out = append(out, i)
				break
			}
		}
	}
	return out
}

// rarity tells how unusual a value is in its group: the share of devices that do not have
// it, if few have it where most have another; else 0. What is the same on all devices of a
// site, and another at other sites, is so on purpose.
func (t *Table) rarity(r Row, column int) float64 {
	g := t.groups[r.Group]
	if g == nil || !g.telling[column] {
		return 0
	}
	n, top := g.tallies[column][t.Columns[column].Text(r.Values[column])], 0
	for _, devices := range g.tallies[column] {
		top = max(top, devices)
	}
	switch {
	case 2*top < g.devices: // nothing is usual
		return 0
	case n > 1 && 4*n > g.devices, 2*n > top: // it is no few that have it
		return 0
	case g.bySite[column]: // it is so on purpose
		return 0
	}
	return 1 - float64(n)/float64(max(g.devices, 1))
}

// Odd tells whether a value of a row is one that few devices of its group share.
// OutliersFirst must have looked at the table.
func (t *Table) Odd(r Row, column int) bool { return t.rarity(r, column) > 0 }

// OutliersFirst sorts the rows so that those with values which few devices share
// come first; the others stay as they are. It returns how many those are.
func (t *Table) OutliersFirst() int {
	t.analyse()
	score := make(map[*Row]float64, len(t.Rows))
	rows := make([]*Row, len(t.Rows))
	odd := 0
	for k := range t.Rows {
		r := &t.Rows[k]
		rows[k] = r
		for i := range t.Columns {
			score[r] = max(score[r], t.rarity(*r, i))
		}
		if score[r] > 0 {
			odd++
		}
	}
	slices.SortStableFunc(rows, func(a, b *Row) int { return cmp.Compare(score[b], score[a]) })
	sorted := make([]Row, len(rows))
	for k, r := range rows {
		sorted[k] = *r
	}
	t.Rows = sorted
	return odd
}

// devicesIn counts the devices of a group that have rows.
func (t *Table) devicesIn(group string) int {
	seen := map[string]bool{}
	for _, r := range t.Rows {
		if r.Group == group {
			seen[r.Device] = true
		}
	}
	return len(seen)
}

// Devices counts the devices with rows.
func (t *Table) Devices() int {
	seen := map[string]bool{}
	for _, r := range t.Rows {
		seen[r.Device] = true
	}
	return len(seen)
}

// Summary says in a line what the devices have in common in a column: "19 have
// 4.2, 2 have 4.1". With several groups, it says so of each.
func (t *Table) Summary(column int) string {
	groups := t.Groups()
	var parts []string
	for _, g := range groups {
		text := t.summary(g, column)
		if len(groups) > 1 {
			text = g + ": " + text
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}

func (t *Table) summary(group string, column int) string {
	var parts []string
	tally := t.tally(group, column)
	for i, c := range tally {
		if i == 4 && len(tally) > 5 {
			parts = append(parts, fmt.Sprintf("and %d more values", len(tally)-4))
			break
		}
		v := c.Value
		if v == "" {
			v = "nothing"
		}
		verb := "have"
		if c.Devices == 1 {
			verb = "has"
		}
		parts = append(parts, fmt.Sprintf("%d %s %s", c.Devices, verb, v))
	}
	return strings.Join(parts, ", ")
}
