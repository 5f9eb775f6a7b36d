package open

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/core/fleet"
	"metabasis/internal/document"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/compare"
	"metabasis/internal/screen/page"
	"metabasis/internal/screen/shelf"
	"metabasis/internal/screen/watch"
	"metabasis/internal/workspace"
)

// past is a past night with what can be asked about it in the morning.
func past(d *acts.Desk, p *acts.Past, wrong func(error)) watch.Source {
	src := watch.OfPast(p)
	src.Morning.Compare = func(h *screen.Host) {
		Comparison(
			h,
			d,
			"Comparing before and after",
			func(ctx context.Context) (*acts.Comparison, error) { return d.CompareNight(ctx, p.ID) },
			p.ID,
			wrong,
		)
	}
	src.Morning.Report = func(h *screen.Host) {
		var doc *document.Document
		var part error // of the night cannot be read
		h.Work("Writing the report", func(ctx context.Context) error {
			m, err := d.Morning(ctx, p.ID)
			if m == nil {
				return err
			}
			doc, part = report.MorningDocument(m), err
			return nil
		}, func(err error) {
			if err != nil {
				wrong(err)
				return
			}
			h.Open(page.Document(fmt.Sprintf("Report of night %d", p.ID), doc))
			if part != nil {
				h.Say("not all of the night can be read: " + part.Error())
			}
		})
	}
	if p.Elsewhere == "" && p.Night.Ended.IsZero() {
		src.Morning.Back = func(h *screen.Host) { CutOff(h, d, p.ID, wrong) }
		src.Morning.Again = src.Morning.Back
		return src
	}
	if p.Elsewhere == "" {
		src.Morning.Back = func(h *screen.Host) { restoring(h, d, acts.Restoring{Night: p.ID, Back: true}, wrong) }
		if acts.LeftToDo(&p.Night) {
			src.Morning.Again = func(h *screen.Host) { again(h, d, p.ID, wrong) }
		}
	}
	return src
}

// restoring plans a night that puts the past back.
func restoring(h *screen.Host, d *acts.Desk, r acts.Restoring, wrong func(error)) {
	Night(h, r.Title(), func(ctx context.Context) (*acts.Tonight, error) {
		c, err := d.Restore(r)
		if err != nil {
			return nil, err
		}
		return c.Plan(ctx, acts.Request{})
	}, false, wrong)
}

// again plans a past night once more, for what it did not keep.
func again(h *screen.Host, d *acts.Desk, id int64, wrong func(error)) {
	Night(h, fmt.Sprintf("night %d once more", id), func(ctx context.Context) (*acts.Tonight, error) {
		c, answers, err := d.Again(ctx, id, "")
		if err != nil {
			return nil, err
		}
		return c.Plan(ctx, acts.Request{Answers: answers})
	}, false, wrong)
}

// Comparison compares while the person waits, and opens what is different.
func Comparison(
	h *screen.Host,
	d *acts.Desk,
	what string,
	do func(ctx context.Context) (*acts.Comparison, error),
	night int64,
	wrong func(error),
) {
	var c *acts.Comparison
	h.Work(what, func(ctx context.Context) (err error) {
		c, err = do(ctx)
		return err
	}, func(err error) {
		if err != nil {
			wrong(err)
			return
		}
		h.Open(comparisonView(d, c, night, wrong))
	})
}

// comparisonView shows a comparison: of two configurations as a tree, of many devices as
// what they have in common.
func comparisonView(d *acts.Desk, c *acts.Comparison, night int64, wrong func(error)) screen.View {
	if c.Tree != nil {
		two := compare.Two{A: c.A, B: c.B, Tree: c.Tree, TextA: c.TextA, TextB: c.TextB}
		for _, ch := range c.Devices[0].Changes {
			two.Notes = append(two.Notes, ch.String())
		}
		if c.Note != "" {
			two.Notes = append(two.Notes, c.Note)
		}
		return compare.NewTree(two)
	}
	src := compare.Source{A: c.A, B: c.B, Note: c.Note, Devices: c.Devices}
	switch {
	case c.HasConfigs():
		src.Open = func(h *screen.Host, device string) {
			Comparison(h, d, "Comparing the configurations of "+device, func(context.Context) (*acts.Comparison, error) {
				return d.CompareConfigs(c, device)
			}, 0, wrong)
		}
	case night > 0:
		src.Open = func(h *screen.Host, device string) {
			Comparison(h, d, "Comparing the configurations of "+device, func(ctx context.Context) (*acts.Comparison, error) {
				return d.Compare(ctx, fmt.Sprintf("%s@night %d", device, night), fmt.Sprintf("%s@after night %d", device, night))
			}, 0, wrong)
		}
	}
	return compare.NewGroups(src)
}

