package acts

import (
	"errors"
	"strings"
	"time"

	"metabasis/internal/core/plan"
	"metabasis/internal/core/problem"
	"metabasis/internal/core/textfile"
	"metabasis/internal/report"
	"metabasis/internal/workspace"
)

// Draft is a runbook as it stands in its file while somebody writes it: its lines, what is
// wrong with them, and what it would send to each device in its scope.
type Draft struct {
	File     string
	Lines    []string
	Problems problem.List
	Err      error    // it cannot be looked at
	Open     string   // a value that its scope depends on, and that nobody has given
	Devices  []string // in the order of the plan
	// Guessed tells that values stand in its lines that fit, and that nobody has given.
	Guessed bool

	plan *plan.Plan
}

// Draft reads a runbook, and checks it as check does.
func (d *Desk) Draft(file string) *Draft {
	out := &Draft{File: file}
	data, err := textfile.Read(file, textfile.Small)
	if err != nil {
		out.wrong(err)
		return out
	}
	out.Lines = strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	fl, err := d.Workspace.Fleet("")
	if err != nil && !errors.Is(err, workspace.ErrNoFleet) {
		out.wrong(err)
	}
	rb, open, _, err := d.Check(file, fl)
	out.Open = open
	if err != nil {
		out.wrong(err)
		return out
	}
	if fl == nil || open != "" || out.Err != nil {
		return out
	}
	answers := map[string]string{}
	for _, ask := range rb.Ask {
		if answers[ask.Name] = ask.Default; ask.Default == "" {
			answers[ask.Name], out.Guessed = ask.Sample(), true
		}
	}
	if out.plan, err = plan.Make(rb, fl, answers, d.Profiles.Traits(), time.Now()); err != nil {
		out.wrong(err)
		return out
	}
	for _, t := range out.plan.Targets() {
		out.Devices = append(out.Devices, t.Device.Name)
	}
	return out
}

func (d *Draft) wrong(err error) {
	var list problem.List
	if errors.As(err, &list) {
		d.Problems = append(d.Problems, list...)
		return
	}
	d.Err = err
}

// Sends is what the runbook would send to a device, as far as that is known before it is
// read.
func (d *Draft) Sends(device string) []string {
	if d.plan == nil {
		return nil
	}
	return report.Lines(d.plan, device)
}
