// Package shelf is the view of the shelf of backups: every device with its newest, the
// backups of one with what changed from each to the next, and the times that can be gone
// back to.
package shelf

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"metabasis/internal/acts"
	"metabasis/internal/report"
	"metabasis/internal/screen"
	"metabasis/internal/screen/ink"
	"metabasis/internal/screen/keys"
	"metabasis/internal/screen/list"
	"metabasis/internal/store"
)

// Device is a device on the shelf.
type Device struct {
	Name, Site, Platform string
	Backups              []store.Shelved // the newest first
	Out                  string          // why nothing is done to it any more, in a word or two; "" where it is in the fleet
}

// Source is where the shelf comes from and what can be done with it.
type Source struct {
	Path string
	// Devices lists the devices; it may take a while.
	Devices func(ctx context.Context) ([]Device, error)
	// Of lists the backups of a device with what changed.
	Of func(device, platform string) ([]acts.ShelfRow, error)
	// Compare opens the difference of two configurations of a device, each named as a
	// backup is, or "now".
	Compare func(h *screen.Host, device, from, to string)
	// Two opens the difference of the newest backups of two devices.
	Two func(h *screen.Host, a, b string)
	// Each opens the difference of the newest backup of each of some devices with it now.
	Each func(h *screen.Host, devices []string)
	// Show opens a backup, secrets masked.
	Show func(h *screen.Host, device, file string)
	// Restore plans a night that puts back what devices had at a time.
	Restore func(h *screen.Host, at time.Time, devices []string)
	// Before plans a night that puts back what devices had before a night.
	Before func(h *screen.Host, night int64, devices []string)
	// BackUp backs devices up, and returns how many were not.
	BackUp func(ctx context.Context, devices []string) (failed []string, err error)
	Tend   Tending
}

// View is the view of the shelf.
type View struct {
	src     Source
	host    *screen.Host
	devices []Device
	marked  map[string]bool
	loaded  bool
	wrong   error
	list    list.List
	top     int
	side    map[string][]acts.ShelfRow // of devices that were looked at
	asked   string                     // of which device the backups are being read
}

// New makes the view.
func New(src Source) *View {
	v := &View{src: src, marked: map[string]bool{}, side: map[string][]acts.ShelfRow{}}
	v.list = list.List{Len: func() int { return len(v.devices) }, Draw: v.draw,
		Text: func(i int) string { d := v.devices[i]; return d.Name + " " + d.Site + " " + d.Platform }}
	return v
}

// Name implements [screen.View].
func (v *View) Name() string { return "Backups" }

// Opened implements [screen.Opener].
func (v *View) Opened(h *screen.Host) {
	v.host = h
	v.load()
}

// Returned implements [screen.Returner].
func (v *View) Returned() { v.load() }

func (v *View) load() {
	h := v.host
	h.Go(func(ctx context.Context) {
		devices, err := v.src.Devices(ctx)
		h.Then(func() {
			at := v.current().Name
			v.devices, v.wrong, v.loaded = devices, err, true
			clear(v.side)
			if i := slices.IndexFunc(devices, func(d Device) bool { return d.Name == at }); i >= 0 {
				v.list.Cursor = i
			}
		})
	})
}

func (v *View) current() Device {
	if i := v.list.Cursor; i < len(v.devices) {
		return v.devices[i]
	}
	return Device{}
}

// DeviceHere implements [screen.OfDevices].
func (v *View) DeviceHere() string { return v.current().Name }

// Widths of columns.
const (
	nameCells   = 18
	siteCells   = 6
	kindCells   = 10
	seenCells   = 18
	originCells = 20
	sizeCells   = 10
)

