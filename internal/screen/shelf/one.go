package shelf

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
)

// one is the view of the backups of one device.
type one struct {
	src    Source
	device Device
	host   *screen.Host
	rows   []acts.ShelfRow
	loaded bool
	list   list.List
}

func newOne(src Source, d Device) *one {
	v := &one{src: src, device: d}
	v.list = list.List{Len: func() int { return len(v.rows) }, Text: func(i int) string { return backupRow(v.rows[i], false).Text() },
		Draw: func(i int, here bool, cells int) ink.Row { return ink.Cut(backupRow(v.rows[i], here), cells) }}
	return v
}

func (v *one) Name() string { return "Backups of " + v.device.Name }

func (v *one) Opened(h *screen.Host) {
	v.host = h
	h.Go(func(context.Context) {
		rows, err := v.src.Of(v.device.Name, v.device.Platform)
		h.Then(func() {
			if err != nil {
				h.Say(err.Error())
			}
			v.rows, v.loaded = rows, true
		})
	})
}

func (v *one) Rows(f screen.Frame) []ink.Row {
	rows := []ink.Row{
		ink.T(ink.Foam, " ").
			Strong(ink.Foam, v.device.Name).
			Add(ink.Dim, fmt.Sprintf("  %s  %s", v.device.Platform, report.Count(len(v.rows), "backup"))),
		{},
		ink.T(ink.Dim, "  ").
			Col(ink.Dim, "first seen", 26).
			Col(ink.Dim, "since before", 14).
			Col(ink.Dim, "on behalf of", originCells).
			Add(ink.Dim, "size"),
	}
	if !v.loaded {
		return append(rows, ink.T(ink.Dim, " reading …"))
	}
	return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
}

// DeviceHere implements [screen.OfDevices].
func (v *one) DeviceHere() string { return v.device.Name }

func (v *one) Click(_, y int) { v.list.Click(y - 3) }
func (v *one) Wheel(rows int) { v.list.Wheel(rows) }

func (v *one) Keys() []screen.Key {
	if len(v.rows) == 0 {
		return nil
	}
	r := v.rows[v.list.Cursor]
	out := []screen.Key{
		screen.On(keys.Open, "what changed", func() {
			if i := v.list.Cursor + 1; i < len(v.rows) {
				v.src.Compare(v.host, v.device.Name, v.rows[i].File, r.File)
				return
			}
			v.src.Show(v.host, v.device.Name, r.File)
		}),
		screen.On(keys.Restore, "take back to it", func() { v.src.Restore(v.host, r.At(), []string{v.device.Name}) }),
		screen.On(keys.Compare, "with now", func() { v.src.Compare(v.host, v.device.Name, r.File, acts.Now) }),
		screen.On(keys.Differs, "predicted, with now", func() { v.src.Compare(v.host, v.device.Name, acts.Predicted, acts.Now) }),
		screen.On(keys.Pane, "print it", func() { v.src.Show(v.host, v.device.Name, r.File) }),
	}
	return append(out, v.list.Keys(v.host, "backup")...)
}

// date is a moment that can be gone back to: a time, or what was before a night.
type date struct {
	at      time.Time // of the last that was put on the shelf then
	night   int64     // what was before it; 0 is a time
	devices int       // that were put on the shelf then
	origin  string
	has     int // devices of which there is something to go back to
	changed int // and of those, how many have something else now
}

// title is the moment in words.
func (d date) title() string {
	at := d.at.Local().Format("Mon 2 Jan 2006 15:04:05")
	switch {
	case d.night > 0:
		return at + "  before night " + fmt.Sprint(d.night)
	case strings.HasPrefix(d.origin, "night "):
		return at + "  when it was over"
	}
	return at
}

// dates is the view of the moments that some devices can be taken back to.
type dates struct {
	src     Source
	devices []Device
	host    *screen.Host
	all     []date
	list    list.List
}

func newDates(src Source, devices []Device) *dates {
	v := &dates{src: src, devices: devices, all: datesOf(devices)}
	v.list = list.List{
		Len:  func() int { return len(v.all) },
		Text: func(i int) string { return v.all[i].title() + " " + v.all[i].origin },
		Draw: v.draw,
	}
	return v
}

