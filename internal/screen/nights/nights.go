// Package nights is the view of all past nights, looked for by a device, a change number,
// a person or an outcome.
package nights

import (
	"context"
	"fmt"
	"strings"

	"metabasis/internal/acts"
	"metabasis/internal/core/night"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/store"
)

// Source is where the nights come from.
type Source struct {
	// List lists them, the newest first; with an error come those that can be read.
	List func(ctx context.Context) ([]store.Listed, error)
	// Devices are the devices of a night, and who ran it.
	Devices func(ctx context.Context, id int64) (acts.NightDevices, error)
	// Open opens one.
	Open func(h *screen.Host, id int64)
}

// View is the view of the nights.
type View struct {
	src    Source
	host   *screen.Host
	all    []row
	shown  []int // of all
	only   string
	loaded bool
	wrong  error
	read   int // nights of which the devices are known
	list   list.List
}

// night is a night with what it can be looked for by.
type row struct {
	store.Listed
	by      string
	devices []string
	text    string // in small letters
}

// New makes the view.
func New(src Source) *View {
	v := &View{src: src}
	v.list = list.List{Len: func() int { return len(v.shown) }, Text: func(i int) string { return v.all[v.shown[i]].text }, Draw: v.draw}
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "Nights" }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) {
	v.host = h
	h.Go(func(ctx context.Context) {
		list, err := v.src.List(ctx)
		h.Then(func() {
			for _, l := range list {
				n := row{Listed: l}
				n.text = n.words()
				v.all = append(v.all, n)
			}
			v.wrong, v.loaded = err, true
			v.filter()
		})
		for i, l := range list {
			if ctx.Err() != nil {
				return
			}
			of, err := v.src.Devices(ctx, l.ID)
			if err != nil {
				continue // it is found by what is known of it
			}
			h.Then(func() {
				n := &v.all[i]
				n.by, n.devices = of.By, of.Devices
				n.text = n.words()
				v.read++
				if v.only != "" {
					v.filter()
				}
			})
		}
	})
}

// words are what a night is found by.
func (n *row) words() string {
	parts := []string{fmt.Sprintf("night %d", n.ID), n.Began.Local().Format("Mon 2 Jan 2006 15:04"), n.Title, n.Change, n.by, n.File}
	if n.Summary != nil {
		parts = append(parts, n.Summary.Text)
	}
	return strings.ToLower(strings.Join(append(parts, n.devices...), " "))
}

// filter shows the nights that have all the words.
func (v *View) filter() {
	at := int64(0)
	if i := v.list.Cursor; i < len(v.shown) {
		at = v.all[v.shown[i]].ID
	}
	v.shown = v.shown[:0]
	v.list.Cursor = 0
	for i, n := range v.all {
		fits := true
		for _, w := range strings.Fields(strings.ToLower(v.only)) {
			fits = fits && strings.Contains(n.text, w)
		}
		if fits {
			if n.ID == at {
				v.list.Cursor = len(v.shown)
			}
			v.shown = append(v.shown, i)
		}
	}
}

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, "Nights").Add(ink.Dim, fmt.Sprintf("  %d of %d", len(v.shown), len(v.all)))
	if v.only != "" {
		r = r.Add(ink.Dim, "   only those with ").Strong(ink.Lamp, v.only)
		if v.read < len(v.all) {
			r = r.Add(ink.Dim, fmt.Sprintf("   devices of %d still being read", len(v.all)-v.read))
		}
	}
	rows := []ink.Row{
		r,
		{},
		ink.T(ink.Dim, "  ").Col(ink.Dim, "night", 8).Col(ink.Dim, "began", 20).Col(ink.Dim, "by", 12).Add(ink.Dim, "what, and what it came to"),
	}
	switch {
	case v.wrong != nil:
		rows = append(rows, ink.T(ink.Lamp, " ▪ "+v.wrong.Error()))
	case !v.loaded:
		return append(rows, ink.T(ink.Dim, " reading …"))
	case len(v.shown) == 0:
		return append(rows, ink.T(ink.Dim, " none"))
	}
	return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
}

func (v *View) draw(i int, here bool, cells int) ink.Row {
	n := v.all[v.shown[i]]
	begin := "  "
	if here {
		begin = "▌ "
	}
	title := n.Title
	if n.Change != "" {
		title += " · " + n.Change
	}
	out := ink.T(ink.Lamp, begin).
		Col(ink.Foam, fmt.Sprint(n.ID), 8).
		Col(ink.Foam, n.Began.Local().Format("Mon 2 Jan 15:04"), 20).
		Col(ink.Dim, n.by, 12).
		Col(ink.Foam, title, max(min(cells/3, 48), 16)).
		Add(ink.Foam, "  ")
	if s := n.Summary; s != nil {
		shape, in := Sign(s.Outcome)
		out = out.Strong(in, shape+" ").Add(ink.Dim, s.Text)
	}
	return ink.Cut(out, cells)
}

// Sign is the shape and the ink of how a night ended.
func Sign(o night.Outcome) (string, ink.Ink) {
	switch o {
	case night.SomeBlocked:
		return "▪", ink.Lamp
	case night.SomeBack:
		return "◁", ink.Heather
	case night.NeedsPerson:
		return "▲", ink.Port
	}
	return "●", ink.Buoy
}

// Keys implements [screen.View].
func (v *View) Keys() []screen.Key {
	var out []screen.Key
	if len(v.shown) > 0 {
		out = append(out, screen.On(keys.Open, "open", func() { v.src.Open(v.host, v.all[v.shown[v.list.Cursor]].ID) }))
	}
	out = append(out, screen.On(keys.Only, "only", func() {
		v.host.Type(screen.Line{Label: "only nights with", Hint: "a device, a change number, a person, an outcome", Text: v.only,
			Each: func(text string) { v.only = text; v.filter() },
			Done: func(text string) error { v.only = text; v.filter(); return nil },
			Left: func() { v.only = ""; v.filter() }})
	}))
	return append(out, v.list.Keys(v.host, "night")...)
}

// Click implements [screen.Pointed].
func (v *View) Click(_, y int) { v.list.Click(y - 3) }

// Wheel implements [screen.Pointed].
func (v *View) Wheel(rows int) { v.list.Wheel(rows) }
