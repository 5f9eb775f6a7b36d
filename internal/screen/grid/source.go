package grid

import (
	"context"

	"metabasis/internal/acts"
	"metabasis/internal/core/table"
	"metabasis/internal/screen/console"
)

// Source is where the table comes from. What is nil cannot be done.
type Source struct {
	Title   string
	Table   *table.Table // its columns; the rows come from Read
	Devices int
	By      string // the column to sum up by; "" for those that tell devices apart
	// ClearText names the devices that are reached without encryption.
	ClearText map[string]bool
	// Read reads the table. Each is told how many devices are done.
	Read func(ctx context.Context, each func(done int)) *table.Table
	// Console works a device by hand.
	Console func(ctx context.Context, device string) *console.Command
	// Said returns what was said with a device.
	Said func(device string) ([]string, error)
	// Write writes the rows that are shown to a file and returns its name.
	Write func(t *table.Table) (string, error)
	// Close ends what was opened for the view.
	Close func() error
}

// OfReading is the source of a table that is to be read. Closing it is left to whoever
// opened the evening.
func OfReading(r *acts.Reading) Source {
	src := Source{Title: r.Title(), Table: &r.Table, Devices: len(r.Devices()), By: r.By, ClearText: map[string]bool{},
		Read: r.Read, Console: ConsoleOf(r.Evening, false), Said: r.Said, Write: r.WriteCSV}
	for _, d := range r.Devices() {
		if r.ClearText(d) {
			src.ClearText[d.Name] = true
		}
	}
	return src
}

// ConsoleOf opens consoles of the devices of an evening.
func ConsoleOf(e *acts.Evening, anyway bool) func(context.Context, string) *console.Command {
	return func(ctx context.Context, device string) *console.Command {
		d, _ := e.Device(device)
		return &console.Command{Ctx: ctx, Title: console.Title(device, e.ClearText(d)), LeastReason: acts.LeastReason,
			Never: func(line string) bool { return e.NeverSent(d, line) },
			Open: func(ctx context.Context, columns, rows int) (console.Session, error) {
				return e.Console(ctx, device, columns, rows, anyway)
			}}
	}
}