// Rows implements [screen.View].
func (v *View) Rows(f screen.Frame) []ink.Row {
	rows := []ink.Row{v.head(f), {}}
	switch {
	case v.wrong != nil:
		return append(rows, ink.T(ink.Lamp, " ▪ "+v.wrong.Error()))
	case !v.loaded:
		return append(rows, ink.T(ink.Dim, " reading …"))
	case len(v.devices) == 0:
		return append(rows, ink.T(ink.Dim, " There are no devices here, and no backups."))
	}
	rows = append(
		rows,
		ink.T(ink.Dim, "   ").Col(ink.Dim, "device", nameCells).Col(ink.Dim, "site", siteCells).Col(ink.Dim, "platform", kindCells).
			Col(ink.Dim, "last seen", seenCells).Col(ink.Dim, "backups", 9).Add(ink.Dim, "on behalf of"),
	)
	v.top = len(rows)
	f.Height -= len(rows)
	if f.Cells < ink.SideBySide {
		return append(rows, v.list.Rows(f.Cells, f.Height)...)
	}
	left := f.Cells * 60 / 100
	return append(rows, ink.Beside(v.list.Rows(left-2, f.Height), left, v.beside(f.Cells-left))...)
}

// has says how many backups there are, and of how many devices: some may have none.
func (v *View) has(backups, of int) string {
	text := report.Count(backups, "backup") + " of " + report.Count(of, "device")
	if none := len(v.devices) - of; none > 0 {
		text += fmt.Sprintf(", none of %d", none)
	}
	return text
}

func (v *View) head(f screen.Frame) ink.Row {
	n, of := 0, 0
	for _, d := range v.devices {
		n += len(d.Backups)
		if len(d.Backups) > 0 {
			of++
		}
	}
	r := ink.T(ink.Foam, " ").Strong(ink.Foam, "The shelf").Add(ink.Dim, "  "+v.has(n, of)+" in "+v.src.Path)
	if k := len(v.marks()); k > 0 {
		r = r.Right(ink.T(ink.Lamp, fmt.Sprintf("%d marked ", k)), f.Cells)
	}
	return r
}

func (v *View) draw(i int, here bool, cells int) ink.Row {
	d := v.devices[i]
	begin, mark := " ", "  "
	if here {
		begin = "▌"
	}
	if v.marked[d.Name] {
		mark = "■ "
	}
	r := ink.T(ink.Lamp, begin+mark).Col(ink.Foam, d.Name, nameCells).Col(ink.Dim, d.Site, siteCells).Col(ink.Dim, d.Platform, kindCells)
	if len(d.Backups) == 0 {
		return ink.Cut(r.Strong(ink.Lamp, "▪ none"), cells)
	}
	newest := d.Backups[0]
	r = r.Col(ink.Foam, newest.Last().Local().Format("Mon 2 Jan 15:04"), seenCells).
		Col(ink.Foam, fmt.Sprint(len(d.Backups)), 9).
		Add(ink.Dim, newest.Origin())
	if d.Out != "" {
		r = r.Add(ink.Lamp, "  "+d.Out)
	}
	return ink.Cut(r, cells)
}

// beside are the backups of the device under the cursor.
func (v *View) beside(cells int) []ink.Row {
	d := v.current()
	rows, read := v.side[d.Name]
	if !read {
		v.read(d)
		return []ink.Row{ink.T(ink.Dim, "reading the backups of "+d.Name+" …")}
	}
	out := []ink.Row{ink.T(ink.Foam, "").Strong(ink.Foam, d.Name).Add(ink.Dim, "  what changed from each to the next")}
	for _, r := range rows {
		out = append(out, ink.Cut(changeRow(r, false), cells))
	}
	return out
}

// read reads the backups of a device behind, once.
func (v *View) read(d Device) {
	if v.asked == d.Name {
		return
	}
	v.asked = d.Name
	v.host.Go(func(context.Context) {
		rows, err := v.src.Of(d.Name, d.Platform)
		v.host.Then(func() {
			if v.asked == d.Name {
				v.asked = ""
			}
			if err != nil {
				v.host.Say(err.Error())
			}
			v.side[d.Name] = rows
		})
	})
}

// backupRow is a backup with all that is known of it.
func backupRow(r acts.ShelfRow, here bool) ink.Row {
	out := changeRow(r, here).Col(ink.Dim, fmt.Sprintf("%d B", r.Size), sizeCells)
	if n := len(r.Seen); n > 1 {
		out = out.Add(ink.Dim, "seen until "+r.Last().Local().Format("Mon 2 Jan 15:04"))
	}
	return out
}

