// Package open opens views: it puts together what a view asks and what can be asked for, the acts.
// No view knows where what it shows comes from, and none opens another by itself.
package open

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/document"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/draft"
	"metabasis/internal/screen/grid"
	"metabasis/internal/screen/page"
	"metabasis/internal/screen/roster"
	"metabasis/internal/screen/watch"
	"metabasis/internal/workspace"
)

// Night plans a night while the person waits, and opens its view. Wrong is told
// what kept it from being planned.
func Night(h *screen.Host, title string, plan func(ctx context.Context) (*acts.Tonight, error), wait bool, wrong func(error)) {
	var n *acts.Tonight
	h.Work("Planning "+title, func(ctx context.Context) (err error) {
		n, err = plan(ctx)
		return err
	}, func(err error) {
		if err != nil {
			wrong(err)
			return
		}
		h.Open(watch.New(watch.OfNight(n, wait)).View())
	})
}

// Device opens all that is known of a device.
func Device(h *screen.Host, d *acts.Desk, name string) {
	var doc *document.Document
	h.Work("Looking up "+name, func(ctx context.Context) (err error) {
		doc, err = d.DevicePage(ctx, name)
		return err
	}, func(err error) {
		if err != nil {
			h.Say(err.Error())
			return
		}
		h.Open(page.Document("Device", doc))
	})
}

// Book opens the view of a runbook that is being written.
func Book(h *screen.Host, d *acts.Desk, file string, plan func(h *screen.Host)) {
	h.Open(draft.New(draft.Source{
		File: file, Read: func() *acts.Draft { return d.Draft(file) }, Plan: plan,
		Watch: func(ctx context.Context, changed func()) error { return draft.Watch(ctx, file, changed) },
		Edit: func(line int) *draft.Editor {
			return draft.EditorOf(file, line, os.Getenv, workspace.ChildEnv(os.Environ()))
		},
		Put: func(after int, step string) (int, error) { return draft.Put(file, after, step) },
	}))
}

// Fleet gets ready to reach devices while the person waits, and opens their view.
func Fleet(h *screen.Host, e *acts.Evening, wrong func(error)) {
	ready(h, e, "reach", wrong, func() {
		src := roster.OfEvening(e)
		src.Does.Runbooks = func(ctx context.Context, names []string) (files, wrong []string) {
			return e.RunbooksFor(ctx, e.Fleet, names)
		}
		src.Does.Begin = func(h *screen.Host, file string, names []string) {
			Night(h, filepath.Base(file), func(ctx context.Context) (*acts.Tonight, error) {
				c, err := e.Change(file, "")
				if err != nil {
					return nil, err
				}
				return c.Plan(ctx, acts.Request{Only: names})
			}, false, wrong)
		}
		src.Does.ByHand = func(h *screen.Host, device string) {
			Night(h, "By hand: "+device, func(ctx context.Context) (*acts.Tonight, error) {
				c, err := e.ByHand("", []string{device}, acts.UsualGuard)
				if err != nil {
					return nil, err
				}
				return c.Plan(ctx, acts.Request{})
			}, false, wrong)
		}
		h.Open(roster.New(src))
	})
}

// Table does the same for a table to be read from them.
func Table(h *screen.Host, r *acts.Reading, read *acts.Evening, wrong func(error), then func(*grid.View)) {
	ready(h, read, "read-"+r.Table.Name, wrong, func() {
		src := grid.OfReading(r.With(read))
		src.Close = read.Close
		v := grid.New(src)
		then(v)
		h.Open(v)
	})
}

func ready(h *screen.Host, e *acts.Evening, what string, wrong func(error), then func()) {
	h.Work(fmt.Sprintf("Getting ready for %s", report.Count(len(e.Devices()), "device")), func(ctx context.Context) error {
		return e.Ready(ctx, what)
	}, func(err error) {
		if err != nil {
			wrong(err)
			return
		}
		then()
		if len(e.Warnings) > 0 {
			h.Say("warning: " + strings.Join(e.Warnings, "; "))
		}
	})
}
