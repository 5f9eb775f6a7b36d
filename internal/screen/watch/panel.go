package watch

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"metabasis/internal/core/night"
	"metabasis/internal/core/plan"
	"metabasis/internal/report"
	"metabasis/internal/screen/ink"
)

// Panel draws one device: where it is, its steps, timer and difference, and the
// end of its transcript.
func Panel(d *night.Device, now time.Time, tail func(lines int) []string, cells, height int) []ink.Row {
	if d == nil {
		return nil
	}
	s := ink.SignOf(d.State)
	head := ink.Row{}.Strong(ink.Foam, d.Name).Add(ink.Foam, "  ").Add(s.Ink, s.Shape+" "+string(d.State))
	if d.State != night.Waiting {
		head = head.Add(ink.Dim, "  since "+d.Since.Format("15:04:05"))
	}
	rows := []ink.Row{
		head,
		ink.T(ink.Dim, strings.Join(nonEmpty(d.Site, d.Role, d.Platform, fmt.Sprintf("batch %d", d.Batch)), " · ")),
	}
	if d.ClearText {
		rows[1] = rows[1].Strong(ink.Lamp, "  clear text")
	}
	if d.State == night.Waiting && d.Why != "" {
		for _, l := range ink.Wrap(d.Why, cells, 3) {
			rows = append(rows, ink.T(ink.Dim, l))
		}
	}
	for _, l := range ink.Wrap(d.Note, cells, 3) {
		rows = append(rows, ink.T(ink.Foam, l))
	}
	rows = append(rows, ink.Row{})
	rows = append(rows, steps(d)...)
	rows = append(rows, facts(d, now, cells)...)
	left := height - len(rows) - 2
	if left < 2 {
		return rows[:min(len(rows), height)]
	}
	said := TranscriptRows(tail(left), cells)
	if len(said) == 0 {
		return rows
	}
	rows = append(rows, ink.Row{}, ink.T(ink.Dim, "transcript"))
	return append(rows, said...)
}

func nonEmpty(parts ...string) (out []string) {
	for _, p := range parts {
		if p != "" {
			out = append(out, p)
		}
	}
	return out
}

func steps(d *night.Device) []ink.Row {
	var rows []ink.Row
	from := 0
	if len(d.Steps) > 8 {
		from = min(max(d.Step-4, 0), len(d.Steps)-8)
	}
	for i := from; i < min(from+8, len(d.Steps)); i++ {
		done, ahead := KindShapes(d.Kind(i))
		shape, word, in := ahead, kindWord(d.Kind(i)), ink.Dim
		switch d.Marks[i] {
		case night.StepDone:
			shape, in = done, ink.Buoy
		case night.StepAlready:
			shape, word, in = "◎", "already", ink.Buoy
		case night.StepNot:
			shape, word, in = "◎", "not for it", ink.Dim
		case night.StepBegan:
			shape, word, in = "◧", "now", ink.Tide
			if d.Lines > 0 {
				word = fmt.Sprintf("line %d of %d", d.Line, d.Lines)
			}
		case night.StepFailed:
			shape, word, in = "◆", "failed", ink.Lamp
		case night.StepLeft:
			shape, word, in = "◇", "left out", ink.Heather
		case night.StepUndone:
			shape, word, in = "◇", "undone", ink.Heather
		}
		rows = append(rows, ink.T(in, shape+" ").Add(ink.Foam, d.Steps[i]).Add(ink.Dim, "  "+word))
	}
	return rows
}

// kindWord says what a step does that is no configuration.
func kindWord(k plan.StepKind) string {
	if k == plan.DoStep || k == plan.RestartStep {
		return string(k) + ": cannot be undone"
	}
	return string(k)
}

// facts are the timer, the expectation, the backup and the difference.
func facts(d *night.Device, now time.Time, cells int) []ink.Row {
	var rows []ink.Row
	label := func(name string) ink.Row { return ink.T(ink.Dim, ink.Fit(name, 9)) }
	if !d.TimerDue.IsZero() {
		left := d.TimerDue.Sub(now)
		text := fmt.Sprintf("%s, in %s of %s", d.Way.Does(d.TimerDue.Format("15:04:05")), ink.Short(left), ink.Short(d.TimerFor))
		if left < 0 {
			text = "was due " + d.TimerDue.Format("15:04:05")
		}
		rows = append(rows, label("way back").Add(ink.Foam, text))
	} else if d.Way == plan.NoTimer {
		rows = append(rows, label("way back").Add(ink.Lamp, "none of its own; if lost, it stays as it is"))
	}
	if d.Runs != "" {
		software := ink.T(ink.Foam, d.Runs)
		switch {
		case d.Runs != d.Ran && d.OnTrial:
			software = software.Add(ink.Lamp, "  on trial").Add(ink.Dim, ", before "+d.Ran)
		case d.Runs != d.Ran:
			software = software.Add(ink.Dim, "  before "+d.Ran)
		}
		rows = append(rows, label("software").Then(software))
	}
	if !d.ExpectBy.IsZero() && d.State == night.Verifying {
		rows = append(rows, label("expects").Add(ink.Foam, "within "+ink.Short(d.ExpectBy.Sub(now))))
	}
	if d.Backup != "" {
		rows = append(rows, label("backup").Add(ink.Foam, filepath.Base(d.Backup)).Add(ink.Dim, "  "+short(d.SHA256)))
	}
	for _, c := range d.Checks {
		if !c.OK {
			rows = append(rows, label("check").Add(ink.Lamp, c.Name+": "+c.Note))
		}
		if c.Waived != "" {
			rows = append(rows, label("waived").Add(ink.Lamp, c.Waived))
		}
	}
	rows = append(rows, predicted(d, cells)...)
	folded := report.Folded(d.Diff)
	for i, l := range folded {
		name := ""
		if i == 0 && !d.Predicted {
			name = "differs"
		}
		if i == 5 && len(folded) > 6 {
			rows = append(rows, label("").Add(ink.Dim, fmt.Sprintf("and %d lines more, v shows them", len(folded)-5)))
			break
		}
		rows = append(rows, label(name).Then(differing(l, cells-9)))
	}
	if len(rows) > 0 {
		rows = append([]ink.Row{{}}, rows...)
	}
	return rows
}

func short(sha string) string { return sha[:min(len(sha), 8)] }

// TranscriptRows draws lines of a transcript: what we sent stands out.
func TranscriptRows(lines []string, cells int) []ink.Row {
	var rows []ink.Row
	for _, l := range lines {
		rows = append(rows, TranscriptRow(l, cells))
	}
	return rows
}

// TranscriptRow draws one line of a transcript: a time, a mark and text.
func TranscriptRow(l string, cells int) ink.Row {
	if len(l) < 15 {
		return ink.T(ink.Dim, l)
	}
	at, rest := l[:8], l[13:]
	mark, text, _ := strings.Cut(rest, " ")
	text = strings.ReplaceAll(text, "\t", "  ")
	r := ink.T(ink.Dim, at+" ")
	switch mark {
	case ">":
		return r.Add(ink.Tide, "▸ ").Strong(ink.Foam, ink.Fit(text, cells-11))
	case "·":
		return r.Add(ink.Lamp, "· "+ink.Fit(text, cells-11))
	}
	return r.Add(ink.Dim, "  "+ink.Fit(text, cells-11))
}