// Shelf opens the view of the shelf.
func Shelf(h *screen.Host, d *acts.Desk, wrong func(error)) {
	at := func(file string) string {
		if file == acts.Now {
			return ""
		}
		return "@" + file
	}
	h.Open(shelf.New(shelf.Source{
		Path:    d.Path(),
		Devices: func(ctx context.Context) ([]shelf.Device, error) { return shelved(ctx, d) },
		Of:      d.ShelfOf,
		Compare: func(h *screen.Host, device, from, to string) {
			Comparison(h, d, "Comparing "+device, func(ctx context.Context) (*acts.Comparison, error) {
				return d.Compare(ctx, device+at(from), device+at(to))
			}, 0, wrong)
		},
		Two: func(h *screen.Host, a, b string) {
			Comparison(h, d, "Comparing "+a+" with "+b, func(ctx context.Context) (*acts.Comparison, error) {
				return d.Compare(ctx, a+"@newest", b+"@newest")
			}, 0, wrong)
		},
		Each: func(h *screen.Host, devices []string) {
			Comparison(h, d, "Comparing "+report.Count(len(devices), "device")+" with now", func(ctx context.Context) (*acts.Comparison, error) {
				return d.Compare(ctx, "@newest", acts.Now, devices...)
			}, 0, wrong)
		},
		Show: func(h *screen.Host, device, file string) {
			text, err := d.ShelfText(h.Context(), device+"@"+file, false)
			if err != nil {
				wrong(err)
				return
			}
			h.Open(page.Lines(device+", "+file, strings.Split(strings.TrimRight(text, "\n"), "\n")))
		},
		Restore: func(h *screen.Host, when time.Time, devices []string) {
			restoring(h, d, acts.Restoring{At: when, Words: devices}, wrong)
		},
		Before: func(h *screen.Host, night int64, devices []string) {
			restoring(h, d, acts.Restoring{Night: night, Words: devices}, wrong)
		},
		Tend: shelf.Tending{
			Verify: func(ctx context.Context) (*acts.Verified, error) { return d.Verify(ctx, nil) },
			Clear: func(ctx context.Context) (*acts.Clearing, error) {
				devices, err := d.Shelves(nil)
				if err != nil {
					return nil, err
				}
				return d.Clear(ctx, devices)
			},
			Cleared: d.Cleared,
			Push: func(ctx context.Context, say func(acts.Pushing)) ([]acts.PushedTo, error) {
				ctx, stop := context.WithTimeoutCause(ctx, acts.PushAllWithin, acts.ErrPushTime)
				defer stop()
				return d.Push(ctx, false, say)
			},
		},
		BackUp: func(ctx context.Context, devices []string) (failed []string, err error) {
			e, err := d.Select("", devices)
			if err != nil {
				return nil, err
			}
			if err := e.Ready(ctx, "backup"); err != nil {
				return nil, err
			}
			for _, b := range e.BackUp(ctx, acts.ByHand, nil) {
				if b.Error != "" {
					failed = append(failed, b.Device+": "+b.Error)
				}
			}
			return failed, errors.Join(ctx.Err(), e.Close())
		},
	}))
}

// shelved are the devices of the fleet with their backups, and those that have backups and
// are in it no more.
func shelved(ctx context.Context, d *acts.Desk) (out []shelf.Device, err error) {
	f, err := d.FleetOfAny("")
	if errors.Is(err, workspace.ErrNoFleet) {
		f, err = &fleet.Fleet{}, nil
	}
	if err != nil {
		return nil, err
	}
	names, err := d.Shelves(nil)
	if err != nil {
		return nil, err
	}
	for _, dev := range f.Devices {
		out = append(out, shelf.Device{Name: dev.Name, Site: dev.Site, Platform: dev.Platform})
	}
	for _, name := range names {
		if _, in := f.Get(name); !in {
			gone := shelf.Device{Name: name, Out: "not in fleet"}
			if slices.ContainsFunc(f.Retired, func(r fleet.Retired) bool { return r.Name == name }) {
				gone.Out = "retired"
			}
			out = append(out, gone)
		}
	}
	for i := range out {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if out[i].Backups, err = d.Backups("").Shelf(out[i].Name); err != nil {
			return nil, err
		}
		if out[i].Platform == "" && len(out[i].Backups) > 0 {
			out[i].Platform = out[i].Backups[0].Platform
		}
	}
	return out, nil
}

// Attached opens a night that runs in another process, and takes the wheel where that is wanted.
func Attached(h *screen.Host, d *acts.Desk, n *acts.Attached, wheel bool) {
	live := watch.New(watch.OfAttached(n, func(ctx context.Context) (watch.Source, error) {
		p, err := d.Open(ctx, n.Past.ID)
		if p == nil {
			return watch.Source{}, err
		}
		return past(d, p, h.Fail), nil
	}))
	h.Open(live.View())
	live.Attach(h)
	if wheel {
		if err := n.Take(); err != nil {
			h.Say(err.Error())
		} else if notes := n.Notes(); len(notes) > 0 {
			h.Say("warning: " + strings.Join(notes, "; "))
		}
	}
}

// Past reads a night while the person waits, and opens it: one that runs in another process as
// that has it, where it lets itself be attached to.
func Past(h *screen.Host, d *acts.Desk, id int64, wrong func(error)) {
	var p *acts.Past
	var part error // of it cannot be read
	var now *acts.Attached
	free := h.Root().Standing() == nil // no night of this screen stands on top already
	h.Work("Reading the journal", func(ctx context.Context) (err error) {
		if p, err = d.Open(ctx, id); p != nil {
			part, err = err, nil
		}
		if p != nil && p.Elsewhere != "" && free {
			if now, _ = d.Attach(ctx); now != nil && now.Past.ID != id { // else it is seen as the journal has it
				_ = now.Close()
				now = nil
			}
		}
		return err
	}, func(err error) {
		if err != nil {
			wrong(err)
			return
		}
		if now != nil {
			Attached(h, d, now, false)
			return
		}
		h.Open(watch.New(past(d, p, wrong)).View())
		if part != nil {
			h.Say("not all of it can be read: " + part.Error())
		}
	})
}
