package roster

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/console"
	"metabasis/internal/screen/grid"
)

// Source is what the view shows and what it can ask to be done. What is nil cannot be
// done.
type Source struct {
	Title   string
	Devices []Device
	LeftOut []scope.LeftOut
	// Warnings are what was met while they were made ready to be reached.
	Warnings []string
	// Reach reaches devices and tells what happens; it returns when that is over,
	// and names those that were not tried because a night works on them.
	Reach func(ctx context.Context, names []string, each func(reach.Event)) (inChange []string)
	// Renew has secrets typed anew, after a login was denied.
	Renew func(ctx context.Context) error
	// Login has the login of a device typed anew.
	Login func(ctx context.Context, device string) error
	// Where tells which devices a condition selects, and what it goes by that was read of them
	// before.
	Where func(condition string) (names, told []string, err error)
	// Save saves a selection, and says what its name means from then on.
	Save func(name string, s scope.Selection) (said string, err error)
	// Console works a device by hand.
	Console func(ctx context.Context, device string) *console.Command
	// Said returns what was said with a device.
	Said func(device string) ([]string, error)
	// Accept asks about the new keys of devices, and returns those to be reached again.
	Accept func(ctx context.Context, results []*reach.Result) ([]string, error)
	// Tables are the names of the tables that can be read.
	Tables []string
	// Table makes one to be read from devices; none named are all.
	Table func(name string, devices []string) (grid.Source, error)
	// Does is what else can be done with devices; none named are all.
	Does Doing
	// Close ends what was opened for the view.
	Close func() error
}

// Doing is what can be done with some devices, beside reaching and reading them. What is nil
// cannot be done.
type Doing struct {
	// Backup backs them up and says what came of it.
	Backup func(ctx context.Context, names []string) ([]string, error)
	// Ask asks them a command and gives the answers to be read.
	Ask func(ctx context.Context, names []string, command string) ([]string, error)
	// Record records what the profiles read of them under a name.
	Record func(ctx context.Context, names []string, name string) ([]string, error)
	// Runbooks are those whose scope has one of them; wrong are those that have mistakes.
	Runbooks func(ctx context.Context, names []string) (files, wrong []string)
	// Begin opens the night of a runbook for a part of its scope.
	Begin func(h *screen.Host, file string, names []string)
	// ByHand opens the night in which a device is worked by hand with its way back armed.
	ByHand func(h *screen.Host, device string)
}

// Device is a device in scope.
type Device struct {
	fleet.Device
	Login     string
	ClearText bool
}

// OfEvening is the view's source for devices that are ready to be reached.
func OfEvening(e *acts.Evening) Source {
	src := Source{
		Title:    e.Title(),
		LeftOut:  e.Scope.LeftOut,
		Warnings: slices.Concat(e.Warnings, e.Scope.Told.Says()),
		Reach:    e.Reach,
		Renew:    e.Renew,
		Where:    e.Where,
		Save:     e.SaveAs,
		Console:  grid.ConsoleOf(e, false),
		Said:     e.Said,
		Accept:   e.Accept,
		Tables:   e.Tables(),
		Close:    e.Close,
		Does:     doing(e),
	}
	src.Login = func(ctx context.Context, device string) error {
		d, _ := e.Device(device)
		return e.Login(ctx, d)
	}
	for _, d := range e.Devices() {
		login, _ := e.LoginOf(d)
		src.Devices = append(src.Devices, Device{Device: d, Login: login, ClearText: e.ClearText(d)})
	}
	src.Table = func(name string, devices []string) (grid.Source, error) {
		r, err := e.Part(devices).Reading(name, "")
		if err != nil {
			return grid.Source{}, err
		}
		return grid.OfReading(r), nil
	}
	return src
}

// doing is what can be done with devices that are ready to be reached.
func doing(e *acts.Evening) Doing {
	return Doing{
		Backup: func(ctx context.Context, names []string) (out []string, err error) {
			for _, b := range e.Part(names).BackUp(ctx, acts.ByHand, nil) {
				out = append(out, b.Device+": "+b.Said())
			}
			return out, ctx.Err()
		},
		Ask: func(ctx context.Context, names []string, command string) ([]string, error) {
			commands := acts.Commands{"": {command}}
			asked, unasked, err := e.Part(names).Askable(commands, false)
			if err != nil {
				return nil, err
			}
			var out []string
			for _, l := range unasked {
				out = append(out, l.Device+": not asked: "+l.Why, "")
			}
			return append(out, answered(asked.Ask(ctx, commands, false))...), ctx.Err()
		},
		Record: func(ctx context.Context, names []string, name string) ([]string, error) {
			if err := e.RecordFree(name); err != nil {
				return nil, err
			}
			part := e.Part(names)
			rec, err := part.Record(ctx, name, nil, nil)
			if err != nil {
				return nil, err
			}
			if err := e.KeepRecord(rec); err != nil {
				return nil, err
			}
			var out []string
			for _, d := range rec.Devices {
				if d.Failed != "" {
					out = append(out, d.Device+": NOT recorded: "+d.Failed)
				}
			}
			return append(out, fmt.Sprintf("%s: %s recorded", name, report.Count(len(rec.Devices)-len(out), "device"))), ctx.Err()
		},
	}
}

// answered is what devices answered, those that gave the same together.
func answered(all []acts.Answer) (out []string) {
	for _, same := range acts.Together(all) {
		out = append(out, report.Count(len(same.Devices), "device")+": "+report.Some(same.Devices, 8))
		for l := range strings.SplitSeq(same.Text, "\n") {
			out = append(out, "  "+l)
		}
		out = append(out, "")
	}
	return out
}
