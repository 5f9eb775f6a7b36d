package report

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"metabasis/internal/core/plan"
)

func TestWindow(t *testing.T) {
	open := time.Date(2026, 12, 2, 23, 30, 0, 0, time.UTC)
	for want, w := range map[string]plan.Window{
		"none: nothing must be over by any time":                       {None: true, Open: open, Close: open.AddDate(10, 0, 0)},
		"opens when the run begins, for 2h, reserve 20m":               {Now: true, Open: open, Close: open.Add(2 * time.Hour), Reserve: 20 * time.Minute},
		"Wed 2 Dec 2026 23:30 to Thu 3 Dec 01:30 UTC, 2h, reserve 20m": {Open: open, Close: open.Add(2 * time.Hour), Reserve: 20 * time.Minute},
		"Wed 2 Dec 2026 21:30 to 23:30 UTC, 2h, reserve 20m":           {Open: open.Add(-2 * time.Hour), Close: open, Reserve: 20 * time.Minute},
	} {
		assert.Equal(t, want, Window(w))
	}
}
