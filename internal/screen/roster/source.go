package roster

import (
	"context"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/core/reach"
	"metabasis/internal/core/scope"
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
	// Where tells which devices a condition selects.
	Where func(condition string) ([]string, error)
	// Save saves a selection.
	Save func(name string, s scope.Selection) error
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
	// Close ends what was opened for the view.
	Close func() error
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
		Warnings: e.Warnings,
		Reach:    e.Reach,
		Renew:    e.Renew,
		Where:    e.Where,
		Save:     e.SaveSelection,
		Console:  grid.ConsoleOf(e, false),
		Said:     e.Said,
		Accept:   e.Accept,
		Tables:   e.Tables(),
		Close:    e.Close,
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