// changeRow is a backup with what changed since the one before.
func changeRow(r acts.ShelfRow, here bool) ink.Row {
	begin := " "
	if here {
		begin = "▌"
	}
	out := ink.T(ink.Lamp, begin+" ").Col(ink.Foam, r.At().Local().Format("Mon 2 Jan 2006 15:04:05"), 26)
	switch {
	case r.Wrong != nil:
		out = out.Strong(ink.Port, "▲ damaged     ")
	case !r.Before:
		out = out.Col(ink.Dim, "the oldest", 14)
	case r.Added+r.Removed == 0:
		out = out.Col(ink.Dim, "equal", 14)
	default:
		out = out.Add(ink.Buoy, fmt.Sprintf("+%-4d", r.Added)).Add(ink.Heather, fmt.Sprintf("-%-8d", r.Removed))
	}
	return out.Col(ink.Dim, r.Origin(), originCells)
}

// marks are the devices that are marked, in the order of the list.
func (v *View) marks() (out []string) {
	for _, d := range v.devices {
		if v.marked[d.Name] {
			out = append(out, d.Name)
		}
	}
	return out
}

// meant are the devices that are marked, else the one under the cursor.
func (v *View) meant() []string {
	if out := v.marks(); len(out) > 0 {
		return out
	}
	if d := v.current(); d.Name != "" {
		return []string{d.Name}
	}
	return nil
}

// Keys implements [screen.View].
func (v *View) Keys() []screen.Key {
	if len(v.devices) == 0 {
		return nil
	}
	out := []screen.Key{
		screen.On(keys.Open, "its backups", v.open),
		screen.On(keys.Restore, "take back to a date", v.dates),
		screen.On(keys.Backup, "back up", v.backUp),
		v.compare(),
		screen.On(keys.Mark, "mark", func() {
			d := v.current()
			v.marked[d.Name] = !v.marked[d.Name]
			v.list.Move(1)
		}),
	}
	if len(v.marks()) > 0 {
		out = append(out, screen.On(keys.Unmark, "unmark", func() { clear(v.marked) }))
	}
	return append(append(out, v.list.Keys(v.host, "device")...), v.tending()...)
}

// compare compares two devices that are marked; of one, its newest backup with now, and of
// more, each one's.
func (v *View) compare() screen.Key {
	switch marked := v.marks(); {
	case len(marked) == 2:
		return screen.On(keys.Compare, "compare the two", func() { v.src.Two(v.host, marked[0], marked[1]) })
	case len(marked) > 2:
		return screen.On(keys.Compare, "newest with now, each", func() { v.src.Each(v.host, marked) })
	}
	return screen.On(keys.Compare, "newest with now", func() {
		if d := v.current(); len(d.Backups) > 0 {
			v.src.Compare(v.host, d.Name, d.Backups[0].File, acts.Now)
		}
	})
}

// Click implements [screen.Pointed].
func (v *View) Click(_, y int) { v.list.Click(y - v.top) }

// Wheel implements [screen.Pointed].
func (v *View) Wheel(rows int) { v.list.Wheel(rows) }

func (v *View) open() {
	if d := v.current(); d.Name != "" {
		v.host.Open(newOne(v.src, d))
	}
}

func (v *View) backUp() {
	devices := v.meant()
	var failed []string
	v.host.Work(fmt.Sprintf("Backing up %s", report.Count(len(devices), "device")), func(ctx context.Context) (err error) {
		failed, err = v.src.BackUp(ctx, devices)
		return err
	}, func(err error) {
		switch {
		case err != nil:
			v.host.Say("not backed up: " + err.Error())
		case len(failed) > 0:
			v.host.Say(fmt.Sprintf("%d of %d are not backed up: %s", len(failed), len(devices), strings.Join(failed[:min(len(failed), 2)], "; ")))
		default:
			v.host.Say(report.Count(len(devices), "device") + " backed up")
		}
		v.load()
	})
}

// dates opens the times that the devices meant can be taken back to.
func (v *View) dates() {
	devices := v.meant()
	var of []Device
	for _, d := range v.devices {
		if slices.Contains(devices, d.Name) && len(d.Backups) > 0 {
			of = append(of, d)
		}
	}
	if len(of) == 0 {
		v.host.Say("there is nothing on the shelf to take them back to")
		return
	}
	v.host.Open(newDates(v.src, of))
}
