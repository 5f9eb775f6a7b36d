package report

import (
	"cmp"
	"fmt"
	"slices"

	"metabasis/internal/core/night"
	"metabasis/internal/core/runbook"
	"metabasis/internal/document"
)

// reached shows which addresses answered: for each of them and each step how many devices they
// answered in full in the end, and every device where it was otherwise.
func (d *morningDocument) reached() {
	type row struct {
		step, to, from string
		whole, odd     int
		slowest        string
		worst          night.Reach
	}
	var rows []*row
	var odd [][]string
	at := map[[3]string]*row{}
	for _, dev := range d.m.Devices {
		for _, r := range lastReached(dev.Reached) {
			step := cmp.Or(d.m.stepTitle(dev, r.Step), "before the change")
			key := [3]string{step, r.To, r.From}
			if at[key] == nil {
				at[key] = &row{step: step, to: r.To, from: fromWhere(r)}
				rows = append(rows, at[key])
			}
			one := at[key]
			if r.Took > one.worst.Took {
				one.worst, one.slowest = r, milliseconds(r.Took)+", "+dev.Name
			}
			if r.Whole() {
				one.whole++
				continue
			}
			one.odd++
			odd = append(odd, []string{dev.Name, step, r.To, fromWhere(r),
				r.Reached.String(), hour(r.At)})
		}
	}
	if len(rows) == 0 {
		return
	}
	d.Add(document.Section("What was reached"))
	var table [][]string
	for _, r := range rows {
		table = append(table, []string{r.step, r.to, r.from, fmt.Sprint(r.whole), fmt.Sprint(r.odd), r.slowest})
	}
	d.table([]string{"step", "address", "from", "answered, devices", "lost, nothing or not known", "slowest first answer"}, table)
	if len(odd) > 0 {
		d.table([]string{"device", "step", "address", "from", "what came back", "at"}, odd)
	}
}

// lastReached is what came of each address of each step in the end.
func lastReached(all []night.Reach) (out []night.Reach) {
	for _, r := range all {
		same := func(o night.Reach) bool { return o.Step == r.Step && o.ReachAsk == r.ReachAsk }
		if i := slices.IndexFunc(out, same); i >= 0 {
			out[i] = r
			continue
		}
		out = append(out, r)
	}
	return out
}

// fromWhere says from where an address was asked.
func fromWhere(r night.Reach) string {
	switch r.From {
	case "":
		return "the device"
	case runbook.Here:
		return "this machine"
	}
	return r.From
}
