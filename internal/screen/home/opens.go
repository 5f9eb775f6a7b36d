package home

import (
	"context"

	"metabasis/internal/acts"
	"metabasis/internal/screen"
	"metabasis/internal/screen/nights"
	"metabasis/internal/screen/open"
	"metabasis/internal/screen/records"
)

func (v *View) openShelf() { open.Shelf(v.host, v.desk, v.wrong) }

func (v *View) openNights() {
	v.host.Open(nights.New(nights.Source{
		List: v.desk.Nights, Devices: v.desk.DevicesOf,
		Open: func(h *screen.Host, id int64) { open.Past(h, v.desk, id, func(err error) { v.wrong(err) }) },
	}))
}

func (v *View) openRecords() {
	v.host.Open(records.New(records.Source{List: v.desk.Records().List, Compare: func(h *screen.Host, a, b string) {
		open.Comparison(h, v.desk, "Comparing "+a+" with "+b, func(ctx context.Context) (*acts.Comparison, error) {
			return v.desk.Compare(ctx, a, b)
		}, 0, v.wrong)
	}}))
}
