// Package records is the view of the records that were taken of devices.
package records

import (
	"context"
	"slices"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/core/record"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
)

// Source is where the view has the records from.
type Source struct {
	List func() ([]record.Record, error)
	// Compare opens what is different between two, each named; the second may be "now".
	Compare func(h *screen.Host, a, b string)
}

// View is the view of the records there are: two are chosen, or one and now.
type View struct {
	src    Source
	host   *screen.Host
	all    []record.Record
	loaded bool
	wrong  error
	marked string
	list   list.List
}

// New makes the view.
func New(src Source) *View {
	r := &View{src: src}
	r.list = list.List{
		Len:  func() int { return len(r.all) },
		Text: func(i int) string { return r.all[i].Name + " " + r.all[i].Of },
		Draw: r.draw,
	}
	return r
}

// Name implements [screen.View].
func (r *View) Name() string { return "Records" }

// Click implements [screen.Pointed].
func (r *View) Click(_, y int) { r.list.Click(y - 3) }

// Wheel implements [screen.Pointed].
func (r *View) Wheel(rows int) { r.list.Wheel(rows) }

// Opened implements [screen.Opener].
func (r *View) Opened(h *screen.Host) {
	r.host = h
	h.Go(func(context.Context) {
		all, err := r.src.List()
		h.Then(func() { r.all, r.wrong, r.loaded = all, err, true })
	})
}

// Rows implements [screen.View].
func (r *View) Rows(f screen.Frame) []ink.Row {
	rows := []ink.Row{ink.T(ink.Foam, " ").Strong(ink.Foam, "Records"), {}}
	switch {
	case r.wrong != nil:
		return append(rows, ink.T(ink.Lamp, " ▪ "+r.wrong.Error()))
	case !r.loaded:
		return append(rows, ink.T(ink.Dim, " reading …"))
	case len(r.all) == 0:
		return append(rows, ink.T(ink.Dim, " There are no records yet. A runbook takes them, with record; so does metabasis record NAME."))
	}
	rows[0] = ink.T(ink.Foam, " ").
		Strong(ink.Foam, report.Count(len(r.all), "record")).
		Add(ink.Dim, "  mark one and press C on another to compare the two; C without a mark compares with now")
	rows = append(
		rows,
		ink.T(ink.Dim, "    ").Col(ink.Dim, "name", 32).Col(ink.Dim, "taken", 24).Col(ink.Dim, "on behalf of", 24).Add(ink.Dim, "by"),
	)
	return append(rows, r.list.Rows(f.Cells, f.Height-len(rows))...)
}

func (r *View) draw(i int, here bool, cells int) ink.Row {
	one := r.all[i]
	begin, mark := " ", "  "
	if here {
		begin = "▌"
	}
	if one.Name == r.marked {
		mark = "■ "
	}
	return ink.Cut(
		ink.T(ink.Lamp, begin+" "+mark).
			Col(ink.Foam, one.Name, 32).
			Col(ink.Foam, one.At.Local().Format("Mon 2 Jan 2006 15:04"), 24).
			Col(ink.Dim, one.Of, 24).
			Add(ink.Dim, one.By),
		cells,
	)
}

// Keys implements [screen.View].
func (r *View) Keys() []screen.Key {
	if len(r.all) == 0 {
		return nil
	}
	here := r.all[r.list.Cursor].Name
	with, does := acts.Now, "compare with now"
	a := here
	if r.marked != "" && r.marked != here {
		a, with, does = r.marked, here, "compare with "+r.marked
		if at := func(name string) time.Time {
			return r.all[slices.IndexFunc(r.all, func(x record.Record) bool { return x.Name == name })].At
		}; at(a).After(at(with)) { // from the older to the newer
			a, with = with, a
		}
	}
	out := []screen.Key{
		screen.On(keys.Compare, does, func() { r.src.Compare(r.host, a, with) }),
		screen.On(keys.Mark, "mark", func() {
			if r.marked = here; r.list.Cursor+1 < len(r.all) {
				r.list.Move(1)
			}
		}),
	}
	return append(out, r.list.Keys(r.host, "record")...)
}
