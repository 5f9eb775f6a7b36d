package report

import (
	"fmt"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/runbook"
)

// Window says when the window is, with its day and zone.
func Window(w plan.Window) string {
	if w.None {
		return "none: nothing must be over by any time"
	}
	length, reserve := runbook.FormatDuration(w.Close.Sub(w.Open)), runbook.FormatDuration(w.Reserve)
	if w.Now {
		return fmt.Sprintf("opens when the run begins, for %s, reserve %s", length, reserve)
	}
	end := "15:04 MST"
	if w.Open.YearDay() != w.Close.YearDay() {
		end = "Mon 2 Jan 15:04 MST"
	}
	return fmt.Sprintf("%s to %s, %s, reserve %s", w.Open.Format("Mon 2 Jan 2006 15:04"), w.Close.Format(end), length, reserve)
}