// datesOf are the moments at which something of the devices was put on the shelf, the
// newest first: what a night found, what it left, and what was put there in one minute.
func datesOf(devices []Device) (out []date) {
	at := map[string]*date{}
	for _, d := range devices {
		told := map[string]bool{}
		for _, b := range d.Backups {
			for _, s := range b.Seen {
				key := s.Origin
				night, isNight := strings.CutPrefix(key, "night ")
				if !isNight {
					key += s.At.UTC().Format(" 2006-01-02T15:04")
				}
				if at[key] == nil {
					at[key] = &date{origin: s.Origin}
					at[key].night, _ = strconv.ParseInt(night, 10, 64) // one of after it is a time
				}
				if s.At.After(at[key].at) {
					at[key].at = s.At
				}
				if !told[key] {
					at[key].devices++
				}
				told[key] = true
			}
		}
	}
	for _, one := range at {
		for _, d := range devices {
			file := asOf(d, one.at)
			if one.night > 0 {
				file = foundBy(d, one.origin)
			}
			if file != "" {
				one.has++
				if file != d.Backups[0].File {
					one.changed++
				}
			}
		}
		out = append(out, *one)
	}
	slices.SortFunc(out, func(a, b date) int { return b.at.Compare(a.at) })
	return out
}

// asOf is the backup that a device was last seen to have by a time.
func asOf(d Device, at time.Time) (file string) {
	var seen time.Time
	for _, b := range d.Backups {
		for _, s := range b.Seen {
			if !s.At.After(at) && s.At.After(seen) {
				file, seen = b.File, s.At
			}
		}
	}
	return file
}

// foundBy is the backup that was put on the shelf on that behalf.
func foundBy(d Device, origin string) string {
	for _, b := range d.Backups {
		for _, s := range b.Seen {
			if s.Origin == origin {
				return b.File
			}
		}
	}
	return ""
}

func (v *dates) Name() string          { return "Take back to" }
func (v *dates) Opened(h *screen.Host) { v.host = h }
func (v *dates) Click(_, y int)        { v.list.Click(y - 4) }
func (v *dates) Wheel(rows int)        { v.list.Wheel(rows) }

func (v *dates) Rows(f screen.Frame) []ink.Row {
	var names []string
	for _, d := range v.devices {
		names = append(names, d.Name)
	}
	rows := []ink.Row{
		ink.T(ink.Foam, " ").
			Strong(ink.Foam, "Take "+report.Count(len(names), "device")+" back to what was").
			Add(ink.Dim, "  "+report.Some(names, 6)),
		ink.T(ink.Dim, " Enter plans a night for it, and shows what will change. Nothing is sent before you begin it."),
		{},
		ink.T(ink.Dim, "  ").
			Col(ink.Dim, "at", 44).
			Col(ink.Dim, "there are", 12).
			Col(ink.Dim, "unlike the newest", 20).
			Add(ink.Dim, "put there by"),
	}
	return append(rows, v.list.Rows(f.Cells, f.Height-len(rows))...)
}

func (v *dates) draw(i int, here bool, cells int) ink.Row {
	d := v.all[i]
	begin := " "
	if here {
		begin = "▌"
	}
	has, in := fmt.Sprintf("%d of %d", d.has, len(v.devices)), ink.Foam
	if d.has < len(v.devices) {
		in = ink.Lamp
		has += " ▪"
	}
	changed := "none"
	if d.changed > 0 {
		changed = fmt.Sprintf("%d", d.changed)
	}
	return ink.Cut(ink.T(ink.Lamp, begin+" ").Col(ink.Foam, d.title(), 44).Col(in, has, 12).Col(ink.Foam, changed, 20).
		Add(ink.Dim, fmt.Sprintf("%s, %s", d.origin, report.Count(d.devices, "device"))), cells)
}

func (v *dates) Keys() []screen.Key {
	plan := func() {
		var names []string
		for _, d := range v.devices {
			names = append(names, d.Name)
		}
		at := v.all[v.list.Cursor]
		if at.night > 0 {
			v.src.Before(v.host, at.night, names)
			return
		}
		v.src.Restore(v.host, at.at, names)
	}
	return append([]screen.Key{screen.On(keys.Open, "plan it", plan)}, v.list.Keys(v.host, "date")...)
}
