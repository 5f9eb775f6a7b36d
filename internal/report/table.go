package report

import (
	"fmt"

	"metabasis/internal/core/table"
)

// Table sums up a table: what the devices have in common in the column named,
// else in those that tell them apart; then those without rows and those that
// could not be read.
func Table(t *table.Table, column string) []string {
	out := []string{""}
	cols := t.Telling()
	if i := t.Column(column); i >= 0 {
		cols = []int{i}
	}
	for _, i := range cols {
		if !t.Many || column != "" {
			out = append(out, fmt.Sprintf("%s: %s", t.Columns[i].Name, t.Summary(i)))
		}
	}
	if t.Many {
		out = append(out, fmt.Sprintf("%s on %s.", Count(len(t.Rows), "row"), Count(t.Devices()+len(t.Empty), "device")))
	} else if len(cols) == 0 && len(t.Rows) > 0 {
		out = append(out, fmt.Sprintf("%s, none unlike the others.", Count(len(t.Rows), "device")))
	}
	for _, d := range t.Empty {
		out = append(out, d+" has none.")
	}
	for _, f := range t.Failed {
		out = append(out, fmt.Sprintf("%s was not read: %s", f.Device, f.Why))
	}
	return out
}
